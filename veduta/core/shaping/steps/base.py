"""What every step is: a small definition that turns rows into rows and says what it does."""

from __future__ import annotations

from typing import Any, ClassVar

from pydantic import Field

from veduta.core.data.fields import DataField, DataType, Frozen, Schema
from veduta.core.errors import DefinitionProblem
from veduta.core.phrases import join_names
from veduta.core.shaping.flow import Flow, Run

TEXT_ONLY = (DataType.TEXT,)
NUMBERS = (DataType.WHOLE, DataType.DECIMAL)
THEMES = ("Columns", "Rows", "Values", "Form", "Other data")
MOST_NAMED = 4


class ShapingStep(Frozen):
    """One step. `off` steps are passed over.

    A kind of step says how it is called (`title`), where it stands in the list (`theme`), and with a sentence what it
    is for (`purpose`). `keeps_rows` steps give as many rows as they get."""

    id: str = Field(pattern=r"^s[0-9]{1,6}$")
    off: bool = False

    title: ClassVar[str]
    theme: ClassVar[str]
    purpose: ClassVar[str]
    keeps_rows: ClassVar[bool] = True

    def apply(self, flow: Flow, run: Run) -> Flow:
        """The rows after this step. Raises VedutaError if it does not fit them."""
        raise NotImplementedError

    def describe(self, schema: Schema, run: Run) -> str:
        """The step in one sentence, said of the columns before it."""
        raise NotImplementedError

    @classmethod
    def start(cls, schema: Schema) -> dict[str, Any]:
        """Settings to begin with that suit these columns."""
        return {}

    def list_datasets(self) -> set[str]:
        """The ids of the other datasets it reads."""
        return set()


kinds: dict[str, type[ShapingStep]] = {}


def get_step_type(kind: type[ShapingStep]) -> type[ShapingStep]:
    """Register a kind of step under its `do`."""
    name = kind.model_fields["do"].default
    if name in kinds:
        raise ValueError(f"The step {name} is registered twice.")
    if kind.theme not in THEMES or not kind.purpose.endswith("."):
        raise ValueError(f"The step {name} is not declared whole.")
    kinds[name] = kind
    return kind


def asks(label: str, widget: str, default: Any = ..., **more: Any) -> Any:
    """A setting of a step, and how a form asks for it.

    Its label, the kind of input, and what belongs to that (`kinds` of columns that fit, `options`, `hint`, `when`
    another setting has a value)."""
    limits = {key: more.pop(key) for key in ("min_length", "max_length", "ge", "le", "pattern") if key in more}
    return Field(default, title=label, json_schema_extra={"widget": widget, **more}, **limits)


def label_fields(schema: Schema, ids: tuple[str, ...] | list[str], most: int = MOST_NAMED) -> str:
    """Columns by their names: "Port, Day and 3 more"."""
    return join_names([name_of(schema, field_id) for field_id in ids], most=most)


def name_of(schema: Schema, field_id: str) -> str:
    return schema[field_id].name if field_id in schema else schema.gone.get(field_id, "a column that is gone")


def pick_fields(schema: Schema, ids: tuple[str, ...], allowed: tuple[DataType, ...], doing: str) -> list[DataField]:
    """The fields with these ids. Raises DefinitionProblem if one is of another kind, or if there are none."""
    if not ids:
        raise DefinitionProblem("No column is chosen.", hint="Choose at least one.")
    fields = [schema[field_id] for field_id in ids]
    for field in fields:
        if field.kind not in allowed:
            raise DefinitionProblem(
                f"“{field.name}” holds {field.kind.words} values, which cannot be {doing}.",
                where=field.id,
                hint="Choose another column, or change its type first.",
            )
    return fields

"""What a model says: a value, stored as JSON. It belongs to the dataset it began with, its first table."""

from __future__ import annotations

from typing import Any, Final, Literal

from pydantic import Field, model_validator

from veduta.core.data.fields import DataType, Frozen, NumberFormat, Total
from veduta.core.stored import load

VERSION: Final = 1
TABLE = r"^[a-z0-9_]{1,40}$"
WORD = r"^[a-z][a-z0-9_]{0,39}$"
Value = bool | int | float | str


class JoinKey(Frozen):
    """A pair of fields that hold the same values; dates may be compared by the period they lie in."""

    left: str
    right: str
    grain: Literal["", "year", "quarter", "month", "week", "day"] = ""


class ModelTable(Frozen):
    """A dataset joined to the model under a name; `id` stands before the dot in its fields' ids."""

    id: str = Field(pattern=TABLE)
    dataset: str
    name: str = Field(min_length=1, max_length=100)


class ModelJoin(Frozen):
    """Two tables and the keys by which their rows belong together; "" is the first table."""

    left: str = ""
    right: str
    keys: tuple[JoinKey, ...] = Field(min_length=1, max_length=6)


class FormulaField(Frozen):
    """A formula that everybody can use, its text naming fields by their ids."""

    id: str = Field(pattern=WORD)
    name: str = Field(min_length=1, max_length=200)
    text: str = Field(min_length=1, max_length=5_000)
    description: str = Field("", max_length=2_000)
    folder: str = Field("", max_length=100)
    format: NumberFormat = NumberFormat()
    total: Total = "again"


class Choice(Frozen):
    """An allowed value with how it is said."""

    value: Value
    label: str = Field("", max_length=200)


class ParameterField(Frozen):
    """A value that people can change. `id` is how formulas write it, behind a colon.

    Its allowed values are a list of choices, a range with a step, the values of a field, or anything of its kind.
    Unless `required` it can be set to no limit, which narrows nothing; `default` empty is no limit too."""

    id: str = Field(pattern=WORD)
    name: str = Field(min_length=1, max_length=200)
    kind: DataType = DataType.WHOLE
    default: tuple[Value, ...] = Field((), max_length=200)
    several: bool = False
    required: bool = True
    choices: tuple[Choice, ...] = Field((), max_length=500)
    low: float | None = None
    high: float | None = None
    step: float | None = Field(None, gt=0)
    field: str = ""

    @model_validator(mode="after")
    def _validate(self) -> ParameterField:
        if self.required and not self.default:
            raise ValueError(f"the parameter “{self.name}” needs a default, or may be without a limit")
        if len(self.default) > 1 and not self.several:
            raise ValueError(f"the parameter “{self.name}” holds one value")
        return self


class DrillPath(Frozen):
    """Dimensions from coarse to fine."""

    name: str = Field(min_length=1, max_length=100)
    fields: tuple[str, ...] = Field(min_length=2, max_length=10)


class RowRule(Frozen):
    """Which rows people may see: those for which the condition holds.

    It counts for members of the groups named, or for everybody; attributes of the signed-in person are written as
    parameters that begin with :person_.

    `tables` are those that it narrowed when it was made: should it not reach one of
    them any more, their rows are refused."""

    name: str = Field(min_length=1, max_length=100)
    text: str = Field(min_length=1, max_length=5_000)
    groups: tuple[str, ...] = Field((), max_length=50)
    tables: tuple[str, ...] = Field(("",), max_length=31)


class ModelDefinition(Frozen):
    """What a formula's measure means.

    `beyond` says what it shows along a dimension that does not reach its table: nothing, or the same value in each
    group."""

    version: Literal[1] = VERSION
    tables: tuple[ModelTable, ...] = Field((), max_length=30)
    joins: tuple[ModelJoin, ...] = Field((), max_length=60)
    formulas: tuple[FormulaField, ...] = Field((), max_length=500)
    parameters: tuple[ParameterField, ...] = Field((), max_length=100)
    paths: tuple[DrillPath, ...] = Field((), max_length=50)
    rules: tuple[RowRule, ...] = Field((), max_length=50)
    fiscal_month: int = Field(1, ge=1, le=12)
    beyond: Literal["empty", "repeat"] = "empty"

    @model_validator(mode="after")
    def _validate(self) -> ModelDefinition:
        for what, items in (("tables", self.tables), ("formulas", self.formulas), ("parameters", self.parameters)):
            if len({item.id for item in items}) < len(items):
                raise ValueError(f"two {what} have the same id")
            names = [item.name.casefold() for item in items]
            if len(set(names)) < len(names):
                raise ValueError(f"two {what} have the same name")
        known = {"", *(table.id for table in self.tables)}
        for join in self.joins:
            if not {join.left, join.right} <= known or join.left == join.right:
                raise ValueError("a join names a table that is not in the model")
        return self


def load_model(data: Any) -> ModelDefinition:
    """From stored or sent JSON; nothing is the model of one table. Raises NewerDefinition or DefinitionProblem."""
    return load(ModelDefinition, data or {}, name="model", version=VERSION)

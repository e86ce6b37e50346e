"""The ways in which a chart's sentence is edited, each a function from definition to definition.

The registry is what the workbench can ask for: a name and arguments in JSON.
"""

from __future__ import annotations

from typing import Annotated, Any, TypeVar

from pydantic import Field, ValidationError

from veduta.core.chart.definition import ChartDefinition
from veduta.core.data.fields import DataType, Frozen
from veduta.core.edit_registry import Edits
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.measures import replace_names_with_ids
from veduta.core.model.model import Model
from veduta.core.query.measures import Measure, measure_node

edit = Edits(ChartDefinition, given=2)
"""Registers an edit: of a definition, over its model."""
EDITS = edit.functions
Index = Annotated[int, Field(ge=0)]


def apply_edit(definition: ChartDefinition, model: Model, change: dict[str, Any]) -> ChartDefinition:
    """The definition after `change`, {"edit": name, …arguments}.

    Raises DefinitionProblem for one that cannot be made."""
    sent = dict(change)
    changed = edit.apply(str(sent.pop("edit", "")), sent, definition, model)
    # Orders by values of a dimension go with it.
    if changed.drawn[-1:] != definition.drawn[-1:]:
        changed = change_definition(changed, series_order=())
    if changed.sort and changed.sort.at and changed.groups != definition.groups:
        changed = change_definition(changed, sort=changed.sort.model_copy(update={"at": ()}))
    return changed


def get_item(items: tuple[Any, ...], index: int) -> Any:
    """The item at a position. Raises DefinitionProblem if there is none."""
    if index >= len(items):
        raise DefinitionProblem("That change does not fit this chart.", hint="Undo, or load the page again.")
    return items[index]


def change_definition(definition: ChartDefinition, **changes: Any) -> ChartDefinition:
    return definition.model_copy(update=changes)


Item = TypeVar("Item")


def replace_item(items: tuple[Item, ...], index: int, item: Item) -> tuple[Item, ...]:
    return (*items[:index], item, *items[index + 1 :])


def is_number(measure: Measure, model: Model) -> bool:
    kind = measure_node(measure, model.schema, model.parameters, any_kind=True).kind
    return kind is not None and kind.is_number


def test_formula(test: str, model: Model) -> str:
    """A test over a chart's cells, written with the fields' names, as it is stored.

    Raises DefinitionProblem if it is not yes or no."""
    if not test.strip():
        return ""
    formula = replace_names_with_ids(test, model.schema)
    node = measure_node(Measure(formula=formula), model.schema, model.parameters, any_kind=True)
    if node.kind is not DataType.YES_NO:
        raise DefinitionProblem(
            "A colour goes by a test, which is yes or no.", hint="Compare two numbers, such as fares >= 1000."
        )
    return formula


Styled = TypeVar("Styled", bound=Frozen)


def change_look(now: Styled, changes: dict[str, Any], where: str) -> Styled:
    """A look with changes, of which None is the usual."""
    usual = {name: field.default for name, field in type(now).model_fields.items()}
    set_to = {name: usual.get(name) if value is None else value for name, value in changes.items()}
    try:
        return type(now).model_validate(now.model_dump() | set_to)
    except ValidationError as problem:
        why = problem.errors()[0]["msg"].removeprefix("Value error, ")
        raise DefinitionProblem(f"That cannot be set: {why}.", where=where, hint="Choose another.") from None

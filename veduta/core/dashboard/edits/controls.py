"""Edits of the controls of a dashboard, and of its colours and letters."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import Field

from veduta.core.chart.palettes import PaletteKind
from veduta.core.chart.value_colours import ColourList
from veduta.core.dashboard.block_filters import NOT_FILTERS, get_default, is_none
from veduta.core.dashboard.controls import (
    CHOICES,
    Choice,
    Control,
    ControlKind,
    First,
    ParameterChoice,
    list_control_kinds,
    list_defaults,
)
from veduta.core.dashboard.definition import DashboardDefinition, Letters
from veduta.core.dashboard.edits.registry import Name, edit
from veduta.core.errors import DefinitionProblem


@edit
def add_control(definition: DashboardDefinition, control: Control) -> DashboardDefinition:
    """Add a control to the trail."""
    return definition.model_copy(update={"controls": (*definition.controls, control)})


@edit
def remove_control(definition: DashboardDefinition, control: Name) -> DashboardDefinition:
    """Take a control away."""
    kept = tuple(each for each in definition.controls if each.id != control)
    return definition.model_copy(update={"controls": kept})


@edit
def set_control(definition: DashboardDefinition, control: Name, choice: Choice | None = None) -> DashboardDefinition:
    """What a control is set to at first; None shows all, and is no limit of a parameter."""
    controls = tuple(_set(each, choice) if each.id == control else each for each in definition.controls)
    return definition.model_copy(update={"controls": controls})


@edit
def shape_control(
    definition: DashboardDefinition,
    control: Name,
    kind: ControlKind | None = None,
    single: bool = False,
    required: bool = False,
    buttons: bool = False,
    depends: bool = False,
    first: First = "set",
    attribute: Annotated[str, Field(max_length=100)] = "",
) -> DashboardDefinition:
    """How readers set a control, and what it is set to when they come. One of another kind shows all at first."""
    said: dict[str, Any] = {"single": single, "required": required, "buttons": buttons, "depends": depends}
    said |= {"first": first, "attribute": attribute.strip()}
    controls = tuple(_shape_control(each, kind, said) if each.id == control else each for each in definition.controls)
    return definition.model_copy(update={"controls": controls})


def _shape_control(control: Control, kind: ControlKind | None, said: dict[str, Any]) -> Control:
    """Check that a control suits its field and can have its default.

    Raises DefinitionProblem for a kind that does not suit the field, one that must have a default and has none, and a
    default that is not possible."""
    if kind and kind != control.kind:
        if control.kind in NOT_FILTERS or kind not in list_control_kinds(control.field_kind):
            raise DefinitionProblem(f"{control.name} cannot be set that way.", hint="Choose another one.")
        control = control.model_copy(update={control.kind: None, "kind": kind})
    shaped = control.model_copy(update=said)
    if shaped.first not in list_defaults(shaped.kind):
        raise DefinitionProblem(f"{control.name} cannot be set to that at first.", hint="Choose another one.")
    if shaped.first == "reader" and not shaped.attribute:
        raise DefinitionProblem("What is said of the reader is not named.", hint="Write the name of an attribute.")
    first = get_default(shaped)
    if shaped.required and (first is None or is_none(first, shaped)):
        raise DefinitionProblem(
            f"{control.name} is to hold a value always, and has none at first.",
            hint="Set what it is set to at first, then this.",
        )
    return shaped


def _set(control: Control, choice: Choice | None) -> Control:
    """Raises DefinitionProblem for a choice that is none of this kind of control, or none where it holds one always."""
    if control.required and (choice is None or is_none(choice, control)):
        raise DefinitionProblem(f"{control.name} always holds a value.", hint="Choose another one.")
    if choice is None and control.kind == "parameter":
        choice = ParameterChoice(set=None)
    if choice is not None and not isinstance(choice, CHOICES[control.kind]):
        raise DefinitionProblem(f"{control.name} cannot be set to that.", hint="Open it and choose again.")
    return control.model_copy(update={control.kind: choice})


@edit
def set_applies(definition: DashboardDefinition, applies: bool) -> DashboardDefinition:
    """Whether what readers set holds only once they apply it."""
    return definition.model_copy(update={"applies": applies})


@edit
def set_colours(
    definition: DashboardDefinition,
    colours: Annotated[tuple[ColourList, ...], Field(max_length=20)] = (),
    own_colours: bool = False,
    palettes: dict[PaletteKind, Annotated[str, Field(max_length=100)]] | None = None,
    letters: Letters = "",
) -> DashboardDefinition:
    """Set the colours and palettes of this dashboard and its font size.

    `colours` are those of values, perhaps without those they have elsewhere; palettes go by name, "" is the one in use.
    """
    named = {kind: name for kind, name in (palettes or {}).items() if name}
    said = {"colours": colours, "own_colours": own_colours, "palettes": named, "letters": letters}
    return definition.model_copy(update=said)

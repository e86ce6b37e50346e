"""Edits of the controls of a dashboard, and of its colours and letters."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field as Attribute

from veduta.core.chart.paints import PaletteKind
from veduta.core.chart.value_colours import ColourList
from veduta.core.dashboard.controls import Control, DatesChoice, ListChoice, ParameterChoice
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
def set_control(
    definition: DashboardDefinition, control: Name, choice: DatesChoice | ListChoice | ParameterChoice | None = None
) -> DashboardDefinition:
    """What a control is set to at first; None shows all, and is no limit of a parameter."""
    controls = tuple(_set(each, choice) if each.id == control else each for each in definition.controls)
    return definition.model_copy(update={"controls": controls})


def _set(control: Control, choice: DatesChoice | ListChoice | ParameterChoice | None) -> Control:
    """Raises DefinitionProblem for a choice that is none of this kind of control."""
    kinds: dict[str, type] = {"dates": DatesChoice, "list": ListChoice, "parameter": ParameterChoice}
    if choice is None and control.kind == "parameter":
        choice = ParameterChoice(set=None)
    if choice is not None and not isinstance(choice, kinds[control.kind]):
        raise DefinitionProblem(f"{control.name} cannot be set to that.", hint="Open it and choose again.")
    return control.model_copy(update={control.kind: choice})


@edit
def set_colours(
    definition: DashboardDefinition,
    colours: Annotated[tuple[ColourList, ...], Attribute(max_length=20)] = (),
    own_colours: bool = False,
    palettes: dict[PaletteKind, Annotated[str, Attribute(max_length=100)]] | None = None,
    letters: Letters = "",
) -> DashboardDefinition:
    """The colours of values on this dashboard, and whether it takes none that they have elsewhere; palettes by their
    names, "" the one in use; and the size of letters."""
    named = {kind: name for kind, name in (palettes or {}).items() if name}
    said = {"colours": colours, "own_colours": own_colours, "palettes": named, "letters": letters}
    return definition.model_copy(update=said)

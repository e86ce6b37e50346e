"""The ways in which a dashboard is edited, each a function from definition to definition.

The registry is what the editor can ask for: a name and arguments in JSON.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Any, Literal

from pydantic import Field as Attribute

from veduta.core.chart.value_colours import ColourList
from veduta.core.dashboard import layout
from veduta.core.dashboard.definition import (
    COLUMNS,
    IDENTIFIER,
    Block,
    Control,
    DashboardDefinition,
    DatesChoice,
    ListChoice,
    ParameterChoice,
)
from veduta.core.dashboard.layout import Side
from veduta.core.editing import Edits
from veduta.core.errors import DefinitionProblem

edit = Edits(DashboardDefinition, given=1)
"""Registers an edit of a dashboard."""
EDITS = edit.functions
Name = Annotated[str, Attribute(pattern=IDENTIFIER)]
Names = Annotated[tuple[Name, ...], Attribute(min_length=1, max_length=200)]
USUAL_SIZES = {"chart": (6, 5), "text": (6, 3), "heading": (COLUMNS, 1)}
"""How many columns and rows a new block has, by its kind."""


def apply_edit(definition: DashboardDefinition, change: dict[str, Any]) -> DashboardDefinition:
    """The definition after `change`, {"edit": name, …arguments}. Raises DefinitionProblem for one that cannot be
    made."""
    sent = dict(change)
    return edit.apply(str(sent.pop("edit", "")), sent, definition)


def _laid_out(definition: DashboardDefinition, blocks: Sequence[Block]) -> DashboardDefinition:
    return definition.model_copy(update={"blocks": tuple(blocks)})


def _block(definition: DashboardDefinition, name: str) -> Block:
    """Raises DefinitionProblem for a block that is gone."""
    block = definition.block(name)
    if block is None:
        raise DefinitionProblem("That block is not there any more.", hint="Undo, or load the page again.")
    return block


@edit
def add_block(
    definition: DashboardDefinition,
    id: Name,
    kind: Literal["chart", "text", "heading"],
    chart: str = "",
    text: str = "",
    target: str = "",
    side: Side = "below",
) -> DashboardDefinition:
    """Add a block at the bottom, or at a side of another one."""
    w, h = USUAL_SIZES[kind]
    block = Block(id=id, kind=kind, chart=chart, text=text, x=0, y=layout.bottom(definition.blocks), w=w, h=h)
    blocks = (*definition.blocks, block)
    if not target:
        return _laid_out(definition, layout.packed(blocks))
    _block(definition, target)
    return _laid_out(definition, layout.put(blocks, id, target, side))


@edit
def move_block(definition: DashboardDefinition, block: Name, x: int, y: int) -> DashboardDefinition:
    """Move a block to a place; what stands there makes room below it."""
    _block(definition, block)
    return _laid_out(definition, layout.moved(definition.blocks, block, x, y))


@edit
def step_block(
    definition: DashboardDefinition, block: Name, right: Literal[-1, 0, 1] = 0, down: Literal[-1, 0, 1] = 0
) -> DashboardDefinition:
    """Move a block a column or a row further, as a key does; up and down it trades places with one of its width."""
    now = _block(definition, block)
    other = layout.neighbour(definition.blocks, block, down > 0) if down else None
    if other:
        return _laid_out(definition, layout.traded(definition.blocks, block, other.id))
    return _laid_out(definition, layout.moved(definition.blocks, block, now.x + right, now.y + down))


@edit
def size_block(definition: DashboardDefinition, block: Name, w: int, h: int) -> DashboardDefinition:
    """Make a block so many columns wide and so many rows high."""
    _block(definition, block)
    return _laid_out(definition, layout.sized(definition.blocks, block, w, h))


@edit
def grow_block(
    definition: DashboardDefinition, block: Name, right: Literal[-1, 0, 1] = 0, down: Literal[-1, 0, 1] = 0
) -> DashboardDefinition:
    """Make a block a column wider or narrower, or a row higher or lower, as a key does."""
    now = _block(definition, block)
    return _laid_out(definition, layout.sized(definition.blocks, block, now.w + right, now.h + down))


@edit
def put_block(definition: DashboardDefinition, block: Name, target: Name, side: Side) -> DashboardDefinition:
    """Put a block beside another one, which gives half of its place, above or below it, or on a row of its own."""
    _block(definition, block)
    _block(definition, target)
    return _laid_out(definition, layout.put(definition.blocks, block, target, side))


@edit
def even_row(definition: DashboardDefinition, block: Name) -> DashboardDefinition:
    """Make all blocks of a row as wide and as high as one another."""
    _block(definition, block)
    return _laid_out(definition, layout.evened(definition.blocks, block))


@edit
def set_block(
    definition: DashboardDefinition,
    block: Name,
    text: Annotated[str, Attribute(max_length=20_000)] | None = None,
    title: Annotated[str, Attribute(max_length=300)] | None = None,
) -> DashboardDefinition:
    """What a block says; None stays as it is."""
    _block(definition, block)
    said = {name: words for name, words in (("text", text), ("title", title)) if words is not None}
    blocks = [each.model_copy(update=said) if each.id == block else each for each in definition.blocks]
    return _laid_out(definition, blocks)


@edit
def remove_blocks(definition: DashboardDefinition, blocks: Names) -> DashboardDefinition:
    """Take blocks away; those below them close up."""
    for block in blocks:
        _block(definition, block)
    return _laid_out(definition, layout.packed([each for each in definition.blocks if each.id not in blocks]))


@edit
def duplicate_blocks(definition: DashboardDefinition, copies: dict[Name, Name]) -> DashboardDefinition:
    """Copy blocks, each to a new one by its name, below all others and as they stand to one another."""
    copied = [_block(definition, name) for name in copies]
    bottom = layout.bottom(definition.blocks)
    top = min((each.y for each in copied), default=0)
    made = [each.model_copy(update={"id": copies[each.id], "y": bottom + each.y - top}) for each in copied]
    return _laid_out(definition, layout.packed((*definition.blocks, *made)))


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
) -> DashboardDefinition:
    """The colours of values on this dashboard, and whether it takes none that they have elsewhere."""
    return definition.model_copy(update={"colours": colours, "own_colours": own_colours})

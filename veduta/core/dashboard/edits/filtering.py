"""Edits of what narrows a dashboard: its filters, and which blocks each of them, a control or a click reaches."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from veduta.core.dashboard.controls import Control, Fields
from veduta.core.dashboard.definition import DashboardDefinition
from veduta.core.dashboard.edits.registry import Name, edit, get_block, get_page_with, include_group_members
from veduta.core.dashboard.filters import DashboardFilter
from veduta.core.dashboard.scope import EVERYWHERE, BlockScope
from veduta.core.errors import DefinitionProblem
from veduta.core.query.filters import Filter

Narrows = Control | DashboardFilter


@edit
def add_filter(
    definition: DashboardDefinition, id: Name, dataset: str, filter: Filter, in_trail: bool = True
) -> DashboardDefinition:
    """Narrow a dashboard by a filter that readers do not set."""
    added = DashboardFilter(id=id, dataset=dataset, filter=filter, in_trail=in_trail)
    return definition.model_copy(update={"filters": (*definition.filters, added)})


@edit
def set_filter(
    definition: DashboardDefinition, filter_id: Name, filter: Filter | None = None, in_trail: bool | None = None
) -> DashboardDefinition:
    """What a filter lets pass, and whether the trail says so; None stays as it is."""
    said = {name: value for name, value in (("filter", filter), ("in_trail", in_trail)) if value is not None}
    return _change_filtering(definition, filter_id, **said)


@edit
def remove_filter(definition: DashboardDefinition, filter_id: Name) -> DashboardDefinition:
    """Take a filter away."""
    kept = tuple(each for each in definition.filters if each.id != filter_id)
    return definition.model_copy(update={"filters": kept})


@edit
def set_scope(
    definition: DashboardDefinition,
    narrows: Name,
    scope: BlockScope | None = None,
    ticked: Annotated[tuple[str, ...], Field(max_length=500)] | None = None,
    fields: Fields | None = None,
) -> DashboardDefinition:
    """Set which blocks a control or a filter reaches, and by which fields of other data.

    The blocks are a scope or those that are `ticked`. None stays as it is."""
    if ticked is not None:
        scope = make_scope(set(ticked), _list_ids(definition))
    said = {name: value for name, value in (("scope", scope), ("fields", fields)) if value is not None}
    return _change_filtering(definition, narrows, **said)


@edit
def set_follows(definition: DashboardDefinition, narrows: Name, block: Name, follows: bool) -> DashboardDefinition:
    """Whether one block follows a control or a filter; the others as before."""
    get_block(definition, block)
    scope = _find_filtering(definition, narrows).scope
    reached = {each.id for page in definition.pages for each in page.blocks if scope.has(page.id, each.id)}
    wanted = reached | {block} if follows else reached - {block}
    return set_scope(definition, narrows, ticked=tuple(wanted & _list_ids(definition)))


@edit
def set_click(
    definition: DashboardDefinition, block: Name, other: Name, does: Literal["narrow", "highlight", "nothing"]
) -> DashboardDefinition:
    """What a click on a block's marks does to one other block; to the others as before."""
    clicked = get_block(definition, block)
    get_block(definition, other)
    there = _list_ids(definition) - {block}
    reached = {each.id for page in definition.pages for each in page.blocks if clicked.reaches.has(page.id, each.id)}
    wanted = (reached - {other} if does == "nothing" else reached | {other}) & there
    highlights = [name for name in clicked.highlights if name != other] + ([other] if does == "highlight" else [])
    return set_reach(definition, block, make_scope(wanted, there), tuple(highlights))


@edit
def set_reach(
    definition: DashboardDefinition,
    block: Name,
    reaches: BlockScope = EVERYWHERE,
    highlights: Annotated[tuple[str, ...], Field(max_length=500)] = (),
) -> DashboardDefinition:
    """Which blocks a click on a block's marks narrows, and of which it only sets marks off."""
    page = get_page_with(definition, [block])
    return definition.replace_page(include_group_members(page, [block], reaches=reaches, highlights=highlights))


def _list_ids(definition: DashboardDefinition) -> set[str]:
    """The blocks that can be narrowed."""
    return {block.id for block in definition.blocks if block.kind == "chart" or block.numbers}


def make_scope(wanted: set[str], there: set[str]) -> BlockScope:
    """The scope of these blocks of those that are there, so that blocks which come later are reached where most are."""
    left_out = there - wanted
    if not left_out:
        return EVERYWHERE
    if not wanted:
        return BlockScope(of="none")
    if len(left_out) <= len(wanted):
        return BlockScope(of="but", names=tuple(sorted(left_out)))
    return BlockScope(of="blocks", names=tuple(sorted(wanted)))


def _find_filtering(definition: DashboardDefinition, name: str) -> Narrows:
    """Raises DefinitionProblem for a control or filter that is gone."""
    all_of_them: list[Narrows] = [*definition.controls, *definition.filters]
    found = next((each for each in all_of_them if each.id == name), None)
    if found is None:
        raise DefinitionProblem("That control or filter is not there any more.", hint="Undo, or load the page again.")
    return found


def _change_filtering(definition: DashboardDefinition, name: str, **said: object) -> DashboardDefinition:
    _find_filtering(definition, name)

    controls = tuple(each.model_copy(update=said) if each.id == name else each for each in definition.controls)
    filters = tuple(each.model_copy(update=said) if each.id == name else each for each in definition.filters)
    return definition.model_copy(update={"controls": controls, "filters": filters})

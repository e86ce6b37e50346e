"""Edits of pages, and of blocks between them."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from veduta.core.dashboard import arrangements, fixed_layout, groups, layout
from veduta.core.dashboard.backgrounds import PageGround
from veduta.core.dashboard.block_kinds import BLOCK_KINDS
from veduta.core.dashboard.definition import FARTHEST, DashboardBlock, DashboardDefinition, Inner, Page
from veduta.core.dashboard.edits.registry import (
    Name,
    Names,
    add_blocks,
    compact_page,
    copy_blocks,
    edit,
    get_page,
    get_page_with,
    must_be,
)
from veduta.core.dashboard.grid import COLUMNS, MOST_GAP, ROW
from veduta.core.dashboard.layout import replace
from veduta.core.errors import DefinitionProblem

PageName = Annotated[str, Field(max_length=200)]


@edit
def add_page(definition: DashboardDefinition, id: Name, name: PageName = "", after: str = "") -> DashboardDefinition:
    """Add an empty page at the end, or after another one."""
    page = Page(id=id, name=name.strip() or f"Page {len(definition.pages) + 1}")
    return _insert_page(definition, page, after)


def _insert_page(definition: DashboardDefinition, page: Page, after: str) -> DashboardDefinition:
    names = [each.id for each in definition.pages]
    place = names.index(after) + 1 if after in names else len(names)
    return definition.model_copy(update={"pages": (*definition.pages[:place], page, *definition.pages[place:])})


@edit
def begin_with(definition: DashboardDefinition, page: Name, start: str, prefix: Name) -> DashboardDefinition:
    """Put an arrangement of empty places below all that is on a page that flows; their names begin with `prefix`."""
    if start not in arrangements.BY_ID:
        raise DefinitionProblem("Veduta does not know this arrangement.", hint="Load the page again.")
    must_be(get_page(definition, page), "flowing")
    return paste_blocks(definition, page, arrangements.BY_ID[start].blocks, prefix)


@edit
def turn_page(definition: DashboardDefinition, page: Name) -> DashboardDefinition:
    """Make rows of the columns of a page that flows, and columns of its rows; in groups as well."""
    turning = get_page(definition, page)
    must_be(turning, "flowing")
    return definition.replace_page(turning.model_copy(update={"blocks": groups.turn_blocks(turning.blocks)}))


@edit
def copy_page(definition: DashboardDefinition, page: Name, id: Name) -> DashboardDefinition:
    """Copy a page with all that is on it; the names of the blocks begin with that of the copy."""
    copied = get_page(definition, page)
    blocks = tuple(copy_blocks(copied.blocks, id))
    name = f"{copied.name} (copy)"[:200]
    return _insert_page(definition, copied.model_copy(update={"id": id, "name": name, "blocks": blocks}), page)


@edit
def set_page(
    definition: DashboardDefinition,
    page: Name,
    name: PageName | None = None,
    hidden: bool | None = None,
    kind: Literal["flowing", "fixed"] | None = None,
    width: int | None = None,
    height: int | None = None,
    step: int | None = None,
    grid: bool | None = None,
    snap: bool | None = None,
) -> DashboardDefinition:
    """What a page is called, whether readers see its tab, and its kind; None stays as it is."""
    changed = get_page(definition, page)
    if hidden and definition.shown == [changed]:
        raise DefinitionProblem("Readers see one page at least.", hint="Show another page first.")
    said: dict[str, Any] = {"name": (name or "").strip() or None, "hidden": hidden}
    said |= {"width": width, "height": height, "step": step, "grid": grid, "snap": snap}
    changed = changed.model_copy(update={key: value for key, value in said.items() if value is not None})
    if kind and kind != changed.kind:
        changed = (
            fixed_layout.convert_to_fixed(changed) if kind == "fixed" else fixed_layout.convert_to_flowing(changed)
        )
    elif changed.kind == "fixed":
        changed = fixed_layout.fit_page(changed)
    return definition.replace_page(changed)


@edit
def set_ground(
    definition: DashboardDefinition,
    page: Name,
    ground: PageGround,
    on_narrow: PageGround | None = None,
    widest: Annotated[int, Field(ge=400, le=FARTHEST)] | None = None,
    gap: Annotated[int, Field(ge=1, le=MOST_GAP)] = 1,
    inner: Inner = "",
) -> DashboardDefinition:
    """What lies behind the blocks of a page, on narrow screens perhaps something else, and the distances on it."""
    changed = get_page(definition, page)
    narrow = changed.narrow.model_copy(update={"ground": on_narrow})
    said = {"ground": ground, "narrow": narrow, "widest": widest, "gap": gap, "inner": inner}
    return definition.replace_page(changed.model_copy(update=said))


@edit
def move_page(definition: DashboardDefinition, page: Name, to: Annotated[int, Field(ge=0)]) -> DashboardDefinition:
    """Make a page the first (0), second, … of all."""
    moved = get_page(definition, page)
    others = [each for each in definition.pages if each.id != page]
    return definition.model_copy(update={"pages": (*others[:to], moved, *others[to:])})


@edit
def remove_page(definition: DashboardDefinition, page: Name) -> DashboardDefinition:
    """Take a page away with all that is on it."""
    gone = get_page(definition, page)
    kept = tuple(each for each in definition.pages if each.id != page)
    if not kept:
        raise DefinitionProblem("A dashboard has one page at least.", hint="Add another one first.")
    if all(each.hidden for each in kept):
        raise DefinitionProblem(f"Without “{gone.name}” all pages would be hidden.", hint="Show another page first.")
    return definition.model_copy(update={"pages": kept})


@edit
def duplicate_blocks(definition: DashboardDefinition, blocks: Names, prefix: Name) -> DashboardDefinition:
    """Copy blocks, as they stand to one another, below all others; their names begin with `prefix`."""
    page = get_page_with(definition, blocks)
    return copy_to_page(definition, blocks, page.id, prefix)


@edit
def copy_to_page(definition: DashboardDefinition, blocks: Names, page: Name, prefix: Name) -> DashboardDefinition:
    """Copy blocks to a page, the same or another one, below all that is there."""
    copied = groups.include_members(get_page_with(definition, blocks).blocks, blocks)
    return paste_blocks(definition, page, tuple(copied), prefix)


@edit
def paste_blocks(
    definition: DashboardDefinition,
    page: Name,
    blocks: Annotated[tuple[DashboardBlock, ...], Field(min_length=1, max_length=200)],
    prefix: Name,
) -> DashboardDefinition:
    """Add copies of blocks, of whatever dashboard, below all that is on a page."""
    onto = get_page(definition, page)
    fitting = [_fit_block(each, onto) for each in blocks]
    return definition.replace_page(add_blocks(onto, copy_blocks(fitting, prefix)))


def _fit_block(block: DashboardBlock, page: Page) -> DashboardBlock:
    """A block that came from a page of another kind, with a place on this one."""
    if page.kind == "fixed" and block.w <= COLUMNS:
        return replace(block, x=block.x * page.width // COLUMNS, w=block.w * page.width // COLUMNS, h=block.h * ROW)
    if page.kind == "flowing" and (block.x + block.w > COLUMNS or block.h > layout.TALLEST):
        return replace(block, x=0, y=0, w=BLOCK_KINDS[block.kind].w, h=BLOCK_KINDS[block.kind].h)
    return block


@edit
def move_to_page(definition: DashboardDefinition, blocks: Names, page: Name) -> DashboardDefinition:
    """Move blocks to another page, below all that is there."""
    source, onto = get_page_with(definition, blocks, moving=True), get_page(definition, page)
    if source.id == onto.id:
        return definition
    moving = groups.include_members(source.blocks, blocks)
    gone = {each.id for each in moving}
    left = tuple(each for each in source.blocks if each.id not in gone)
    definition = definition.replace_page(compact_page(source.model_copy(update={"blocks": left})))
    alone = [each if each.group in gone else replace(each, group="") for each in moving]
    return definition.replace_page(add_blocks(onto, [_fit_block(each, onto) for each in alone]))

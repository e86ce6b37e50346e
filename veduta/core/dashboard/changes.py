"""What publishing a dashboard changes for its readers."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from typing import Final

from veduta.core.dashboard.block_filters import get_default
from veduta.core.dashboard.controls import Control
from veduta.core.dashboard.definition import DashboardBlock, DashboardDefinition, Page
from veduta.core.dashboard.merging import MergeConflict
from veduta.core.data.fields import Frozen
from veduta.core.phrases import join_names

PLACE: Final = ("x", "y", "w", "h", "group")
PARTS: Final[dict[str, str]] = {
    "kind": "what stands there",
    "chart": "its chart",
    "definition": "its chart",
    "own": "its chart",
    "text": "its text",
    "title": "its title",
    "picture": "its picture",
    "picture_kept": "its picture",
    "control": "its control",
    "numbers": "its numbers",
    "look": "its look",
    "click": "what a click on it does",
    "reaches": "what a click on it does",
    "highlights": "what a click on it does",
}
"""Fields of a block, and what readers see of them."""
A_FILTER: Final = "A filter of the dashboard"
PAGE_PARTS: Final = {
    "name": "its name",
    "hidden": "whether it has a tab",
    "kind": "how its blocks stand",
    "ground": "its ground",
    "width": "its width",
    "height": "its height",
    "widest": "its width",
    "gap": "its spacing",
    "inner": "its spacing",
    "narrow": "how telephones show it",
    "breaks": "how it comes onto paper",
    "goes_on": "how it comes onto paper",
}


def describe_conflict(
    both: MergeConflict, definition: DashboardDefinition, name_of: Callable[[DashboardBlock], str]
) -> str:
    """A setting that two people changed at the same time, in words."""
    block, page = definition.find_block(both.id), definition.find_page(both.id)
    if both.kind == "block" and block:
        name, parts = name_of(block), {**PARTS, "place": "its place"}
    elif both.kind == "page" and page:
        name, parts = f"the page “{page.name}”", PAGE_PARTS
    elif both.kind in ("control", "filter"):
        return f"a {both.kind}"
    elif both.kind != "dashboard":
        return f"a {both.kind} that is not there any more"
    else:
        return "what is set for the whole dashboard"
    return f"{name}, {parts.get(both.setting, 'how it is set')}" if both.setting else f"{name}, which stays"


@dataclass(frozen=True)
class DashboardChange:
    """`block` is the id of the block that changes, if it is one that is there before and after."""

    name: str
    words: str
    block: str = ""


def list_changes(
    before: DashboardDefinition, after: DashboardDefinition, name_of: Callable[[DashboardBlock], str]
) -> list[DashboardChange]:
    """From one published definition to another, in reading order: pages, blocks, controls, and the whole."""
    return [
        *_iterate_page_changes(before, after),
        *_iterate_block_changes(before, after, name_of),
        *_iterate_control_changes(before, after),
        *_iterate_filter_changes(before, after),
        *_iterate_whole_changes(before, after),
    ]


def _iterate_page_changes(before: DashboardDefinition, after: DashboardDefinition) -> Iterator[DashboardChange]:
    there = {page.id: page for page in before.pages}
    for page in after.pages:
        old = there.get(page.id)
        if old is None:
            yield DashboardChange(page.name, "is a new page")
        elif parts := _describe_parts(PAGE_PARTS, old, page):
            yield DashboardChange(page.name, f"{_change(parts)} (a page)")
    kept = {page.id for page in after.pages}
    yield from (DashboardChange(page.name, "is a page no longer") for page in before.pages if page.id not in kept)
    order = [page.id for page in before.pages if page.id in kept]
    if order != [page.id for page in after.pages if page.id in there]:
        yield DashboardChange("The pages", "stand in another order")


def _iterate_block_changes(
    before: DashboardDefinition, after: DashboardDefinition, name_of: Callable[[DashboardBlock], str]
) -> Iterator[DashboardChange]:
    there = {block.id: (page, block) for page in before.pages for block in page.blocks if block.kind != "place"}
    kept = set()
    for page in after.pages:
        for block in page.in_reading_order:
            if block.kind == "place":
                continue
            kept.add(block.id)
            if block.id not in there:
                yield DashboardChange(name_of(block), f"is new{_name_page(page, after)}")
            elif parts := _describe_block_changes(*there[block.id], page, block):
                yield DashboardChange(name_of(block), _change(parts), block.id)
    for name, (page, block) in there.items():
        if name not in kept:
            yield DashboardChange(name_of(block), f"is there no longer{_name_page(page, before)}")


def _name_page(page: Page, definition: DashboardDefinition) -> str:
    return f" on the page “{page.name}”" if len(definition.pages) > 1 else ""


def _describe_block_changes(old_page: Page, old: DashboardBlock, page: Page, block: DashboardBlock) -> list[str]:
    parts = _describe_parts(PARTS, old, block)
    if old_page.id != page.id:
        parts.append("its page")
    elif any(getattr(old, part) != getattr(block, part) for part in PLACE):
        parts.append("its place")
    return list(dict.fromkeys(parts))


def _describe_parts(words: Mapping[str, str], old: Frozen, new: Frozen) -> list[str]:
    """The parts in which two differ, in words, each once."""
    return list(dict.fromkeys(said for part, said in words.items() if getattr(old, part) != getattr(new, part)))


def _change(parts: list[str]) -> str:
    return f"{join_names(parts)} {'change' if len(parts) > 1 else 'changes'}"


def _iterate_control_changes(before: DashboardDefinition, after: DashboardDefinition) -> Iterator[DashboardChange]:
    there = {control.id: control for control in before.controls}
    for control in after.controls:
        if control.id not in there:
            yield DashboardChange(control.name, "is a new control")
        else:
            yield from (
                DashboardChange(control.name, words) for words in _iterate_setting_changes(there[control.id], control)
            )
    if before.applies != after.applies:
        yield DashboardChange("What readers set", "holds once they apply it" if after.applies else "holds at once")
    kept = {control.id for control in after.controls}
    yield from (DashboardChange(each.name, "is a control no longer") for each in before.controls if each.id not in kept)


def _iterate_setting_changes(old: Control, new: Control) -> Iterator[str]:
    if (old.first, old.attribute, get_default(old)) != (new.first, new.attribute, get_default(new)):
        yield "is set to something else at first"
    if (old.scope, old.fields) != (new.scope, new.fields):
        yield "reaches other blocks"
    how = ("kind", "single", "required", "buttons", "depends", "options", "choices", "name")
    if any(getattr(old, part) != getattr(new, part) for part in how):
        yield "is set in another way"


def _iterate_filter_changes(before: DashboardDefinition, after: DashboardDefinition) -> Iterator[DashboardChange]:
    there, kept = {each.id: each for each in before.filters}, {each.id for each in after.filters}
    for each in after.filters:
        if each.id not in there:
            yield DashboardChange(A_FILTER, "is new")
        elif there[each.id] != each:
            yield DashboardChange(A_FILTER, "changes")
    yield from (DashboardChange(A_FILTER, "is there no longer") for name in there if name not in kept)


def _iterate_whole_changes(before: DashboardDefinition, after: DashboardDefinition) -> Iterator[DashboardChange]:
    if (before.colours, before.own_colours) != (after.colours, after.own_colours):
        yield DashboardChange("Colours of values", "change")
    if before.palettes_kept != after.palettes_kept:
        yield DashboardChange("The palettes of its charts", "change")
    if before.paper != after.paper:
        yield DashboardChange("The paper it is printed on", "changes")
    if before.letters != after.letters:
        yield DashboardChange("The size of letters", "changes")

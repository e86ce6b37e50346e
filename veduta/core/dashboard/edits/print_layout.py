"""Edits of a dashboard as it is printed."""

from __future__ import annotations

from veduta.core.dashboard.definition import DashboardDefinition
from veduta.core.dashboard.edits.registry import Name, edit, get_page_with
from veduta.core.dashboard.print_layout import PrintLayout


@edit
def set_paper(definition: DashboardDefinition, paper: PrintLayout) -> DashboardDefinition:
    """The sheets, and the words on each of them."""
    return definition.model_copy(update={"paper": paper})


@edit
def set_on_paper(
    definition: DashboardDefinition, block: Name, breaks: bool = False, goes_on: bool = False
) -> DashboardDefinition:
    """Whether a block begins a new sheet, and whether it may go on over sheets."""
    page = get_page_with(definition, [block])
    there = {each.id for each in page.blocks} - {block}

    def kept(names: tuple[str, ...], added: bool) -> tuple[str, ...]:
        return (*(name for name in names if name in there), *([block] if added else []))

    set_so = {"breaks": kept(page.breaks, breaks), "goes_on": kept(page.goes_on, goes_on)}
    return definition.replace_page(page.model_copy(update=set_so))

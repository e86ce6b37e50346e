"""How a block looks and what a click on it does: its form, and what of it cannot work for readers."""

from __future__ import annotations

import uuid
from typing import Any

from django.http import HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_POST

from veduta.core.chart.texts import VALUES, as_written, stored
from veduta.core.dashboard.clicks import DOES
from veduta.core.dashboard.definition import Block, DashboardDefinition, Page, ViewState, load_dashboard
from veduta.core.dashboard.grid import MOST_GAP
from veduta.core.dashboard.grounds import LIES, POSITIONS, least_fade
from veduta.core.dashboard.looks import PARTS, ground_of
from veduta.core.errors import VedutaError
from veduta.core.query.filters import grouping_words
from veduta.core.words import counted
from veduta.web.accounts.access import Request, builders_only
from veduta.web.accounts.models import User
from veduta.web.colours.models import paints_now
from veduta.web.common.requests import Line, Object, Sent, sent
from veduta.web.dashboards.access import dashboards_for, find_dashboard, grants
from veduta.web.dashboards.models import Dashboard
from veduta.web.dashboards.publishing import frozen
from veduta.web.dashboards.reading import Reading
from veduta.web.pictures.services import named, there

TEXTS = ("title", "subtitle", "note")
INNER_DISTANCES = (("", "as usual"), ("small", "small"), ("large", "large"))
BORDERS = (("", "a hairline"), ("line", "a strong line"), ("none", "none"))


class BlockAsked(Sent):
    """A block of a draft as it stands on the page."""

    definition: Object
    block: Line


@require_POST
@builders_only
def look(request: Request, pk: uuid.UUID) -> HttpResponse:
    """The form of a block's look."""
    dashboard, asked = find_dashboard(request.user, pk, edit=True), sent(request, BlockAsked)
    definition = frozen(load_dashboard(asked.definition))
    reading = Reading(dashboard, definition, ViewState(), request.user)
    block = definition.block(asked.block)
    if block is None:
        raise VedutaError("That block is not there any more.", hint="Undo, or load the page again.")
    context = {
        "block": block,
        "texts": _as_written(block, reading),
        "parts": PARTS,
        "does": [(key, f"it {words}") for key, words in DOES.items()],
        "pages": [page for page in definition.pages if block not in page.blocks],
        "dashboards": dashboards_for(request.user).exclude(pk=pk),
        "dimensions": _dimensions(block, reading),
        "values": {name: words for name, (words, _) in VALUES.items()},
        "borders": BORDERS,
        "problem": problem_of_click(block, definition, dashboard, request.user),
        "paled": _paled(block),
    }
    return render(request, "dashboards/look.html", context)


class PageAsked(Sent):
    """A page of a draft as it stands on the page."""

    definition: Object
    page: Line = ""


@require_POST
@builders_only
def ground(request: Request, pk: uuid.UUID) -> HttpResponse:
    """The form of a page's ground and distances."""
    find_dashboard(request.user, pk, edit=True)
    asked = sent(request, PageAsked)
    page = load_dashboard(asked.definition).page(asked.page)
    if page is None:
        raise VedutaError("That page is not there any more.", hint="Undo, or load the page again.")
    context = {
        "page": page,
        "narrow": page.narrow.ground or page.ground,
        "pictures": there().order_by("name"),
        "lies": list(LIES.items()),
        "positions": list(POSITIONS.items()),
        "inner": INNER_DISTANCES,
        "most_gap": MOST_GAP,
        "problems": _problems_of_ground(page),
    }
    return render(request, "dashboards/ground.html", context)


def _problems_of_ground(page: Page) -> list[str]:
    """What is wrong with a page's grounds: pictures that are gone, or that texts cannot be read on."""
    problems, paints = [], paints_now()
    grounds = {"": page.ground} | ({" on telephones": page.narrow.ground} if page.narrow.ground else {})
    bare = sum(block.look.ground == "none" for block in page.blocks)
    for where, each in grounds.items():
        least = least_fade(each, paints)
        if each.picture and not named([each.picture]):
            problems.append(f"The picture “{each.picture}”{where} is gone. Choose another one.")
        elif each.picture and bare and each.fade < least:
            problems.append(
                f"Texts may not be read{where}: {counted(bare, 'block')} without a ground of its own"
                f" {'stands' if bare == 1 else 'stand'} on the picture. Fade it by {least} percent or more."
            )
    return problems


def _as_written(block: Block, reading: Reading) -> dict[str, str]:
    """A block's texts with the names of the fields in them."""
    texts = {"title": block.title, "subtitle": block.look.subtitle, "note": block.look.note}
    source = reading.source(block.id)
    if source is None:
        return texts
    model = reading.model(reading.dataset(source[0].dataset))
    return {name: as_written(text, model) for name, text in texts.items()}


def _dimensions(block: Block, reading: Reading) -> list[str]:
    """The names of the values that a click on the block's chart has."""
    source = reading.source(block.id)
    if source is None:
        return []
    chart, schema = source
    return [grouping_words(group, schema) for group in chart.groups]


def _paled(block: Block) -> str:
    """The ground as it is used, where texts would not be read on the chosen one."""
    if block.look.ground in ("", "none"):
        return ""
    paints = paints_now()
    used = ground_of(block.look.ground, paints).light
    return used if used.upper() != paints.named(block.look.ground).upper() else ""


def with_texts_stored(
    change: dict[str, Any], definition: DashboardDefinition, dashboard: Dashboard, user: User
) -> dict[str, Any]:
    """An edit of a chart block whose texts name fields by their ids. Raises DefinitionProblem for a value in a text
    that is neither known nor a formula."""
    if change.get("edit") not in ("set_look", "set_block"):
        return change
    reading = Reading(dashboard, frozen(definition), ViewState(), user)
    source = reading.source(str(change.get("block", "")))
    if source is None:
        return change
    model = reading.model(reading.dataset(source[0].dataset))

    def kept(said: Any) -> Any:
        if not isinstance(said, dict):
            return said
        return {
            key: stored(text, model) if key in TEXTS and isinstance(text, str) else text for key, text in said.items()
        }

    return kept(change) | ({"look": kept(change["look"])} if "look" in change else {})


def problem_of_click(block: Block, definition: DashboardDefinition, dashboard: Dashboard, user: User) -> str:
    """What a click on a block cannot do, for everybody or for some who may see the dashboard; "" if it works."""
    click = block.click
    if click.does == "page" and definition.page(click.page) is None:
        return "The page that a click opens is gone. Choose another one."
    if click.does == "address" and not click.address:
        return "A click opens a web address, and there is none."
    if click.does != "dashboard":
        return ""
    target = Dashboard.objects.filter(pk=_uuid(click.dashboard), deleted_at=None).first()
    if target is None:
        return "The dashboard that a click opens is gone. Choose another one."
    if target.published_id is None:
        return f"“{target.name}”, which a click opens, is not published yet."
    theirs = {each["key"] for each in grants(target)}
    without = [each["name"] for each in grants(dashboard) if each["key"] not in theirs]
    if without:
        return f"{', '.join(without)} may see this dashboard, but not “{target.name}”, which a click opens."
    return ""


def _uuid(text: str) -> uuid.UUID | None:
    try:
        return uuid.UUID(text)
    except ValueError:
        return None

"""How a block looks and what a click on it does: its form, and what of it cannot work for readers."""

from __future__ import annotations

import uuid
from typing import Any

from django.http import HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_POST

from veduta.core.chart.texts import VALUES, show_text, store_text
from veduta.core.dashboard.backgrounds import LIES, POSITIONS, find_least_fade
from veduta.core.dashboard.block_looks import PARTS, make_ground_look
from veduta.core.dashboard.clicks import DOES
from veduta.core.dashboard.definition import DashboardBlock, DashboardDefinition, Page, ViewState, load_dashboard
from veduta.core.dashboard.grid import MOST_GAP
from veduta.core.errors import VedutaError
from veduta.core.phrases import pluralise
from veduta.core.query.filters import label_grouping
from veduta.web.accounts.access import Request, require_builder
from veduta.web.accounts.models import User
from veduta.web.common.requests import Line, Object, RequestModel, parse_json
from veduta.web.dashboards.access import find_dashboard, list_dashboards, list_grants
from veduta.web.dashboards.models import Dashboard
from veduta.web.dashboards.publishing import freeze_charts
from veduta.web.dashboards.session import DashboardSession
from veduta.web.images.services import get_pictures, list_pictures
from veduta.web.palettes.models import load_paints

TEXTS = ("title", "subtitle", "note")
INNER_DISTANCES = (("", "as usual"), ("small", "small"), ("large", "large"))
BORDERS = (("", "a hairline"), ("line", "a strong line"), ("none", "none"))


class BlockAsked(RequestModel):
    """A block of a draft as it stands on the page."""

    definition: Object
    block: Line


@require_POST
@require_builder
def look(request: Request, pk: uuid.UUID) -> HttpResponse:
    """The form of a block's look."""
    dashboard, asked = find_dashboard(request.user, pk, edit=True), parse_json(request, BlockAsked)
    definition = freeze_charts(load_dashboard(asked.definition))
    reading = DashboardSession(dashboard, definition, ViewState(), request.user)
    block = definition.find_block(asked.block)
    if block is None:
        raise VedutaError("That block is not there any more.", hint="Undo, or load the page again.")
    context = {
        "block": block,
        "texts": _show_texts(block, reading),
        "parts": PARTS,
        "does": [(key, f"it {words}") for key, words in DOES.items()],
        "pages": [page for page in definition.pages if block not in page.blocks],
        "dashboards": list_dashboards(request.user).exclude(pk=pk),
        "dimensions": _list_dimensions(block, reading),
        "values": {name: words for name, (words, _) in VALUES.items()},
        "borders": BORDERS,
        "problem": find_click_problem(block, definition, dashboard),
        "paled": _warn_of_pale_text(block),
    }
    return render(request, "dashboards/look.html", context)


class PageAsked(RequestModel):
    """A page of a draft as it stands on the page."""

    definition: Object
    page: Line = ""


@require_POST
@require_builder
def show_background(request: Request, pk: uuid.UUID) -> HttpResponse:
    """The form of a page's ground and distances."""
    find_dashboard(request.user, pk, edit=True)
    asked = parse_json(request, PageAsked)
    page = load_dashboard(asked.definition).find_page(asked.page)
    if page is None:
        raise VedutaError("That page is not there any more.", hint="Undo, or load the page again.")
    context = {
        "page": page,
        "narrow": page.narrow.ground or page.ground,
        "pictures": list_pictures().order_by("name"),
        "lies": list(LIES.items()),
        "positions": list(POSITIONS.items()),
        "inner": INNER_DISTANCES,
        "most_gap": MOST_GAP,
        "problems": _list_background_problems(page),
    }
    return render(request, "dashboards/ground.html", context)


def _list_background_problems(page: Page) -> list[str]:
    """What is wrong with a page's grounds: pictures that are gone, or that texts cannot be read on."""
    problems, paints = [], load_paints()
    grounds = {"": page.ground} | ({" on telephones": page.narrow.ground} if page.narrow.ground else {})
    bare = sum(block.look.ground == "none" for block in page.blocks)
    for where, each in grounds.items():
        least = find_least_fade(each, paints)
        if each.picture and not get_pictures([each.picture]):
            problems.append(f"The picture “{each.picture}”{where} is gone. Choose another one.")
        elif each.picture and bare and each.fade < least:
            problems.append(
                f"Texts may not be read{where}: {pluralise(bare, 'block')} without a ground of its own"
                f" {'stands' if bare == 1 else 'stand'} on the picture. Fade it by {least} percent or more."
            )
    return problems


def _show_texts(block: DashboardBlock, reading: DashboardSession) -> dict[str, str]:
    """A block's texts with the names of the fields in them."""
    texts = {"title": block.title, "subtitle": block.look.subtitle, "note": block.look.note}
    source = reading.find_source(block.id)
    if source is None:
        return texts
    model = reading.get_model(reading.get_dataset(source[0].dataset))
    return {name: show_text(text, model) for name, text in texts.items()}


def _list_dimensions(block: DashboardBlock, reading: DashboardSession) -> list[str]:
    """The names of the values that a click on the block's chart has."""
    source = reading.find_source(block.id)
    if source is None:
        return []
    chart, schema = source
    return [label_grouping(group, schema) for group in chart.groups]


def _warn_of_pale_text(block: DashboardBlock) -> str:
    """The ground as it is used, where texts would not be read on the chosen one."""
    if block.look.ground in ("", "none"):
        return ""
    paints = load_paints()
    used = make_ground_look(block.look.ground, paints).light
    return used if used.upper() != paints.get_colour(block.look.ground).upper() else ""


def store_texts(
    change: dict[str, Any], definition: DashboardDefinition, dashboard: Dashboard, user: User
) -> dict[str, Any]:
    """An edit of a chart block whose texts name fields by their ids.

    Raises DefinitionProblem for a value in a text that is neither known nor a formula."""
    if change.get("edit") not in ("set_look", "set_block"):
        return change
    reading = DashboardSession(dashboard, freeze_charts(definition), ViewState(), user)
    source = reading.find_source(str(change.get("block", "")))
    if source is None:
        return change
    model = reading.get_model(reading.get_dataset(source[0].dataset))

    def kept(said: Any) -> Any:
        if not isinstance(said, dict):
            return said
        return {
            key: store_text(text, model) if key in TEXTS and isinstance(text, str) else text
            for key, text in said.items()
        }

    return kept(change) | ({"look": kept(change["look"])} if "look" in change else {})


def find_click_problem(block: DashboardBlock, definition: DashboardDefinition, dashboard: Dashboard) -> str:
    """What a click on a block cannot do, for everybody or for some who may see the dashboard; "" if it works."""
    click = block.click
    if click.does == "page" and definition.find_page(click.page) is None:
        return "The page that a click opens is gone. Choose another one."
    if click.does == "address" and not click.address:
        return "A click opens a web address, and there is none."
    if click.does != "dashboard":
        return ""
    target = Dashboard.objects.filter(pk=_parse_uuid(click.dashboard), deleted_at=None).first()
    if target is None:
        return "The dashboard that a click opens is gone. Choose another one."
    if target.published_id is None:
        return f"“{target.name}”, which a click opens, is not published yet."
    theirs = {each["key"] for each in list_grants(target)}
    without = [each["name"] for each in list_grants(dashboard) if each["key"] not in theirs]
    if without:
        return f"{', '.join(without)} may see this dashboard, but not “{target.name}”, which a click opens."
    return ""


def _parse_uuid(text: str) -> uuid.UUID | None:
    try:
        return uuid.UUID(text)
    except ValueError:
        return None

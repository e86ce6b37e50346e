"""Pages in small: where their blocks stand, without anything that is on them."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import chain, islice
from types import MappingProxyType
from typing import Any

from veduta.core.cache import Cache
from veduta.core.chart.choose import choose_kind
from veduta.core.chart.definition import load_definition
from veduta.core.dashboard.definition import Block, DashboardDefinition, Page
from veduta.core.dashboard.grid import COLUMNS
from veduta.core.dashboard.own import with_own
from veduta.core.dashboard.starts import places_like
from veduta.core.errors import VedutaError
from veduta.web.accounts.models import User
from veduta.web.charts.models import Chart
from veduta.web.dashboards.access import dashboards_for, may_edit
from veduta.web.dashboards.models import Dashboard
from veduta.web.dashboards.reading import block_name
from veduta.web.datasets.known import known
from veduta.web.modelling.services import model_of

COLUMN, ROW, GAP = 10, 6, 1
"""Units of a miniature: of a column, of a row, and left free between blocks."""
MOST_PICTURES = 60
"""How many dashboards of a list have a picture."""
MOST_PAGES = 24
"""How many pages are offered to begin like."""
HEIGHT = 84
"""Of a miniature."""


glyphs: Cache[str] = Cache(2_000)
"""Small pictures of charts, by the chart and its revision."""
made: Cache[Miniature | None] = Cache(500)
"""First pages of dashboards, by the dashboard and its version."""


@dataclass
class Part:
    kind: str
    x: float
    y: float
    width: float
    height: float
    glyph: str = ""


@dataclass
class Miniature:
    width: float
    height: float
    parts: list[Part] = field(default_factory=list)


def miniature(blocks: Sequence[Block]) -> Miniature:
    """Blocks of a page that flows; what is below a screen or so is cut off."""
    inner = {block.id: block for block in blocks if block.kind == "group"}
    parts = []
    for block in blocks:
        if block.kind in ("group", "gap"):
            continue
        x, y, w = float(block.x), float(block.y), float(block.w)
        if group := inner.get(block.group):
            x, w, y = group.x + x * group.w / COLUMNS, w * group.w / COLUMNS, group.y + y + bool(group.title)
        place = (x * COLUMN, y * ROW, w * COLUMN - GAP, block.h * ROW - GAP)
        parts.append(Part(block.kind, *place, glyph=_glyph(block)))
    return Miniature(COLUMN * COLUMNS - GAP, HEIGHT, parts)


def _glyph(block: Block) -> str:
    """The small picture of what draws a published block; none where that is not known."""
    return _glyph_of(block.definition, block.own) if block.definition else ""


def _glyph_of(stored: dict[str, Any], own: Mapping[str, Any] = MappingProxyType({})) -> str:
    try:
        chart = with_own(load_definition(json.dumps(stored)), own)
        dataset = known([chart.dataset]).get(chart.dataset)
        return choose_kind(chart, model_of(dataset))[0].glyph if dataset else ""
    except VedutaError:
        return ""


def with_glyphs(charts: Iterable[Chart]) -> list[Chart]:
    """Charts, each with the small picture of what draws it."""
    found = list(charts)
    for each in found:
        glyph = glyphs.get((each.pk, each.revision), lambda each=each: _glyph_of(each.definition))
        each.glyph = glyph  # type: ignore[attr-defined]
    return found


def pictured(dashboards: Iterable[Dashboard]) -> list[Dashboard]:
    """Dashboards, each with its first page in small: of what is published, or else of the draft. No rows are read for
    them, so they are the same for everybody."""
    found = list(dashboards)
    for each in found[:MOST_PICTURES]:
        each.miniature = _first_page(each)  # type: ignore[attr-defined]
    return found


def _first_page(dashboard: Dashboard) -> Miniature | None:
    key = (dashboard.pk, dashboard.published_id or f"draft {dashboard.revision}")
    try:
        return made.get(key, lambda: _made(dashboard))
    except VedutaError:
        return None


def _made(dashboard: Dashboard) -> Miniature | None:
    definition = dashboard.published.load() if dashboard.published else dashboard.load_draft()
    page = definition.shown[0]
    return miniature(page.blocks) if page.kind == "flowing" and page.blocks else None


def pages_to_begin_like(user: User, own: Dashboard) -> list[dict[str, Any]]:
    """The pages of dashboards that somebody may edit, as arrangements of empty places; first those of their own."""
    return list(islice(_begun_like_all(user, own), MOST_PAGES))


def _begun_like_all(user: User, own: Dashboard) -> Iterator[dict[str, Any]]:
    others = (each for each in dashboards_for(user).exclude(pk=own.pk).order_by("name") if may_edit(user, each))
    for dashboard in chain([own], others):
        definition = dashboard.load_draft()
        for page in definition.pages:
            if page.kind == "flowing" and page.blocks:
                yield _begun_like(dashboard, definition, page)


def _begun_like(dashboard: Dashboard, definition: DashboardDefinition, page: Page) -> dict[str, Any]:
    places = places_like(page.blocks, [block_name(block) for block in page.blocks])
    return {
        "name": f"{dashboard.name}, {page.name}" if len(definition.pages) > 1 else dashboard.name,
        "drawing": miniature(page.blocks),
        "blocks": [place.model_dump(mode="json") for place in places],
    }

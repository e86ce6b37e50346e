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
from veduta.core.dashboard.arrangements import make_placeholders
from veduta.core.dashboard.chart_overrides import apply_overrides
from veduta.core.dashboard.definition import DashboardBlock, DashboardDefinition, Page
from veduta.core.dashboard.grid import COLUMNS
from veduta.core.errors import VedutaError
from veduta.web.accounts.models import User
from veduta.web.charts.models import Chart
from veduta.web.dashboards.access import list_dashboards, may_edit
from veduta.web.dashboards.models import Dashboard
from veduta.web.dashboards.session import block_name
from veduta.web.datasets.dataset_cache import get_datasets
from veduta.web.modelling.services import load_whole_model

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
class MiniaturePart:
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
    parts: list[MiniaturePart] = field(default_factory=list)


def make_miniature(blocks: Sequence[DashboardBlock]) -> Miniature:
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
        parts.append(MiniaturePart(block.kind, *place, glyph=_find_glyph(block)))
    return Miniature(COLUMN * COLUMNS - GAP, HEIGHT, parts)


def _find_glyph(block: DashboardBlock) -> str:
    """The small picture of what draws a published block; none where that is not known."""
    return _find_stored_glyph(block.definition, block.own) if block.definition else ""


def _find_stored_glyph(stored: dict[str, Any], own: Mapping[str, Any] = MappingProxyType({})) -> str:
    try:
        chart = apply_overrides(load_definition(json.dumps(stored)), own)
        dataset = get_datasets([chart.dataset]).get(chart.dataset)
        return choose_kind(chart, load_whole_model(dataset))[0].glyph if dataset else ""
    except VedutaError:
        return ""


def add_glyphs(charts: Iterable[Chart]) -> list[Chart]:
    """Charts, each with the small picture of what draws it."""
    found = list(charts)
    for each in found:
        glyph = glyphs.get((each.pk, each.revision), lambda each=each: _find_stored_glyph(each.definition))
        each.glyph = glyph  # type: ignore[attr-defined]
    return found


def add_miniatures(dashboards: Iterable[Dashboard]) -> list[Dashboard]:
    """Dashboards, each with its first page in small: of what is published, or else of the draft.

    No rows are read for them, so they are the same for everybody."""
    found = list(dashboards)
    for each in found[:MOST_PICTURES]:
        each.miniature = _make_first_page(each)  # type: ignore[attr-defined]
    return found


def _make_first_page(dashboard: Dashboard) -> Miniature | None:
    key = (dashboard.pk, dashboard.published_id or f"draft {dashboard.revision}")
    try:
        return made.get(key, lambda: _load_miniature(dashboard))
    except VedutaError:
        return None


def _load_miniature(dashboard: Dashboard) -> Miniature | None:
    definition = dashboard.published.load() if dashboard.published else dashboard.load_draft()
    page = definition.shown[0]
    return make_miniature(page.blocks) if page.kind == "flowing" and page.blocks else None


def list_pages_to_copy(user: User, own: Dashboard) -> list[dict[str, Any]]:
    """The pages of dashboards that somebody may edit, as arrangements of empty places; first those of their own."""
    return list(islice(_iterate_pages_to_copy(user, own), MOST_PAGES))


def _iterate_pages_to_copy(user: User, own: Dashboard) -> Iterator[dict[str, Any]]:
    others = (each for each in list_dashboards(user).exclude(pk=own.pk).order_by("name") if may_edit(user, each))
    for dashboard in chain([own], others):
        definition = dashboard.load_draft()
        for page in definition.pages:
            if page.kind == "flowing" and page.blocks:
                yield _make_page_to_copy(dashboard, definition, page)


def _make_page_to_copy(dashboard: Dashboard, definition: DashboardDefinition, page: Page) -> dict[str, Any]:
    places = make_placeholders(page.blocks, [block_name(block) for block in page.blocks])
    return {
        "name": f"{dashboard.name}, {page.name}" if len(definition.pages) > 1 else dashboard.name,
        "drawing": make_miniature(page.blocks),
        "blocks": [place.model_dump(mode="json") for place in places],
    }

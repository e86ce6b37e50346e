"""Pages in small: where their blocks stand, without anything that is on them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from veduta.core.dashboard.definition import COLUMNS, Block, DashboardDefinition, Page
from veduta.core.dashboard.starts import places_like
from veduta.web.accounts.models import User
from veduta.web.dashboards.access import dashboards_for, may_edit
from veduta.web.dashboards.models import Dashboard
from veduta.web.dashboards.reading import block_name

COLUMN, ROW, GAP = 10, 6, 1
"""Units of a miniature: of a column, of a row, and left free between blocks."""
MOST_PAGES = 24
"""How many pages are offered to begin like."""
HEIGHT = 84
"""Of a miniature."""


@dataclass
class Part:
    kind: str
    x: float
    y: float
    width: float
    height: float


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
        parts.append(Part(block.kind, x * COLUMN, y * ROW, w * COLUMN - GAP, block.h * ROW - GAP))
    return Miniature(COLUMN * COLUMNS - GAP, HEIGHT, parts)


def pages_to_begin_like(user: User, own: Dashboard) -> list[dict[str, Any]]:
    """The pages of dashboards that somebody may edit, as arrangements of empty places; first those of their own."""
    found: list[dict[str, Any]] = []
    editable = [each for each in dashboards_for(user).order_by("name") if may_edit(user, each)]
    for dashboard in sorted(editable, key=lambda each: each.pk != own.pk):
        definition = dashboard.load_draft()
        for page in definition.pages:
            if page.kind == "flowing" and page.blocks and len(found) < MOST_PAGES:
                found.append(_begun_like(dashboard, definition, page))
    return found


def _begun_like(dashboard: Dashboard, definition: DashboardDefinition, page: Page) -> dict[str, Any]:
    places = places_like(page.blocks, [block_name(block) for block in page.blocks])
    return {
        "name": f"{dashboard.name}, {page.name}" if len(definition.pages) > 1 else dashboard.name,
        "drawing": miniature(page.blocks),
        "blocks": [place.model_dump(mode="json") for place in places],
    }

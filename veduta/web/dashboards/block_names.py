"""What the blocks of definitions are called that nobody reads now: earlier drafts, and what is published next."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable

from veduta.core.dashboard.block_kinds import BLOCK_KINDS
from veduta.core.dashboard.definition import DashboardBlock, DashboardDefinition
from veduta.web.charts.models import Chart

MARKS = re.compile(r"[*#>`]+")
"""What Markdown writes around words."""


def make_namer(definitions: Iterable[DashboardDefinition]) -> Callable[[DashboardBlock], str]:
    """What blocks of some definitions are called."""
    wanted = {block.chart for each in definitions for block in each.charts if block.chart}
    names = {str(pk): name for pk, name in Chart.objects.filter(pk__in=wanted).values_list("pk", "name")}

    def name(block: DashboardBlock) -> str:
        if block.kind == "chart":
            return block.title or names.get(block.chart) or "Chart"
        words = block.title or MARKS.sub("", block.text.strip().split("\n")[0]).strip()[:80]
        return f"{BLOCK_KINDS[block.kind].name}{f' “{words}”' if words else ''}"

    return name

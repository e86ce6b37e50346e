"""Drawn charts that are kept in memory: one question of one reader's rows, in one set of colours, is drawn once.

As with answers, keys hold all that a drawing depends on, so that none is ever out of date."""

from __future__ import annotations

from collections.abc import Callable, Hashable
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from veduta.core.cache import Cache
from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.question import AnsweredChart, OwnSelection
from veduta.core.chart.theme import list_own_counterparts
from veduta.core.chart.value_colours import ValueColours
from veduta.core.model.model import Model
from veduta.core.query.filters import Context, Filter
from veduta.web.charts.render import make_chart_data, shows_pictures

AROUND, OF_A_ROW = 40_000, 1_500
"""Bytes that a drawing takes, and each of its rows, measured over the demo's charts."""


@dataclass(frozen=True)
class DrawnChart:
    """A chart answered and drawn, with its data for the page."""

    answered: AnsweredChart

    @property
    def data(self) -> dict[str, Any]:
        """Whoever changes an entry puts another in its place: the data are shared."""
        return dict(make_chart_data(self.answered) if shows_pictures(self.answered) else self._data)

    @cached_property
    def _data(self) -> dict[str, Any]:
        return make_chart_data(self.answered)


def _estimate_size(chart: DrawnChart) -> float:
    table = chart.answered.drawing.table
    return AROUND + OF_A_ROW * (len(chart.answered.drawing.rows) + sum(map(len, table.rows if table else ())))


drawings: Cache[DrawnChart] = Cache(32 * 1024 * 1024, _estimate_size)


def make_drawing_key(
    definition: ChartDefinition,
    model: Model,
    context: Context,
    filters: tuple[Filter, ...],
    selection: OwnSelection | None,
    colours: ValueColours,
    *how: Hashable,
) -> Hashable:
    """All that a drawing depends on besides shapes, events and pictures; None for one over rows that are not kept."""
    if model.key is None:
        return None
    return (
        definition.model_dump_json(),
        model.make_cache_key(),
        context.today,
        filters,
        selection,
        colours.make_key(),
        list_own_counterparts(),
        *how,
    )


def keep_drawing(key: Hashable, draw: Callable[[], tuple[AnsweredChart, bool]]) -> DrawnChart:
    """The chart of a key, drawn if it is not kept. `draw` also tells whether its key says all that it depends on."""
    if key is not None and (kept := drawings.find_kept(key)) is not None:
        return kept
    answered, is_whole = draw()
    made = DrawnChart(answered)
    if key is not None and is_whole:
        drawings.keep(key, made)
    return made

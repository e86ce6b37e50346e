"""Periods that are not whole: the last one, which goes on after the data, and the first one, which began before it."""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import polars as pl

from veduta.core.calendar import PERIODS, Grain, Grouping, find_period_end, find_period_start, to_date
from veduta.core.query.filters import EVER
from veduta.core.query.plan import QueryPlan

COMPARED = 24
"""So many other periods say how far one usually reaches."""
USUALLY = 0.9
"""The share of other periods that reach no farther than is usual."""
FEWEST = 3
"""So many other periods say what is usual, at least."""
ANYWHERE = 1 / 3
"""Where the ends of other periods lie apart by more than this share of a period, nothing is usual."""


@dataclass(frozen=True)
class Unfinished:
    """The periods that are cut off at either end of the data.

    The last day with data of a last period that goes on after it, the first day with data of a first period that began
    before it, and the day that the data `reach`: the latest one under the filters, or the end of its period if that is
    whole."""

    until: dt.date | None = None
    since: dt.date | None = None
    reach: dt.date | None = None


def find_unfinished_periods(asked: QueryPlan, frame: pl.DataFrame) -> Unfinished:
    """Which ends of the finest time axis that a result shows are not whole.

    A period is whole if it reaches as far as others of the data: monthly figures that always stand on the 11th are, and
    so is a month of working days that ends with a Friday.
    """
    axis = _find_axis(asked, frame)
    if axis is None:
        return Unfinished()
    position, group = axis
    shown = frame[f"d{position}"].drop_nulls()
    days = asked.model.count_days_in_periods(group.field, group.period)
    if not len(shown) or not days.height:
        return Unfinished()
    first, last = shown.min(), shown.max()
    assert isinstance(first, dt.date) and isinstance(last, dt.date), "a time axis has dates"
    latest = _find_latest(asked, group)
    since = _find_first_day(asked, group, first, days)
    if latest is None:
        return Unfinished(None, since)
    start = find_period_start(latest, group.period, asked.context.fiscal_month)
    until = _find_last_day(group, start, latest, days)
    return Unfinished(until if start == last else None, since, until or find_period_end(start, group.period))


def _find_axis(asked: QueryPlan, frame: pl.DataFrame) -> tuple[int, Grouping] | None:
    """The finest periods of the first date that a result is by, with their position; none where each stands alone."""
    query = asked.query
    periods = [(i, group) for i, group in enumerate(query.groups) if group.is_time_axis]
    if not periods or not frame.height or query.aligned:
        return None
    first = periods[0][1].field
    found = max(periods, key=lambda each: (each[1].field == first, PERIODS.index(each[1].period)))
    return None if found[1].grain in (Grain.DAY, Grain.HOUR) else found


def _find_latest(asked: QueryPlan, group: Grouping) -> dt.date | None:
    """The latest day of the axis with data, as far as the filters let it pass."""
    context, dates = asked.context, asked.model.list_same_dates(group.field)
    latest = context.latest.get(group.field)
    if latest is None:
        return None
    return min([latest, *(day for each in asked.query.filters if (day := each.find_last_day(dates, context)))])


def _find_last_day(group: Grouping, last: dt.date, latest: dt.date, days: pl.DataFrame) -> dt.date | None:
    """The latest day with data, if its period, the last one, goes on after it."""
    if latest >= find_period_end(last, group.period):
        return None
    others = days.filter(pl.col("start") < last).tail(COMPARED).select("start", "last").rows()

    def reach(start: dt.date, day: dt.date) -> int:
        return (start - day).days

    def gap(start: dt.date, day: dt.date) -> int:
        return (find_period_end(start, group.period) - day).days

    return None if _is_short(last, latest, others, (gap, reach)) is False else latest


def _find_first_day(asked: QueryPlan, group: Grouping, first: dt.date, days: pl.DataFrame) -> dt.date | None:
    context, dates = asked.context, asked.model.list_same_dates(group.field)
    own = days.filter(pl.col("start") == first)
    if not own.height:
        return None
    earliest: dt.date = own["first"][0]
    for filter_ in asked.query.filters:
        ranges = filter_.list_days(dates, context) or [EVER]
        earliest = max(earliest, min(to_date(start) for start, _ in ranges))
    if find_period_start(earliest, group.period, context.fiscal_month) != first or earliest == first:
        return None
    others = days.filter(pl.col("start") > first).head(COMPARED).select("start", "first").rows()

    def late(start: dt.date, day: dt.date) -> int:
        return (day - start).days

    def early(start: dt.date, day: dt.date) -> int:
        return (day - find_period_end(start, group.period)).days

    return earliest if _is_short(first, earliest, others, (late, early)) else None


Measured = Callable[[dt.date, dt.date], int]


def _is_short(
    start: dt.date, day: dt.date, others: Sequence[tuple[dt.date, dt.date]], ways: tuple[Measured, Measured]
) -> bool | None:
    """Whether a period's end with data is farther from its own than is usual in the others.

    Distance counts from the period's near end or its far one, whichever varies less. None where there are too few
    others, or too few dates to tell."""
    if len(others) < FEWEST:
        return None
    distances = [sorted(measure(*other) for other in others) for measure in ways]
    spreads = [each[-1] - each[0] for each in distances]
    steadier = spreads.index(min(spreads))
    length = abs(ways[0](start, day)) + abs(ways[1](start, day)) + 1
    if spreads[steadier] > ANYWHERE * length:
        return None
    usual = distances[steadier][math.ceil(USUALLY * (len(others) - 1))]
    return ways[steadier](start, day) > usual

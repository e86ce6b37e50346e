"""The periods that filters on a date let pass."""

from __future__ import annotations

import datetime as dt
from functools import reduce

from veduta.core.calendar import PERIODS, Days, Grain, find_period_end, find_period_start, intersect_days, list_periods
from veduta.core.model.model import Model
from veduta.core.query.engine.levels import Periods
from veduta.core.query.filters import EVER, Context, Filter


def find_filtered_periods(filters: list[Filter], model: Model, context: Context) -> Periods | None:
    """What the filters on the first date that is filtered let pass together; None if no date is."""
    named = (name for filter_ in filters for name, _ in sorted(filter_.needs()))
    for name in dict.fromkeys(name for name in named if model.schema[name].kind.is_date):
        dates = model.list_same_dates(name)
        ranges = [days for filter_ in filters if (days := filter_.list_days(dates, context)) is not None]
        if ranges and (days := _bound_days(reduce(intersect_days, ranges), name, model, context)) is not None:
            grains = [grain for filter_ in filters if (grain := filter_.get_period_grain(dates))]
            return _make_periods(name, days, grains, model.schema.fiscal_month)
    return None


def _bound_days(days: list[Days], name: str, model: Model, context: Context) -> list[Days] | None:
    """Ranges that are open at an end go as far as there are dates; None if they are open at both."""
    if not days:
        return []
    first, last = days[0][0], days[-1][1]
    if (first, last) == EVER:
        return None
    if first == EVER[0]:
        lowest = model.get_facts(name).lowest
        first = dt.date.fromisoformat(str(lowest)[:10]) if lowest else EVER[0]
    if last == EVER[1]:
        last = context.latest.get(name, context.today)
    return intersect_days(days, [(first, last)])


def _make_periods(name: str, days: list[Days], grains: list[Grain], fiscal: int) -> Periods:
    """Ranges of days as periods of the finest grain that was chosen, where they are made up of such."""
    grain = max(grains, key=PERIODS.index, default=None)
    if grain and all(
        find_period_start(first, grain, fiscal) == first
        and find_period_end(find_period_start(last, grain, fiscal), grain) == last
        for first, last in days
    ):
        starts = [s for a, b in days for s in list_periods(a, find_period_start(b, grain, fiscal), grain)]
        return Periods(name, grain, tuple(starts))
    return Periods(name, Grain.DAY, None, tuple(days))

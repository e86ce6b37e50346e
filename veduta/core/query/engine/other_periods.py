"""Values of other periods, as the functions of time ask for them."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

import polars as pl

from veduta.core.calendar import (
    NESTED,
    Days,
    Grain,
    Grouping,
    derive_coarser_period,
    find_enclosing_period,
    find_period_end,
    find_period_start,
    follows,
    intersect_days,
    label_period,
    merge_days,
    shift_days,
    shift_period,
    to_date,
)
from veduta.core.formula.check import TypedExpression
from veduta.core.formula.problems import FormulaProblem
from veduta.core.query.engine.levels import CellLevel, Periods, make_group_key
from veduta.core.query.filters import describe_dates

if TYPE_CHECKING:
    from veduta.core.query.engine.walk import Walk


class OtherPeriods:
    """What a function of time asks for, at one place, on either walk."""

    def __init__(self, walk: Walk, place: CellLevel, node: TypedExpression) -> None:
        self.walk, self.engine, self.place, self.node = walk, walk.engine, place, node
        self.axis = self.engine.find_axis(place)
        self.fiscal = self.engine.schema.fiscal_month

    def evaluate(self, x: TypedExpression) -> pl.Expr:
        return self.walk.evaluate(x, self.place)

    def shift(self, x: TypedExpression, steps: int, unit: str, same_days: bool = False) -> pl.Expr:
        """The value so many units later. With `same_days` a period that is not over is compared with as many days."""
        grain, axis = Grain(unit), self.axis
        if axis is None or self.is_coarser:
            return self._evaluate_over_shown(x, lambda periods: self._shift_periods(periods, steps, grain, same_days))
        self._must_nest(axis.period, grain)
        key = make_group_key(axis)
        position = shift_period(pl.col(key), axis.period, steps, grain)
        if x.function is not None and x.function.accumulates and x.arguments[0] is None:
            # So far into another year there is a value, even where its very month has none.
            return self.to_date(x.get_option(1), x.get_option(2).value, position)
        value = self._look_up_cells(x, axis, self.place.groups, {key: position})
        return self._cut_short(x, value, axis, steps, grain) if same_days else value

    def _shift_periods(self, periods: Periods, steps: int, unit: Grain, same_days: bool) -> Periods:
        if same_days and (unfinished := self._find_unfinished(periods)):
            periods = unfinished
        if periods.days is not None:
            other = replace(periods, days=tuple(shift_days(*days, steps, unit) for days in periods.days))
        else:
            self._must_nest(periods.period, unit)
            other = replace(
                periods, starts=self._map_starts(periods, shift_period(pl.col("s"), periods.period, steps, unit))
            )
        if not self.engine.for_totals:
            self._say_compared(periods, other)
        return other

    def _say_compared(self, periods: Periods, other: Periods) -> None:
        """Say which days stand beside which: a chart without a time axis shows neither.

        Unlike numbers of days, as of a February, and days before the first ones of the data are said, too."""
        now, there = periods.ranges, other.ranges
        if not now or not there or (len(now), len(there)) != (1, 1):
            return
        said = f"{self._describe_days(now[0])} is compared with {self._describe_days(there[0])}"
        if not any(isinstance(day, dt.datetime) for days in (now[0], there[0]) for day in days):
            counts = [(last - first).days + 1 for first, last in (now[0], there[0])]
            said += f" ({counts[0]:,} days with {counts[1]:,})" if counts[0] != counts[1] else ""
        lowest = self.engine.model.get_facts(periods.field).lowest
        begins = dt.date.fromisoformat(str(lowest)[:10]) if lowest else dt.date.min
        if to_date(there[0][0]) < begins:
            said += f"; the data begins on {label_period(begins, Grain.DAY)}"
        latest = self._find_latest_day(periods.field)
        if latest is not None and latest < to_date(now[0][1]):
            said += f"; the data ends on {label_period(latest, Grain.DAY)}"
        self.walk.say(f"{said}.")

    def _describe_days(self, days: Days) -> str:
        return describe_dates(*days, self.fiscal)

    def _find_unfinished(self, periods: Periods) -> Periods | None:
        """The periods up to the latest day with data, if they go on after it."""
        latest, days = self._find_latest_day(periods.field), periods.ranges
        if latest is None or not days or days[-1][1] <= latest:
            return None
        return Periods(periods.field, Grain.DAY, None, tuple(intersect_days(days, [(dt.date.min, latest)])))

    def _find_latest_day(self, field: str) -> dt.date | None:
        return self.engine.context.latest.get(field)

    def _cut_short(self, x: TypedExpression, value: pl.Expr, axis: Grouping, steps: int, unit: Grain) -> pl.Expr:
        """In the cells of a period that is not over, the value of as many days of the other one."""
        latest, key, grain = self._find_latest_day(axis.field), make_group_key(axis), axis.period
        if latest is None or grain in (Grain.DAY, Grain.HOUR):
            return value
        start = find_period_start(latest, grain, self.fiscal)
        if find_period_end(start, grain) <= latest:
            return value
        first, last = shift_days(start, latest, steps, unit)
        if grain is Grain.WEEK and unit is Grain.YEAR:
            first = pl.select(shift_period(pl.lit(start), grain, steps, unit)).item()
            last = first and first + (latest - start)
        groups = tuple(group for group in self.place.groups if group != axis)
        days = ((first, last),) if first else ()
        source = replace(self.place, groups=groups, periods=Periods(axis.field, Grain.DAY, None, days))
        cut = self.walk.look_up(
            x, source, self.place, {make_group_key(group): pl.col(make_group_key(group)) for group in groups}
        )
        self.walk.say(
            f"{label_period(start, grain)} goes to {label_period(latest, Grain.DAY)} and is compared with the same"
            f" days, {describe_dates(first, last, self.fiscal)}."
        )
        return pl.when(pl.col(key) == start).then(cut).otherwise(value)

    def take_whole_period(self, x: TypedExpression, unit: str) -> pl.Expr:
        grain, axis = Grain(unit), self.axis
        if axis is None or self.is_coarser:
            return self._evaluate_over_shown(x, lambda periods: self._widen_periods(periods, grain))
        self._must_nest(axis.period, grain)
        whole = axis if axis.grain is grain else Grouping(field=axis.field, grain=grain)
        if axis.grain is Grain.WEEK and grain is Grain.YEAR:
            raise FormulaProblem(
                "Weeks do not make up whole calendar years.",
                at=self.node.at,
                hint="Choose months, or to_date(…, 'year'), which follows the ISO year on weeks.",
            )
        groups = tuple(whole if group == axis else group for group in self.place.groups)
        around = find_enclosing_period(pl.col(make_group_key(axis)), axis.period, grain, self.fiscal)
        return self._look_up_cells(x, axis, groups, {make_group_key(whole): around})

    def _widen_periods(self, periods: Periods, unit: Grain) -> Periods:
        if periods.days is not None:
            around = (
                (
                    find_period_start(first, unit, self.fiscal),
                    find_period_end(find_period_start(last, unit, self.fiscal), unit),
                )
                for first, last in periods.days
            )
            return replace(periods, days=tuple(merge_days(around)))
        self._must_nest(periods.period, unit)
        starts = self._map_starts(periods, find_enclosing_period(pl.col("s"), periods.period, unit, self.fiscal))
        if periods.grain is not Grain.WEEK:
            return replace(periods, grain=unit, starts=starts)
        weeks = [
            start + dt.timedelta(days=7 * i)
            for start in starts
            for i in range(53 if unit is Grain.YEAR else 1)
            if 7 * i <= (dt.date.max - start).days
        ]
        years = {(start + dt.timedelta(days=3)).year for start in starts}
        return replace(
            periods, starts=tuple(week for week in weeks if unit is Grain.WEEK or week.isocalendar()[0] in years)
        )

    def to_date(self, x: TypedExpression, unit: str, position: pl.Expr | None = None) -> pl.Expr:
        """`position` is another cell of the time axis than this one."""
        grain, axis = Grain(unit), self.axis
        if axis is None or self.is_coarser:
            return self._evaluate_over_shown(x, lambda periods: self._extend_to_date(periods, grain))
        self._must_nest(axis.period, grain)
        source, key = replace(self.engine.widen(self.place, axis), upto=grain), make_group_key(axis)
        return self.walk.find_latest(
            x, source, self.place, axis, key, grain, pl.col(key) if position is None else position
        )

    def _extend_to_date(self, periods: Periods, unit: Grain) -> Periods:
        if periods.days is not None:
            last = max((last for _, last in periods.days), default=None)
            first = last and find_period_start(last, unit, self.fiscal)
        else:
            self._must_nest(periods.period, unit)
            start = max(periods.starts or (), default=None)
            first = start and pl.select(find_enclosing_period(pl.lit(start), periods.period, unit, self.fiscal)).item()
            last = start and find_period_end(start, periods.period)
        return Periods(periods.field, Grain.DAY, None, ((first, last),) if first and last else ())

    def accumulate_cells(self, x: TypedExpression, how: str, unit: str) -> pl.Expr:
        grain = Grain(unit)
        if self.engine.for_totals and (self.axis is None or self.is_coarser):
            return pl.lit(None, dtype=x.kind.dtype if x.kind else None)
        axis = self._require_axis(f"to_date({how}, …) looks at the periods of a time axis, and this chart has none.")
        self._must_nest(axis.period, grain)
        return self.walk.accumulate(x, how, self.engine.widen(self.place, axis), self.place, axis, grain)

    def count_since(self, x: TypedExpression) -> pl.Expr:
        if self.engine.for_totals and (self.axis is None or self.is_coarser):
            return pl.lit(None, dtype=pl.Int64)
        axis = self._require_axis("since counts periods along a time axis, and this chart has none.")
        start = self.walk.find_first_held(x, self.engine.widen(self.place, axis), self.place, axis)
        periods = _list_periods_between(start, pl.col(make_group_key(axis)), axis.period)
        return pl.when(periods >= 0).then(periods)

    def _require_axis(self, message: str) -> Grouping:
        if self.axis is None:
            raise FormulaProblem(message, at=self.node.at, hint="Add a date to the dimensions.")
        return self.axis

    # Helpers.

    @property
    def is_coarser(self) -> bool:
        """Whether this is a subtotal of periods that the chart shows finer: of years of months."""
        shown = self.engine.find_chart_axis()
        return bool(shown and self.axis and follows(self.axis, shown))

    def _map_starts(self, periods: Periods, expression: pl.Expr) -> tuple[dt.date, ...]:
        dtype = pl.Datetime("us") if periods.grain is Grain.HOUR else pl.Date
        starts = pl.DataFrame({"s": pl.Series(list(periods.starts or ()), dtype=dtype)})
        return tuple(starts.select(expression.alias("s"))["s"].drop_nulls().unique().sort().to_list())

    def _evaluate_over_shown(self, x: TypedExpression, other: Callable[[Periods], Periods]) -> pl.Expr:
        """The value over other periods than those that the place stands for.

        A subtotal of a coarser period stands for those that the chart shows of it."""
        axis, shown = self.axis, self.engine.find_chart_axis()
        if axis is None or shown is None or not self.is_coarser:
            source = replace(self.place, periods=other(self.engine.find_current_periods(self.place, self.node)))
            own = {make_group_key(group): pl.col(make_group_key(group)) for group in self.place.groups}
            return self.walk.look_up(x, source, self.place, own)
        groups = tuple(group for group in self.place.groups if group != axis)
        starts = self.engine.list_kept_starts(shown)
        coarse = starts.to_frame().with_columns(
            derive_coarser_period(axis, pl.col(starts.name), shown.period, self.fiscal).alias("__coarse")
        )
        wanted = []
        for (period,), own_starts in coarse.group_by("__coarse", maintain_order=True):
            periods = other(Periods(axis.field, shown.grain, tuple(own_starts[starts.name].to_list())))
            wanted.append((period, replace(self.place, groups=groups, periods=periods)))
        return self.walk.look_up_each(x, wanted, self.place, axis)

    def _look_up_cells(
        self, x: TypedExpression, axis: Grouping, groups: tuple[Grouping, ...], changed: dict[str, pl.Expr]
    ) -> pl.Expr:
        """The value in other cells, of other periods."""
        swapped = dict(zip(self.place.groups, groups, strict=True))
        outer = self.place.outer and tuple(swapped.get(group, group) for group in self.place.outer)
        source = self.engine.widen(replace(self.place, groups=groups, outer=outer), axis)
        keys = [make_group_key(group) for group in groups]
        own = {key: changed.get(key, pl.col(key)) for key in keys}
        if source.upto and (there := self.engine.find_axis(source)):
            key = make_group_key(there)
            return self.walk.find_latest(x, source, self.place, axis, key, source.upto, own[key])
        # Where there is no such period nothing is found, not the cell of empty dates.
        return self.walk.look_up(x, source, self.place, own, [key for key in keys if key in changed])

    def _must_nest(self, grain: Grain, unit: Grain) -> None:
        if unit in NESTED[grain]:
            return
        ways = ", ".join(each.words for each in NESTED[grain])
        finer = list(Grain).index(unit) > list(Grain).index(grain)
        why = "is finer than" if finer else "is not made up of whole"
        what = f"the chart's {grain.words}s" if finer else f"{grain.words}s, which the chart shows"
        raise FormulaProblem(
            f"{self.node.call.name}: a {unit.words} {why} {what}.",
            at=self.node.at,
            hint=f"With {grain.words}s these work: {ways}. Or show the chart by {unit.words}.",
        )


def _list_periods_between(start: pl.Expr, now: pl.Expr, grain: Grain) -> pl.Expr:
    """How many whole periods lie between two of their starts."""
    since = now - start
    if grain is Grain.HOUR:
        return since.dt.total_hours()
    if grain in (Grain.DAY, Grain.WEEK):
        return since.dt.total_days() // (7 if grain is Grain.WEEK else 1)
    years = (now.dt.year() - start.dt.year()).cast(pl.Int64)
    months = years * 12 + now.dt.month().cast(pl.Int64) - start.dt.month().cast(pl.Int64)
    return months // {Grain.MONTH: 1, Grain.QUARTER: 3, Grain.YEAR: 12}[grain]

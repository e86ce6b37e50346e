"""Values of other periods, as the functions of time ask for them."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

import polars as pl

from veduta.core.calendar import (
    NESTED,
    Grain,
    Grouping,
    common_days,
    enclosing,
    following_expression,
    follows,
    joined_days,
    moved,
    moved_days,
    period_end,
    period_start,
    period_words,
)
from veduta.core.formula.check import Checked
from veduta.core.formula.problems import FormulaProblem
from veduta.core.query.filters import dates_words
from veduta.core.query.places import Periods, Place, key_of

if TYPE_CHECKING:
    from veduta.core.query.cells import Engine


class At:
    """What a function of time asks the engine for, at one place."""

    def __init__(self, engine: Engine, place: Place, node: Checked) -> None:
        self.engine, self.place, self.node = engine, place, node
        self.axis = engine.axis(place)
        self.fiscal = engine.schema.fiscal_month

    def value(self, x: Checked) -> pl.Expr:
        return self.engine.value(x, self.place)

    def shifted(self, x: Checked, steps: int, unit: str, same_days: bool = False) -> pl.Expr:
        """The value so many units later. With `same_days` a period that is not over is compared with as many days."""
        unit = Grain(unit)
        if self.axis is None or self.is_coarser:
            return self._of_shown(x, lambda periods: self._shifted_periods(periods, steps, unit, same_days))
        self._must_nest(self.axis.grain, unit)
        key = key_of(self.axis)
        position = moved(pl.col(key), self.axis.grain, steps, unit)
        if x.function is not None and x.function.accumulates and x.arguments[0] is None:
            # So far into another year there is a value, even where its very month has none.
            return self.to_date(x.arguments[1], x.arguments[2].value, position)
        found = self._other_cells(x, self.place.groups, {key: position})
        return self._cut_short(x, found, steps, unit) if same_days else found

    def _shifted_periods(self, periods: Periods, steps: int, unit: Grain, same_days: bool) -> Periods:
        if same_days and (unfinished := self._unfinished(periods)):
            periods = unfinished
        if periods.days is not None:
            return replace(periods, days=tuple(moved_days(*days, steps, unit) for days in periods.days))
        self._must_nest(periods.grain, unit)
        return replace(periods, starts=self._mapped(periods, moved(pl.col("s"), periods.grain, steps, unit)))

    def _unfinished(self, periods: Periods) -> Periods | None:
        """The periods up to the latest day with data, if they go on after it."""
        latest, days = self._latest_day(periods.field), periods.days
        if days is None:
            days = joined_days((start, period_end(start, periods.grain)) for start in periods.starts)
        if latest is None or not days or days[-1][1] <= latest:
            return None
        return Periods(periods.field, Grain.DAY, None, tuple(common_days(days, [(dt.date.min, latest)])))

    def _latest_day(self, field: str) -> dt.date | None:
        return self.engine.context.latest.get(field)

    def _cut_short(self, x: Checked, found: pl.Expr, steps: int, unit: Grain) -> pl.Expr:
        """In the cells of a period that is not over, the value of as many days of the other one."""
        latest, key, grain = self._latest_day(self.axis.field), key_of(self.axis), self.axis.grain
        start = latest and period_start(latest, grain, self.fiscal)
        if start is None or grain in (Grain.DAY, Grain.HOUR) or period_end(start, grain) <= latest:
            return found
        first, last = moved_days(start, latest, steps, unit)
        if grain is Grain.WEEK and unit is Grain.YEAR:
            first = pl.select(moved(pl.lit(start), grain, steps, unit)).item()
            last = first and first + (latest - start)
        groups = tuple(group for group in self.place.groups if group != self.axis)
        days = ((first, last),) if first else ()
        at = replace(self.place, groups=groups, periods=Periods(self.axis.field, Grain.DAY, None, days))
        name = self.engine.column(x, at)
        if self.engine.gathering:
            return found
        self.engine.say(
            f"{period_words(start, grain)} goes to {period_words(latest, Grain.DAY)} and is compared with the same"
            f" days, {dates_words(first, last, self.fiscal)}."
        )
        keys = self.engine.cells[at].keys
        frame = self.engine.cells[at].frame.select(*keys, name)
        cut = self.engine._looked_up(self.place, [pl.col(each) for each in keys], frame, keys, name)
        return pl.when(pl.col(key) == start).then(cut).otherwise(found)

    def whole(self, x: Checked, unit: str) -> pl.Expr:
        unit = Grain(unit)
        if self.axis is None or self.is_coarser:
            return self._of_shown(x, lambda periods: self._whole_periods(periods, unit))
        self._must_nest(self.axis.grain, unit)
        whole = self.axis if self.axis.grain is unit else Grouping(field=self.axis.field, grain=unit)
        if self.axis.grain is Grain.WEEK and unit is Grain.YEAR:
            raise FormulaProblem(
                "Weeks do not make up whole calendar years.",
                at=self.node.at,
                hint="Choose months, or to_date(…, 'year'), which follows the ISO year on weeks.",
            )
        groups = tuple(whole if group == self.axis else group for group in self.place.groups)
        return self._other_cells(
            x, groups, {key_of(whole): enclosing(pl.col(key_of(self.axis)), self.axis.grain, unit, self.fiscal)}
        )

    def _whole_periods(self, periods: Periods, unit: Grain) -> Periods:
        if periods.days is not None:
            around = (
                (period_start(first, unit, self.fiscal), period_end(period_start(last, unit, self.fiscal), unit))
                for first, last in periods.days
            )
            return replace(periods, days=tuple(joined_days(around)))
        self._must_nest(periods.grain, unit)
        starts = self._mapped(periods, enclosing(pl.col("s"), periods.grain, unit, self.fiscal))
        if periods.grain is not Grain.WEEK:
            return replace(periods, grain=unit, starts=starts)
        weeks = [start + dt.timedelta(days=7 * i) for start in starts for i in range(53 if unit is Grain.YEAR else 1)]
        years = {(start + dt.timedelta(days=3)).year for start in starts}
        return replace(
            periods, starts=tuple(week for week in weeks if unit is Grain.WEEK or week.isocalendar()[0] in years)
        )

    def to_date(self, x: Checked, unit: str, position: pl.Expr | None = None) -> pl.Expr:
        """`position` is another cell of the time axis than this one."""
        unit = Grain(unit)
        if self.axis is None or self.is_coarser:
            return self._of_shown(x, lambda periods: self._periods_to_date(periods, unit))
        self._must_nest(self.axis.grain, unit)
        engine, key = self.engine, key_of(self.axis)
        at = replace(engine._widened(self.place, self.axis), upto=unit)
        name = engine.column(x, at)
        if engine.gathering:
            return self._nothing(x)
        return self._latest(engine.cells[at].frame, name, key, unit, position)

    def _periods_to_date(self, periods: Periods, unit: Grain) -> Periods:
        if periods.days is not None:
            last = max((last for _, last in periods.days), default=None)
            first = last and period_start(last, unit, self.fiscal)
        else:
            self._must_nest(periods.grain, unit)
            start = max(periods.starts, default=None)
            first = start and pl.select(enclosing(pl.lit(start), periods.grain, unit, self.fiscal)).item()
            last = start and period_end(start, periods.grain)
        return Periods(periods.field, Grain.DAY, None, ((first, last),) if last else ())

    def cells_to_date(self, x: Checked, how: str, unit: str) -> pl.Expr:
        unit = Grain(unit)
        if self.engine.for_totals and (self.axis is None or self.is_coarser):
            return self._nothing(x)
        if self.axis is None:
            raise FormulaProblem(
                f"to_date({how}, …) looks at the periods of a time axis, and this chart has none.",
                at=self.node.at,
                hint="Add a date to the dimensions.",
            )
        self._must_nest(self.axis.grain, unit)
        engine, key = self.engine, key_of(self.axis)
        at = engine._widened(self.place, self.axis)
        name = engine.column(x, at)
        if engine.gathering:
            return self._nothing(x)
        keys = engine.cells[at].keys
        later = engine.cells[at].frame.lazy().select(pl.col(key).alias("__later")).unique().drop_nulls()
        rows = engine._exploded(engine.cells[at].frame.lazy().select(*keys, name), self.axis, unit, later)
        found = rows.group_by(keys).agg(getattr(pl.col(name), how)(), pl.col(name).count().alias("__n")).collect()
        found = found.with_columns(pl.when(pl.col("__n") > 0).then(pl.col(name)).alias(name))
        return self._latest(found, name, key, unit)

    def since(self, x: Checked) -> pl.Expr:
        if self.engine.for_totals and (self.axis is None or self.is_coarser):
            return pl.lit(None, dtype=pl.Int64)
        if self.axis is None:
            raise FormulaProblem(
                "since counts periods along a time axis, and this chart has none.",
                at=self.node.at,
                hint="Add a date to the dimensions.",
            )
        engine, key = self.engine, key_of(self.axis)
        at = engine._widened(self.place, self.axis)
        name = engine.column(x, at)
        if engine.gathering:
            return pl.lit(None, dtype=pl.Int64)
        others = [each for each in engine.cells[at].keys if each != key]
        held = engine.cells[at].frame.filter(pl.col(name))
        if others:
            first = held.group_by(others).agg(pl.col(key).min().alias("__first"))
        else:
            first = held.select(pl.col(key).min().alias("__first"))
        start = engine._looked_up(self.place, [pl.col(each) for each in others], first, others, "__first")
        now = pl.col(key)
        months = (
            (now.dt.year() - start.dt.year()).cast(pl.Int64) * 12
            + now.dt.month().cast(pl.Int64)
            - start.dt.month().cast(pl.Int64)
        )
        days = (now - start).dt.total_days()
        count = {
            Grain.HOUR: (now - start).dt.total_hours(),
            Grain.DAY: days,
            Grain.WEEK: days // 7,
            Grain.MONTH: months,
            Grain.QUARTER: months // 3,
            Grain.YEAR: months // 12,
        }
        found = count[self.axis.grain]
        return pl.when(found >= 0).then(found)

    # Helpers.

    def _nothing(self, x: Checked) -> pl.Expr:
        return pl.lit(None, dtype=x.kind.dtype if x.kind else None)

    @property
    def is_coarser(self) -> bool:
        """Whether this is a subtotal of periods that the chart shows finer: of years of months."""
        shown = self.engine.chart_axis()
        return bool(shown and self.axis and follows(self.axis, shown))

    def _mapped(self, periods: Periods, expression: pl.Expr) -> tuple[dt.date, ...]:
        dtype = pl.Datetime("us") if periods.grain is Grain.HOUR else pl.Date
        starts = pl.DataFrame({"s": pl.Series(list(periods.starts or ()), dtype=dtype)})
        return tuple(starts.select(expression.alias("s"))["s"].drop_nulls().unique().sort().to_list())

    def _of_shown(self, x: Checked, other: Callable[[Periods], Periods]) -> pl.Expr:
        """The value over other periods than those that the place stands for. A subtotal of a coarser period stands for
        those that the chart shows of it."""
        if not self.is_coarser:
            return self._elsewhere(x, other(self.engine.current(self.place, self.node)))
        engine, axis, shown = self.engine, self.axis, self.engine.chart_axis()
        groups = tuple(group for group in self.place.groups if group != axis)
        starts = engine.kept[key_of(shown)].drop_nulls().unique().sort()
        start = pl.col(starts.name)
        coarse = starts.to_frame().with_columns(
            following_expression(axis, start, shown.grain, self.fiscal).alias("__coarse")
        )
        frames = []
        for (period,), own in coarse.group_by("__coarse", maintain_order=True):
            periods = other(Periods(axis.field, shown.grain, tuple(own[starts.name].to_list())))
            at = replace(self.place, groups=groups, periods=periods)
            name = engine.column(x, at)
            if not engine.gathering:
                cells = engine.cells[at]
                found = cells.frame.select(*cells.keys, pl.col(name).alias("__value"))
                frames.append(found.with_columns(pl.lit(period).alias(key_of(axis))))
        if engine.gathering or not frames:
            return self._nothing(x)
        keys = [key_of(group) for group in self.place.groups]
        return engine._looked_up(self.place, [pl.col(key) for key in keys], pl.concat(frames), keys, "__value")

    def _elsewhere(self, x: Checked, periods: Periods) -> pl.Expr:
        """The value over other periods, in the same cells."""
        at = replace(self.place, periods=periods)
        name = self.engine.column(x, at)
        if self.engine.gathering:
            return self._nothing(x)
        keys = self.engine.cells[at].keys
        return self.engine._looked_up(
            self.place, [pl.col(key) for key in keys], self.engine.cells[at].frame.select(*keys, name), keys, name
        )

    def _other_cells(self, x: Checked, groups: tuple[Grouping, ...], changed: dict[str, pl.Expr]) -> pl.Expr:
        """The value in other cells, of other periods."""
        engine = self.engine
        swapped = dict(zip(self.place.groups, groups, strict=True))
        outer = self.place.outer and tuple(swapped.get(group, group) for group in self.place.outer)
        at = engine._widened(replace(self.place, groups=groups, outer=outer), self.axis)
        name = engine.column(x, at)
        if engine.gathering:
            return self._nothing(x)
        keys = [key_of(group) for group in groups]
        own = [changed.get(key, pl.col(key)) for key in keys]
        frame = engine.cells[at].frame
        if at.upto and (axis := engine.axis(at)):
            place = next(i for i, key in enumerate(keys) if key == key_of(axis))
            return self._latest(frame, name, keys[place], at.upto, own[place])
        # Where there is no such period nothing is found, not the cell of empty dates.
        frame = frame.drop_nulls([key for key in keys if key in changed])
        return engine._looked_up(self.place, own, frame.select(*keys, name), keys, name)

    def _latest(self, frame: pl.DataFrame, name: str, key: str, unit: Grain, at: pl.Expr | None = None) -> pl.Expr:
        """The value of the latest cell up to this one within the same enclosing period."""
        engine, axis = self.engine, self.axis
        keys = [key_of(group) for group in self.place.groups]
        others = [each for each in keys if each != key]
        asked = (
            engine.cells[self.place]
            .frame.select(*others, (at if at is not None else pl.col(key)).alias(key))
            .with_row_index("__row")
        )
        whole = enclosing(pl.col(key), axis.grain, unit, self.fiscal).alias("__whole")
        asked, have = asked.with_columns(whole), frame.select(*others, key, name).drop_nulls(key).with_columns(whole)
        group = pl.struct(*others, "__whole").alias("__group")
        places = pl.concat([asked.select(group), have.select(group)]).unique().with_row_index("__id")
        asked = asked.with_columns(group).join(places, on="__group", how="left", nulls_equal=True).sort(key)
        have = have.with_columns(group).join(places, on="__group", how="left", nulls_equal=True).sort(key)
        full = (
            asked.drop_nulls(key)
            .select("__row", "__id", key)
            .join_asof(have.select("__id", key, name), on=key, by="__id", check_sortedness=False)
        )
        found = asked.select("__row").join(full.select("__row", name), on="__row", how="left").sort("__row")[name]
        return pl.lit(found) if len(found) != 1 else pl.lit(found[0], dtype=found.dtype)

    def _must_nest(self, grain: Grain, unit: Grain) -> None:
        if unit in NESTED[grain]:
            return
        ways = ", ".join(each.words for each in NESTED[grain])
        finer = list(Grain).index(unit) > list(Grain).index(grain)
        why = "is finer than" if finer else "is not made up of whole"
        what = f"the chart's {grain.words}s" if finer else f"{grain.words}s, which the chart shows"
        raise FormulaProblem(
            f"{self.node.function.name}: a {unit.words} {why} {what}.",
            at=self.node.at,
            hint=f"With {grain.words}s these work: {ways}. Or show the chart by {unit.words}.",
        )

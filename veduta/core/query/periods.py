"""Values of other periods, as the functions of time ask for them."""

from __future__ import annotations

import datetime as dt
from dataclasses import replace
from typing import TYPE_CHECKING

import polars as pl

from veduta.core.formula.check import Checked
from veduta.core.formula.problems import FormulaProblem
from veduta.core.query.grains import (
    NESTED,
    Grain,
    Grouping,
    enclosing,
    moved,
    moved_days,
    period_end,
    period_start,
)
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

    def shifted(self, x: Checked, steps: int, unit: str) -> pl.Expr:
        unit = Grain(unit)
        if self.axis is None:
            periods = self.engine.current(self.place, self.node)
            if periods.days:
                return self._elsewhere(x, replace(periods, days=moved_days(*periods.days, steps, unit)))
            self._must_nest(periods.grain, unit)
            return self._elsewhere(
                x, replace(periods, starts=self._mapped(periods, moved(pl.col("s"), periods.grain, steps, unit)))
            )
        self._must_nest(self.axis.grain, unit)
        key = key_of(self.axis)
        if x.function is not None and x.function.name == "to_date" and x.arguments[0] is None:
            # So far into another year there is a value, even where its very month has none.
            return self.to_date(x.arguments[1], x.arguments[2].value, moved(pl.col(key), self.axis.grain, steps, unit))
        return self._other_cells(x, self.place.groups, {key: moved(pl.col(key), self.axis.grain, steps, unit)})

    def whole(self, x: Checked, unit: str) -> pl.Expr:
        unit = Grain(unit)
        if self.axis is None:
            periods = self.engine.current(self.place, self.node)
            if periods.days:
                first, last = periods.days
                first, last = period_start(first, unit, self.fiscal), period_end(period_start(last, unit, self.fiscal), unit)
                return self._elsewhere(x, replace(periods, days=(first, last)))
            self._must_nest(periods.grain, unit)
            starts = self._mapped(periods, enclosing(pl.col("s"), periods.grain, unit, self.fiscal))
            if periods.grain is Grain.WEEK:
                weeks = [start + dt.timedelta(days=7 * i) for start in starts for i in range(53)]
                return self._elsewhere(
                    x,
                    replace(
                        periods,
                        starts=tuple(
                            w for w in weeks if w.isocalendar()[0] in {(s + dt.timedelta(days=3)).year for s in starts}
                        ),
                    ),
                )
            return self._elsewhere(x, replace(periods, grain=unit, starts=starts))
        self._must_nest(self.axis.grain, unit)
        whole = self.axis if self.axis.grain is unit else Grouping(field=self.axis.field, grain=unit)
        if self.axis.grain is Grain.WEEK and unit is Grain.YEAR:
            raise FormulaProblem(
                "Weeks do not make up whole calendar years.", start=self.node.at.start, end=self.node.at.end,
                hint="Choose months, or to_date(…, 'year'), which follows the ISO year on weeks.",
            )  # fmt: skip
        groups = tuple(whole if group == self.axis else group for group in self.place.groups)
        return self._other_cells(
            x, groups, {key_of(whole): enclosing(pl.col(key_of(self.axis)), self.axis.grain, unit, self.fiscal)}
        )

    def to_date(self, x: Checked, unit: str, position: pl.Expr | None = None) -> pl.Expr:
        """`position` is another cell of the time axis than this one."""
        unit = Grain(unit)
        if self.axis is None:
            periods = self.engine.current(self.place, self.node)
            if periods.days:
                first, last = periods.days
                return self._elsewhere(x, replace(periods, days=(period_start(last, unit, self.fiscal), last)))
            self._must_nest(periods.grain, unit)
            last = max(periods.starts, default=None)
            first = last and pl.select(enclosing(pl.lit(last), periods.grain, unit, self.fiscal)).item()
            days = (first, period_end(last, periods.grain)) if last else (dt.date.max, dt.date.max)
            return self._elsewhere(x, Periods(periods.field, Grain.DAY, None, days))
        self._must_nest(self.axis.grain, unit)
        engine, key = self.engine, key_of(self.axis)
        at = replace(engine._widened(self.place, self.axis), upto=unit)
        name = engine.column(x, at)
        if engine.gathering:
            return self._nothing(x)
        return self._latest(engine.cells[at].frame, name, key, unit, position)

    def cells_to_date(self, x: Checked, how: str, unit: str) -> pl.Expr:
        unit = Grain(unit)
        if self.axis is None and self.engine.for_totals:
            return self._nothing(x)
        if self.axis is None:
            raise FormulaProblem(
                f"to_date({how}, …) looks at the periods of a time axis, and this chart has none.", start=self.node.at.start,
                end=self.node.at.end, hint="Add a date to the dimensions.",
            )  # fmt: skip
        self._must_nest(self.axis.grain, unit)
        engine, key = self.engine, key_of(self.axis)
        at = engine._widened(self.place, self.axis)
        name = engine.column(x, at)
        if engine.gathering:
            return self._nothing(x)
        keys = engine.cells[at].keys
        starts = engine.cells[at].frame.lazy().select(key).unique().drop_nulls()
        rows = engine._exploded(engine.cells[at].frame.lazy().select(*keys, name), self.axis, unit, starts)
        found = rows.group_by(keys).agg(getattr(pl.col(name), how)(), pl.col(name).count().alias("__n")).collect()
        found = found.with_columns(pl.when(pl.col("__n") > 0).then(pl.col(name)).alias(name))
        return self._latest(found, name, key, unit)

    def since(self, x: Checked) -> pl.Expr:
        if self.axis is None and self.engine.for_totals:
            return pl.lit(None, dtype=pl.Int64)
        if self.axis is None:
            raise FormulaProblem(
                "since counts periods along a time axis, and this chart has none.", start=self.node.at.start, end=self.node.at.end,
                hint="Add a date to the dimensions.",
            )  # fmt: skip
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

    def _mapped(self, periods: Periods, expression: pl.Expr) -> tuple[dt.date, ...]:
        starts = pl.DataFrame({"s": pl.Series(list(periods.starts or ()), dtype=pl.Date)})
        return tuple(starts.select(expression.alias("s"))["s"].drop_nulls().unique().sort().to_list())

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
            f"{self.node.function.name}: a {unit.words} {why} {what}.", start=self.node.at.start, end=self.node.at.end,
            hint=f"With {grain.words}s these work: {ways}. Or show the chart by {unit.words}.",
        )  # fmt: skip

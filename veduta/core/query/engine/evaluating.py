"""The second walk: works formulas out over the cells that were read."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import polars as pl

from veduta.core.calendar import Grain, Grouping, find_enclosing_period
from veduta.core.data.fields import DataType
from veduta.core.formula.check import TypedExpression, make_operand
from veduta.core.formula.functions import Operand, Window
from veduta.core.query.engine.levels import CellLevel, Cells, PartialAggregate, make_group_key
from veduta.core.query.engine.parts import sort_by
from veduta.core.query.engine.walk import Order, Walk
from veduta.core.query.filters import MeasureFilter


class Evaluator(Walk):
    def get_column(self, node: TypedExpression, place: CellLevel) -> str:
        return self.put_columns([node], place)[0]

    def put_columns(self, nodes: Iterable[TypedExpression], place: CellLevel) -> list[str]:
        """The nodes' values as columns of the place's cells, added in one go."""
        nodes = list(nodes)
        known = self.engine.ready.get(place, {})
        names = [known.get(node) or self.engine.make_name() for node in nodes]
        missing = [(node, name) for node, name in zip(nodes, names, strict=True) if node not in known]
        if missing:
            expressions = [self.finish(node, place).alias(name) for node, name in missing]
            cells = self.engine.cells[place]
            cells.frame = cells.frame.with_columns(expressions)
        return names

    def finish(self, node: TypedExpression, place: CellLevel) -> pl.Expr:
        """A value as its kind; what is too large or undefined is empty."""
        value = self.evaluate(node, place)
        if node.kind is not DataType.DECIMAL:
            return value
        value = value.cast(pl.Float64)
        return pl.when(value.is_finite()).then(value)

    def from_parts(
        self, node: TypedExpression, parts: dict[str, PartialAggregate], place: CellLevel, home: str
    ) -> pl.Expr:
        columns = {how: pl.col(part.name) for how, part in parts.items()}
        function = node.call
        if function.of_parts:
            return function.of_parts(columns)
        (value,) = columns.values()
        if not function.counts:
            return value
        value = value.cast(pl.Int64)
        return value.fill_null(0) if len(self.engine.list_reached(home, place)) == len(place.groups) else value

    def apply_function(self, node: TypedExpression, values: list[pl.Expr | None]) -> pl.Expr:
        operands = [make_operand(a, value) if a else None for a, value in zip(node.arguments, values, strict=True)]
        return node.call.build_expression(operands, self.engine.times)

    def find_determined(self, ends: tuple[PartialAggregate, PartialAggregate], place: CellLevel, home: str) -> pl.Expr:
        lowest, highest = (pl.col(part.name) for part in ends)
        return pl.when(lowest == highest).then(lowest)

    def look_up(
        self,
        node: TypedExpression,
        source: CellLevel,
        place: CellLevel,
        own: dict[str, pl.Expr],
        full: Iterable[str] = (),
    ) -> pl.Expr:
        name = self.get_column(node, source)
        other = self._get_cells(source).frame.select(*own, name)
        full = list(full)
        return self._look_up_in(other.drop_nulls(full) if full else other, name, place, own)

    def find_latest(
        self,
        node: TypedExpression,
        source: CellLevel,
        place: CellLevel,
        axis: Grouping,
        key: str,
        unit: Grain,
        position: pl.Expr,
    ) -> pl.Expr:
        name = self.get_column(node, source)
        return self._find_latest_of(self._get_cells(source).frame, name, place, axis, key, unit, position)

    def accumulate(
        self, node: TypedExpression, how: str, source: CellLevel, place: CellLevel, axis: Grouping, unit: Grain
    ) -> pl.Expr:
        name, key = self.get_column(node, source), make_group_key(axis)
        cells = self._get_cells(source)
        later = cells.frame.lazy().select(pl.col(key).alias("__later")).unique().drop_nulls()
        rows = self.engine.explode_periods(cells.frame.lazy().select(*cells.keys, name), axis, unit, later)
        value = getattr(pl.col(name), how)()
        running = rows.group_by(cells.keys).agg(value, pl.col(name).count().alias("__n")).collect()
        running = running.with_columns(pl.when(pl.col("__n") > 0).then(pl.col(name)).alias(name))
        return self._find_latest_of(running, name, place, axis, key, unit, pl.col(key))

    def find_first_held(self, node: TypedExpression, source: CellLevel, place: CellLevel, axis: Grouping) -> pl.Expr:
        name, key = self.get_column(node, source), make_group_key(axis)
        others = [each for each in self._get_cells(source).keys if each != key]
        held = self._get_cells(source).frame.filter(pl.col(name))
        first = pl.col(key).min().alias("__first")
        firsts = held.group_by(others).agg(first) if others else held.select(first)
        return self._look_up_in(firsts, "__first", place, {each: pl.col(each) for each in others})

    def look_up_each(
        self, node: TypedExpression, wanted: list[tuple[Any, CellLevel]], place: CellLevel, axis: Grouping
    ) -> pl.Expr:
        frames = []
        for period, source in wanted:
            name = self.get_column(node, source)
            values = self._get_cells(source).frame.select(*self._get_cells(source).keys, pl.col(name).alias("__value"))
            frames.append(values.with_columns(pl.lit(period).alias(make_group_key(axis))))
        if not frames:
            return pl.lit(None, dtype=node.kind.dtype if node.kind else None)
        return self._look_up_in(pl.concat(frames), "__value", place, _map_to_itself(place))

    def aggregate_cells(
        self, node: TypedExpression, argument: TypedExpression, source: CellLevel, place: CellLevel
    ) -> pl.Expr:
        engine, function, name = self.engine, node.call, self.get_column(argument, source)
        own, cells = engine.derive_groupings(place.groups, source), self._get_cells(source).frame
        keys = [make_group_key(group) for group in place.groups]
        told = [value.alias(key) for value, key in zip(own.values(), keys, strict=True) if value is not None]
        frame = cells.with_columns(told).lazy()
        axis = engine.find_axis(place)
        if place.upto and axis:
            later = frame.select(pl.col(make_group_key(axis)).alias("__later")).unique().drop_nulls()
            frame = engine.explode_periods(frame, axis, place.upto, later)
        value = pl.col(name)
        if function.ordered:
            named = [(make_group_key(g), down) for field, down in node.along for g in source.groups if g.field == field]
            order = named or [(make_group_key(group), False) for group in source.groups if group not in place.groups]
            value = sort_by(value, order, function) if order else value
        rest = [make_operand(a, pl.lit(a.value)) for a in node.arguments[1:] if a]
        aggregate = function.build(Operand(value, argument.kind), *rest).alias("__value")
        values = (frame.group_by(keys).agg(aggregate) if keys else frame.select(aggregate)).collect()
        return self._look_up_in(values, "__value", place, _map_to_itself(place))

    def compute_window(
        self,
        node: TypedExpression,
        columns: list[str | None],
        order: Order,
        passes: str,
        source: CellLevel,
        place: CellLevel,
    ) -> pl.Expr:
        cells, function = self._get_cells(source), node.call
        seen = cells.frame.filter(pl.col(passes)) if passes and not source.unbroken else cells.frame
        operands: list[Operand | None] = []
        for argument, column in zip(node.arguments, columns, strict=True):
            if argument is None:
                operands.append(None)
                continue
            value = pl.lit(argument.value) if column is None else pl.col(column)
            if column and passes and source.unbroken:  # a period that a filter dropped keeps its place and is empty
                value = pl.when(pl.col(passes)).then(value)
            operands.append(make_operand(argument, value))
        name = self.engine.make_name()
        value = function.build(*operands, window=Window((), False, self._get_parts(node, source, order)))
        seen = order.of(seen, cells.keys).with_columns(value.alias(name))
        if not cells.keys:
            cells.frame = seen
            return pl.col(name)
        cells.frame = cells.frame.join(
            seen.select(*cells.keys, name), on=cells.keys, how="left", nulls_equal=True, maintain_order="left"
        )
        if source == place:
            return pl.col(name)
        return self._look_up_in(cells.frame.select(*cells.keys, name), name, place, _map_to_itself(source))

    def _get_parts(self, node: TypedExpression, source: CellLevel, order: Order) -> tuple[str, ...]:
        """The columns for each of whose values a window starts anew."""
        if node.restart:
            return tuple(make_group_key(group) for group in source.groups if group.field in node.restart)
        return tuple(key for key in self._get_cells(source).keys if key not in order.keys) if node.call.restarts else ()

    def compute_in_total(self, node: TypedExpression, place: CellLevel) -> pl.Expr:
        return pl.when(self.evaluate(node.get_option(-1), place) != 0).then(1.0)

    def judge_cells(self, judged: list[tuple[MeasureFilter, str]], place: CellLevel) -> str:
        passes = pl.lit(True)
        for condition, column in judged:
            passes &= condition.build_bounds(pl.col(column))
        name, cells = self.engine.make_name(), self._get_cells(place)
        cells.frame = cells.frame.with_columns(passes.fill_null(False).alias(name))
        return name

    def say(self, note: str) -> None:
        self.engine.say(note)

    # Values of other cells beside these.

    def _get_cells(self, place: CellLevel) -> Cells:
        return self.engine.cells[place]

    def _look_up_in(self, other: pl.DataFrame, name: str, place: CellLevel, own: dict[str, pl.Expr]) -> pl.Expr:
        """A column of another frame beside a place's cells, found by what `own` gives for its keys."""
        if not own:
            return pl.lit(other[name][0] if other.height else None, dtype=other.schema[name])
        asked = {key: f"__ask{i}" for i, key in enumerate(own)}
        left = self._get_cells(place).frame.select(value.alias(asked[key]) for key, value in own.items())
        left = left.with_columns(pl.col(ask).cast(other.schema[key]) for key, ask in asked.items())
        right = other.select(*(pl.col(key).alias(ask) for key, ask in asked.items()), pl.col(name).alias("__found"))
        joined = left.join(right, on=list(asked.values()), how="left", nulls_equal=True, maintain_order="left")
        return _make_column(joined["__found"])

    def _find_latest_of(
        self, cells: pl.DataFrame, name: str, place: CellLevel, axis: Grouping, key: str, unit: Grain, position: pl.Expr
    ) -> pl.Expr:
        others = [own for group in place.groups if (own := make_group_key(group)) != key]
        asked = self._get_cells(place).frame.select(*others, position.alias(key)).with_row_index("__row")
        whole = find_enclosing_period(pl.col(key), axis.period, unit, self.schema.fiscal_month).alias("__whole")
        have = cells.select(*others, key, name).drop_nulls(key).with_columns(whole)
        asked = asked.with_columns(whole)
        group = pl.struct(*others, "__whole").alias("__group")
        ids = pl.concat([asked.select(group), have.select(group)]).unique().with_row_index("__id")
        asked = asked.with_columns(group).join(ids, on="__group", how="left", nulls_equal=True).sort(key)
        have = have.with_columns(group).join(ids, on="__group", how="left", nulls_equal=True).sort(key)
        full = (
            asked.drop_nulls(key)
            .select("__row", "__id", key)
            .join_asof(have.select("__id", key, name), on=key, by="__id", check_sortedness=False)
        )
        return _make_column(
            asked.select("__row").join(full.select("__row", name), on="__row", how="left").sort("__row")[name]
        )


def _make_column(values: pl.Series) -> pl.Expr:
    """Values as an expression; a single one as a literal, which fits a frame of any height."""
    return pl.lit(values) if len(values) != 1 else pl.lit(values[0], dtype=values.dtype)


def _map_to_itself(place: CellLevel) -> dict[str, pl.Expr]:
    """A place's own values for its keys."""
    return {make_group_key(group): pl.col(make_group_key(group)) for group in place.groups}

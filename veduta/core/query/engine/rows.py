"""The rows behind places: filtered, with their dimensions, and with values of other grains beside them."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Literal

import polars as pl

from veduta.core.calendar import (
    PERIODS,
    Grain,
    Grouping,
    drop_dependent_groupings,
    find_enclosing_period,
    group_expression,
)
from veduta.core.data.fields import DataType
from veduta.core.formula.check import GroupedBy, TypedExpression
from veduta.core.model.model import Model
from veduta.core.model.reach import ANY_PERIOD
from veduta.core.query.engine.levels import CellLevel, PartialAggregate, Periods, make_group_key
from veduta.core.query.engine.parts import make_attached_name
from veduta.core.query.filters import Context, Filter


@dataclass(frozen=True)
class Scope:
    """What values are worked out of: a model's rows that pass some filters.

    `groups` are the chart's dimensions; with `kept`, the cells that remain of them, it is for totals: values of fewer
    dimensions over those cells, which are `narrowed` if not all cells of the rows that pass the filters are among them.
    What `ranks` works over a single dimension as a chart of its own would, windows included. Some of the rows may be
    read in `common` with others. With `only_periods` no other periods of the chart's time axis count."""

    model: Model
    filters: tuple[Filter, ...]
    context: Context
    groups: tuple[Grouping, ...] = ()
    kept: pl.DataFrame | None = None
    narrowed: bool = False
    ranks: bool = False
    common: CommonRows | None = None
    only_periods: Periods | None = None


@dataclass(frozen=True)
class CommonRows:
    """What questions asked together share.

    By table, the rows that pass the filters they all have, with the fields that they need."""

    filters: tuple[Filter, ...]
    tables: Mapping[str, pl.DataFrame]

    def find_rows(self, home: str, names: set[str], filters: list[Filter]) -> tuple[pl.LazyFrame, list[Filter]] | None:
        """A table's rows, filtered as far as that is done, and the question's filters that are left.

        None where the question does not have all those filters, or needs other fields."""
        rows = self.tables.get(home)
        has_all = all(any(own is each for own in filters) for each in self.filters)
        if rows is None or not has_all or not names <= set(rows.columns):
            return None
        left = [own for own in filters if not any(own is each for each in self.filters)]
        return rows.lazy().select(sorted(names)), left


class FilteredRows(ABC):
    """The rows in a scope."""

    def __init__(self, scope: Scope) -> None:
        self.scope, self.model, self.schema, self.context = scope, scope.model, scope.model.schema, scope.context
        self.filters, self.groups = scope.filters, scope.groups
        self.for_totals, self.narrowed = scope.kept is not None, scope.narrowed
        self.notes: list[str] = []

    def find_axis(self, place: CellLevel) -> Grouping | None:
        """The time axis of a place, if it has one: the finest periods of its first date."""
        periods = [group for group in place.groups if group.is_time_axis]
        own = [group for group in periods if group.field == periods[0].field]
        return max(own, key=lambda group: PERIODS.index(group.period), default=None)

    def list_reached(self, home: str, place: CellLevel) -> list[Grouping]:
        return [group for group in place.groups if self.model.reaches(home, group.field, group.grain or "")]

    def scan_rows(
        self,
        home: str,
        place: CellLevel,
        names: set[str],
        keys: Iterable[Grouping],
        attached: Iterable[TypedExpression] = (),
        ordered: bool = True,
    ) -> pl.LazyFrame:
        """A table's rows that pass the filters that reach it, with these fields and the keys' values.

        They are in the table's order if that is wanted (`ordered`)."""
        keys = list(keys)
        filters = [filter_ for filter_ in self.list_filters(place) if self.follows(filter_, home)]
        kept = self.list_kept_groups(home, place)
        needed = (
            set(names) | {group.field for group in (*keys, *kept)} | {name for f in filters for name in f.list_fields()}
        )
        periods = place.periods or self.scope.only_periods
        narrowing = None
        if periods and self.model.reaches(home, periods.field, periods.period.value if periods.starts else ANY_PERIOD):
            narrowing = periods.build_condition(self.schema, self.model.find_known_grain(home, periods.field))
            needed |= {periods.field} if narrowing is not None else set()
        common = self.scope.common and self.scope.common.find_rows(home, needed, filters)
        rows, filters = common or (self.model.scan(sorted(needed), home, ordered), filters)
        conditions = self.build_conditions(home, filters)
        conditions += [narrowing] if narrowing is not None else []
        if conditions:
            rows = rows.filter(conditions)
        if keys:
            rows = rows.with_columns(
                group_expression(group, self.schema).alias(make_group_key(group)) for group in keys
            )
        for node in attached:
            rows = self._attach(rows, node, place, ordered)
        if kept:
            own = {f"__kept{i}": group for i, group in enumerate(kept)}
            rows = rows.with_columns(group_expression(group, self.schema).alias(name) for name, group in own.items())
            cells = self.kept_cells.lazy().select(make_group_key(group) for group in kept).unique()
            rows = rows.join(
                cells, left_on=list(own), right_on=[make_group_key(g) for g in kept], how="semi", nulls_equal=True
            )
        return rows

    def build_conditions(self, home: str, filters: Iterable[Filter]) -> list[pl.Expr]:
        """The conditions that filters which reach a table are on its rows."""
        return [
            filter_.build_table_expression(
                self.schema, self.context, lambda name: self.model.find_known_grain(home, name)
            )
            for filter_ in filters
        ]

    @property
    def kept_cells(self) -> pl.DataFrame:
        """The cells of the chart that remain, where this reads for totals, with keys and measures, in no order."""
        assert self.scope.kept is not None, "this does not read for totals"
        return self.scope.kept

    @abstractmethod
    def compute_at_grain(self, node: TypedExpression, source: CellLevel) -> tuple[pl.DataFrame, str]:
        """A value at a grain of its own, to stand beside the rows: the grain's cells, and the value's column."""

    def _attach(self, rows: pl.LazyFrame, node: TypedExpression, place: CellLevel, ordered: bool) -> pl.LazyFrame:
        """The value at a grain of its own, beside each row."""
        source = self.place_within(node.grain, replace(place, upto=None, unbroken=False))
        cells, name = self.compute_at_grain(node.get_option(0), source)
        keys = [make_group_key(group) for group in source.groups]
        if not keys:
            return rows.with_columns(pl.lit(cells[name][0], dtype=cells[name].dtype).alias(make_attached_name(node)))
        own = [f"__{key}" for key in keys]
        rows = rows.with_columns(
            group_expression(g, self.schema).alias(k) for g, k in zip(source.groups, own, strict=True)
        )
        wanted = cells.lazy().select(*keys, pl.col(name).alias(make_attached_name(node)))
        order: Literal["left", "none"] = "left" if ordered else "none"
        return rows.join(wanted, left_on=own, right_on=keys, how="left", nulls_equal=True, maintain_order=order)

    def group_parts(self, place: CellLevel, home: str, parts: Iterable[PartialAggregate]) -> pl.LazyFrame:
        """A table's rows with the place's keys and the expressions that parts aggregate, as columns."""
        parts = list(parts)
        attached = list(dict.fromkeys(node for part in parts for node in part.attached))
        names = self.list_fields(place, parts)
        ordered = any(part.ordered for part in parts)
        rows = self.scan_rows(home, place.in_its_cells, names, self.list_reached(home, place), attached, ordered)
        made = {part.column: part.expression for part in parts if part.expression is not None}
        return rows.with_columns(expression.alias(column) for column, expression in made.items()) if made else rows

    def list_fields(self, place: CellLevel, parts: Iterable[PartialAggregate]) -> set[str]:
        """The fields that parts are worked out from, with those that values beside the rows are found by."""
        parts = list(parts)
        names = {name for part in parts for name in part.fields}
        attached = {node for part in parts for node in part.attached}
        return names | {g.field for node in attached for g in self.place_within(node.grain, place).groups}

    def explode_periods(self, rows: pl.LazyFrame, axis: Grouping, unit: Grain, later: pl.LazyFrame) -> pl.LazyFrame:
        """Each row in its own period and in all later ones up to the end of the enclosing one.

        The axis's column has the period that the row counts in; all other columns stay."""
        key = make_group_key(axis)
        fiscal = self.schema.fiscal_month
        whole = find_enclosing_period(pl.col(key), axis.period, unit, fiscal).alias("__whole")
        later = later.with_columns(find_enclosing_period(pl.col("__later"), axis.period, unit, fiscal).alias("__whole"))
        rows = rows.with_columns(whole).join(later, on="__whole", how="inner").filter(pl.col("__later") >= pl.col(key))
        return rows.with_columns(pl.col("__later").alias(key))

    def follows(self, filter_: Filter, home: str) -> bool:
        """Whether a filter's fields reach a table; if not, that is said."""
        reaches = all(self.model.reaches(home, name, grain) for name, grain in filter_.needs())
        if not reaches:
            table, said = self.model.get_table_name(home), filter_.describe(self.schema)
            self.say(f"{table} is not narrowed by “{said}”: it has no such field.")
        return reaches

    def say(self, note: str) -> None:
        """Add a note for the reader, once."""
        if note not in self.notes:
            self.notes.append(note)

    def list_filters(self, place: CellLevel) -> list[Filter]:
        """The filters that hold at a place: where it looks at other periods, what is left of those on the date."""
        filters = list(self.filters)
        if place.without:
            filters = [each for f in filters if (each := f.drop_fields(place.without))]
        if place.periods:
            dates = self.model.list_same_dates(place.periods.field)
            filters = [each for f in filters if (each := f.move_to_other_periods(dates))]
        return filters

    def list_kept_groups(self, home: str, place: CellLevel) -> list[Grouping]:
        """The chart's dimensions that identify rows of dropped cells.

        The time axis is not among them where it is replaced."""
        if not self.narrowed or place.whole:
            return []
        dates = self.model.list_same_dates(place.periods.field) if place.periods else set()
        return [
            group
            for group in self.groups
            if self.model.reaches(home, group.field, group.grain or "")
            and not (group.is_time_axis and group.field in dates)
        ]

    def place_within(self, per: GroupedBy, place: CellLevel) -> CellLevel:
        """Where a value at a grain of its own stands, as seen from a place."""
        return replace(
            place,
            groups=self._resolve_groups(per, place),
            outer=place.shown,
            whole=place.whole or (self.narrowed and not (per.shown and not per.less)),
            without=place.without | per.without,
        )

    def _resolve_groups(self, per: GroupedBy, place: CellLevel) -> tuple[Grouping, ...]:
        own = tuple(self._make_group(name, grain) for name, grain in per.dimensions)
        if not per.shown:
            return drop_dependent_groupings(own)
        if per.less:
            gone = {(name, grain) for name, grain in per.dimensions}
            return drop_dependent_groupings(
                group
                for group in place.shown
                if group.grain not in per.periods and not {(group.field, ""), (group.field, group.grain)} & gone
            )
        return drop_dependent_groupings((*(place.groups if per.inside else place.shown), *own))

    def _make_group(self, name: str, grain: str) -> Grouping:
        """A field as a formula groups by it: dates by day, date-times by the moment unless it says by which period."""
        kind = self.schema[name].kind
        usual = {DataType.DATE: Grain.DAY, DataType.DATETIME: Grain.MOMENT}.get(kind)
        return Grouping(field=name, grain=Grain(grain) if grain else usual)

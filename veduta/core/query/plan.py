"""A question that is being answered: its dimensions and measures, and the engine that works out their cells."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import Any

import polars as pl

from veduta.core.calendar import Grouping, drop_dependent_groupings
from veduta.core.formula.check import TypedExpression
from veduta.core.model.model import Model
from veduta.core.number_format import REST_POINT
from veduta.core.query.engine import Engine, Scope
from veduta.core.query.engine.levels import CellLevel, make_group_key
from veduta.core.query.filters import Context, Filter, MeasureFilter, convert_point_value
from veduta.core.query.measures import Measure, TopN, measure_node
from veduta.core.query.query import Query, Sort

ALIGNED = "__aligned"
"""The column of cells with how many periods have passed since the test held by which a query is aligned."""


class QueryPlan:
    """A query, with `filters` on rows and `conditions` on groups as they are settled.

    `groups` are the dimensions shown, each once, `keys` their columns in the cells; `place` leaves out those that
    follow from another one, as a year does from the month beside it. `nodes` are the measures, checked. `notes` are for
    the reader."""

    def __init__(
        self,
        query: Query,
        model: Model,
        context: Context,
        filters: tuple[Filter, ...],
        conditions: Iterable[MeasureFilter],
    ) -> None:
        self.query, self.model, self.schema, self.context = query, model, model.schema, context
        self.notes: list[str] = []
        self.same_periods = False
        self.keep: TopN | None = (
            query.keep.resolve_parameters(model.parameters) if query.keep and query.groups else None
        )
        self.nodes = [self.build_node(measure) for measure in query.measures]
        self.aligned = self.build_node(Measure(formula=f"since({query.aligned})")) if query.aligned else None
        self.groups = tuple(dict.fromkeys(query.groups))
        self.keys = [make_group_key(group) for group in self.groups]
        self.place = place_showing(self.groups)
        judged = tuple((self.build_node(each.measure), each) for each in conditions)
        self.engine = Engine(Scope(model, filters, context, self.place.groups), conditions=judged)
        self._valued: list[TypedExpression] = []
        self.columns: dict[TypedExpression, str] = {}
        """The columns of the cells with the measures, and with what orders them."""
        self.home, self.rows = "", ""
        """The table whose rows are counted, and the column of the cells with how many of them passed the filters."""

    def build_node(self, measure: Measure) -> TypedExpression:
        return measure_node(measure, self.schema, self.model.parameters)

    @property
    def sort(self) -> Sort:
        if self.query.sort:
            return self.query.sort
        return Sort(by="time" if self.query.groups and self.query.groups[0].grain else "name")

    def find_own_orders(self) -> dict[str, list[Any]]:
        """The typed values of dimensions that have an order of their own, by the dimensions' keys."""
        orders = list(self.query.orders)
        if self.sort.by == "own" and self.groups:
            orders.append((0, self.sort.values))
        own = {}
        for i, values in orders:
            group = self.groups[i]
            there = [value for value in values if value != REST_POINT]
            own[self.keys[i]] = [convert_point_value(value, self.schema[group.field], group.grain) for value in there]
        return own

    @property
    def sort_measure(self) -> Measure:
        """What the first dimension is sorted by, if it is by a measure."""
        return self.sort.measure or (self.query.measures[0] if self.query.measures else Measure())

    @property
    def ranks_cells(self) -> bool:
        """Whether it is the cells themselves that are kept, not all cells of a value of one of several dimensions."""
        return self.keep is not None and (len(self.keys) == 1 or self.keep.of == "within")

    @property
    def names(self) -> list[str]:
        """The columns of the measures."""
        return [self.columns[node] for node in self.nodes]

    @property
    def drops_cells(self) -> bool:
        """Whether some cells of the rows that pass the filters are not shown, even before any are chosen to be kept."""
        return bool(self.engine.conditions or self.query.aligned)

    def collect(self) -> None:
        """Settle what has to be read."""
        engine = self.engine
        ranked = [self.build_node(measure) for measure in self._list_ranking_measures()]
        ordering = [node for group in self.groups if (node := engine.sort_node(group))]
        at_once = [*self.nodes, *(node for node, _ in engine.conditions), *([self.aligned] if self.aligned else [])]
        wanted = [*at_once, *ranked, *ordering] or [measure_node(Measure(), self.schema, {})]
        engine.collect((node, self.place) for node in wanted)
        self.home = engine.find_home_table(at_once[0], self.place) if at_once else ""
        self._valued = list(dict.fromkeys([*self.nodes, *ranked, *ordering]))

    def work_out(self, frames: list[pl.DataFrame] | None = None) -> pl.DataFrame:
        """The cells that pass the filters on groups, with dimensions, measures and sort columns.

        `frames` are what was read already for what is collected."""
        engine, valued = self.engine, self._valued
        engine.read(frames)
        self.columns = dict(zip(valued, engine.put_columns(valued, self.place), strict=True))
        self.rows = engine.count_rows_in(self.place, self.home).name
        cells = self._find_passing_groups()
        return cells if self.rows in cells.columns else cells.with_columns(pl.lit(0).alias(self.rows))

    def _list_ranking_measures(self) -> list[Measure]:
        """Measures that order the cells themselves."""
        measures = []
        if self.keep and self.ranks_cells:
            measures.append(self.keep.by)
        if len(self.keys) == 1 and self.sort.by == "measure":
            measures += [self.sort_measure, *(tie.measure for tie in self.sort.ties if tie.measure)]
        return measures

    def _find_passing_groups(self) -> pl.DataFrame:
        """The cells that pass the filters on groups, with all their columns, in no order."""
        engine = self.engine
        passes = engine.find_passing(self.place)
        start = engine.get_column(self.aligned, self.place) if self.aligned else ""
        frame = engine.cells[self.place].frame
        if passes:
            frame = frame.filter(pl.col(passes))
        if start:
            frame = frame.with_columns(pl.col(start).alias(ALIGNED)).filter(pl.col(ALIGNED).is_not_null())
        return add_shown(frame, engine, self.place)

    def make_engine(self, cells: pl.DataFrame, narrowed: bool, ranks: bool = False) -> Engine:
        """An engine that evaluates at coarser levels, over these cells of the chart.

        `narrowed` if they are not all cells of the rows that pass the filters."""
        scope = replace(self.engine.scope, kept=cells[self.keys], narrowed=narrowed, ranks=ranks)
        return Engine(scope, finer=self.engine)

    def rank_values(
        self, measure: Measure, group: Grouping, cells: pl.DataFrame, narrowed: bool
    ) -> tuple[pl.DataFrame, str]:
        """What the values of one of several dimensions are ranked by, over all their cells, and its column."""
        engine, node, place = (
            self.make_engine(cells, narrowed, ranks=True),
            self.build_node(measure),
            CellLevel((group,)),
        )
        engine.gather([(node, place)])
        column = engine.get_column(node, place)
        return engine.cells[place].frame, column


def place_showing(groups: tuple[Grouping, ...]) -> CellLevel:
    """The place of these dimensions: those that follow from another one are shown only."""
    own = drop_dependent_groupings(groups)
    return CellLevel(own, outer=groups if own != groups else None)


def add_shown(cells: pl.DataFrame, engine: Engine, place: CellLevel) -> pl.DataFrame:
    """A place's cells with a column for each dimension that it shows, also those that follow from another."""
    if place.shown == place.groups:
        return cells
    values = engine.derive_groupings(place.shown, place)
    return cells.with_columns(
        value.alias(make_group_key(group)) for group, value in values.items() if value is not None
    )


def pick_columns(frame: pl.DataFrame, sources: dict[str, str]) -> pl.DataFrame:
    """Columns of a frame under new names. (Faster than select, which goes through the query planner.)"""
    return pl.DataFrame([frame[source].alias(name) for name, source in sources.items()])

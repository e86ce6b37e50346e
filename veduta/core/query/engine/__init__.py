"""The heart of an answer: formulas worked out over cells.

A formula is walked twice (`walk`). The collecting walk notes which sums and counts each place needs of which table;
these are then read together (`reading`), one pass over a table for each place that cannot be put together from a finer
one. The evaluating walk works out the formula over the places' small frames. Functions of time ask for values in other
places (`other_periods`), on both walks alike."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from itertools import count

import polars as pl

from veduta.core.calendar import Grouping
from veduta.core.data.fields import Aggregate
from veduta.core.formula.check import GroupedBy, TypedExpression
from veduta.core.formula.functions import Level, Times
from veduta.core.formula.problems import FormulaProblem
from veduta.core.query.engine.collecting import Collector
from veduta.core.query.engine.evaluating import Evaluator
from veduta.core.query.engine.levels import CellLevel, Periods, make_group_key
from veduta.core.query.engine.parts import PartCompiler
from veduta.core.query.engine.rows import Scope
from veduta.core.query.engine.scanning import ScanPlanner
from veduta.core.query.engine.shown_periods import find_filtered_periods
from veduta.core.query.filters import MeasureFilter
from veduta.core.query.measures import Measure, list_counted_tables, measure_node

__all__ = ["Engine", "Scope"]


class Engine(ScanPlanner):
    """Works formulas out in a scope, over the cells of places.

    `conditions` are filters on the chart's groups, with the formulas they judge by."""

    def __init__(
        self,
        scope: Scope,
        finer: Engine | None = None,
        conditions: tuple[tuple[TypedExpression, MeasureFilter], ...] = (),
    ) -> None:
        super().__init__(scope, finer)
        self.conditions, self._finer = conditions, finer
        self.times = Times(self.context.today, self.schema.fiscal_month)
        self.parts = PartCompiler(self.model, self.prepared, self.times)
        self.ready: dict[CellLevel, dict[TypedExpression, str]] = {}
        """By place the values that came with the reading, and their columns."""
        self._with_reading: dict[tuple[CellLevel, str], dict[TypedExpression, str]] = {}
        self._numbers = count()
        self._evaluator = Evaluator(self)

    def gather(self, nodes: Iterable[tuple[TypedExpression, CellLevel]]) -> None:
        """Collect what all that will be asked needs, then read the rows."""
        self.collect(nodes)
        self.read()

    def collect(self, nodes: Iterable[tuple[TypedExpression, CellLevel]]) -> None:
        """Collect what all that will be asked needs."""
        collector = Collector(self)
        for node, place in nodes:
            collector.get_column(node, place)

    def get_column(self, node: TypedExpression, place: CellLevel) -> str:
        """The node's value as a column of the place's cells."""
        return self._evaluator.get_column(node, place)

    def put_columns(self, nodes: Iterable[TypedExpression], place: CellLevel) -> list[str]:
        """The nodes' values as columns of the place's cells, added in one go."""
        return self._evaluator.put_columns(nodes, place)

    def find_passing(self, place: CellLevel) -> str:
        """Whether the chart's groups pass the filters on them, as a column of the place's cells; "" if all do."""
        return self._evaluator.find_passing(place)

    def make_name(self) -> str:
        """The name of a new column of cells."""
        return f"v{next(self._numbers)}"

    def with_reading(self, node: TypedExpression, place: CellLevel, home: str) -> None:
        """A value that needs one table's rows only is worked out with the reading of its parts."""
        self._with_reading.setdefault((place, home), {})[node] = self.make_name()

    def compute_at_once(self, place: CellLevel, home: str) -> list[pl.Expr]:
        columns = self.ready[place] = self._with_reading.pop((place, home), {})
        values = self.prepared.values
        for node in columns:
            if node not in values:
                values[node] = self._evaluator.finish(node, place)
        return [values[node].alias(name) for node, name in columns.items()]

    def compute_at_grain(self, node: TypedExpression, source: CellLevel) -> tuple[pl.DataFrame, str]:
        """A value at a grain of its own: the cells of that grain, and the column of them that has it."""
        inner = Engine(self.scope, self._finer)
        inner.gather([(node, source)])
        name = inner.get_column(node, source)
        return inner.cells[source].frame, name

    def count_rows_in(self, place: CellLevel, home: str) -> pl.Series:
        """How many rows of a table passed the filters, for each cell."""
        tables = self.cells[place].tables
        table = tables[home] if home in tables else next(iter(tables.values()))
        return table.frame[self.prepared.get_row_count_part(home).name]

    # What a formula is about.

    def list_tables_of(self, node: TypedExpression) -> list[str]:
        """The tables whose rows a value aggregates."""
        tables = self.prepared.tables
        if node not in tables:
            tables[node] = list_counted_tables(node, self.model)
        return tables[node]

    def find_home_table(self, node: TypedExpression, place: CellLevel) -> str:
        """The table whose rows a value is about; of a mere number, that of the dimensions."""
        homes = self.list_tables_of(node)
        if not homes and (names := {group.field for group in place.groups}):
            try:
                return self.model.find_home(names, node)
            except FormulaProblem:
                homes = [self.schema[name].table for name in names]
        return next((home for home in self.model.tables if home in homes), "")

    def sort_node(self, group: Grouping) -> TypedExpression | None:
        """The value of a dimension's sort field, the same wherever its value stands; None without one."""
        field = self.schema[group.field]
        if not field.sort_by or not group.is_plain or field.sort_by not in self.schema:
            return None
        measure = Measure(field=field.sort_by, aggregate=Aggregate.MIN)
        lowest = measure_node(measure, self.schema, self.model.parameters, any_kind=True)
        per = GroupedBy(((group.field, ""),))
        return TypedExpression(lowest.kind, lowest.at, level=Level.GRAIN, arguments=(lowest,), per=per)

    # Which periods a place stands for.

    def widen(self, place: CellLevel, axis: Grouping) -> CellLevel:
        """The same cells without the filters on their time axis, and with the periods that were not kept."""
        dates = self.model.list_same_dates(axis.field)
        narrowed = self.narrowed or any(filter_.move_to_other_periods(dates) is not filter_ for filter_ in self.filters)
        if place.periods or not narrowed:
            return place
        return replace(place, periods=Periods(axis.field))

    def find_chart_axis(self) -> Grouping | None:
        """The time axis of the chart, where this works out its totals."""
        return self.find_axis(CellLevel(self.groups)) if self.for_totals else None

    def list_kept_starts(self, axis: Grouping) -> pl.Series:
        """The periods that the chart shows, in order."""
        starts = self.kept_cells[make_group_key(axis)].drop_nulls().unique().sort()
        only = self.scope.only_periods
        return starts if only is None else starts.filter(starts.is_in(list(only.starts or ())))

    def find_current_periods(self, place: CellLevel, node: TypedExpression) -> Periods:
        """The periods that a place without a time axis stands for.

        Those the chart shows, else those its filters on a date let pass. Raises FormulaProblem if nothing says which.
        """
        if place.periods:
            return place.periods
        if axis := self.find_chart_axis():
            return Periods(axis.field, axis.grain, tuple(self.list_kept_starts(axis).to_list()))
        periods = find_filtered_periods(self.list_filters(place), self.model, self.context)
        if periods is None:
            raise FormulaProblem(
                f"{node.call.name} compares periods, and this question has no date.",
                at=node.at,
                hint="Add a date to the dimensions, or a filter on one.",
            )
        return periods

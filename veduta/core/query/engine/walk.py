"""The two walks through a formula, as far as they are one.

A formula is walked twice, over the cells of places. A `Place` says which cells a value stands in: the dimensions, and
whether the time axis' filters are replaced by periods. The collecting walk notes which sums and counts each place needs
of which table; these are then read together. The evaluating walk works the formula out over the places' small frames.
Which values are needed where is said here, once; what is done with them, by each of the two."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, NoReturn

import polars as pl

from veduta.core.calendar import Grain, Grouping, drop_dependent_groupings
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.check import GroupedBy, TypedExpression, make_operand
from veduta.core.formula.functions import AddsUp, Level
from veduta.core.formula.problems import FormulaProblem
from veduta.core.query.engine.levels import CellLevel, PartialAggregate, make_group_key
from veduta.core.query.engine.other_periods import OtherPeriods
from veduta.core.query.filters import MeasureFilter
from veduta.core.query.measures import Measure, measure_node, measure_words

if TYPE_CHECKING:
    from veduta.core.query.engine import Engine


@dataclass(frozen=True)
class Order:
    """How a window goes through the cells.

    The columns and which of them descend, and the keys, other than parts, in which it starts anew."""

    columns: tuple[str, ...] = ()
    downwards: tuple[bool, ...] = ()
    keys: tuple[str, ...] = ()

    def of(self, frame: pl.DataFrame, keys: Iterable[str]) -> pl.DataFrame:
        """Cells in this order; those that tie stay in that of their names."""
        columns = [*self.columns, *(key for key in keys if key not in self.columns)]
        downwards = [*self.downwards, *[False] * (len(columns) - len(self.columns))]
        return frame.sort(columns, descending=downwards, nulls_last=True) if columns else frame


class Walk(ABC):
    """Goes through formulas for an engine.

    `at` is a place whose values are wanted, perhaps another than `place`, beside whose cells they come to stand."""

    def __init__(self, engine: Engine) -> None:
        self.engine, self.schema = engine, engine.schema
        self.judging = False

    # What the two walks do with what is needed.

    @abstractmethod
    def get_column(self, node: TypedExpression, place: CellLevel) -> str:
        """The node's value as a column of the place's cells."""

    @abstractmethod
    def from_parts(
        self, node: TypedExpression, parts: dict[str, PartialAggregate], place: CellLevel, home: str
    ) -> pl.Expr:
        """An aggregate from its parts, which a table's rows have in the place's cells."""

    @abstractmethod
    def apply_function(self, node: TypedExpression, values: list[pl.Expr | None]) -> pl.Expr:
        """A function of values of the same cells."""

    @abstractmethod
    def find_determined(self, ends: tuple[PartialAggregate, PartialAggregate], place: CellLevel, home: str) -> pl.Expr:
        """A dimension's value in cells that do not show it, where all their rows have the same."""

    @abstractmethod
    def look_up(
        self,
        node: TypedExpression,
        source: CellLevel,
        place: CellLevel,
        own: dict[str, pl.Expr],
        full: Iterable[str] = (),
    ) -> pl.Expr:
        """The value of other cells, found by what `own` gives for their keys, of which some must not be empty."""

    @abstractmethod
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
        """The value of the latest cell up to a position on the axis.

        The position's column is `key`; the cell is of the same year or whatever the unit is."""

    @abstractmethod
    def accumulate(
        self, node: TypedExpression, how: str, source: CellLevel, place: CellLevel, axis: Grouping, unit: Grain
    ) -> pl.Expr:
        """The cells from the start of the unit up to each, put together by an aggregate."""

    @abstractmethod
    def find_first_held(self, node: TypedExpression, source: CellLevel, place: CellLevel, axis: Grouping) -> pl.Expr:
        """The first period in which a test held, for each group."""

    @abstractmethod
    def look_up_each(
        self, node: TypedExpression, wanted: list[tuple[Any, CellLevel]], place: CellLevel, axis: Grouping
    ) -> pl.Expr:
        """For each period of the axis the value at its own other place."""

    @abstractmethod
    def aggregate_cells(
        self, node: TypedExpression, argument: TypedExpression, source: CellLevel, place: CellLevel
    ) -> pl.Expr:
        """An aggregate of the values of finer cells."""

    @abstractmethod
    def compute_window(
        self,
        node: TypedExpression,
        columns: list[str | None],
        order: Order,
        passes: str,
        source: CellLevel,
        place: CellLevel,
    ) -> pl.Expr:
        """A window over cells; `columns` are those of its arguments, None for what is written out."""

    @abstractmethod
    def compute_in_total(self, node: TypedExpression, place: CellLevel) -> pl.Expr:
        """A window that adds up, where there are no rows around: of itself."""

    @abstractmethod
    def judge_cells(self, judged: list[tuple[MeasureFilter, str]], place: CellLevel) -> str:
        """Whether cells pass conditions on their values, as a column."""

    @abstractmethod
    def say(self, note: str) -> None:
        """Add a note for the reader."""

    # Which values are needed where.

    def evaluate(self, node: TypedExpression, place: CellLevel) -> pl.Expr:
        """The node's value over the place's cells. Raises FormulaProblem where it does not fit the dimensions."""
        if node.field:
            raise FormulaProblem("This is a value of each row.", at=node.at, hint="Make it an aggregate.")
        if node.per is not None:
            return self._evaluate_at_grain(node, node.per, place)
        if node.function is None:
            return pl.lit(node.value, dtype=node.kind.dtype if node.kind else None)
        if node.function.level is Level.AGGREGATE:
            return self._aggregate(node, place)
        try:
            if node.function.level is Level.TIME:
                return self._evaluate_in_other_periods(node, place)
            if node.function.level is Level.WINDOW:
                return self._evaluate_window(node, place)
            return self.apply_function(node, [self.evaluate(a, place) if a else None for a in node.arguments])
        except FormulaProblem as problem:
            if problem.at.end:
                raise
            raise FormulaProblem(problem.message, at=node.at, hint=problem.hint) from None

    def find_passing(self, place: CellLevel) -> str:
        """Whether the chart's groups pass the filters on groups, as a column of their cells.

        Perhaps in other periods; "" where nothing is dropped. The filters themselves look at all groups."""
        engine = self.engine
        if not engine.conditions or self.judging or place.groups != engine.groups:
            return ""
        self.judging = True
        judged = []
        for node, condition in engine.conditions:
            if node.kind is None or not node.kind.is_number:
                name = measure_words(condition.measure, self.schema)
                raise DefinitionProblem(
                    f"“{name}” is not a number, so groups cannot be filtered by it.",
                    hint="Choose a number, or filter rows.",
                )
            judged.append((condition, self.get_column(node, place)))
        self.judging = False
        return self.judge_cells(judged, place)

    def _evaluate_at_grain(self, node: TypedExpression, per: GroupedBy, place: CellLevel) -> pl.Expr:
        engine, inner = self.engine, node.get_option(0)
        source = engine.place_within(per, place)
        there = engine.derive_groupings(source.groups, place)
        own = {
            make_group_key(group): self._evaluate_determined(inner, group, place) if value is None else value
            for group, value in there.items()
        }
        return self.look_up(
            inner, source, place, own, [make_group_key(group) for group, value in there.items() if value is None]
        )

    def _evaluate_determined(self, node: TypedExpression, group: Grouping, place: CellLevel) -> pl.Expr:
        model = self.engine.model
        home = next(iter(self.engine.list_tables_of(node)), None) or model.find_home({group.field}, node)
        if not model.reaches(home, group.field, group.grain or ""):
            home = model.find_home({group.field})
        return self.find_determined(self.engine.parts.make_ends(group, home), place, home)

    def _aggregate(self, node: TypedExpression, place: CellLevel) -> pl.Expr:
        argument = node.arguments[0] if node.arguments else None
        if argument is not None and argument.level is Level.GRAIN:
            return self._evaluate_over_cells(node, argument, place)
        home = self.engine.list_tables_of(node)[0]
        return self.from_parts(node, self.engine.parts.compile_parts(node, home), place, home)

    def _evaluate_over_cells(self, node: TypedExpression, argument: TypedExpression, place: CellLevel) -> pl.Expr:
        """An aggregate over the cells of a grain of its own, each once."""
        if node.where is not None:
            raise FormulaProblem(
                "“where” looks at rows, and these are values of a grain.",
                at=node.where.at,
                hint="Put the condition inside, or use if(test, value).",
            )
        inner = [self.engine.place_within(per, place).groups for per in _list_grains(argument)]
        groups = drop_dependent_groupings((*place.groups, *(group for each in inner for group in each)))
        source = replace(place, groups=groups, upto=None, unbroken=False, outer=place.shown)
        return self.aggregate_cells(node, argument, source, place)

    def _evaluate_in_other_periods(self, node: TypedExpression, place: CellLevel) -> pl.Expr:
        function = node.call
        arguments = [
            make_operand(argument) if argument and (declared.options or declared.constant) else argument
            for argument, declared in zip(node.arguments, function.takes, strict=False)
        ]
        return function.build(OtherPeriods(self, place, node), *arguments)

    # Windows.

    def _evaluate_window(self, node: TypedExpression, place: CellLevel) -> pl.Expr:
        engine, function, source = self.engine, node.call, place
        if engine.for_totals and not engine.scope.ranks:
            if function.adds_up is AddsUp.ITSELF and not node.restart:
                return self.compute_in_total(node, place)
            return pl.lit(None, dtype=node.kind.dtype if node.kind else None)
        for name in node.restart:
            if not any(group.field == name for group in place.groups):
                self._refuse_not_shown(name, node)
        axis = engine.find_axis(place)
        if axis is not None and not node.along and function.looks_back:
            source = replace(engine.widen(place, axis), unbroken=function.by_period)
        columns = [None if a is None or a.constant else self.get_column(a, source) for a in node.arguments]
        return self.compute_window(
            node, columns, self._order(node, source, axis), self.find_passing(source), source, place
        )

    def _order(self, node: TypedExpression, source: CellLevel, axis: Grouping | None) -> Order:
        """The order in which a window goes through the cells.

        Along the time axis, else the first dimension, or as it says. Along a measure it goes through all that is shown.
        """
        columns: list[tuple[str, bool]] = []
        keys: list[str] = []
        if not node.along:
            first = axis or next(iter(source.groups), None)
            # Periods of one date that do not make each other up, such as weeks and months, go along together.
            groups = [g for g in source.groups if g == first or (axis and g.is_time_axis and g.field == axis.field)]
            groups.sort(key=lambda group: group != first)
            columns = [(column, False) for group in groups for column in self._order_columns(group, source)]
            keys = [make_group_key(group) for group in groups]
        for name, down in node.along:
            groups = [group for group in source.groups if group.field == name]
            if groups:
                columns += [(column, down) for group in groups for column in self._order_columns(group, source)]
                keys += map(make_group_key, groups)
                continue
            field = self.schema[name]
            if field.role != "measure":
                self._refuse_not_shown(name, node)
            measure = Measure(field=name, aggregate=field.aggregate)
            measured = measure_node(measure, self.schema, self.engine.model.parameters)
            columns.append((self.get_column(measured, source), down))
            keys = [make_group_key(group) for group in source.groups]
        return Order(tuple(name for name, _ in columns), tuple(down for _, down in columns), tuple(keys))

    def _order_columns(self, group: Grouping, source: CellLevel) -> list[str]:
        """The columns in whose order a dimension's values stand: its sort field, if it has one, then itself."""
        node = self.engine.sort_node(group)
        return [*([self.get_column(node, source)] if node else []), make_group_key(group)]

    def _refuse_not_shown(self, name: str, node: TypedExpression) -> NoReturn:
        shown = ", ".join(self.schema[group.field].name for group in self.engine.groups) or "none"
        raise FormulaProblem(
            f"{node.call.name} runs along “{self.schema[name].name}”, which the chart does not show.",
            at=node.at,
            hint=f"Its dimensions are: {shown}.",
        )


def _list_grains(node: TypedExpression) -> Iterator[GroupedBy]:
    """The grains of their own at which a formula has values."""
    if node.per is not None:
        yield node.per
        return
    for argument in node.arguments:
        if argument:
            yield from _list_grains(argument)

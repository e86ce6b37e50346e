"""The filter that marks of a chart make."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from typing import Any, Literal

import polars as pl
from pydantic import ConfigDict, Field

from veduta.core.calendar import PERIODS, Days, Grain, Grouping, find_period_start, group_expression, label_period
from veduta.core.data.fields import Schema
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.measures import Parameters
from veduta.core.number_format import REST_POINT
from veduta.core.phrases import join_names
from veduta.core.query.filters.base import Condition, Context
from veduta.core.query.filters.dates import invert_days, list_days_of
from veduta.core.query.filters.groups import MembershipFilter
from veduta.core.query.filters.rows import build_membership
from veduta.core.query.filters.words import Value, convert_point_value, describe_value


class PointsFilter(Condition):
    """Rows that belong to marks: each point is the marks' values of `groups`, in their order.

    Where a chart gathered what it did not keep, REST_POINT stands for all values but those of `rest`; `kept` are these,
    once they are worked out."""

    model_config = ConfigDict(frozen=True, extra="forbid", arbitrary_types_allowed=True, allow_inf_nan=False)
    kind: Literal["points"] = "points"
    groups: tuple[Grouping, ...] = Field(min_length=1, max_length=10)
    points: tuple[tuple[Value, ...], ...] = Field(max_length=5_000)
    exclude: bool = False
    rest: MembershipFilter | None = None
    kept: Any = Field(None, exclude=True)

    def list_fields(self) -> set[str]:
        return {group.field for group in self.groups}

    def needs(self) -> set[tuple[str, str]]:
        return {(group.field, group.grain or "") for group in self.groups}

    def resolve_parameters(self, parameters: Parameters) -> PointsFilter:
        if self.rest is None:
            return self
        asked = self.rest.resolve_parameters(parameters)
        # Where the chart keeps all, nothing was gathered: no value is another.
        return self.model_copy(update={"rest": asked, "kept": None if asked else pl.Series([], dtype=pl.Null)})

    def get_question(self) -> MembershipFilter | None:
        return self.rest

    def apply_answer(self, values: pl.Series, schema: Schema) -> PointsFilter:
        return self.model_copy(update={"rest": None, "kept": values})

    def move_to_other_periods(self, dates: set[str]) -> PointsFilter | None:
        return self._keep_positions(
            [group.field not in dates or (group.grain or Grain.DAY).is_part for group in self.groups]
        )

    def drop_fields(self, fields: frozenset[str]) -> PointsFilter | None:
        return self._keep_positions([group.field not in fields for group in self.groups])

    def _keep_positions(self, wanted: list[bool]) -> PointsFilter | None:
        """The marks by some of their dimensions. Marks that are left out say nothing about other cells."""
        if all(wanted):
            return self
        if not any(wanted) or self.exclude:
            return None
        groups = itertools.compress(self.groups, wanted)
        points = dict.fromkeys(tuple(itertools.compress(point, wanted)) for point in self.points)
        return self.model_copy(update={"groups": tuple(groups), "points": tuple(points)})

    def list_days(self, dates: set[str], context: Context) -> list[Days] | None:
        position = self._find_period_position(dates)
        if position is None or (self.exclude and len(self.groups) > 1):
            return None
        days = list_days_of((point[position] for point in self.points), self.groups[position].period)
        return invert_days(days) if self.exclude else days

    def get_period_grain(self, dates: set[str]) -> Grain | None:
        position = self._find_period_position(dates)
        return None if position is None else self.groups[position].grain

    def _find_period_position(self, dates: set[str]) -> int | None:
        """The place of the finest periods of these dates among the marks' dimensions."""
        fitting = [i for i, group in enumerate(self.groups) if group.field in dates and group.is_time_axis]
        return max(fitting, key=lambda i: PERIODS.index(self.groups[i].period), default=None)

    def build_expression(self, schema: Schema, context: Context) -> pl.Expr:
        columns = [group_expression(group, schema) for group in self.groups]
        if any(len(point) != len(self.groups) for point in self.points):
            raise DefinitionProblem("A selected mark does not fit its chart.", hint="Clear the selection.")
        values = [
            [
                convert_point_value(value, schema[group.field], group.grain)
                for value, group in zip(point, self.groups, strict=True)
            ]
            for point in self.points
        ]
        if len(columns) == 1 and [REST_POINT] not in values:
            return build_membership(columns[0], [point[0] for point in values], self.exclude)
        marks = [
            pl.all_horizontal(self._is_at(column, value) for column, value in zip(columns, point, strict=True))
            for point in values
        ]
        marked = pl.any_horizontal(marks) if marks else pl.lit(False)
        return ~marked if self.exclude else marked

    def describe(self, schema: Schema) -> str:
        same = [len({point[i] for point in self.points}) == 1 for i in range(len(self.groups))]
        if self.exclude or len(self.groups) == 1 or not any(same):
            return self._describe_points(list(range(len(self.groups))), self.points, schema)
        varying = [i for i, is_same in enumerate(same) if not is_same]
        parts = [self._describe_points(varying, self.points, schema)] if varying else []
        parts += [self._describe_points([i], self.points[:1], schema) for i, is_same in enumerate(same) if is_same]
        return join_names(parts)

    def _describe_points(self, positions: list[int], points: Sequence[tuple[Value, ...]], schema: Schema) -> str:
        """Some of the dimensions with their values in words."""
        groups = [self.groups[i] for i in positions]
        said = [
            " and ".join(describe_value(point[i], self.groups[i], schema[self.groups[i].field]) for i in positions)
            for point in points
        ]
        names = " and ".join(schema[group.field].name for group in groups)
        return f"{names} {'is not' if self.exclude else 'is'} {self._run(said, schema) or join_names(said, 'or', 3)}"

    def _is_at(self, column: pl.Expr, value: Any) -> pl.Expr:
        if value == REST_POINT:
            return ~column.is_in(self.kept.implode(), nulls_equal=True)
        return column.eq_missing(pl.lit(value))

    def _run(self, said: list[str], schema: Schema) -> str:
        """Periods that follow each other said as "Mar 2026 to Jun 2026"."""
        if len(self.groups) > 1 or not self.groups[0].is_time_axis or len(said) < 3:
            return ""
        if any(REST_POINT in point for point in self.points):
            return ""
        grain = self.groups[0].period
        ranges = list_days_of((point[0] for point in self.points), grain)
        if len(ranges) != 1 or any(point[0] is None for point in self.points):
            return ""
        first, last = ranges[0]
        last = find_period_start(last, grain, schema.fiscal_month)
        return f"{label_period(first, grain)} to {label_period(last, grain)}"

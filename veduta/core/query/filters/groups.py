"""Filters on the groups of a question, and on the values that another question returns."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

import polars as pl
from pydantic import Field

from veduta.core.calendar import Grain, Grouping
from veduta.core.data.fields import DataType, Schema
from veduta.core.formula.measures import Parameters
from veduta.core.phrases import lower_first
from veduta.core.query.filters.base import Condition, FieldCondition
from veduta.core.query.filters.rows import ValuesFilter, build_bounds_test, describe_bound, resolve_bounds
from veduta.core.query.measures import Measure, TopN, measure_words

if TYPE_CHECKING:
    from veduta.core.query.filters import Filter


class MeasureFilter(Condition):
    """Groups whose value of a measure, shown or not, lies between two bounds.

    It filters what is shown, not the rows."""

    kind: Literal["measure"] = "measure"
    measure: Measure
    low: float | None = None
    high: float | None = None
    low_parameter: str = Field("", max_length=40)
    high_parameter: str = Field("", max_length=40)

    def get_group_filter(self) -> MeasureFilter:
        return self

    def list_fields(self) -> set[str]:
        return self.measure.list_fields()

    def resolve_parameters(self, parameters: Parameters) -> MeasureFilter | None:
        return resolve_bounds(self, parameters)[0]

    def build_bounds(self, value: pl.Expr) -> pl.Expr:
        """Whether a value lies between the bounds."""
        return build_bounds_test(value, self.low, self.high)

    def describe(self, schema: Schema) -> str:
        low = f":{self.low_parameter}" if self.low_parameter else describe_bound(self.low)
        high = f":{self.high_parameter}" if self.high_parameter else describe_bound(self.high)
        name = measure_words(self.measure, schema)
        if low and high:
            return f"groups whose {lower_first(name)} is {low} to {high}"
        bound = f"at least {low}" if low else f"at most {high}" if high else "not empty"
        return f"groups whose {lower_first(name)} is {bound}"


class MembershipFilter(FieldCondition):
    """Rows whose field is among the values that another question returns.

    Its top or bottom ones by a measure (`keep`), and those whose measure lies between bounds. `filters` are the
    question's own; with `follows` the other filters of the chart reach into it too. Dates are told apart by `grain`, or
    by day, date-times by the moment."""

    kind: Literal["member"] = "member"
    grain: Grain | None = None
    keep: TopN | None = None
    measure: Measure | None = None
    low: float | None = None
    high: float | None = None
    low_parameter: str = Field("", max_length=40)
    high_parameter: str = Field("", max_length=40)
    filters: tuple[Filter, ...] = Field((), max_length=50)
    follows: bool = False
    exclude: bool = False

    def list_fields(self) -> set[str]:
        names = {self.field}
        for measure in (self.keep and self.keep.by, self.measure):
            names |= measure.list_fields() if measure else set()
        return names.union(*(filter_.list_fields() for filter_ in self.filters))

    def resolve_parameters(self, parameters: Parameters) -> MembershipFilter | None:
        """Without the conditions that say no limit; None if it had no others."""
        bounded, changes = resolve_bounds(self, parameters)
        keep = self.keep and self.keep.resolve_parameters(parameters)
        measure = self.measure if bounded else None
        if (self.keep or self.measure) and not (keep or measure):
            return None
        return self.model_copy(update=changes | {"keep": keep, "measure": measure})

    def get_question(self) -> MembershipFilter:
        return self

    def apply_answer(self, values: pl.Series, schema: Schema) -> ValuesFilter:
        grain = self.make_grouping(schema).grain
        return ValuesFilter(
            field=self.field, grain=grain, listed=values, exclude=self.exclude, said=self.describe(schema)
        )

    def make_grouping(self, schema: Schema) -> Grouping:
        """The dimension among whose values the rows' are: dates by day, date-times by the moment."""
        usual = {DataType.DATE: Grain.DAY, DataType.DATETIME: Grain.MOMENT}.get(schema[self.field].kind)
        return Grouping(field=self.field, grain=self.grain or usual)

    def count_most_values(self, field: str) -> int | None:
        return self.keep.count if self.keep and field == self.field and not self.exclude else None

    def make_condition(self) -> MeasureFilter | None:
        if self.measure is None:
            return None
        return MeasureFilter(
            measure=self.measure,
            low=self.low,
            high=self.high,
            low_parameter=self.low_parameter,
            high_parameter=self.high_parameter,
        )

    def describe(self, schema: Schema) -> str:
        parts = []
        if self.keep:
            by = lower_first(measure_words(self.keep.by, schema)) + " with ties" * self.keep.ties
            parts.append(f"the {self.keep.end} {self.keep.count_words} by {by}")
        if condition := self.make_condition():
            parts.append(
                f"those with {condition.describe(schema).removeprefix('groups whose ').replace(' is ', ' ', 1)}"
            )
        inside = f" ({', '.join(each.describe(schema) for each in self.filters)})" if self.filters else ""
        scope = "" if self.follows or self.filters else " overall"
        return f"{schema[self.field].name} is {'not ' * self.exclude}among {' and '.join(parts)}{inside}{scope}"

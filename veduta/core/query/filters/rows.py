"""Filters on the values of one field."""

from __future__ import annotations

import datetime as dt
from typing import Any, Literal, TypeVar

import polars as pl
from pydantic import ConfigDict, Field

from veduta.core.calendar import STEPS, Days, Grain, Grouping, group_expression
from veduta.core.data.fields import DataType, Schema
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.measures import Parameters
from veduta.core.model.parameters import get_parameter_value, get_set_number
from veduta.core.number_format import label_value
from veduta.core.phrases import join_names
from veduta.core.query.filters.base import Condition, Context, FieldCondition
from veduta.core.query.filters.dates import invert_days, list_days_of
from veduta.core.query.filters.words import Value, convert_point_value


class ListFilter(FieldCondition):
    """Rows whose value is among `values` (None is empty), or with `exclude` is not.

    With a `parameter` its values count instead, and no limit narrows nothing."""

    kind: Literal["list"] = "list"
    grain: Grain | None = None
    values: tuple[Value, ...] = Field((), max_length=5_000)
    exclude: bool = False
    parameter: str = Field("", max_length=40)

    def build_expression(self, schema: Schema, context: Context) -> pl.Expr:
        column = (
            group_expression(Grouping(field=self.field, grain=self.grain), schema) if self.grain else pl.col(self.field)
        )
        return build_membership(
            column, [convert_point_value(value, schema[self.field], self.grain) for value in self.values], self.exclude
        )

    def resolve_parameters(self, parameters: Parameters) -> ListFilter | None:
        if not self.parameter:
            return self
        values = get_parameter_value(self.parameter, parameters).values
        if values is None:
            return None
        plain = tuple(value.isoformat() if isinstance(value, dt.date) else value for value in values)
        return self.model_copy(update={"values": plain, "parameter": ""})

    def needs(self) -> set[tuple[str, str]]:
        return {(self.field, self.grain or "")}

    def count_most_values(self, field: str) -> int | None:
        return len(self.values) if field == self.get_named_values() else None

    def get_named_values(self) -> str:
        return "" if self.exclude or self.parameter else self.field

    def move_to_other_periods(self, dates: set[str]) -> ListFilter | None:
        """A part of dates (Saturdays) holds in every period; days and periods themselves give way."""
        return None if self.field in dates and not (self.grain and self.grain.is_part) else self

    def list_days(self, dates: set[str], context: Context) -> list[Days] | None:
        grain = self.get_period_grain(dates)
        if not grain:
            return None
        days = list_days_of(self.values, grain)
        return invert_days(days) if self.exclude else days

    def get_period_grain(self, dates: set[str]) -> Grain | None:
        return self.grain if self.field in dates and self.grain in STEPS else None

    def describe(self, schema: Schema) -> str:
        field = schema[self.field]
        if self.parameter:
            return f"{field.name} is {'not ' * self.exclude}:{self.parameter}"
        values = [convert_point_value(value, field, self.grain) for value in self.values]
        if field.kind is DataType.YES_NO and values in ([True], [False]):
            return field.name if values[0] != self.exclude else f"not {field.name}"
        words = join_names([label_value(value, self.grain) for value in values], "or", 3)
        return f"{field.name} {'is not' if self.exclude else 'is'} {words}"


class MembersFilter(ListFilter):
    """Rows whose value is among those that a question named, however many.

    It is made for other data and never stored."""

    values: tuple[Value, ...] = ()


def build_membership(column: pl.Expr, values: list[Any], exclude: bool) -> pl.Expr:
    full = [value for value in values if value is not None]
    member = column.is_in(full) if len(full) != 1 else column == full[0]
    member = member.fill_null(None in values) if exclude or None in values else member
    return ~member if exclude else member


class RangeFilter(FieldCondition):
    """Rows whose number lies between two bounds, both included; None leaves a side open.

    Parameters may stand for bounds, and no limit leaves a side open too."""

    kind: Literal["range"] = "range"
    low: float | None = None
    high: float | None = None
    low_parameter: str = Field("", max_length=40)
    high_parameter: str = Field("", max_length=40)

    def resolve_parameters(self, parameters: Parameters) -> RangeFilter | None:
        return resolve_bounds(self, parameters)[0]

    def build_expression(self, schema: Schema, context: Context) -> pl.Expr:
        column = pl.col(self.field)
        if not schema[self.field].kind.is_number:
            raise DefinitionProblem(f"“{schema[self.field].name}” is not a number.", where=self.field)
        return build_bounds_test(column, self.low, self.high)

    def describe(self, schema: Schema) -> str:
        name = schema[self.field].name
        low = f":{self.low_parameter}" if self.low_parameter else describe_bound(self.low)
        high = f":{self.high_parameter}" if self.high_parameter else describe_bound(self.high)
        if low and high:
            return f"{name} is {low} to {high}"
        return f"{name} is at least {low}" if low else f"{name} is at most {high}" if high else f"{name} is not empty"


Bounded = TypeVar("Bounded", bound=Condition)


def resolve_bounds(filter_: Bounded, parameters: Parameters) -> tuple[Bounded | None, dict[str, Any]]:
    """A range filter with its parameters' values, and what was changed.

    Its bounds are low and high, or parameters that stand for them. None if these set no limit and nothing else filters.
    """
    changes: dict[str, Any] = {}
    unlimited = False
    for end in ("low", "high"):
        if name := getattr(filter_, f"{end}_parameter"):
            value = get_set_number(name, parameters)
            unlimited = unlimited or value is None
            changes |= {end: value, f"{end}_parameter": ""}
    bounded = filter_.model_copy(update=changes) if changes else filter_
    narrows = any(getattr(bounded, end) is not None for end in ("low", "high"))
    return (None if unlimited and not narrows else bounded), changes


def build_bounds_test(value: pl.Expr, low: float | None, high: float | None) -> pl.Expr:
    """Whether a number lies between two bounds, both included; an open side still wants a value."""
    inside = value >= low if low is not None else value.is_not_null()
    return inside & (value <= high) if high is not None else inside


def describe_bound(value: float | None) -> str:
    return "" if value is None else f"{value:,.10g}"


class TextFilter(FieldCondition):
    """Rows whose text contains, starts or ends with some text, ignoring case."""

    kind: Literal["text"] = "text"
    match: Literal["contains", "starts", "ends"] = "contains"
    text: str = Field(min_length=1, max_length=500)
    exclude: bool = False

    def build_expression(self, schema: Schema, context: Context) -> pl.Expr:
        if schema[self.field].kind is not DataType.TEXT:
            raise DefinitionProblem(f"“{schema[self.field].name}” is not text.", where=self.field)
        column, text = pl.col(self.field).str.to_lowercase(), self.text.lower()
        matches = {
            "contains": lambda: column.str.contains(text, literal=True),
            "starts": lambda: column.str.starts_with(text),
            "ends": lambda: column.str.ends_with(text),
        }[self.match]()
        return ~matches.fill_null(False) if self.exclude else matches

    def describe(self, schema: Schema) -> str:
        verb = {"contains": "contains", "starts": "starts with", "ends": "ends with"}[self.match]
        if self.exclude:
            verb = {"contains": "does not contain", "starts": "does not start with", "ends": "does not end with"}[
                self.match
            ]
        return f"{schema[self.field].name} {verb} “{self.text}”"


class EmptyFilter(FieldCondition):
    """Rows with an empty value, or with `exclude` the others."""

    kind: Literal["empty"] = "empty"
    exclude: bool = False

    def build_expression(self, schema: Schema, context: Context) -> pl.Expr:
        column = pl.col(self.field)
        return column.is_not_null() if self.exclude else column.is_null()

    def describe(self, schema: Schema) -> str:
        return f"{schema[self.field].name} is {'not ' * self.exclude}empty"


class ValuesFilter(FieldCondition):
    """Rows whose value is among those of a column that was worked out; what a membership becomes.

    It is never stored."""

    model_config = ConfigDict(frozen=True, extra="forbid", arbitrary_types_allowed=True, allow_inf_nan=False)
    kind: Literal["values"] = "values"
    grain: Grain | None = None
    listed: Any = None
    exclude: bool = False
    said: str = ""

    def build_expression(self, schema: Schema, context: Context) -> pl.Expr:
        column = group_expression(Grouping(field=self.field, grain=self.grain), schema)
        among = column.is_in(self.listed.implode(), nulls_equal=True)
        return ~among if self.exclude else among

    def describe(self, schema: Schema) -> str:
        return self.said

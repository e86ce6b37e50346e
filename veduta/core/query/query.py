"""A question to one dataset, and its answer."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from dataclasses import field as attribute
from typing import Any, Literal, Protocol

import polars as pl
from pydantic import Field as Attribute

from veduta.core.data.fields import AGGREGATE_WORDS, Aggregate, Frozen, Kind, NumberFormat, Schema
from veduta.core.data.profile import Profile
from veduta.core.query.filters import Filter, Value
from veduta.core.query.grains import Grouping


class Measure(Frozen):
    """A number to show: an aggregate of a field, or the count of rows when there is no field."""

    field: str | None = None
    aggregate: Aggregate = Aggregate.COUNT
    name: str = Attribute("", max_length=200)
    format: NumberFormat | None = None

    def same_number(self, other: Measure) -> bool:
        return (self.field, self.aggregate) == (other.field, other.aggregate)


def measure_words(measure: Measure, schema: Schema) -> str:
    """A measure as it is said: its own name, the field's name, or the aggregate and the field."""
    if measure.name:
        return measure.name
    if measure.field is None:
        return "count of rows"
    field = schema[measure.field]
    if measure.aggregate == field.aggregate and field.role == "measure":
        return field.name
    return f"{AGGREGATE_WORDS[measure.aggregate]} of {field.name}"


class Keep(Frozen):
    """Only the top or bottom `count` values of a dimension by a measure, shown or not."""

    end: Literal["top", "bottom"] = "top"
    count: int = Attribute(10, ge=1, le=10_000)
    by: Measure = Measure()
    of: Literal["by", "split"] = "by"


class Sort(Frozen):
    """The order of the first dimension's values; empties always come last.

    `values` is the order of `own`; values it does not name follow alphabetically.
    """

    by: Literal["measure", "name", "time", "own"] = "name"
    measure: Measure | None = None
    descending: bool = False
    values: tuple[Value, ...] = Attribute((), max_length=5_000)


class Query(Frozen):
    """One question. `keep_group` is the position in `groups` that `keep` ranks; `totals` lists, for each total
    wanted, the positions of the groups it keeps apart: () is the grand total."""

    groups: tuple[Grouping, ...] = ()
    measures: tuple[Measure, ...] = ()
    filters: tuple[Filter, ...] = ()
    keep: Keep | None = None
    keep_group: int = 0
    sort: Sort | None = None
    totals: tuple[tuple[int, ...], ...] = ()
    limit: int = 5_000


@dataclass(frozen=True)
class ColumnFacts:
    """What is known of a stored column without reading it; bounds are None where it has no values.

    `values` holds all its values, without empties, where they are few.
    """

    empties: int = 0
    distinct: int = 0
    lowest: Any = None
    highest: Any = None
    values: tuple[Any, ...] | None = None


def facts_from(profile: Profile) -> ColumnFacts:
    values = tuple(value for value, _ in profile.top) if profile.distinct == len(profile.top) else None
    return ColumnFacts(profile.empties, profile.distinct, profile.lowest, profile.highest, values)


class Table(Protocol):
    """A version of a dataset's rows, loaded column by column."""

    rows: int

    def scan(self, columns: list[str]) -> pl.LazyFrame: ...

    def facts(self, column: str) -> ColumnFacts: ...


@dataclass
class Column:
    """A column of a result: `key` is "d0"… for dimensions and "m0"… for measures."""

    key: str
    name: str
    kind: Kind
    grouping: Grouping | None = None
    format: NumberFormat = NumberFormat()

    @property
    def is_measure(self) -> bool:
        return self.grouping is None


@dataclass
class Result:
    """An answer. `totals[positions]` has the dimensions it keeps apart and all measures.

    `rows_read` rows passed the filters out of `rows_there`; `groups` were found before the limit.
    `unfinished` is the last day with data within the last period of the time axis, if it is not over.
    """

    columns: list[Column]
    frame: pl.DataFrame
    totals: dict[tuple[int, ...], pl.DataFrame] = attribute(default_factory=dict)
    rows_read: int = 0
    rows_there: int = 0
    groups: int = 0
    unfinished: dt.date | None = None
    notes: list[str] = attribute(default_factory=list)

    @property
    def dimensions(self) -> list[Column]:
        return [column for column in self.columns if not column.is_measure]

    @property
    def measures(self) -> list[Column]:
        return [column for column in self.columns if column.is_measure]

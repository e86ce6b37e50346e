"""A question to one dataset, and its answer."""

from __future__ import annotations

import dataclasses
import datetime as dt
from dataclasses import dataclass
from typing import Any, Literal

import polars as pl
from pydantic import Field

from veduta.core.calendar import Days, Grouping
from veduta.core.data.fields import DataType, Frozen, NumberFormat
from veduta.core.number_format import REST_POINT
from veduta.core.query.filters import Filter, Value
from veduta.core.query.measures import Measure, TopN


class Tie(Frozen):
    """A further measure, or the name, which decides where all before it are equal."""

    measure: Measure | None = None
    descending: bool = False


class Sort(Frozen):
    """The order of the first dimension's values; empties always come last.

    `values` is the order of `own`; values it does not name follow alphabetically. A crosstab may be sorted by a measure
    `at` some values of the dimensions across. Values that tie by a measure are in the order of the `ties`.
    """

    by: Literal["measure", "name", "time", "own"] = "name"
    measure: Measure | None = None
    descending: bool = False
    values: tuple[Value, ...] = Field((), max_length=5_000)
    at: tuple[Value, ...] = Field((), max_length=10)
    ties: tuple[Tie, ...] = Field((), max_length=5)


class Query(Frozen):
    """One question.

    `keep_group` is the position in `groups` that `keep` ranks, usually the first, or the last for one within the
    others; `orders` are orders of their own of dimensions after the first, by positions, with the values they do not
    name after them; `totals` lists, for each total wanted, the positions of the groups it keeps apart: () is the grand
    total. With `aligned`, a test, the time axis counts the periods since the first in which it held, for each of the
    other groups; groups in which it never held are left out. A plan and what came of it cover the same periods, unless
    each has its `own_periods`. The last `unseen` measures are worked out for the drawing, and are no columns of the
    result's."""

    groups: tuple[Grouping, ...] = ()
    measures: tuple[Measure, ...] = ()
    unseen: int = 0
    filters: tuple[Filter, ...] = ()
    keep: TopN | None = None
    keep_group: int | None = None
    sort: Sort | None = None
    orders: tuple[tuple[int, tuple[Value, ...]], ...] = ()
    aligned: str = ""
    own_periods: bool = False
    totals: tuple[tuple[int, ...], ...] = ()
    limit: int = 5_000


@dataclass
class Column:
    """A column of a result: `key` is "d0"… for dimensions and "m0"… for measures.

    Values of a dimension may name areas of the `shapes` with an id; those of a measure may be added up or not."""

    key: str
    name: str
    kind: DataType
    grouping: Grouping | None = None
    format: NumberFormat = NumberFormat()
    total: str = "again"
    shapes: str = ""
    adds_up: bool = False

    @property
    def dimension(self) -> Grouping:
        """What a dimension's column groups by."""
        assert self.grouping is not None, f"{self.name} is a measure"
        return self.grouping

    @property
    def is_measure(self) -> bool:
        return self.grouping is None


@dataclass(frozen=True)
class Rest:
    """The rest of a dimension's values, gathered in one.

    In rows where the column "rest" holds, the dimension `key` is empty and is called `name`."""

    key: str
    name: str


@dataclass
class Result:
    """An answer. `totals[positions]` has the dimensions it keeps apart and all measures.

    `rows_read` rows passed the filters out of `rows_there`; `groups` were found before the limit.
    `unfinished` is the last day with data within the last period of the time axis, if it is not over, and `begun` the
    first day with data within its first period, if that began before; its data `reach` up to a day,
    be it before what is shown. `unseen` are the
    columns of the frame that stand behind the drawing, `orders` the own orders of dimensions by their keys. `named` are
    the days that filters on the time axis name, with or without rows; none if they name none. A plan and what came of
    it were narrowed to the `same_periods`, or not.
    """

    columns: list[Column]
    frame: pl.DataFrame
    totals: dict[tuple[int, ...], pl.DataFrame] = dataclasses.field(default_factory=dict)
    rows_read: int = 0
    rows_there: int = 0
    groups: int = 0
    unfinished: dt.date | None = None
    begun: dt.date | None = None
    reach: dt.date | None = None
    rest: Rest | None = None
    notes: list[str] = dataclasses.field(default_factory=list)
    unseen: list[Column] = dataclasses.field(default_factory=list)
    orders: dict[str, list[Any]] = dataclasses.field(default_factory=dict)
    named: tuple[Days, ...] = ()
    same_periods: bool = False

    def get_value(self, row: dict[str, Any], key: str) -> Any:
        """A dimension's value in a row of the frame or of totals; REST_POINT for what was gathered."""
        return REST_POINT if self.rest and self.rest.key == key and row.get("rest") else row[key]

    @property
    def dimensions(self) -> list[Column]:
        return [column for column in self.columns if not column.is_measure]

    @property
    def measures(self) -> list[Column]:
        return [column for column in self.columns if column.is_measure]

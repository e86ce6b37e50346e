"""The levels at which values stand, and the parts read for them.

A level is the cells of a chart or of another grain, perhaps of other periods."""

from __future__ import annotations

import dataclasses
import datetime as dt
from collections.abc import Iterator
from dataclasses import dataclass, replace
from itertools import count
from typing import Any

import polars as pl

from veduta.core.calendar import (
    Days,
    Grain,
    Grouping,
    find_period_end,
    find_period_start,
    group_expression,
    merge_days,
    to_date,
)
from veduta.core.data.fields import DataType, Schema
from veduta.core.formula.check import TypedExpression
from veduta.core.formula.functions import SoFar
from veduta.core.model.model import Model
from veduta.core.query.filters import Context

MOST_PREPARED = 500


@dataclass(frozen=True)
class Periods:
    """Stands in for the filters on a date: rows of these periods of a grain, or of these ranges of days, or of all."""

    field: str
    grain: Grain | None = None
    starts: tuple[dt.date, ...] | None = None
    days: tuple[Days, ...] | None = None

    @property
    def period(self) -> Grain:
        """The grain of whole periods."""
        assert self.grain is not None, "these are all rows"
        return self.grain

    @property
    def ranges(self) -> list[Days]:
        """The days of these periods, those that touch made one; none where they are all."""
        return list(
            self.days or merge_days((start, find_period_end(start, self.period)) for start in self.starts or ())
        )

    @property
    def are_all(self) -> bool:
        return self.days is None and self.starts is None

    def build_condition(self, schema: Schema, known: str) -> pl.Expr | None:
        """The condition of these filters on a table's rows; None for all.

        Of dates only the periods of `known` may be known ("" is days)."""
        if self.days is not None:
            column, inside = pl.col(self.field), pl.lit(False)
            if schema[self.field].kind is DataType.DATE:
                days = [(to_date(first), to_date(last)) for first, last in self.days]
            else:
                days = list(self.days)
            for first, last in days:
                if known:
                    first = find_period_start(first, Grain(known), schema.fiscal_month)
                own = column if isinstance(last, dt.datetime) else column.cast(pl.Date)
                inside = inside | ((column >= first) & (own <= last))
            return inside
        if self.starts is None:
            return None
        group = Grouping(field=self.field, grain=self.grain)
        value = group_expression(group, schema)
        dtype = pl.Datetime("us") if self.grain is Grain.HOUR else pl.Date
        return value.is_in(pl.Series(self.starts, dtype=dtype).implode())


@dataclass(frozen=True)
class CellLevel:
    """Cells: one for each combination of the dimensions' values, which are independent of each other.

    `upto` adds all cells since the start of a period. Inside a grain of its own, `outer` are the dimensions that the
    formula calls shown. A `whole` place has all rows that pass the filters, also those that a chart does not keep.
    `without` are fields whose filters do not count. An `unbroken` one has a cell for each period of its time axis from
    a group's first to the last of all, also where there are no rows."""

    groups: tuple[Grouping, ...] = ()
    periods: Periods | None = None
    upto: Grain | None = None
    outer: tuple[Grouping, ...] | None = None
    whole: bool = False
    without: frozenset[str] = frozenset()
    unbroken: bool = False

    @property
    def shown(self) -> tuple[Grouping, ...]:
        return self.groups if self.outer is None else self.outer

    @property
    def in_its_cells(self) -> CellLevel:
        """The same cells, with their own rows only."""
        return replace(self, upto=None)

    def has_same_rows(self, other: CellLevel) -> bool:
        """Whether the same rows stand behind both, though in other cells."""
        return (self.periods, self.whole, self.without) == (other.periods, other.whole, other.without)


@dataclass(frozen=True)
class PartialAggregate:
    """A sum, count and the like of an expression over rows, in a column of its own.

    `how` is sum, count, len, min or max, or else the `function` is worked out as it is, of all rows up to each period
    as `so_far` says (of a quantile with the `share` of the values that lie below it, 0 to 1)."""

    name: str
    how: str
    column: str
    expression: pl.Expr | None
    aggregate: pl.Expr
    fields: frozenset[str]
    attached: tuple[TypedExpression, ...] = ()
    function: str = ""
    so_far: SoFar | None = None
    share: float = 0
    ordered: bool = False
    """Whether it depends on the order of the rows, as the first of them does."""

    @property
    def combines(self) -> bool:
        """Whether parts of some rows make up those of all of them."""
        return bool(self.combined_by)

    @property
    def combined_by(self) -> str:
        """The aggregate that does it; "" if they do not."""
        if self.how in ("sum", "count", "len"):
            return "sum"
        return self.how if self.how in ("min", "max") else ""


@dataclass
class Prepared:
    """What questions of one model found out about formulas; the next ones need not.

    `parts` are by what they hold, `tables` are those whose rows a value is about, `values` those that sums and the like
    of one table's rows give."""

    parts: dict[Any, PartialAggregate] = dataclasses.field(default_factory=dict)
    tables: dict[TypedExpression, list[str]] = dataclasses.field(default_factory=dict)
    values: dict[TypedExpression, pl.Expr] = dataclasses.field(default_factory=dict)
    numbers: Iterator[int] = dataclasses.field(default_factory=count)

    def make_name(self) -> str:
        return f"p{next(self.numbers)}"

    def get_row_count_part(self, home: str) -> PartialAggregate:
        """How many rows of a table there are."""
        part = self.parts.get(("len", home))
        return part or self.parts.setdefault(
            ("len", home), PartialAggregate(self.make_name(), "len", "", None, pl.len(), frozenset())
        )


@dataclass(frozen=True)
class TableCells:
    """What was read of a table: its parts in the cells that its rows tell apart.

    `keys` are the columns of the dimensions that reach it."""

    keys: list[str]
    frame: pl.DataFrame


@dataclass
class Cells:
    """A place's cells with what was worked out in them.

    `keys` are the columns of all dimensions; `tables` holds what was read, by table."""

    frame: pl.DataFrame
    keys: list[str]
    tables: dict[str, TableCells] = dataclasses.field(default_factory=dict)


def make_group_key(group: Grouping) -> str:
    together = repr(group.together) if group.together else ""
    return f"{group.field}@{group.grain or (f'{group.width:g}' if group.width else '')}{together}"


def get_prepared(model: Model, context: Context) -> Prepared:
    """What is known of a model's formulas, as its parameters are set, for whoever asks, today."""
    key = (model.make_cache_key(), context.today)
    prepared = model.prepared.get(key)
    if prepared is None or len(prepared.parts) > MOST_PREPARED:
        if len(model.prepared) > MOST_PREPARED:
            model.prepared.clear()
        prepared = model.prepared[key] = Prepared()
    return prepared

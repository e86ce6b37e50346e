"""Where values stand: the cells of a chart or of another grain, perhaps of other periods, and the parts read for them."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from dataclasses import field as attribute

import polars as pl

from veduta.core.formula.check import Checked
from veduta.core.query.grains import (
    Grain,
    Grouping,
    group_expression,
    period_start,
)

COMBINE = {"sum": "sum", "count": "sum", "len": "sum", "min": "min", "max": "max"}
"""How parts of some rows become those of all of them."""


@dataclass(frozen=True)
class Periods:
    """Stands in for the filters on a date: rows of these periods of a grain, or of these days, or of all."""

    field: str
    grain: Grain | None = None
    starts: tuple[dt.date, ...] | None = None
    days: tuple[dt.date, dt.date] | None = None

    def expression(self, schema, known: str) -> pl.Expr | None:
        if self.days:
            first, last = self.days
            if known:
                first = period_start(first, Grain(known), schema.fiscal_month)
            day = pl.col(self.field).cast(pl.Date)
            return (day >= first) & (day <= last)
        if self.starts is None:
            return None
        group = Grouping(field=self.field, grain=self.grain)
        return group_expression(group, schema).is_in(pl.Series(self.starts, dtype=pl.Date).implode())


@dataclass(frozen=True)
class Place:
    """Cells: one for each combination of the dimensions' values. `upto` adds all cells since the start of a period;
    inside a grain of its own, `outer` are the dimensions that the formula calls shown."""

    groups: tuple[Grouping, ...] = ()
    periods: Periods | None = None
    upto: Grain | None = None
    outer: tuple[Grouping, ...] | None = None

    @property
    def shown(self) -> tuple[Grouping, ...]:
        return self.groups if self.outer is None else self.outer


@dataclass(frozen=True)
class Part:
    """A sum, count and the like of an expression over rows, in a column of its own."""

    name: str
    how: str
    column: str
    expression: pl.Expr | None
    aggregate: pl.Expr
    fields: frozenset[str]
    attached: tuple[Checked, ...] = ()

    @property
    def combines(self) -> bool:
        return self.how in COMBINE


@dataclass
class Cells:
    """A place's cells with what was worked out in them; `homes` holds, by table, the dimensions that reach it and its parts."""

    frame: pl.DataFrame
    keys: list[str]
    homes: dict[str, tuple[list[str], pl.DataFrame]] = attribute(default_factory=dict)


def key_of(group: Grouping) -> str:
    return f"{group.field}@{group.grain or ''}"

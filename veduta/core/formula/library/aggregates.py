"""Aggregates: one value of many rows. Empties are skipped; over no values the result is empty."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import polars as pl

from veduta.core.data.fields import Kind
from veduta.core.formula.functions import ANY, NUMBER, Argument, Gives, Level, Operand, function, same_as

THEME: dict[str, Any] = {
    "theme": "Aggregates",
    "level": Level.AGGREGATE,
    "empties": "Empties are skipped; empty over no values.",
}
X, V = Argument("value", NUMBER), Argument("value", ANY)
COUNTS = "5, 9, 9, 14"


PARTS = {"sum": ("sum", "count"), "mean": ("sum", "count"), "min": ("min",), "max": ("max",), "count": ("count",)}


def _register(
    name: str, argument: Argument, gives: Gives, says: str, result: str, work: Callable[..., pl.Expr]
) -> None:
    more: dict[str, Any] = {
        "parts": PARTS.get(name, ()),
        "counts": name.startswith("count"),
        "ordered": name in ("first", "last"),
    }

    @function(name, argument, gives=gives, says=says, example=(f"{name}(count)", result), **more, **THEME)
    def _(value: Operand) -> pl.Expr:
        return work(value.expression)


for _each in (
    ("sum", X, same_as(0), "The sum.", "37", lambda x: pl.when(x.count() > 0).then(x.sum())),
    ("mean", X, Kind.DECIMAL, "The mean.", "9.25", lambda x: x.mean()),
    ("median", X, Kind.DECIMAL, "The value in the middle.", "9", lambda x: x.median()),
    ("min", V, same_as(0), "The lowest value.", "5", lambda x: x.min()),
    ("max", V, same_as(0), "The highest value.", "14", lambda x: x.max()),
    ("count", V, Kind.WHOLE, "How many values there are.", "4", lambda x: x.count().cast(pl.Int64)),
    (
        "count_distinct",
        V,
        Kind.WHOLE,
        "How many different values there are.",
        "3",
        lambda x: x.drop_nulls().n_unique().cast(pl.Int64),
    ),
    ("std_dev", X, Kind.DECIMAL, "The standard deviation of a sample.", "3.685557397915997", lambda x: x.std()),
    ("variance", X, Kind.DECIMAL, "The variance of a sample.", "13.583333333333334", lambda x: x.var()),
    (
        "first",
        V,
        same_as(0),
        "The first value in the order of along, or else of the table's own date.",
        "5",
        lambda x: x.drop_nulls().first(),
    ),
    (
        "last",
        V,
        same_as(0),
        "The last value in the order of along, or else of the table's own date.",
        "14",
        lambda x: x.drop_nulls().last(),
    ),
):
    _register(*_each)


@function(
    "count_rows",
    gives=Kind.WHOLE,
    says="How many rows there are.",
    example=("count_rows()", "4"),
    parts=("count",),
    counts=True,
    counts_rows=True,
    **(THEME | {"empties": "Never empty."}),
)
def _() -> pl.Expr:
    return pl.len().cast(pl.Int64)


@function(
    "percentile",
    X,
    Argument("percent", NUMBER, constant=True),
    gives=Kind.DECIMAL,
    says="The value below which so many percent of the values lie, interpolated.",
    example=("percentile(count, 50)", "9"),
    **THEME,
)
def _(value: Operand, percent: Operand) -> pl.Expr:
    return value.expression.quantile(min(max(percent.value, 0), 100) / 100, interpolation="linear")

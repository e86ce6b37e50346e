"""Aggregates: one value of many rows. Empties are skipped; over no values the result is empty."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import polars as pl

from veduta.core.data.fields import DataType
from veduta.core.formula.functions import (
    ANY,
    COUNTED,
    NUMBER,
    AddsUp,
    Argument,
    Gives,
    Level,
    Operand,
    SoFar,
    make_same_as,
    register_function,
)

THEME: dict[str, Any] = {
    "theme": "Aggregates",
    "level": Level.AGGREGATE,
    "empties": "Empties are skipped; empty over no values.",
}
X, V = Argument("value", NUMBER), Argument("value", ANY)
COUNTS = "5, 9, 9, 14"


ONE_ROW_PER_GROUP = "for one row per group use the step Group."


def _register(
    name: str, argument: Argument, gives: Gives, says: str, result: str, work: Callable[..., pl.Expr], **more: Any
) -> None:
    @register_function(name, argument, gives=gives, says=says, example=(f"{name}(count)", result), **more, **THEME)
    def _(value: Operand) -> pl.Expr:
        return work(value.expression)


_register(
    "sum",
    X,
    make_same_as(0),
    "The sum.",
    "37",
    lambda x: pl.when(x.count() > 0).then(x.sum()),
    parts=("sum", "count"),
    of_parts=lambda part: pl.when(part["count"] > 0).then(part["sum"]),
    adds_stocks=True,
    instead=f"For the sum so far write running(…); {ONE_ROW_PER_GROUP}",
    adds_up=AddsUp.ITSELF,
)
_register(
    "mean",
    X,
    DataType.DECIMAL,
    "The mean.",
    "9.25",
    lambda x: x.mean(),
    parts=("sum", "count"),
    of_parts=lambda part: pl.when(part["count"] > 0).then(part["sum"].cast(pl.Float64) / part["count"]),
    instead=f"For the mean of the last rows write moving(mean, …, 3); {ONE_ROW_PER_GROUP}",
)
_register(
    "median",
    X,
    DataType.DECIMAL,
    "The value in the middle.",
    "9",
    lambda x: x.median(),
    so_far=SoFar.QUANTILE,
    share_below=lambda: 0.5,
)
_register(
    "min",
    V,
    make_same_as(0),
    "The lowest value.",
    "5",
    lambda x: x.min(),
    parts=("min",),
    instead=f"For the lowest of several columns write least(…); {ONE_ROW_PER_GROUP}",
)
_register(
    "max",
    V,
    make_same_as(0),
    "The highest value.",
    "14",
    lambda x: x.max(),
    parts=("max",),
    instead=f"For the highest of several columns write greatest(…); {ONE_ROW_PER_GROUP}",
)
_register(
    "count",
    V,
    DataType.WHOLE,
    "How many values there are.",
    "4",
    lambda x: x.count().cast(pl.Int64),
    parts=("count",),
    counts=True,
    format=COUNTED,
    adds_up=AddsUp.ITSELF,
)
_register(
    "count_distinct",
    V,
    DataType.WHOLE,
    "How many different values there are.",
    "3",
    lambda x: x.drop_nulls().n_unique().cast(pl.Int64),
    counts=True,
    so_far=SoFar.FIRST_SEEN,
    format=COUNTED,
)
_register(
    "std_dev",
    X,
    DataType.DECIMAL,
    "The standard deviation of a sample.",
    "3.685557397915997",
    lambda x: x.std(),
    so_far=SoFar.DEVIATION,
)
_register(
    "variance",
    X,
    DataType.DECIMAL,
    "The variance of a sample.",
    "13.583333333333334",
    lambda x: x.var(),
    so_far=SoFar.VARIANCE,
)
_register(
    "first",
    V,
    make_same_as(0),
    "The first value in the order of along, or else of the table's own date.",
    "5",
    lambda x: x.drop_nulls().first(),
    takes_end="first",
)
_register(
    "last",
    V,
    make_same_as(0),
    "The last value in the order of along, or else of the table's own date.",
    "14",
    lambda x: x.drop_nulls().last(),
    takes_end="last",
)


@register_function(
    "count_rows",
    gives=DataType.WHOLE,
    says="How many rows there are.",
    example=("count_rows()", "4"),
    parts=("count",),
    counts=True,
    counts_rows=True,
    adds_up=AddsUp.ITSELF,
    format=COUNTED,
    instead=f"For numbered rows write row_number(); {ONE_ROW_PER_GROUP}",
    **(THEME | {"empties": "Never empty."}),
)
def _() -> pl.Expr:
    return pl.len().cast(pl.Int64)


@register_function(
    "percentile",
    X,
    Argument("percent", NUMBER, constant=True),
    gives=DataType.DECIMAL,
    says="The value below which so many percent of the values lie, interpolated.",
    example=("percentile(count, 50)", "9"),
    so_far=SoFar.QUANTILE,
    share_below=lambda percent: min(max(percent, 0), 100) / 100,
    **THEME,
)
def _(value: Operand, percent: Operand) -> pl.Expr:
    return value.expression.quantile(min(max(percent.value, 0), 100) / 100, interpolation="linear")

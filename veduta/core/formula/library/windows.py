"""Values that look at the rows around: the order is `along`, and `restart` says where it starts anew."""

from __future__ import annotations

from typing import Any

import polars as pl

from veduta.core.data.fields import DataType
from veduta.core.formula.functions import (
    ANY,
    COUNTED,
    NUMBER,
    PERCENT,
    WHOLE,
    AddsUp,
    Argument,
    Level,
    Operand,
    Window,
    make_same_as,
    register_function,
)
from veduta.core.formula.problems import FormulaProblem

THEME: dict[str, Any] = {"theme": "Rows around", "level": Level.WINDOW}
X = Argument("value", NUMBER)
MOVING = {
    "mean": lambda x, n: x.cast(pl.Float64).rolling_mean(n, min_samples=1),
    "sum": lambda x, n: x.rolling_sum(n, min_samples=1),
    "min": lambda x, n: x.rolling_min(n, min_samples=1),
    "max": lambda x, n: x.rolling_max(n, min_samples=1),
    "median": lambda x, n: x.cast(pl.Float64).rolling_median(n, min_samples=1),
}
RUNNING = {"sum": pl.Expr.cum_sum, "min": pl.Expr.cum_min, "max": pl.Expr.cum_max}


@register_function(
    "previous",
    Argument("value", ANY),
    Argument("rows", WHOLE, optional=True, constant=True),
    gives=make_same_as(0),
    says="The value one row before, or so many rows before; after, with minus.",
    example=("previous(count) along (day)", ", 5, 9, 9"),
    empties="Empty on the first row.",
    restarts=True,
    looks_back=True,
    adds_up=AddsUp.GIVEN,
    **THEME,
)
def _(value: Operand, rows: Operand | None = None, *, window: Window) -> pl.Expr:
    return window.apply_over(value.expression.shift(rows.value if rows else 1))


@register_function(
    "difference",
    X,
    gives=make_same_as(0),
    says="The value less the one on the row before.",
    example=("difference(count) along (day)", ", 4, 0, 5"),
    empties="Empty on the first row, and where either value is empty.",
    restarts=True,
    looks_back=True,
    adds_up=AddsUp.GIVEN,
    **THEME,
)
def _(value: Operand, *, window: Window) -> pl.Expr:
    return value.expression - window.apply_over(value.expression.shift(1))


@register_function(
    "running",
    Argument("how", options=tuple(RUNNING), bare=True, optional=True),
    X,
    gives=lambda o: o[-1].kind,
    says="The sum of the values so far, this row included; or how: min, max.",
    example=("running(count) along (day)", "5, 14, 23, 37"),
    empties="Empties are passed over; empty before the first value.",
    restarts=True,
    adds_up=AddsUp.WITHIN_PERIODS,
    **THEME,
)
def _(how: Operand | None, value: Operand, *, window: Window) -> pl.Expr:
    return window.apply_over(RUNNING[how.value if how else "sum"](value.expression).forward_fill())


@register_function(
    "moving",
    Argument("how", options=tuple(MOVING), bare=True),
    X,
    Argument("rows", WHOLE, constant=True),
    gives=lambda o: DataType.DECIMAL if o[0].value in ("mean", "median") else o[1].kind,
    says="The mean (or sum, min, max, median) of this row and those before it, so many in all.",
    example=("moving(mean, count, 2) along (day)", "5, 7, 9, 11.5"),
    empties="Empties are passed over; the first rows use what there is.",
    restarts=True,
    looks_back=True,
    by_period=True,
    adds_up=AddsUp.WITHIN_PERIODS,
    **THEME,
)
def _(how: Operand, value: Operand, rows: Operand, *, window: Window) -> pl.Expr:
    if not 1 <= rows.value <= 10_000:
        raise FormulaProblem("A moving value takes 1 to 10,000 rows.", hint="Choose another number of rows.")
    return window.apply_over(MOVING[how.value](value.expression, rows.value))


ORDERS = ("highest first", "lowest first")


@register_function(
    "rank",
    Argument("value", ANY),
    Argument("order", options=ORDERS, optional=True, constant=True),
    gives=DataType.WHOLE,
    says="The place of the value among all rows, 1 for the highest; equal values share a place.",
    example=("rank(count)", "4, 2, 2, 1"),
    empties="Empty values have no place.",
    format=COUNTED,
    **THEME,
)
def _(value: Operand, order: Operand | None = None, *, window: Window) -> pl.Expr:
    lowest = order is not None and order.value == ORDERS[1]
    return Window(parts=window.parts).apply_over(value.expression.rank("min", descending=not lowest).cast(pl.Int64))


@register_function(
    "row_number",
    gives=DataType.WHOLE,
    says="The number of the row, from 1.",
    example=("row_number() along (day)", "1, 2, 3, 4"),
    empties="Never empty.",
    format=COUNTED,
    **THEME,
)
def _(*, window: Window) -> pl.Expr:
    return window.apply_over(pl.int_range(1, pl.len() + 1, dtype=pl.Int64))


@register_function(
    "share",
    X,
    gives=DataType.DECIMAL,
    says="The value as a share of the sum over all rows, from 0 to 1.",
    example=("round(share(count), 2)", "0.14, 0.24, 0.24, 0.38"),
    empties="Empty if the sum is zero.",
    format=PERCENT,
    adds_up=AddsUp.ITSELF,
    **THEME,
)
def _(value: Operand, *, window: Window) -> pl.Expr:
    total = Window(parts=window.parts).apply_over(value.expression.sum())
    return pl.when(total != 0).then(value.expression / total)

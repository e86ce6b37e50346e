"""Values of other periods.

Each is worked out by the query engine, which knows the chart's grain: `build` gets it as `at`, the node it works on as
`x`, and gives an expression over the engine's cells."""

from __future__ import annotations

from typing import Any

import polars as pl

from veduta.core.data.fields import DataType
from veduta.core.formula.functions import (
    COUNTED,
    NUMBER,
    PERCENT,
    WHOLE,
    YES_NO,
    AddsUp,
    Argument,
    Level,
    Operand,
    PeriodLookup,
    make_same_as,
    register_function,
)

PERIODS = ("year", "quarter", "month", "week", "day", "hour")
THEME: dict[str, Any] = {"theme": "Time", "level": Level.TIME}
X, ANY_X = Argument("value", NUMBER), Argument("value")
UNIT = Argument("period", options=PERIODS, constant=True)
EARLIER = "Empty where there is no such period; never 0 and never another period's value."
SAME_DAYS = Argument("days", options=("same days",), constant=True, optional=True)
CUT = " With 'same days' a period that is not over is compared with as many days of the other one."
HOWS = ("mean", "sum", "min", "max")


@register_function(
    "shift",
    ANY_X,
    Argument("steps", WHOLE, constant=True),
    UNIT,
    SAME_DAYS,
    gives=make_same_as(0),
    says="The value so many periods later, or earlier with minus: shift(x, -1, 'year') is the same cell a year before."
    + CUT,
    example=("shift(sum(count), -1, 'day')", ", 5, 9, 9"),
    empties=EARLIER,
    adds_up=AddsUp.GIVEN,
    **THEME,
)
def _(periods: PeriodLookup, x: Any, steps: Operand, unit: Operand, days: Operand | None = None) -> pl.Expr:
    return periods.shift(x, steps.value, unit.value, bool(days))


@register_function(
    "whole",
    ANY_X,
    UNIT,
    gives=make_same_as(0),
    says="The value of the whole year, quarter or month that encloses the cell, repeated in each of its cells.",
    example=("whole(sum(count), 'month')", "37, 37, 37, 37"),
    empties="Empty if the whole period has no value.",
    adds_up=AddsUp.WITHIN_PERIODS,
    **THEME,
)
def _(periods: PeriodLookup, x: Any, unit: Operand) -> pl.Expr:
    return periods.take_whole_period(x, unit.value)


@register_function(
    "to_date",
    Argument("how", options=HOWS, bare=True, optional=True),
    X,
    UNIT,
    gives=lambda o: DataType.DECIMAL if len(o) > 2 and o[0].value == "mean" else o[-2].kind,
    says="The value from the start of the year, quarter or month up to this cell; with mean, the mean of its cells.",
    example=("to_date(sum(count), 'month')", "5, 14, 23, 37"),
    empties="Starts anew with each period.",
    accumulates=True,
    adds_up=AddsUp.WITHIN_PERIODS,
    **THEME,
)
def _(periods: PeriodLookup, how: Operand | None, x: Any, unit: Operand) -> pl.Expr:
    return periods.accumulate_cells(x, how.value, unit.value) if how else periods.to_date(x, unit.value)


@register_function(
    "change",
    X,
    UNIT,
    SAME_DAYS,
    gives=make_same_as(0),
    says="How much more the value is than one period before." + CUT,
    example=("change(sum(count), 'day')", ", 4, 0, 5"),
    empties=EARLIER,
    compares=True,
    adds_up=AddsUp.GIVEN,
    **THEME,
)
def _(periods: PeriodLookup, x: Any, unit: Operand, days: Operand | None = None) -> pl.Expr:
    return periods.evaluate(x) - periods.shift(x, -1, unit.value, bool(days))


@register_function(
    "growth",
    X,
    UNIT,
    SAME_DAYS,
    gives=DataType.DECIMAL,
    says="The change on one period before as a share of its size: 0.1 is ten percent more." + CUT,
    example=("growth(sum(count), 'day')", ", 0.8, 0, 0.5555555555555556"),
    empties=EARLIER + " Empty where it was 0.",
    format=PERCENT,
    compares=True,
    **THEME,
)
def _(periods: PeriodLookup, x: Any, unit: Operand, days: Operand | None = None) -> pl.Expr:
    before = periods.shift(x, -1, unit.value, bool(days)).cast(pl.Float64)
    return pl.when(before != 0).then((periods.evaluate(x).cast(pl.Float64) - before) / before.abs())


@register_function(
    "since",
    Argument("first test", YES_NO),
    gives=DataType.WHOLE,
    says="Whole periods since the first one in which the test held, 0 in that one, for each group.",
    example=("since(sum(count) > 5)", ", 0, 1, 2"),
    empties="Empty before, and where it never held.",
    format=COUNTED,
    **THEME,
)
def _(periods: PeriodLookup, x: Any) -> pl.Expr:
    return periods.count_since(x)

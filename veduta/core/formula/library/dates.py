"""Functions of dates. Weeks are ISO weeks; the time of day does not count where days or longer are meant."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from typing import Any

import polars as pl

from veduta.core.calendar import Grain, start_expression
from veduta.core.data.fields import DataType
from veduta.core.formula.functions import DAY, WHOLE, Argument, Operand, Times, get_type, register_function

THEME: dict[str, Any] = {"theme": "Dates"}
D = Argument("date", DAY)
LONG = ("year", "quarter", "month", "week", "day")
UNITS = (*LONG, "hour", "minute")
UNIT = Argument("unit", options=UNITS, constant=True)
STEP = {"year": "y", "quarter": "q", "month": "mo", "week": "w", "day": "d", "hour": "h", "minute": "m"}
SAMPLE = "date('2026-10-31')"


def _register(name: str, says: str, example: tuple[str, str], part: Callable[[Operand], pl.Expr]) -> None:
    @register_function(name, D, gives=DataType.WHOLE, says=says, example=example, **THEME)
    def _(date: Operand) -> pl.Expr:
        return part(date).cast(pl.Int64)


def _read_clock(date: Operand, part: str) -> pl.Expr:
    clock: pl.Expr = getattr(date.expression.cast(pl.Datetime("us")).dt, part)()
    return clock


for _each in (
    ("year", "The year.", (f"year({SAMPLE})", "2026"), lambda d: d.expression.dt.year()),
    ("quarter", "The quarter, 1 to 4.", (f"quarter({SAMPLE})", "4"), lambda d: d.expression.dt.quarter()),
    ("month", "The month, 1 to 12.", (f"month({SAMPLE})", "10"), lambda d: d.expression.dt.month()),
    ("week", "The ISO week, 1 to 53.", (f"week({SAMPLE})", "44"), lambda d: d.expression.dt.week()),
    ("day", "The day of the month.", (f"day({SAMPLE})", "31"), lambda d: d.expression.dt.day()),
    (
        "weekday",
        "The day of the week, 1 for Monday to 7 for Sunday.",
        (f"weekday({SAMPLE})", "6"),
        lambda d: d.expression.dt.weekday(),
    ),
    (
        "hour",
        "The hour of the day, 0 to 23.",
        ("hour(date_time('2026-10-31 17:25'))", "17"),
        lambda d: _read_clock(d, "hour"),
    ),
    (
        "minute",
        "The minute of the hour.",
        ("minute(date_time('2026-10-31 17:25'))", "25"),
        lambda d: _read_clock(d, "minute"),
    ),
):
    _register(*_each)


@register_function(
    "today",
    gives=DataType.DATE,
    says="The current day.",
    example=("today() > date('2026-01-01')", "yes"),
    empties="Never empty.",
    asks_times=True,
    **THEME,
)
def _(*, times: Times) -> pl.Expr:
    return pl.lit(times.today or dt.date.today())


@register_function(
    "trunc",
    D,
    UNIT,
    gives=lambda o: o[0].kind if o[1].value in ("hour", "minute") else DataType.DATE,
    says=(
        "The start of the year, quarter, month, week, day, hour or minute a date lies in; of a model's fiscal year, if"
        " it has one."
    ),
    example=(f"trunc({SAMPLE}, 'month')", "2026-10-01"),
    asks_times=True,
    **THEME,
)
def _(date: Operand, unit: Operand, *, times: Times) -> pl.Expr:
    if unit.value in LONG:
        return start_expression(date.expression.cast(pl.Date), Grain(unit.value), times.fiscal_month)
    return date.expression.cast(pl.Datetime("us")).dt.truncate(f"1{STEP[unit.value]}").cast(get_type(date).dtype)


@register_function(
    "date_add",
    UNIT,
    Argument("count", WHOLE),
    D,
    gives=lambda o: DataType.DATETIME if o[0].value in ("hour", "minute") else o[2].kind,
    says="A date so many units later, or earlier with minus. A day that the month lacks becomes its last.",
    example=("date_add('month', 1, date('2026-01-31'))", "2026-02-28"),
    **THEME,
)
def _(unit: Operand, count: Operand, date: Operand) -> pl.Expr:
    kind = DataType.DATETIME if unit.value in ("hour", "minute") else get_type(date)
    step = STEP[unit.value]
    by = (
        f"{count.value}{step}"
        if count.constant and count.value is not None
        else pl.format(f"{{}}{step}", count.expression)
    )
    return date.expression.cast(kind.dtype).dt.offset_by(by)


@register_function(
    "date_diff",
    UNIT,
    Argument("from", DAY),
    Argument("to", DAY),
    gives=DataType.WHOLE,
    says="How many whole units lie between two dates; negative if the second is earlier.",
    example=("date_diff('month', date('2026-01-31'), date('2026-03-30'))", "1"),
    **THEME,
)
def _(unit: Operand, start: Operand, end: Operand) -> pl.Expr:
    if unit.value in ("hour", "minute"):
        spent = end.expression.cast(pl.Datetime("us")) - start.expression.cast(pl.Datetime("us"))
        return (spent.dt.total_hours() if unit.value == "hour" else spent.dt.total_minutes()).cast(pl.Int64)
    a, b = start.expression.cast(pl.Date), end.expression.cast(pl.Date)
    if unit.value in ("day", "week"):
        days = (b - a).dt.total_days()
        return days if unit.value == "day" else _count_whole(days, 7)
    months = (b.dt.year() - a.dt.year()).cast(pl.Int64) * 12 + (
        b.dt.month().cast(pl.Int64) - a.dt.month().cast(pl.Int64)
    )
    short = (
        pl.when((months > 0) & (b.dt.day() < a.dt.day()))
        .then(1)
        .when((months < 0) & (b.dt.day() > a.dt.day()))
        .then(-1)
    )
    return _count_whole(months - short.otherwise(0), {"month": 1, "quarter": 3, "year": 12}[unit.value])


def _count_whole(count: pl.Expr, size: int) -> pl.Expr:
    """Complete groups of so many, towards zero."""
    return count if size == 1 else count.sign() * (count.abs() // size)


@register_function(
    "month_start",
    D,
    gives=DataType.DATE,
    says="The first day of the month.",
    example=(f"month_start({SAMPLE})", "2026-10-01"),
    **THEME,
)
def _(date: Operand) -> pl.Expr:
    return date.expression.cast(pl.Date).dt.month_start()


@register_function(
    "month_end",
    D,
    gives=DataType.DATE,
    says="The last day of the month.",
    example=("month_end(date('2024-02-10'))", "2024-02-29"),
    **THEME,
)
def _(date: Operand) -> pl.Expr:
    return date.expression.cast(pl.Date).dt.month_end()

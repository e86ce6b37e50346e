"""Turning values of one kind into another. What cannot be turned becomes empty."""

from __future__ import annotations

from typing import Any

import polars as pl

from veduta.core.data.convert import Failures, convert, text_of
from veduta.core.data.fields import Field, Kind, Reading
from veduta.core.data.options import EMPTY_WORDS
from veduta.core.data.recognise import DATE_SHAPES
from veduta.core.formula.functions import NUMBER, TEXT, WHOLE, Argument, Operand, function

THEME: dict[str, Any] = {"theme": "Conversion"}
EMPTIES = "Empty if the value is empty or cannot be read."
ORDER = Argument("order", options=("ymd", "dmy", "mdy"), optional=True, constant=True)


def as_text(operand: Operand) -> pl.Expr:
    """A value as text."""
    return text_of(operand.expression, operand.kind)


def read_text(value: pl.Expr, kind: Kind, reading: Reading, failures: Failures | None = None) -> pl.Expr:
    """Text read as another kind, the way files are read; what does not fit is empty and added to `failures`."""
    field = Field(id="value", source="", name="value", kind=kind, reading=reading)
    failed = Failures() if failures is None else failures
    return value.map_batches(
        lambda text: convert(text, field, EMPTY_WORDS, failed), return_dtype=kind.dtype, is_elementwise=False
    )


def _from_number(operand: Operand, kind: Kind) -> pl.Expr:
    value = operand.expression
    if kind is Kind.DECIMAL:
        return value.cast(pl.Float64)
    return value if operand.kind is Kind.WHOLE else _towards_zero(value)


def _towards_zero(value: pl.Expr) -> pl.Expr:
    return value.truncate().cast(pl.Int64, strict=False)


@function(
    "number",
    Argument("value", TEXT | NUMBER | {Kind.YES_NO}),
    Argument("decimal", options=(".", ","), optional=True, constant=True),
    gives=Kind.DECIMAL,
    says="A decimal number from text; yes is 1 and no is 0. Tell ',' if the decimals stand after a comma.",
    example=("number('1.234,5', ',')", "1234.5"),
    empties=EMPTIES,
    **THEME,
)
def _(value: Operand, decimal: Operand | None = None) -> pl.Expr:
    if value.kind is Kind.TEXT:
        sign = decimal.value if decimal else "."
        return read_text(value.expression, Kind.DECIMAL, Reading(decimal=sign, thousands="." if sign == "," else ","))
    return value.expression.cast(pl.Float64)


@function(
    "whole_number",
    Argument("value", TEXT | NUMBER | {Kind.YES_NO}),
    gives=Kind.WHOLE,
    says="A whole number from text or a number; decimals are cut off.",
    example=("whole_number(3.9)", "3"),
    empties=EMPTIES,
    **THEME,
)
def _(value: Operand) -> pl.Expr:
    if value.kind is Kind.TEXT:
        return _towards_zero(read_text(value.expression, Kind.DECIMAL, Reading()))
    return value.expression.cast(pl.Int64) if value.kind is Kind.YES_NO else _from_number(value, Kind.WHOLE)


@function(
    "text",
    Argument("value"),
    gives=Kind.TEXT,
    says="Any value as text; dates as 2026-10-31.",
    example=("text(3.0)", "3"),
    **THEME,
)
def _(value: Operand) -> pl.Expr:
    return as_text(value)


def _dates(value: Operand, kind: Kind, order: Operand | None) -> pl.Expr:
    if value.kind is not Kind.TEXT:
        return value.expression.cast(kind.dtype)
    shape = order.value if order else "ymd"
    return read_text(value.expression, kind, Reading(order=shape, formats=DATE_SHAPES[shape]))


@function(
    "date",
    Argument("value"),
    ORDER,
    gives=Kind.DATE,
    says="A date from text or from a date and time. Tell the order of day, month and year: 'dmy', 'mdy' or 'ymd'.",
    example=("date('31.10.2026', 'dmy')", "2026-10-31"),
    empties=EMPTIES,
    **THEME,
)
def _(value: Operand, order: Operand | None = None) -> pl.Expr:
    return _dates(value, Kind.DATE, order)


@function(
    "date_time",
    Argument("value"),
    ORDER,
    gives=Kind.DATETIME,
    says="A date and time from text or from a date.",
    example=("date_time('2026-10-31 17:25')", "2026-10-31 17:25"),
    empties=EMPTIES,
    **THEME,
)
def _(value: Operand, order: Operand | None = None) -> pl.Expr:
    return _dates(value, Kind.DATETIME, order)


@function(
    "make_date",
    Argument("year", WHOLE),
    Argument("month", WHOLE),
    Argument("day", WHOLE),
    gives=Kind.DATE,
    says="A date from year, month and day.",
    example=("make_date(2026, 10, 31)", "2026-10-31"),
    empties="Empty if there is no such day.",
    **THEME,
)
def _(year: Operand, month: Operand, day: Operand) -> pl.Expr:
    return pl.format("{}-{}-{}", year.expression, month.expression, day.expression).str.to_date(
        "%Y-%m-%d", strict=False
    )


@function(
    "yes_no",
    Argument("value", TEXT | NUMBER | {Kind.YES_NO}),
    gives=Kind.YES_NO,
    says="Yes or no from text such as yes, true or y; of numbers, 0 is no and others are yes.",
    example=("yes_no('TRUE')", "yes"),
    empties=EMPTIES,
    **THEME,
)
def _(value: Operand) -> pl.Expr:
    if value.kind is Kind.TEXT:
        return read_text(value.expression, Kind.YES_NO, Reading())
    return value.expression if value.kind is Kind.YES_NO else value.expression != 0

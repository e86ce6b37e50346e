"""Turning values of one kind into another. What cannot be turned becomes empty."""

from __future__ import annotations

from typing import Any

import polars as pl

from veduta.core.data.convert import Failures, convert, write_as_text
from veduta.core.data.fields import DataField, DataType, ParseOptions
from veduta.core.data.options import EMPTY_WORDS
from veduta.core.data.recognise import DATE_SHAPES
from veduta.core.formula.functions import NUMBER, TEXT, WHOLE, Argument, Operand, register_function

THEME: dict[str, Any] = {"theme": "Conversion"}
EMPTIES = "Empty if the value is empty or cannot be read."
ORDER = Argument("order", options=("ymd", "dmy", "mdy"), optional=True, constant=True)


def convert_to_text(operand: Operand) -> pl.Expr:
    """A value as text."""
    return write_as_text(operand.expression, operand.kind)


def read_text(value: pl.Expr, kind: DataType, reading: ParseOptions, failures: Failures | None = None) -> pl.Expr:
    """Text read as another kind, the way files are read; what does not fit is empty and added to `failures`."""
    field = DataField(id="value", source="", name="value", kind=kind, reading=reading)
    failed = Failures() if failures is None else failures
    return value.map_batches(
        lambda text: convert(text, field, EMPTY_WORDS, failed), return_dtype=kind.dtype, is_elementwise=False
    )


def _convert_number(operand: Operand, kind: DataType) -> pl.Expr:
    value = operand.expression
    if kind is DataType.DECIMAL:
        return value.cast(pl.Float64)
    return value if operand.kind is DataType.WHOLE else _round_towards_zero(value)


def _round_towards_zero(value: pl.Expr) -> pl.Expr:
    return value.truncate().cast(pl.Int64, strict=False)


@register_function(
    "number",
    Argument("value", TEXT | NUMBER | {DataType.YES_NO}),
    Argument("decimal", options=(".", ","), optional=True, constant=True),
    gives=DataType.DECIMAL,
    says="A decimal number from text; yes is 1 and no is 0. Tell ',' if the decimals stand after a comma.",
    example=("number('1.234,5', ',')", "1234.5"),
    empties=EMPTIES,
    **THEME,
)
def _(value: Operand, decimal: Operand | None = None) -> pl.Expr:
    if value.kind is DataType.TEXT:
        sign = decimal.value if decimal else "."
        return read_text(
            value.expression, DataType.DECIMAL, ParseOptions(decimal=sign, thousands="." if sign == "," else ",")
        )
    return value.expression.cast(pl.Float64)


@register_function(
    "whole_number",
    Argument("value", TEXT | NUMBER | {DataType.YES_NO}),
    gives=DataType.WHOLE,
    says="A whole number from text or a number; decimals are cut off.",
    example=("whole_number(3.9)", "3"),
    empties=EMPTIES,
    **THEME,
)
def _(value: Operand) -> pl.Expr:
    if value.kind is DataType.TEXT:
        return _round_towards_zero(read_text(value.expression, DataType.DECIMAL, ParseOptions()))
    return value.expression.cast(pl.Int64) if value.kind is DataType.YES_NO else _convert_number(value, DataType.WHOLE)


@register_function(
    "text",
    Argument("value"),
    gives=DataType.TEXT,
    says="Any value as text; dates as 2026-10-31.",
    example=("text(3.0)", "3"),
    **THEME,
)
def _(value: Operand) -> pl.Expr:
    return convert_to_text(value)


def _convert_dates(value: Operand, kind: DataType, order: Operand | None) -> pl.Expr:
    if value.kind is not DataType.TEXT:
        return value.expression.cast(kind.dtype)
    shape = order.value if order else "ymd"
    return read_text(value.expression, kind, ParseOptions(order=shape, formats=DATE_SHAPES[shape]))


@register_function(
    "date",
    Argument("value"),
    ORDER,
    gives=DataType.DATE,
    says="A date from text or from a date and time. Tell the order of day, month and year: 'dmy', 'mdy' or 'ymd'.",
    example=("date('31.10.2026', 'dmy')", "2026-10-31"),
    empties=EMPTIES,
    **THEME,
)
def _(value: Operand, order: Operand | None = None) -> pl.Expr:
    return _convert_dates(value, DataType.DATE, order)


@register_function(
    "date_time",
    Argument("value"),
    ORDER,
    gives=DataType.DATETIME,
    says="A date and time from text or from a date.",
    example=("date_time('2026-10-31 17:25')", "2026-10-31 17:25"),
    empties=EMPTIES,
    **THEME,
)
def _(value: Operand, order: Operand | None = None) -> pl.Expr:
    return _convert_dates(value, DataType.DATETIME, order)


@register_function(
    "make_date",
    Argument("year", WHOLE),
    Argument("month", WHOLE),
    Argument("day", WHOLE),
    gives=DataType.DATE,
    says="A date from year, month and day.",
    example=("make_date(2026, 10, 31)", "2026-10-31"),
    empties="Empty if there is no such day.",
    **THEME,
)
def _(year: Operand, month: Operand, day: Operand) -> pl.Expr:
    return pl.format("{}-{}-{}", year.expression, month.expression, day.expression).str.to_date(
        "%Y-%m-%d", strict=False
    )


@register_function(
    "yes_no",
    Argument("value", TEXT | NUMBER | {DataType.YES_NO}),
    gives=DataType.YES_NO,
    says="Yes or no from text such as yes, true or y; of numbers, 0 is no and others are yes.",
    example=("yes_no('TRUE')", "yes"),
    empties=EMPTIES,
    **THEME,
)
def _(value: Operand) -> pl.Expr:
    if value.kind is DataType.TEXT:
        return read_text(value.expression, DataType.YES_NO, ParseOptions())
    return value.expression if value.kind is DataType.YES_NO else value.expression != 0

"""Operators: arithmetic, comparison, joining text, conditions."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import polars as pl

from veduta.core.data.fields import DataType, NumberFormat
from veduta.core.formula.functions import (
    ANY,
    DAY,
    NUMBER,
    YES_NO,
    AddsUp,
    Argument,
    Operand,
    cast_to,
    find_common_type,
    find_number_type,
    register_function,
)
from veduta.core.formula.library.bounds import join_texts
from veduta.core.formula.library.conversion import convert_to_text
from veduta.core.formula.problems import FormulaProblem

A, B = Argument("a", NUMBER), Argument("b", NUMBER)
THEME: dict[str, Any] = {"theme": "Operators", "operator": True}
PLAIN = NumberFormat()
OVERFLOW = "Empty if a value is empty, or if the result is larger than a whole number can be."


def _compute_exactly(a: Operand, b: Operand, work: Callable[..., pl.Expr]) -> pl.Expr:
    """Whole numbers are worked out with room to spare, so that too large a result becomes empty, not another number."""
    if a.kind is DataType.WHOLE and b.kind is DataType.WHOLE:
        return work(a.expression.cast(pl.Int128), b.expression.cast(pl.Int128)).cast(pl.Int64, strict=False)
    return work(a.expression, b.expression)


def _find_sum_type(operands: list[Operand]) -> DataType:
    """Numbers, or a date and whole days."""
    a, b = operands
    if a.kind in DAY and b.kind in (DataType.WHOLE, None):
        return a.kind
    for operand in operands:
        if operand.kind and operand.kind not in NUMBER:
            hint = "Text is joined with &." if operand.kind is DataType.TEXT else "For dates use date_add or date_diff."
            raise FormulaProblem(f"{operand.kind.words.capitalize()} cannot be added.", hint=hint)
    return find_number_type(operands)


def _find_difference_type(operands: list[Operand]) -> DataType:
    a, b = operands
    if a.kind in DAY and b.kind in DAY:
        return DataType.WHOLE
    return _find_sum_type(operands)


def _make_days(count: pl.Expr) -> pl.Expr:
    return pl.duration(days=count)


@register_function(
    "+",
    Argument("a"),
    Argument("b"),
    gives=_find_sum_type,
    says="The sum; a date plus whole days is a later date.",
    example=("2 + 3.5", "5.5"),
    empties=OVERFLOW,
    adds_up=AddsUp.GIVEN,
    **THEME,
)
def _(a: Operand, b: Operand) -> pl.Expr:
    if a.kind in DAY:
        return (a.expression + _make_days(b.expression)).cast(a.kind.dtype)
    return _compute_exactly(a, b, lambda x, y: x + y)


@register_function(
    "-",
    Argument("a"),
    Argument("b"),
    gives=_find_difference_type,
    says="The difference; of two dates the days between them; a date less whole days is an earlier date.",
    example=("date('2026-10-31') - date('2026-10-01')", "30"),
    empties=OVERFLOW,
    adds_up=AddsUp.GIVEN,
    **THEME,
)
def _(a: Operand, b: Operand) -> pl.Expr:
    if a.kind in DAY and b.kind in DAY:
        return (a.expression.cast(pl.Date) - b.expression.cast(pl.Date)).dt.total_days()
    if a.kind in DAY:
        return (a.expression - _make_days(b.expression)).cast(a.kind.dtype)
    return _compute_exactly(a, b, lambda x, y: x - y)


@register_function(
    "*",
    A,
    B,
    gives=find_number_type,
    says="The product.",
    example=("4 * 2.5", "10"),
    empties=OVERFLOW,
    format=PLAIN,
    adds_up=AddsUp.SCALED,
    commutes=True,
    **THEME,
)
def _(a: Operand, b: Operand) -> pl.Expr:
    return _compute_exactly(a, b, lambda x, y: x * y)


@register_function(
    "/",
    A,
    B,
    gives=DataType.DECIMAL,
    says="The quotient, always with decimals.",
    example=("7 / 2", "3.5"),
    empties="Empty if a value is empty, and where it is divided by zero.",
    format=PLAIN,
    adds_up=AddsUp.SCALED,
    **THEME,
)
def _(a: Operand, b: Operand) -> pl.Expr:
    return pl.when(b.expression != 0).then(a.expression.cast(pl.Float64) / b.expression.cast(pl.Float64))


@register_function(
    "^",
    A,
    B,
    gives=DataType.DECIMAL,
    says="The power. 2 ^ 3 ^ 2 is 2 ^ (3 ^ 2), and -2 ^ 2 is -(2 ^ 2).",
    example=("2 ^ 10", "1024"),
    format=PLAIN,
    **THEME,
)
def _(a: Operand, b: Operand) -> pl.Expr:
    return a.expression.cast(pl.Float64).pow(b.expression.cast(pl.Float64))


@register_function(
    "minus",
    A,
    gives=find_number_type,
    says="The number with the other sign.",
    example=("-(3 - 5)", "2"),
    folds=True,
    adds_up=AddsUp.GIVEN,
    **THEME,
)
def _(a: Operand) -> pl.Expr:
    return -a.expression


@register_function(
    "plus",
    A,
    gives=find_number_type,
    says="The number as it is.",
    example=("+3", "3"),
    adds_up=AddsUp.GIVEN,
    **THEME,
)
def _(a: Operand) -> pl.Expr:
    return a.expression


@register_function(
    "&",
    Argument("a"),
    Argument("b"),
    gives=DataType.TEXT,
    says="Both joined as text.",
    example=("'Pier ' & 4", "Pier 4"),
    empties="An empty value adds nothing; two empties stay empty.",
    **THEME,
)
def _(a: Operand, b: Operand) -> pl.Expr:
    return join_texts(convert_to_text(a), convert_to_text(b))


def _register_comparison(
    sign: str, says: str, example: tuple[str, str], compare: Callable[[pl.Expr, pl.Expr], pl.Expr]
) -> None:
    @register_function(
        sign,
        Argument("a", ANY, alike=True),
        Argument("b", ANY, alike=True),
        gives=DataType.YES_NO,
        says=says,
        example=example,
        empties="Empty if a value is empty: neither yes nor no.",
        **THEME,
    )
    def _(a: Operand, b: Operand) -> pl.Expr:
        kind = find_common_type([a, b])
        return compare(cast_to(a, kind), cast_to(b, kind))


for _sign, _says, _example, _compare in (
    (
        "=",
        "Whether both are the same; text exactly, capitals included.",
        ("'Quay' = 'quay'", "no"),
        lambda a, b: a == b,
    ),
    ("<>", "Whether they differ.", ("3 <> 4", "yes"), lambda a, b: a != b),
    ("<", "Whether the first is less; text by the alphabet, dates by time.", ("3 < 4", "yes"), lambda a, b: a < b),
    ("<=", "Whether the first is less or the same.", ("4 <= 4", "yes"), lambda a, b: a <= b),
    (">", "Whether the first is more.", ("3 > 4", "no"), lambda a, b: a > b),
    (">=", "Whether the first is more or the same.", ("4 >= 4", "yes"), lambda a, b: a >= b),
):
    _register_comparison(_sign, _says, _example, _compare)

CONDITIONS = (Argument("a", YES_NO), Argument("b", YES_NO))


@register_function(
    "and",
    *CONDITIONS,
    gives=DataType.YES_NO,
    says="Whether both hold.",
    example=("3 < 4 and 4 < 5", "yes"),
    empties="An empty beside a no is no; beside a yes it is empty.",
    joins=True,
    **THEME,
)
def _(a: Operand, b: Operand) -> pl.Expr:
    return a.expression & b.expression


@register_function(
    "or",
    *CONDITIONS,
    gives=DataType.YES_NO,
    says="Whether at least one holds.",
    example=("3 > 4 or 4 < 5", "yes"),
    empties="An empty beside a yes is yes; beside a no it is empty.",
    **THEME,
)
def _(a: Operand, b: Operand) -> pl.Expr:
    return a.expression | b.expression


@register_function(
    "not", CONDITIONS[0], gives=DataType.YES_NO, says="The opposite.", example=("not 3 > 4", "yes"), **THEME
)
def _(a: Operand) -> pl.Expr:
    return ~a.expression


@register_function(
    "in",
    Argument("a", alike=True),
    Argument("value", alike=True),
    gives=DataType.YES_NO,
    repeats=1,
    says="Whether the value is one of the list.",
    example=("'Quay' in ('Quay', 'Tern')", "yes"),
    **THEME,
)
def _(a: Operand, *values: Operand) -> pl.Expr:
    kind = find_common_type([a, *values])
    if all(value.constant for value in values):
        listed = pl.Series([value.value for value in values if value.value is not None], dtype=None, strict=False)
        return cast_to(a, kind).is_in((listed.cast(kind.dtype) if kind else listed).implode())
    return pl.any_horizontal(cast_to(a, kind) == cast_to(value, kind) for value in values)


@register_function(
    "between",
    Argument("a", alike=True),
    Argument("low", alike=True),
    Argument("high", alike=True),
    gives=DataType.YES_NO,
    says="Whether the value lies between two others, both included.",
    example=("5 between 1 and 5", "yes"),
    **THEME,
)
def _(*operands: Operand) -> pl.Expr:
    kind = find_common_type(list(operands))
    a, low, high = (cast_to(operand, kind) for operand in operands)
    return (a >= low) & (a <= high)


@register_function(
    "is empty",
    Argument("a"),
    gives=DataType.YES_NO,
    says="Whether there is no value. Its opposite is: is not empty.",
    example=("empty is empty", "yes"),
    empties="Never empty.",
    handles_empties=True,
    **THEME,
)
def _(a: Operand) -> pl.Expr:
    return a.expression.is_null()

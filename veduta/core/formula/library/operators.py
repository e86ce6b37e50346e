"""Operators: arithmetic, comparison, joining text, conditions."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import polars as pl

from veduta.core.data.fields import Kind, NumberFormat
from veduta.core.formula.functions import (
    ANY,
    DAY,
    NUMBER,
    YES_NO,
    AddsUp,
    Argument,
    Operand,
    cast_to,
    common_kind,
    function,
    number_kind,
)
from veduta.core.formula.library.bounds import joined
from veduta.core.formula.library.conversion import as_text
from veduta.core.formula.problems import FormulaProblem

A, B = Argument("a", NUMBER), Argument("b", NUMBER)
THEME: dict[str, Any] = {"theme": "Operators", "operator": True}
PLAIN = NumberFormat()
OVERFLOW = "Empty if a value is empty, or if the result is larger than a whole number can be."


def _exactly(a: Operand, b: Operand, work: Callable[..., pl.Expr]) -> pl.Expr:
    """Whole numbers are worked out with room to spare, so that too large a result becomes empty, not another number."""
    if a.kind is Kind.WHOLE and b.kind is Kind.WHOLE:
        return work(a.expression.cast(pl.Int128), b.expression.cast(pl.Int128)).cast(pl.Int64, strict=False)
    return work(a.expression, b.expression)


def _sum_kind(operands: list[Operand]) -> Kind:
    """Numbers, or a date and whole days."""
    a, b = operands
    if a.kind in DAY and b.kind in (Kind.WHOLE, None):
        return a.kind
    for operand in operands:
        if operand.kind and operand.kind not in NUMBER:
            hint = "Text is joined with &." if operand.kind is Kind.TEXT else "For dates use date_add or date_diff."
            raise FormulaProblem(f"{operand.kind.words.capitalize()} cannot be added.", hint=hint)
    return number_kind(operands)


def _difference_kind(operands: list[Operand]) -> Kind:
    a, b = operands
    if a.kind in DAY and b.kind in DAY:
        return Kind.WHOLE
    return _sum_kind(operands)


def _days(count: pl.Expr) -> pl.Expr:
    return pl.duration(days=count)


@function(
    "+",
    Argument("a"),
    Argument("b"),
    gives=_sum_kind,
    says="The sum; a date plus whole days is a later date.",
    example=("2 + 3.5", "5.5"),
    empties=OVERFLOW,
    adds_up=AddsUp.GIVEN,
    **THEME,
)
def _(a: Operand, b: Operand) -> pl.Expr:
    if a.kind in DAY:
        return (a.expression + _days(b.expression)).cast(a.kind.dtype)
    return _exactly(a, b, lambda x, y: x + y)


@function(
    "-",
    Argument("a"),
    Argument("b"),
    gives=_difference_kind,
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
        return (a.expression - _days(b.expression)).cast(a.kind.dtype)
    return _exactly(a, b, lambda x, y: x - y)


@function(
    "*",
    A,
    B,
    gives=number_kind,
    says="The product.",
    example=("4 * 2.5", "10"),
    empties=OVERFLOW,
    format=PLAIN,
    adds_up=AddsUp.SCALED,
    commutes=True,
    **THEME,
)
def _(a: Operand, b: Operand) -> pl.Expr:
    return _exactly(a, b, lambda x, y: x * y)


@function(
    "/",
    A,
    B,
    gives=Kind.DECIMAL,
    says="The quotient, always with decimals.",
    example=("7 / 2", "3.5"),
    empties="Empty if a value is empty, and where it is divided by zero.",
    format=PLAIN,
    adds_up=AddsUp.SCALED,
    **THEME,
)
def _(a: Operand, b: Operand) -> pl.Expr:
    return pl.when(b.expression != 0).then(a.expression.cast(pl.Float64) / b.expression.cast(pl.Float64))


@function(
    "^",
    A,
    B,
    gives=Kind.DECIMAL,
    says="The power. 2 ^ 3 ^ 2 is 2 ^ (3 ^ 2), and -2 ^ 2 is -(2 ^ 2).",
    example=("2 ^ 10", "1024"),
    format=PLAIN,
    **THEME,
)
def _(a: Operand, b: Operand) -> pl.Expr:
    return a.expression.cast(pl.Float64).pow(b.expression.cast(pl.Float64))


@function(
    "minus",
    A,
    gives=number_kind,
    says="The number with the other sign.",
    example=("-(3 - 5)", "2"),
    folds=True,
    adds_up=AddsUp.GIVEN,
    **THEME,
)
def _(a: Operand) -> pl.Expr:
    return -a.expression


@function(
    "plus",
    A,
    gives=number_kind,
    says="The number as it is.",
    example=("+3", "3"),
    adds_up=AddsUp.GIVEN,
    **THEME,
)
def _(a: Operand) -> pl.Expr:
    return a.expression


@function(
    "&",
    Argument("a"),
    Argument("b"),
    gives=Kind.TEXT,
    says="Both joined as text.",
    example=("'Pier ' & 4", "Pier 4"),
    empties="An empty value adds nothing; two empties stay empty.",
    **THEME,
)
def _(a: Operand, b: Operand) -> pl.Expr:
    return joined(as_text(a), as_text(b))


def _register_comparison(
    sign: str, says: str, example: tuple[str, str], compare: Callable[[pl.Expr, pl.Expr], pl.Expr]
) -> None:
    @function(
        sign,
        Argument("a", ANY, alike=True),
        Argument("b", ANY, alike=True),
        gives=Kind.YES_NO,
        says=says,
        example=example,
        empties="Empty if a value is empty: neither yes nor no.",
        **THEME,
    )
    def _(a: Operand, b: Operand) -> pl.Expr:
        kind = common_kind([a, b])
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


@function(
    "and",
    *CONDITIONS,
    gives=Kind.YES_NO,
    says="Whether both hold.",
    example=("3 < 4 and 4 < 5", "yes"),
    empties="An empty beside a no is no; beside a yes it is empty.",
    joins=True,
    **THEME,
)
def _(a: Operand, b: Operand) -> pl.Expr:
    return a.expression & b.expression


@function(
    "or",
    *CONDITIONS,
    gives=Kind.YES_NO,
    says="Whether at least one holds.",
    example=("3 > 4 or 4 < 5", "yes"),
    empties="An empty beside a yes is yes; beside a no it is empty.",
    **THEME,
)
def _(a: Operand, b: Operand) -> pl.Expr:
    return a.expression | b.expression


@function("not", CONDITIONS[0], gives=Kind.YES_NO, says="The opposite.", example=("not 3 > 4", "yes"), **THEME)
def _(a: Operand) -> pl.Expr:
    return ~a.expression


@function(
    "in",
    Argument("a", alike=True),
    Argument("value", alike=True),
    gives=Kind.YES_NO,
    repeats=1,
    says="Whether the value is one of the list.",
    example=("'Quay' in ('Quay', 'Tern')", "yes"),
    **THEME,
)
def _(a: Operand, *values: Operand) -> pl.Expr:
    kind = common_kind([a, *values])
    if all(value.constant for value in values):
        listed = pl.Series([value.value for value in values if value.value is not None], dtype=None, strict=False)
        return cast_to(a, kind).is_in((listed.cast(kind.dtype) if kind else listed).implode())
    return pl.any_horizontal(cast_to(a, kind) == cast_to(value, kind) for value in values)


@function(
    "between",
    Argument("a", alike=True),
    Argument("low", alike=True),
    Argument("high", alike=True),
    gives=Kind.YES_NO,
    says="Whether the value lies between two others, both included.",
    example=("5 between 1 and 5", "yes"),
    **THEME,
)
def _(*operands: Operand) -> pl.Expr:
    kind = common_kind(list(operands))
    a, low, high = (cast_to(operand, kind) for operand in operands)
    return (a >= low) & (a <= high)


@function(
    "is empty",
    Argument("a"),
    gives=Kind.YES_NO,
    says="Whether there is no value. Its opposite is: is not empty.",
    example=("empty is empty", "yes"),
    empties="Never empty.",
    handles_empties=True,
    **THEME,
)
def _(a: Operand) -> pl.Expr:
    return a.expression.is_null()

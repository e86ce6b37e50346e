"""Functions of numbers."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import polars as pl

from veduta.core.data.fields import DataType
from veduta.core.formula.functions import (
    NUMBER,
    WHOLE,
    Argument,
    Operand,
    cast_to,
    find_common_type,
    find_number_type,
    make_same_as,
    register_function,
)

THEME: dict[str, Any] = {"theme": "Numbers"}
X = Argument("number", NUMBER)


@register_function(
    "abs", X, gives=make_same_as(0), says="The number without its sign.", example=("abs(-12)", "12"), **THEME
)
def _(x: Operand) -> pl.Expr:
    return x.expression.abs()


@register_function(
    "sign",
    X,
    gives=DataType.WHOLE,
    says="1 for a positive number, -1 for a negative one, 0 for zero.",
    example=("sign(-12)", "-1"),
    **THEME,
)
def _(x: Operand) -> pl.Expr:
    return x.expression.sign().cast(pl.Int64)


@register_function(
    "round",
    X,
    Argument("places", WHOLE, optional=True, constant=True),
    gives=make_same_as(0),
    says="The number rounded to so many decimals, halves away from zero; minus places round to tens or hundreds.",
    example=("round(12.345, 1)", "12.3"),
    **THEME,
)
def _(x: Operand, places: Operand | None = None) -> pl.Expr:
    digits: int = places.value if places else 0
    if digits >= 0:
        return x.expression if x.kind is DataType.WHOLE else x.expression.round(digits, mode="half_away_from_zero")
    unit: int = 10**-digits
    rounded = (x.expression / unit).round(0, mode="half_away_from_zero") * unit
    return rounded.cast(pl.Int64, strict=False) if x.kind is DataType.WHOLE else rounded


@register_function(
    "floor", X, gives=make_same_as(0), says="The whole number at or below.", example=("floor(-1.5)", "-2"), **THEME
)
def _(x: Operand) -> pl.Expr:
    return x.expression.floor()


@register_function(
    "ceiling", X, gives=make_same_as(0), says="The whole number at or above.", example=("ceiling(1.2)", "2"), **THEME
)
def _(x: Operand) -> pl.Expr:
    return x.expression.ceil()


@register_function(
    "mod",
    X,
    Argument("divisor", NUMBER),
    gives=find_number_type,
    says="The remainder, with the sign of the divisor.",
    example=("mod(-7, 3)", "2"),
    empties="Empty if a value is empty or the divisor is zero.",
    **THEME,
)
def _(x: Operand, divisor: Operand) -> pl.Expr:
    return pl.when(divisor.expression != 0).then(x.expression % divisor.expression)


@register_function(
    "power",
    X,
    Argument("exponent", NUMBER),
    gives=DataType.DECIMAL,
    says="The power, the same as ^.",
    example=("power(2, 3)", "8"),
    **THEME,
)
def _(x: Operand, exponent: Operand) -> pl.Expr:
    return x.expression.cast(pl.Float64).pow(exponent.expression.cast(pl.Float64))


def _register(name: str, says: str, example: tuple[str, str], empties: str, work: Callable[..., pl.Expr]) -> None:
    @register_function(name, X, gives=DataType.DECIMAL, says=says, example=example, empties=empties, **THEME)
    def _(x: Operand) -> pl.Expr:
        return work(x.expression.cast(pl.Float64))


for _each in (
    (
        "sqrt",
        "The square root.",
        ("sqrt(144)", "12"),
        "Empty for an empty or a negative number.",
        lambda x: pl.when(x >= 0).then(x.sqrt()),
    ),
    ("exp", "e to the power of the number.", ("exp(0)", "1"), "Empty if the number is empty.", lambda x: x.exp()),
    (
        "ln",
        "The natural logarithm.",
        ("ln(1)", "0"),
        "Empty unless the number is above zero.",
        lambda x: pl.when(x > 0).then(x.log()),
    ),
    (
        "log10",
        "The logarithm to base ten.",
        ("log10(100)", "2"),
        "Empty unless the number is above zero.",
        lambda x: pl.when(x > 0).then(x.log10()),
    ),
):
    _register(*_each)


def _register_choice(name: str, says: str, example: tuple[str, str], pick: Callable[[list[pl.Expr]], pl.Expr]) -> None:
    @register_function(
        name,
        Argument("value", alike=True),
        gives=find_common_type,
        repeats=1,
        says=says,
        example=example,
        empties="Empties are passed over.",
        **THEME,
    )
    def _(*operands: Operand) -> pl.Expr:
        kind = find_common_type(list(operands))
        return pick([cast_to(operand, kind) for operand in operands])


_register_choice("least", "The lowest of several values of a row.", ("least(4, 2, 9)", "2"), pl.min_horizontal)
_register_choice("greatest", "The highest of several values of a row.", ("greatest(4, 2, 9)", "9"), pl.max_horizontal)

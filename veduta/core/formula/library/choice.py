"""Choosing between values, and what to do about empties."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import polars as pl

from veduta.core.formula.functions import (
    YES_NO,
    AddsUp,
    Argument,
    Operand,
    cast_to,
    find_common_type,
    register_function,
)

THEME: dict[str, Any] = {"theme": "Choice and empties", "handles_empties": True}


def _list_values(operands: Sequence[Operand]) -> list[Operand]:
    """The values of test, value, …, otherwise."""
    values = list(operands[1::2])
    return [*values, operands[-1]] if len(operands) % 2 else values


@register_function(
    "if",
    Argument("test", YES_NO),
    Argument("value", alike=True),
    Argument("otherwise", optional=True, alike=True),
    gives=lambda operands: find_common_type(_list_values(operands)),
    repeats=2,
    says="The value of the first test that holds, else the last value.",
    example=("if(3 > 4, 'more', 3 = 4, 'same', 'less')", "less"),
    empties="A test that is empty does not hold; without an otherwise the rest is empty.",
    **THEME,
)
def _(*operands: Operand) -> pl.Expr:
    kind = find_common_type(_list_values(operands))
    chain: Any = pl
    for test, value in zip(operands[::2], operands[1::2], strict=False):
        chain = chain.when(test.expression).then(cast_to(value, kind))
    result: pl.Expr = chain.otherwise(cast_to(operands[-1], kind) if len(operands) % 2 else None)
    return result


@register_function(
    "coalesce",
    Argument("value", alike=True),
    gives=find_common_type,
    repeats=1,
    says="The first value that is not empty.",
    example=("coalesce(empty, 7)", "7"),
    empties="Empty only if all are.",
    adds_up=AddsUp.GIVEN,
    **THEME,
)
def _(*operands: Operand) -> pl.Expr:
    kind = find_common_type(list(operands))
    return pl.coalesce(cast_to(operand, kind) for operand in operands)


@register_function(
    "nullif",
    Argument("value", alike=True),
    Argument("unwanted", alike=True),
    gives=lambda o: o[0].kind,
    says="The value, or empty where it is the unwanted one.",
    example=("nullif('n/a', 'n/a')", ""),
    empties="An empty value stays empty.",
    **THEME,
)
def _(value: Operand, unwanted: Operand) -> pl.Expr:
    kind = find_common_type([value, unwanted])
    same = (cast_to(value, kind) == cast_to(unwanted, kind)).fill_null(False)
    return pl.when(~same).then(value.expression)

"""Aggregates in plain Python, and what a formula's tree is made of, for the oracle of the random tests."""

from __future__ import annotations

import math
import statistics
from collections.abc import Callable
from dataclasses import replace
from functools import cache

from veduta.core.formula.syntax_tree import Call, FieldName, parse

TIMES = ("shift", "whole", "to_date", "change", "growth", "since")
WINDOWS = ("share", "rank", "running", "previous", "difference", "moving", "row_number")


def percentile(values: list, percent: float):
    if not values:
        return None
    values = sorted(values)
    at = (len(values) - 1) * percent / 100
    low, high = math.floor(at), math.ceil(at)
    return values[low] + (values[high] - values[low]) * (at - low)


AGGREGATES: dict[str, Callable] = {
    "sum": lambda v: math.fsum(v) if v else None,
    "mean": lambda v: statistics.fmean(v) if v else None,
    "median": lambda v: statistics.median(v) if v else None,
    "min": lambda v: min(v, default=None),
    "max": lambda v: max(v, default=None),
    "count": len,
    "count_distinct": lambda v: len(set(v)),
    "first": lambda v: v[0] if v else None,
    "last": lambda v: v[-1] if v else None,
}
TRUE = object()
"""What a condition with a parameter without a limit is: it narrows nothing."""


@cache
def parsed(text: str):
    return parse(text)


def is_of_time(node) -> bool:
    """Whether a value is made of other periods' in its own cell."""
    if not isinstance(node, Call) or node.per is not None or node.unfiltered:
        return False
    if node.function in TIMES:
        return True
    return not looks_at_rows(node) and any(is_of_time(each) for each in node.arguments)


def looks_at_rows(node: Call) -> bool:
    return node.function in (*AGGREGATES, "count_rows", "percentile", *WINDOWS)


def is_comparison(node) -> bool:
    return is_of_time(node) and (node.function in ("change", "growth") or node.function not in TIMES)


def list_needed(node) -> list:
    """The values that a period must have to count in a total."""
    if not isinstance(node, Call):
        return []
    if node.function in ("change", "growth"):
        return [replace(node, function="change")]
    if node.per is not None or node.unfiltered or node.function not in ("+", "-", "*", "/", "^", "minus"):
        return [node]
    return [value for each in node.arguments for value in list_needed(each)]


def strip_grain(node: Call) -> Call:
    return Call(node.function, node.arguments, node.where, node.along)


def list_grained(node) -> list:
    if isinstance(node, Call):
        return (
            [node]
            if node.per is not None or node.unfiltered
            else [found for each in node.arguments for found in list_grained(each)]
        )
    return []


def is_all_at_grain(node) -> bool:
    if not isinstance(node, Call):
        return False
    return node.per is not None or (
        bool(list_grained(node)) and not any(isinstance(each, FieldName) for each in node.arguments)
    )

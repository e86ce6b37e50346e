"""Classes: numbers in ranges of one width, as histograms count them. Each holds its lower end, not its upper one."""

from __future__ import annotations

import math
from decimal import Decimal

import polars as pl

NICE = (1, 2, 5, 10)
NEARLY = 1e-9
"""How far, in classes, a number may be from an end to count as standing on it: 0.3 begins a class of 0.1."""
MOST_CLASSES = 500


def choose_class_width(low: float, high: float, number: int, whole: bool = False) -> float:
    """A width of 1, 2 or 5 times a power of ten that makes about so many classes of a range.

    The range is from `low` to `high`; `whole` classes are at least 1 wide.

    >>> choose_class_width(0, 487, 20, whole=True), choose_class_width(-1.5, 1.5, 30)
    (20.0, 0.1)
    """
    spread = abs(high - low)
    if not math.isfinite(spread) or not spread:
        return 1.0
    wanted = spread / max(1, number)
    power = 10.0 ** math.floor(math.log10(wanted))
    width = min((step * power for step in NICE), key=lambda each: abs(math.log(each / wanted)))
    return max(1.0, width) if whole else float(f"{width:.6g}")


def round_width(width: float, whole: bool) -> float:
    """How wide classes are: those of whole numbers a whole number.

    >>> round_width(2.5, whole=True), round_width(0.2, whole=True), round_width(2.5, whole=False)
    (2, 1, 2.5)
    """
    return max(1, round(width)) if whole else width


def build_class_expression(column: pl.Expr, width: float, whole: bool) -> pl.Expr:
    """The lower end of the class that holds each number; whole numbers have whole ends."""
    if whole:
        step = pl.lit(round_width(width, whole), dtype=pl.Int64)
        return (column // step) * step
    places = column / width
    nearest = places.round()
    on_an_end = (places - nearest).abs() < NEARLY * pl.max_horizontal(1.0, places.abs())
    # Adding nought makes nought of a negative one.
    return (pl.when(on_an_end).then(nearest).otherwise(places.floor()) * width).round(count_decimals(width)) + 0.0


def count_decimals(width: float) -> int:
    """How many decimals the ends of classes have.

    >>> count_decimals(0.05), count_decimals(20.0)
    (2, 0)
    """
    exponent = Decimal(f"{width:.12g}").normalize().as_tuple().exponent
    return max(0, -exponent) if isinstance(exponent, int) else 0


def find_class_end(low: float, width: float) -> float:
    """Where the class that begins at `low` ends.

    >>> find_class_end(0.2, 0.1)
    0.3
    """
    return float(Decimal(str(low)) + Decimal(str(width)))

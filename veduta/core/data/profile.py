"""What is in a column: empties, distinct values, range, mean, distribution, most frequent values."""

from __future__ import annotations

import datetime as dt
from typing import Any

import polars as pl
from pydantic import BaseModel

from veduta.core.data.fields import DataType
from veduta.core.data.periods import Period, find_rhythm

BARS = 24
TOP = 50


class Profile(BaseModel):
    """Values are plain JSON values; dates as ISO text.

    `bars` are counts over equal steps from lowest to highest; `rhythm` is the longest period that all dates begin or
    end."""

    rows: int
    empties: int
    distinct: int
    lowest: Any = None
    highest: Any = None
    mean: float | None = None
    bars: list[int] = []
    top: list[tuple[Any, int]] = []
    rhythm: Period = ""

    @property
    def share_empty(self) -> float:
        return self.empties / self.rows if self.rows else 0.0


def profile_column(column: pl.Series, kind: DataType) -> Profile:
    """Work out the profile of a typed column of any length."""
    column = column.alias("v")
    full = column.drop_nulls() if column.null_count() else column
    result = Profile(rows=len(column), empties=len(column) - len(full), distinct=0)
    if not len(full):
        return result
    counts = _count_values(full, kind)
    result.distinct = counts.height
    result.top = [(simplify(value), count) for value, count in _find_most_frequent(counts).iter_rows()]
    if kind is DataType.TEXT:
        result.lowest, result.highest = counts["v"].min(), counts["v"].max()
        return result
    if kind is DataType.YES_NO:
        result.mean = _compute_mean(full)
        return result
    result.lowest, result.highest = simplify(full.min()), simplify(full.max())
    numbers = counts.with_columns(pl.col("v").to_physical())
    result.bars = _count_bars(numbers)
    if kind.is_number:
        result.mean = _compute_mean(full)
    if kind.is_date:
        result.rhythm = find_rhythm(counts["v"])
    return result


def _compute_mean(full: pl.Series) -> float:
    mean: Any = full.mean()
    return float(mean)


def _count_values(full: pl.Series, kind: DataType) -> pl.DataFrame:
    """Each different value (column v) with how often it occurs (n), in no order."""
    if kind in (DataType.TEXT, DataType.YES_NO):
        return full.to_frame().lazy().group_by("v").agg(n=pl.len()).collect()
    # Sorting numbers and counting runs is faster than hashing them where most are different.
    return full.sort().rle().struct.unnest().select(v="value", n="len")


def _find_most_frequent(counts: pl.DataFrame) -> pl.DataFrame:
    """The most frequent values (columns v and n), the most frequent first.

    The lowest comes first among equally frequent ones; not all of them are sorted."""
    edge: Any = counts["n"].top_k(TOP).min()
    certain = counts.filter(pl.col("n") > edge).sort(["n", "v"], descending=[True, False])
    tied = counts.filter(pl.col("n") == edge).bottom_k(TOP - certain.height, by="v").sort("v")
    return pl.concat([certain, tied])


def _count_bars(counts: pl.DataFrame) -> list[int]:
    low: Any = counts["v"].min()
    high: Any = counts["v"].max()
    if low == high:
        return [int(counts["n"].sum())]
    whole = counts["v"].dtype.is_integer()
    bars = min(BARS, high - low + 1) if whole else BARS
    span = (high - low + 1) if whole else (high - low)
    if span == float("inf"):
        return []
    bins = ((pl.col("v") - low).cast(pl.Float64) / float(span) * bars).floor().clip(0, bars - 1).cast(pl.Int64)
    heights = dict(counts.lazy().group_by(bins).agg(pl.col("n").sum()).collect().iter_rows())
    return [int(heights.get(i, 0)) for i in range(bars)]


def simplify(value: Any) -> Any:
    """A value as JSON can hold it."""
    if isinstance(value, dt.date | dt.datetime):
        return value.isoformat()
    return value


def share_in(values: pl.Series, others: pl.Series) -> float:
    """How many of the values are among the others, as a share of them; neither is empty."""
    share: Any = values.is_in(others.implode()).mean()
    return float(share)

"""Quantiles and variances of all rows up to each period of a group, from one look at the rows."""

from __future__ import annotations

import numpy as np
import polars as pl

MOST_COUNTS = 4_000_000
"""How many counts (periods times blocks of values) are held at once."""
HOUR = 3_600_000_000  # microseconds


def compute_running_quantiles(
    rows: pl.LazyFrame, value: str, period: str, groups: list[str], share: float
) -> pl.DataFrame:
    """The quantile (`share` between 0 and 1, interpolated) of each period and all before it.

    A row for each period of a group that has values, with the columns `groups`, `period` and `value`."""
    rows = rows.select(*groups, period, pl.col(value).cast(pl.Float64)).drop_nulls([period, value])
    frame = rows.collect()
    frames = []
    for own in frame.partition_by(groups) if frame.height else ():
        values = own[value].to_numpy()
        order = np.argsort(values)
        periods, first = _number_periods(own[period])
        quantiles = _compute_running_quantile(values[order], periods[order], len(first), share)
        frames.append(own[first].with_columns(pl.Series(value, quantiles)))
    return pl.concat(frames) if frames else frame


def compute_running_variances(rows: pl.LazyFrame, value: str, period: str, groups: list[str]) -> pl.DataFrame:
    """The sample variance of each period and all before it, in the columns `groups`, `period` and `value`.

    The variances of parts are combined with the formula of Chan, Golub and LeVeque (1979), in which nothing cancels
    out. Sums are of distances from the mean of the group's means. `value` is in the square of the unit of the values.
    """
    column = pl.col(value).cast(pl.Float64)
    rows = rows.select(*groups, period, column).drop_nulls([period, value])
    lazy = rows.group_by([*groups, period]).agg(
        n=pl.len().cast(pl.Float64), mean=column.mean(), squares=column.var(ddof=0) * pl.len()
    )
    n, all_n = pl.col("n"), pl.col("all_n")
    lazy = lazy.with_columns(d=(pl.col("mean") - pl.col("mean").mean().over(groups)) * n).sort(period)
    parts = lazy.with_columns(all_n=n.cum_sum().over(groups), all_d=pl.col("d").cum_sum().over(groups)).collect()
    before = all_n - n
    apart = (pl.col("d") / n - (pl.col("all_d") - pl.col("d")) / before) ** 2 * n * before / all_n
    squares = (pl.col("squares") + pl.when(before > 0).then(apart).otherwise(0)).cum_sum().over(groups)
    return parts.select(*groups, period, pl.when(all_n > 1).then(squares / (all_n - 1)).alias(value))


def _number_periods(periods: pl.Series) -> tuple[np.ndarray, np.ndarray]:
    """The number of each place's period among those that occur, in order, and a place of each of these periods."""
    codes = periods.to_physical().to_numpy().astype(np.int64)
    codes = (codes - codes.min()) // (HOUR if periods.dtype.base_type() is pl.Datetime else 1)
    numbers = np.full(codes.max() + 1, -1)
    numbers[codes] = np.arange(len(codes))
    return (np.cumsum(numbers >= 0) - 1)[codes], numbers[numbers >= 0]


def _compute_running_quantile(values: np.ndarray, periods: np.ndarray, count: int, share: float) -> np.ndarray:
    """For each of `count` periods the quantile of the values of it and those before; `values` ascending, (n,).

    The values are cut into blocks by rank. How many of each block there are up to a period says in which block the
    wanted rank lies; only there values are looked at. Takes n + count * (n / block + block) steps."""
    n = len(values)
    block = max(int(n**0.5), -(-n * count // MOST_COUNTS), 1)
    blocks = -(-n // block)
    counts = np.bincount(periods * blocks + np.arange(n) // block, minlength=count * blocks)
    below = counts.reshape(count, blocks).cumsum(axis=0).cumsum(axis=1)

    def ranked(period: int, rank: int) -> float:
        number = int(np.searchsorted(below[period], rank, side="right"))
        inside = np.flatnonzero(periods[number * block : (number + 1) * block] <= period)
        return float(values[number * block + inside[rank - (below[period, number - 1] if number else 0)]])

    quantiles = np.empty(count)
    for period in range(count):
        position = share * (below[period, -1] - 1)
        low = ranked(period, int(position))
        part = position - int(position)
        quantiles[period] = low + (ranked(period, int(position) + 1) - low) * part if part > 0 else low
    return quantiles

"""Long lines with fewer points, which look the same."""

from __future__ import annotations

from dataclasses import replace

import polars as pl

from veduta.core.calendar import STEPS
from veduta.core.chart.drawing.picture import Picture

MOST_POINTS = 4_000
"""Points of all lines together that are drawn."""
MOST_GAPS = 400
OF_EACH_PIECE = 4
"""Points that stay of each piece of a line: its first and last, its lowest and highest."""


def thin_points(picture: Picture, notes: list[str]) -> Picture:
    """The picture with no more points a line than can be seen.

    Each slice keeps its first, last, lowest and highest point (M4: Jugel, Jerzak, Hackenbroich, Markl 2014), so that no
    extreme and no gap is lost. A note says how many are left out."""
    frame, dimensions = picture.result.frame, [column.key for column in picture.dimensions]
    values = [column.key for column in picture.measures if column.kind.is_number]
    if frame.height * max(1, len(values)) <= MOST_POINTS or not values or not dimensions:
        return picture
    along, *series = dimensions
    cut = _keep_gaps(picture, frame, series, notes).with_columns(__row=pl.int_range(pl.len(), dtype=pl.UInt32))
    lines = len(values) * (cut.select(series).n_unique() if series else 1)
    pieces = max(1, MOST_POINTS // (OF_EACH_PIECE * lines))
    place = pl.col(along).rank("dense") - 1
    cut = cut.with_columns(__piece=place * pieces // cut[along].n_unique())
    empty = pl.any_horizontal(pl.col([along, *values]).is_null())
    kept = [cut.filter(empty)["__row"], *(_keep_telling(cut, along, series, value) for value in values)]
    thin = cut.filter(pl.col("__row").is_in(pl.concat(kept).implode())).drop("__row", "__piece")
    notes.append(f"{thin.height:,} of {frame.height:,} points are drawn; the lowest and the highest are among them.")
    return replace(picture, result=replace(picture.result, frame=thin), cells=[], thinned=True)


def _keep_telling(cut: pl.DataFrame, along: str, series: list[str], value: str) -> pl.Series:
    """The rows that stay of a measure's lines."""
    row = pl.col("__row")
    places = [row.first(), row.last(), row.get(pl.col(value).arg_min()), row.get(pl.col(value).arg_max())]
    there = cut.drop_nulls([along, value]).sort(along).group_by([*series, "__piece"])
    chosen = there.agg([place.alias(f"r{i}") for i, place in enumerate(places)])
    return pl.concat([chosen[f"r{i}"].rename("__row") for i in range(len(places))])


def _keep_gaps(picture: Picture, frame: pl.DataFrame, series: list[str], notes: list[str]) -> pl.DataFrame:
    """The rows with an empty one wherever a line on a time axis has a gap.

    If there are more gaps than can be seen, the line is left whole, with a note."""
    along, dimension = picture.dimensions[0].key, picture.dimensions[0].dimension
    if not dimension.is_time_axis:
        return frame
    following = pl.col(along).dt.offset_by(STEPS[dimension.period][0])
    after = pl.col(along).shift(-1).over(series, order_by=along) if series else pl.col(along).sort().shift(-1)
    ordered = frame if series else frame.sort(along)
    breaks = ordered.drop_nulls(along).with_columns(__next=following, __after=after)
    breaks = breaks.filter(pl.col("__after") > pl.col("__next"))
    if breaks.height > MOST_GAPS:
        notes.append(f"{breaks.height:,} gaps are drawn through.")
        return frame
    gaps = breaks.select(pl.col("__next").alias(along).cast(frame.schema[along]), *series)
    return pl.concat([frame, gaps], how="diagonal").sort(along, maintain_order=True, nulls_last=True)

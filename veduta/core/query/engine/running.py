"""Parts that run from the start of a period up to each cell."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

import polars as pl

from veduta.core.calendar import Grain, Grouping, find_enclosing_period
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.functions import SoFar
from veduta.core.query.engine.levels import CellLevel, PartialAggregate, make_group_key
from veduta.core.query.engine.so_far import compute_running_quantiles, compute_running_variances

if TYPE_CHECKING:
    from veduta.core.query.engine.scanning import ScanPlanner, ScanRequest

MOST_ROWS_AGAIN = 10_000_000


def compute_running_parts(reader: ScanPlanner, reading: ScanRequest) -> pl.DataFrame:
    """The partial aggregates of a scan from the start of each period up to each cell.

    Columns are the keys and one a part, in the part's own unit, a row for each cell, in no order. Put together from
    those of its cells, or else read from the rows."""
    place, home, parts = reading.place, reading.home, reading.parts
    table = reader.cells[place.in_its_cells].tables[home]
    axis = reader.find_axis(place)
    if axis is None or place.upto is None or make_group_key(axis) not in table.keys:
        single = {name: part for name, part in parts.items() if not part.combines}
        frame = reader.build_lazy_frame(replace(reading, parts=single)).collect() if single else None
        return table.frame if frame is None else join_columns(table.frame, frame, table.keys)
    return _Running(reader, place, home, axis, place.upto, table.keys).accumulate(table.frame, parts)


class _Running:
    """Works out the parts of one place and table along its time axis, anew with each `unit`."""

    def __init__(
        self, reader: ScanPlanner, place: CellLevel, home: str, axis: Grouping, unit: Grain, keys: list[str]
    ) -> None:
        self.reader, self.place, self.home, self.keys = reader, place, home, keys
        self.axis, self.unit, self.key = axis, unit, make_group_key(axis)
        self.others = [name for name in keys if name != self.key]
        fiscal = reader.schema.fiscal_month
        self.whole = find_enclosing_period(pl.col(self.key), axis.period, unit, fiscal).alias("__whole")

    def accumulate(self, cells: pl.DataFrame, parts: dict[str, PartialAggregate]) -> pl.DataFrame:
        """The cells with each part's column replaced by the running one, under the same name."""
        adding = {name: part.combined_by for name, part in parts.items() if part.combines}
        frame = cells.select(*self.keys, *adding)
        again = []
        for part in parts.values():
            if part.combines:
                continue
            if part.so_far is SoFar.FIRST_SEEN:
                frame = join_columns(frame, self._count_first_seen(part), self.keys)
                adding[part.name] = "sum"
            elif part.so_far:
                frame = join_columns(frame, self._spread(part), self.keys)
                adding[part.name] = "so far"
            else:
                again.append(part)
        added = self._add_up(frame, adding)
        return join_columns(added, self._read_again(again, added), self.keys) if again else added

    def _add_up(self, frame: pl.DataFrame, adding: dict[str, str]) -> pl.DataFrame:
        """Running totals (or lowest, highest, latest values) since the start of the period.

        A row for every period of the axis from each group's first cell on."""
        key = self.key
        frame = frame.drop_nulls(key).with_columns(self.whole)
        keys = [name for name in frame.columns if name not in adding]
        others = [name for name in keys if name != key]
        starts = frame.select(key, "__whole").unique()
        grid = frame.group_by(others).agg(pl.col(key).min().alias("__first")).join(starts, on="__whole")
        grid = grid.filter(pl.col(key) >= pl.col("__first")).select(keys)
        grid = grid.join(frame, on=keys, how="left", nulls_equal=True).sort(key)
        so_far = [_accumulate_column(pl.col(name), how).over(others).alias(name) for name, how in adding.items()]
        return grid.with_columns(so_far).drop("__whole")

    def _count_first_seen(self, part: PartialAggregate) -> pl.DataFrame:
        """For each cell, how many different values the period has in it for the first time: these add up to date.

        Columns are the keys and the part's."""
        rows = self.reader.group_parts(self.place, self.home, [part])
        rows = rows.drop_nulls([self.key, part.column]).with_columns(self.whole)
        first = rows.group_by([*self.others, "__whole", part.column]).agg(pl.col(self.key).min())
        return first.group_by(self.keys).agg(pl.len().cast(pl.Int64).alias(part.name)).collect()

    def _spread(self, part: PartialAggregate) -> pl.DataFrame:
        """For each cell that has rows, a quantile, variance or standard deviation of all rows up to it.

        Columns are the keys and the part's."""
        rows = self.reader.group_parts(self.place, self.home, [part]).with_columns(self.whole)
        groups = [*self.others, "__whole"]
        if part.so_far is SoFar.QUANTILE:
            spread = compute_running_quantiles(rows, part.column, self.key, groups, part.share)
        else:
            spread = compute_running_variances(rows, part.column, self.key, groups)
        value = pl.col(part.column).sqrt() if part.so_far is SoFar.DEVIATION else pl.col(part.column)
        return spread.select(*self.keys, value.alias(part.name))

    def _read_again(self, parts: list[PartialAggregate], running: pl.DataFrame) -> pl.DataFrame:
        """Parts that cannot be put together, from all rows up to each cell: columns of the keys and of the parts.

        Raises DefinitionProblem if those are too many."""
        reader = self.reader
        rows_again = int(running[reader.prepared.get_row_count_part(self.home).name].sum())
        if rows_again > MOST_ROWS_AGAIN:
            name = " and ".join(sorted({part.function for part in parts}))
            raise DefinitionProblem(
                f"to_date of {name} by {self.axis.period.words} would look at {rows_again:,} rows; at most"
                f" {MOST_ROWS_AGAIN:,} are read.",
                hint="Choose a longer period or fewer rows, or use sum, mean, min, max or a count, which add up.",
            )
        later = running.lazy().select(pl.col(self.key).alias("__later")).unique()
        rows = reader.explode_periods(reader.group_parts(self.place, self.home, parts), self.axis, self.unit, later)
        return rows.group_by(self.keys).agg(part.aggregate.alias(part.name) for part in parts).collect()


def join_columns(left: pl.DataFrame, right: pl.DataFrame, keys: list[str]) -> pl.DataFrame:
    """Two frames of the same cells as one: the keys' columns, then those of both.

    A cell that only one of them has is empty in the other's columns."""
    if not keys:
        return pl.concat([left, right], how="horizontal")
    return left.join(right, on=keys, how="left", nulls_equal=True, maintain_order="left")


def _accumulate_column(column: pl.Expr, how: str) -> pl.Expr:
    if how == "sum":
        return column.fill_null(0).cum_sum()
    accumulate = {"min": column.cum_min, "max": column.cum_max}.get(how)
    return (accumulate() if accumulate else column).forward_fill()

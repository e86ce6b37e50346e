"""Putting what several tables have in a place's cells side by side."""

from __future__ import annotations

import datetime as dt
from typing import TYPE_CHECKING, cast

import polars as pl

from veduta.core.calendar import list_periods
from veduta.core.query.engine.levels import CellLevel, make_group_key
from veduta.core.query.filters import label_grouping

if TYPE_CHECKING:
    from veduta.core.query.engine.scanning import ScanPlanner


def assemble(reader: ScanPlanner, place: CellLevel) -> None:
    """Put the tables' cells of a place side by side on the dimensions they share."""
    cells, repeats = reader.cells[place], reader.model.definition.beyond == "repeat"
    if not cells.keys:
        cells.frame = pl.concat([table.frame for table in cells.tables.values()], how="horizontal")
        return
    full = [table.frame for table in cells.tables.values() if table.keys == cells.keys]
    kinds = {key: next(frame.schema[key] for frame in full) for key in cells.keys}
    together = full[0]
    for other in full[1:]:
        other = other.with_columns(pl.col(key).cast(kind) for key, kind in kinds.items())
        together = together.join(other, on=cells.keys, how="full", coalesce=True, nulls_equal=True)
    for home, table in cells.tables.items():
        if table.keys == cells.keys:
            continue
        _say_beyond(reader, home, place, table.keys)
        if not repeats:
            names = [name for name in table.frame.columns if name not in table.keys]
            together = together.with_columns(pl.lit(None, dtype=table.frame.schema[name]).alias(name) for name in names)
        elif table.keys:
            together = together.join(table.frame, on=table.keys, how="left", nulls_equal=True)
        else:
            together = together.join(table.frame, how="cross")
    cells.frame = _fill_gaps(reader, together, place) if place.unbroken else together


def _say_beyond(reader: ScanPlanner, home: str, place: CellLevel, keys: list[str]) -> None:
    """Say how a table's values stand in cells that its rows do not tell apart."""
    if place.groups != reader.groups or reader.for_totals:
        return
    repeats = reader.model.definition.beyond == "repeat"
    missing = [group for group in place.groups if make_group_key(group) not in keys]
    said = " and ".join(label_grouping(group, reader.schema) for group in missing)
    how = "is repeated in each of its groups" if repeats else "stays empty in its groups"
    reader.say(f"{reader.model.get_table_name(home)} cannot be told apart by {said}, so what is measured there {how}.")


def _fill_gaps(reader: ScanPlanner, frame: pl.DataFrame, place: CellLevel) -> pl.DataFrame:
    """The cells with one for each period of the time axis, from a group's first to the last of all.

    Columns stay; in cells that are added all but the keys are empty."""
    axis = reader.find_axis(place)
    dated = frame[make_group_key(axis)].drop_nulls() if axis else pl.Series()
    if axis is None or not len(dated):
        return frame
    first_period, last_period = cast(dt.date, dated.min()), cast(dt.date, dated.max())
    periods = list_periods(first_period, last_period, axis.period)
    if not periods:
        return frame
    key, keys = make_group_key(axis), [make_group_key(group) for group in place.groups]
    others = [name for name in keys if name != key]
    every = pl.DataFrame({key: pl.Series(periods, dtype=frame.schema[key])})
    first = pl.col(key).min().alias("__first")
    grid = (frame.group_by(others).agg(first) if others else frame.select(first)).join(every, how="cross")
    grid = grid.filter(pl.col(key) >= pl.col("__first")).select(keys)
    return frame.join(grid, on=keys, how="full", coalesce=True, nulls_equal=True)

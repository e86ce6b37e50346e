"""What stands in the cells of a table beside their numbers: bars, shades and small lines."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import polars as pl

from veduta.core.calendar import label_period, list_periods
from veduta.core.chart.drawing.cells import Cell, Key, Row, measure_cell
from veduta.core.chart.drawing.colours import get_colour, interpolate_colours
from veduta.core.chart.drawing.conditions import CellLook, list_formats, look_of
from veduta.core.chart.drawing.picture import Picture
from veduta.core.chart.look import ColumnLook
from veduta.core.chart.palettes import OWN, Paints
from veduta.core.number_format import format_value
from veduta.core.query.query import Column

STEPS = 9
STRONG = {"rise": 8, "fall": 9}
"""From which step on a shade needs its numbers the other way round, dark or light, to have a contrast of 4.5."""
TONES = 16
Ends = tuple[float, float]
WIDTH, HEIGHT = 100.0, 30.0
MOST_MEASURED = 2_000
"""Numbers whose letters are counted; of more, the first of them and the extremes."""
MOST_LETTERS = 24
"""Letters of a number that stands in line with others."""


@dataclass(frozen=True)
class InCellDrawing:
    """The cells of one measure's column: their looks, their range and their small lines.

    Ends of the range may be those of each group of the first dimension."""

    look: ColumnLook
    ends: Mapping[Any, Ends]
    lines: Mapping[Key, tuple[str, str]]
    letters: int
    paints: Paints = OWN

    def apply_to(self, cell: Cell, value: Any, key: Key) -> Cell:
        """A cell with what stands beside its number.

        A shade gives way to the ground of a format, unless it is set to be over it."""
        look = self.look
        path, said = self.lines.get(key, ("", ""))
        cell = replace(cell, line=path, line_said=said, letters=self.letters)
        if value is None or not look.draws:
            return cell
        low, high = self.ends.get(key[0] if look.over == "groups" and key else None, self.ends[None])
        value = min(max(value, low), high)
        if look.draws == "bar":
            colour = look.low_colour if value < 0 else look.high_colour
            return replace(cell, bar=place_bar(value, low, high), bar_side=look.side, bar_colour=colour)
        if cell.look and cell.look.ground and not look.shade_first:
            return cell
        plain = replace(cell.look or CellLook(), ground="", colour="")
        if look.has_own_shades or self.paints.has_own_shades:
            return replace(cell, look=replace(plain, ground=choose_own_shade(value, low, high, look, self.paints)))
        return replace(cell, shade=choose_shade_step(value, low, high), look=plain if cell.look else None)


class MeasureCells:
    """Makes the cells of a table's measures, with bars, shades and conditional formats.

    Only the values of cells count for bars and shades, not totals, unless a column is set so."""

    def __init__(self, picture: Picture) -> None:
        self.picture = picture
        self.formats = [list_formats(picture, position) for position in range(len(picture.measures))]
        self.drawn = [
            _make_in_cell_drawing(picture, position, column) for position, column in enumerate(picture.measures)
        ]

    def make_cell(self, position: int, row: Row, point: list[Any], key: Key) -> Cell:
        """The cell of a measure, by its position, in a row of the frame; `key` are the values of its dimensions."""
        column = self.picture.measures[position]
        cell = measure_cell(self.picture, column, row, point)
        if self.formats[position]:
            cell = replace(cell, look=look_of(self.picture, row, self.formats[position]))
        drawn = self.drawn[position]
        return drawn.apply_to(cell, row[column.key], key) if drawn else cell

    def make_total(self, position: int, row: Row, key: Key = (), behind: list[Any] | None = None) -> Cell:
        """The cell of a measure's total, of the group that `key` names.

        It links to the rows `behind` it unless some of its groups were left out."""
        column, keep, drawn = self.picture.measures[position], self.picture.definition.keep, self.drawn[position]
        cell = measure_cell(self.picture, column, row, None)
        if keep is None or keep.rest:
            cell = replace(cell, behind=behind)
        return drawn.apply_to(cell, row.get(column.key), key) if drawn and drawn.look.totals else cell

    def make_totals(self, row: Row, behind: list[Any]) -> list[Cell]:
        """The cells of the total of all measures."""
        return [self.make_total(position, row, behind=behind) for position in range(len(self.picture.measures))]


def _make_in_cell_drawing(picture: Picture, position: int, column: Column) -> InCellDrawing | None:
    """What is drawn in the cells of a measure, if anything."""
    look = picture.definition.look.get_column(position)
    if not column.kind.is_number or not (look.draws or look.trend):
        return None
    lines = _draw_lines(picture, column) if look.trend else {}
    values = picture.result.frame[column.key].drop_nulls()
    if len(values) > MOST_MEASURED:
        values = pl.concat([values.head(MOST_MEASURED), values.top_k(1), values.bottom_k(1)])
    texts = [format_value(value, column.kind, picture.formats[column.key]) for value in values]
    letters = min(MOST_LETTERS, max(map(len, texts), default=1))
    return InCellDrawing(look, _ends(picture, column, look), lines, letters, picture.paints)


def _ends(picture: Picture, column: Column, look: ColumnLook) -> dict[Any, Ends]:
    """The ends of the values that the cells of a column are relative to."""
    frame, looks = picture.result.frame, picture.definition.look
    if look.totals:
        totals = [each.select(column.key) for each in picture.result.totals.values()]
        frame = pl.concat([frame, *totals], how="diagonal_relaxed")
    if look.over == "groups" and picture.dimensions:
        parts = frame.partition_by(picture.dimensions[0].key, as_dict=True)
        whole = {None: _reach(frame[column.key])}  # for what was gathered in a crosstab
        return whole | {value: _reach(part[column.key]) for (value,), part in parts.items()}
    if look.over == "table":
        alike = [
            _reach(frame[each.key])
            for i, each in enumerate(picture.measures)
            if each.kind.is_number and (looks.get_column(i).draws, looks.get_column(i).over) == (look.draws, "table")
        ]
        return {None: (min(low for low, _ in alike), max(high for _, high in alike))}
    low, high = _reach(frame[column.key])
    if look.over == "fixed":
        low, high = low if look.low is None else look.low, high if look.high is None else look.high
    return {None: (low, max(low, high))}


def _reach(values: pl.Series) -> Ends:
    there = values.drop_nulls()
    return (there.min(), there.max()) if len(there) else (0, 0)  # type: ignore[return-value]


def choose_own_shade(value: float, low: float, high: float, look: ColumnLook, paints: Paints = OWN) -> str:
    """The shade of a value in colours that people have set, or those of palettes, from a few tones between them."""
    middle = 0.0 if look.middle is None and low < 0 < high else look.middle
    if middle is not None and low < middle < high:
        below, usual, above = paints.around
        far = look.low_colour or below if value < middle else look.high_colour or above
        share = abs(value - middle) / max(middle - low, high - middle)
        near = look.middle_colour or usual
    else:
        near, far = look.low_colour or paints.rising[0], look.high_colour or paints.rising[1]
        share = (value - low) / (high - low) if high > low else 0.5
    return interpolate_colours(get_colour(near), get_colour(far), round(share * TONES) / TONES)


def place_bar(value: float, low: float, high: float) -> tuple[float, float, bool]:
    """Where a value's bar begins and its length, in percent of the cell, and its sign.

    The bars of a column share their zero."""
    left, right = min(low, 0), max(high, 0)
    spread = (right - left) or 1
    start, end = sorted(((value - left) / spread, -left / spread))
    return round(100 * start, 2), round(100 * (end - start), 2), value < 0


def choose_shade_step(value: float, low: float, high: float) -> str:
    """The step of a value's shade: rise-1 to rise-9, or fall-1 to fall-9 below zero.

    Falling shades are used only where values stand on both sides of zero."""
    if low < 0 < high:
        way, share = ("fall" if value < 0 else "rise"), abs(value) / max(-low, high)
    else:
        way, share = "rise", (value - low) / (high - low) if high > low else 0.5
    return f"{way}-{1 + round(share * (STEPS - 1))}"


def is_strong(step: str) -> bool:
    way, number = step.split("-")
    return int(number) >= STRONG[way]


def _draw_lines(picture: Picture, column: Column) -> dict[Key, tuple[str, str]]:
    """For each row, by the values of its dimensions, its line from period to period and what it says."""
    beside = picture.beside
    if beside is None or column.key not in beside.frame.columns:
        return {}
    *keys, period = [each.key for each in beside.dimensions]
    grain = beside.dimensions[-1].dimension.period
    dates = beside.frame[period].drop_nulls()
    if dates.is_empty():
        return {}
    first, last = dates.min(), dates.max()
    assert isinstance(first, dt.date) and isinstance(last, dt.date), "a trend is by dates"
    periods = list_periods(first, last, grain)
    values: dict[Key, dict[dt.date, float]] = {}
    for row in beside.frame.drop_nulls(period).iter_rows(named=True):
        values.setdefault(tuple(row[key] for key in keys), {})[row[period]] = row[column.key]
    said = f"by {grain.words}, {label_period(first, grain)} to {label_period(last, grain)}"
    return {key: (draw_small_line([own.get(each) for each in periods]), said) for key, own in values.items()}


def draw_small_line(values: Sequence[float | None]) -> str:
    """The values as a path of an SVG of 100 by 30; gaps stay gaps. None for fewer than two."""
    there = [value for value in values if value is not None]
    if len(there) < 2:
        return ""
    low, high = min(there), max(there)
    step, spread = WIDTH / (len(values) - 1), (high - low) or 1
    path, pen = "", "M"
    for place, value in enumerate(values):
        if value is None:
            pen = "M"
            continue
        path += f"{pen}{place * step:.1f},{HEIGHT - 1 - (value - low) / spread * (HEIGHT - 2):.1f}"
        pen = "L"
    return path

"""Cells of tables, figures and words, which the web half turns into HTML."""

from __future__ import annotations

import dataclasses
import json
from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import accumulate
from typing import Any

import polars as pl

from veduta.core.chart.addresses import build_address
from veduta.core.chart.definition import list_sorted_columns
from veduta.core.chart.drawing.conditions import CellLook, list_formats, look_of
from veduta.core.chart.drawing.picture import Picture, simplify_point
from veduta.core.chart.look import TableLook
from veduta.core.chart.value_colours import make_value_key
from veduta.core.number_format import REST_POINT, format_value
from veduta.core.query.measures import TOTAL_WORDS
from veduta.core.query.query import Column, Result

MOST_ROWS = 1_000
PAGE = 250
"""Rows of a longer table that are sent at a time."""
Key = tuple[Any, ...]
Row = dict[str, Any]


@dataclass
class Cell:
    """`point` names the mark behind the cell; `on` is off where a selection leaves it out.

    A total's rows are those of `behind`, the values of its first dimensions; none is all rows of the chart.

    The heading of values `across` names those of the dimensions from `across_from` on.

    A heading that can sort the chart has what to sort by next in `sorts`, and how it is `sorted` by it now: "ascending"
    or "descending", as the so manieth of several. It names the `column` that can be moved among its like by its clause
    and place, as "show:1".

    A number can be had as the `value` that it is. Beside it may stand a `bar` (where it begins, how long it is, whether
    it is negative; at which side, in which colour), a step of `shade`, and a small `line` with what it says.
    Conditional formats may say how it looks (`look`). What is `repeated` from the row above is not seen. A value of a
    dimension may lead to an `address` of the web, and be `pictured`: a picture of that name, in small letters, stands
    beside it, or `instead` of it."""

    text: str
    number: bool = False
    value: int | float | None = None
    point: list[Any] | None = None
    span: int = 1
    rows: int = 1
    on: bool = True
    negative: bool = False
    subtotal: bool = False
    repeated: bool = False
    folds: str = ""
    behind: list[Any] | None = None
    across: list[Any] | None = None
    across_from: int = 0
    sorts: str = ""
    sorted: str = ""
    sorted_as: int = 0
    column: str = ""
    bar: tuple[float, float, bool] | None = None
    bar_side: str = ""
    bar_colour: str = ""
    shade: str = ""
    line: str = ""
    line_said: str = ""
    letters: int = 0
    look: CellLook | None = None
    address: str = ""
    pictured: str = ""
    instead: bool = False

    @property
    def is_value(self) -> bool:
        """Whether it is more than its words: it leads somewhere, or is pictured."""
        return bool(self.address or self.pictured)

    @property
    def is_plain(self) -> bool:
        """Whether nothing stands in it but its text."""
        return not (self.bar or self.line or self.letters or self.look)


@dataclass(frozen=True)
class TableLine:
    """A body row of a table; `depth` as in its layout."""

    depth: int
    headings: list[Cell]
    cells: list[Cell]


@dataclass
class TableLayout:
    """A table as it is drawn: heading rows, body rows, total rows and its looks.

    Body rows start with `row_headings` headings. `depths` are, for each body row, the number of dimensions of the group
    that it closes as a subtotal, or 0. `sorted_by` are the columns of the sort, as headings name them. Of a longer
    table these rows are one page; `rows_there` counts them all."""

    headings: list[list[Cell]]
    rows: list[list[Cell]]
    totals: list[list[Cell]] = dataclasses.field(default_factory=list)
    row_headings: int = 1
    look: TableLook = TableLook()
    sorted_by: str = ""
    rows_there: int = 0
    depths: list[int] = dataclasses.field(default_factory=list)

    @property
    def lines(self) -> list[TableLine]:
        """The body rows with their depths, headings and other cells."""
        depths = self.depths or [0] * len(self.rows)
        return [TableLine(depth, *self._split_row(row)) for depth, row in zip(depths, self.rows, strict=True)]

    def _split_row(self, row: list[Cell]) -> tuple[list[Cell], list[Cell]]:
        ends = list(accumulate(cell.span for cell in row))
        headings = sum(end <= self.row_headings for end in ends)
        return row[:headings], row[headings:]


@dataclass
class FigureChange:
    """How a figure differs from what it is compared with, in words; `tone` is "better", "worse" or neither."""

    text: str
    tone: str = ""


@dataclass
class Figure:
    """A number said large.

    `of` says what it is of, such as a period; conditional formats may say how it looks (`look`); `changes` compare it;
    `trend` is a line of an SVG of 100 by 30 with a point for each period. `share` of a target is drawn as a bar, a ring
    or on a scale (`share_as`), of which `filled` of 100 are reached, the target stands at `aim` and what is `due` by
    now at `expected`."""

    name: str
    text: str
    exact: str
    of: str = ""
    look: CellLook | None = None
    changes: list[FigureChange] = dataclasses.field(default_factory=list)
    trend: str = ""
    share: float = 0
    share_as: str = ""
    due: float = 0

    @property
    def expected(self) -> float:
        return round(100 * self.due / max(1, self.share), 1)

    @property
    def filled(self) -> float:
        return round(100 * max(0, self.share) / max(1, self.share), 1)

    @property
    def aim(self) -> float:
        return round(100 / max(1, self.share), 1)


@dataclass
class Word:
    """A word with its size, from 1 to 9, and what its mark says."""

    text: str
    size: int
    said: str
    point: list[Any] | None
    on: bool


def make_value_cell(picture: Picture, column: Column, value: Any) -> Cell:
    """A value of a dimension in a table, with where it leads and what pictures it."""
    cell, look = Cell(picture.label(column, value), number=is_number(column)), picture.find_value_look(column)
    if look is None or value is None or value == REST_POINT:
        return cell
    key = make_value_key(value) or ""
    pictured = key.casefold() if look.pictures else ""
    return replace(
        cell, address=build_address(look.address, key), pictured=pictured, instead=look.pictures == "instead"
    )


def measure_cell(picture: Picture, column: Column, row: dict[str, Any], point: list[Any] | None) -> Cell:
    value = row.get(column.key)
    text = format_value(value, column.kind, picture.formats[column.key])
    number = value if isinstance(value, int | float) else None
    negative, on = number is not None and number < 0, point is None or picture.is_chosen(point)
    return Cell(text, number=True, value=number, point=point, on=on, negative=negative)


def make_figure(picture: Picture, column: Column, row: dict[str, Any]) -> Figure:
    """A measure's figure, which looks as conditional formats say of its row."""
    text = format_value(row.get(column.key), column.kind, picture.formats[column.key])
    formats = list_formats(picture, picture.measures.index(column), is_mark=True)
    return Figure(column.name, text, text, look=look_of(picture, row, formats))


def make_heading(picture: Picture, column: Column) -> Cell:
    """A column's heading in a table, which sorts by it, and by which it can be moved."""
    number = column.is_measure or is_number(column)
    is_sorted = column.is_measure or column.key == "d0"
    cell = make_sorting_heading(picture, column.key, down_first=column.is_measure) if is_sorted else Cell("")
    return replace(cell, text=column.name, number=number, column=_find_movable(picture, column))


def _find_movable(picture: Picture, column: Column) -> str:
    """Which entry of which clause a column is; "" where it has no others to be moved among."""
    definition, place = picture.definition, int(column.key[1:])
    clause, entries = ("show", definition.measures) if column.is_measure else ("by", definition.by)
    return f"{clause}:{place}" if len(entries) > 1 and place < len(entries) else ""


def make_sorting_heading(picture: Picture, name: str, down_first: bool = True) -> Cell:
    """A heading that sorts by the column of a name, at first downwards or not, and then the other way round."""
    columns = list_sorted_columns(picture.definition, picture.definition.sort)
    order = "" if name not in columns else "descending" if columns[name] else "ascending"
    place = list(columns).index(name) + 1 if name in columns and len(columns) > 1 else 0
    down_next = order == "ascending" or (not order and down_first)
    return Cell("", sorts=f"-{name}" if down_next else name, sorted=order, sorted_as=place)


def find_sorted_column(picture: Picture) -> str:
    """The columns by which a table is sorted, as its headings name them."""
    columns = list_sorted_columns(picture.definition, picture.definition.sort)
    return ",".join(f"-{name}" if descending else name for name, descending in columns.items())


def is_number(column: Column) -> bool:
    return column.kind.is_number and not column.is_measure and column.dimension.is_plain


def list_total_notes(measures: list[Column]) -> list[str]:
    """How totals that are not worked out from the rows were made."""
    return [
        f"The total of {column.name} is {TOTAL_WORDS[column.total]}." for column in measures if column.total != "again"
    ]


def sort_values(values: list[Any], own: Sequence[Any] = ()) -> list[Any]:
    """The values across in order: those with a value first, then the empty one, then the rest."""
    there = dict.fromkeys(values)
    first = [value for value in own if value in there]
    last = [value for value in (None, REST_POINT) if value in there and value not in first]
    return first + sorted(value for value in there if value not in (*first, *last)) + last


def make_subtotal_heading(text: str, span: int, group: Key) -> Cell:
    """The heading of the row that closes a group, into which its rows can be folded."""
    return Cell(text, span=span, subtotal=True, folds=json.dumps(simplify_point(list(group))))


def insert_subtotals(keys: list[Key], depths: Sequence[int], above: bool = False) -> list[Key]:
    """The keys of rows with a key for each subtotal.

    `levels` are how many leading values a subtotal's group has, from few to many; each subtotal stands below its rows,
    or above them.

    >>> insert_subtotals([("A", 1), ("A", 2), ("B", 1)], [1])
    [('A', 1), ('A', 2), ('A',), ('B', 1), ('B',)]
    """
    lines: list[Key] = []
    for place, key in enumerate(keys):
        before = keys[place - 1] if place else ()
        after = keys[place + 1] if place + 1 < len(keys) else ()
        begun = [key[:depth] for depth in depths if before[:depth] != key[:depth]]
        ended = [key[:depth] for depth in reversed(depths) if after[:depth] != key[:depth]]
        lines += [*begun, key] if above else [key, *ended]
    return lines


def mark_repeats(rows: list[list[Cell]], depths: list[int], dimensions: int) -> list[list[Cell]]:
    """Rows in which the headings that say the same as those above them, within the same group, are marked."""
    marked, last = [], [""] * dimensions
    for depth, row in zip(depths, rows, strict=True):
        words = [cell.text for cell in row[:dimensions]]
        if not any(words):  # another measure of the same group
            marked.append(row)
            continue
        same = next((i for i in range(dimensions - 1) if words[i] != last[i]), dimensions - 1)
        marked.append([replace(cell, repeated=True) if i < same else cell for i, cell in enumerate(row)])
        last = [""] * dimensions if depth else words
    return marked


def index_by_key(result: Result, frame: pl.DataFrame | None, keys: list[str]) -> dict[Key, Row]:
    if frame is None:
        return {}
    return {tuple(result.get_value(row, key) for key in keys): row for row in frame.iter_rows(named=True)}

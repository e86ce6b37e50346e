"""How a crosstab is laid out: its lines down and across, each of cells or of totals, and the cells where they meet."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import cached_property
from itertools import groupby

from veduta.core.chart.definition import make_column_name
from veduta.core.chart.drawing.cells import (
    MOST_ROWS,
    Cell,
    Key,
    Row,
    TableLayout,
    find_sorted_column,
    index_by_key,
    insert_subtotals,
    list_total_notes,
    make_heading,
    make_sorting_heading,
    make_subtotal_heading,
    make_value_cell,
    mark_repeats,
    sort_values,
)
from veduta.core.chart.drawing.in_cells import MeasureCells
from veduta.core.chart.drawing.picture import Drawing, Picture, simplify_point
from veduta.core.number_format import EMPTY, REST_POINT
from veduta.core.query.query import Column

MOST_ACROSS = 60
LAST = {None: 2, REST_POINT: 3}
"""Values that come after all others, also those without a number."""


def draw_crosstab(picture: Picture, across: int) -> Drawing:
    """A crosstab: the last dimensions across, the others down, measures where they meet.

    Totals stand at the right and below, and subtotals after each group where they are on."""
    crosstab = _Crosstab(picture, len(picture.dimensions) - across)
    notes = [*crosstab.notes, *list_total_notes(picture.measures)] if crosstab.has_totals else crosstab.notes
    depths = [depth for line in crosstab.lines_down for depth in crosstab.list_depths(line)]
    rows = [cells for line in crosstab.lines_down for cells in crosstab.make_rows(line)]
    if picture.definition.look.table.blank:
        rows = mark_repeats(rows, depths, len(crosstab.down))
    totals = crosstab.make_rows(()) if crosstab.totals_below else []
    headings = len(crosstab.down) + crosstab.measures_down
    layout = TableLayout(
        crosstab.make_headings(), rows, totals, headings, depths=depths, sorted_by=find_sorted_column(picture)
    )
    return Drawing(table=layout, notes=notes)


class _Crosstab:
    """`depth` is how many dimensions stand down.

    A line is the values of all dimensions of its side, or of the outer ones for a subtotal, or of none for the total.
    """

    def __init__(self, picture: Picture, depth: int) -> None:
        self.picture, self.depth = picture, depth
        definition, dimensions = picture.definition, picture.dimensions
        self.down, self.across = dimensions[: self.depth], dimensions[self.depth :]
        self.measures_down = picture.settings.measures == "down" and len(picture.measures) > 1
        self.has_subtotals = definition.totals == "all"
        self.totals_below = picture.settings.totals in ("both", "below")
        self.totals_beside = picture.settings.totals in ("both", "right")
        self.cells_of = MeasureCells(picture)
        self.notes: list[str] = []
        across, down = self._list_keys_across(), self._list_keys_down()
        if self.has_subtotals:
            across = insert_subtotals(across, range(1, len(self.across)))
            down = insert_subtotals(down, range(1, self.depth), definition.look.table.subtotals == "above")
        self.lines_across = self._cut(across, MOST_ACROSS, "column")
        self.lines_down = self._cut(down, MOST_ROWS, "row")
        if self.totals_beside:
            self.lines_across.append(())

    @property
    def has_totals(self) -> bool:
        return self.totals_below or self.totals_beside or self.has_subtotals

    @cached_property
    def cells(self) -> dict[Key, Row]:
        """The rows of the answer by all their values."""
        return index_by_key(
            self.picture.result, self.picture.result.frame, [each.key for each in self.picture.dimensions]
        )

    @cached_property
    def found(self) -> dict[tuple[Key, Key], Row]:
        """The rows of the answer and of its totals, by what stands down and across."""
        result, keys = self.picture.result, [column.key for column in self.picture.dimensions]
        found = {(key[: self.depth], key[self.depth :]): row for key, row in self.cells.items()}
        for positions, frame in result.totals.items():
            depth = sum(position < self.depth for position in positions)
            for key, row in index_by_key(result, frame, [keys[position] for position in positions]).items():
                found[key[:depth], key[depth:]] = row
        return found

    def _list_keys_across(self) -> list[Key]:
        keys = list(dict.fromkeys(key[self.depth :] for key in self.cells))
        orders = self.picture.result.orders
        ranks = []
        for level, column in enumerate(self.across):
            values = sort_values([key[level] for key in keys], orders.get(column.key, ()))
            ranks.append({value: rank for rank, value in enumerate(values)})
        return sorted(keys, key=lambda key: [rank[value] for rank, value in zip(ranks, key, strict=True)])

    def _list_keys_down(self) -> list[Key]:
        """The values in the answer's order, or sorted on each level by a measure.

        The measure is read in one column across, or in the total. Empty values come last."""
        keys = list(dict.fromkeys(key[: self.depth] for key in self.cells))
        sort, column = self.picture.definition.sort, self._find_sorted_measure()
        places = (across for _, across in self.found)
        place = next((each for each in places if sort and simplify_point(list(each)) == list(sort.at)), None)
        if sort is None or column is None or place is None:
            return keys
        first: dict[Key, int] = {}
        for number, key in enumerate(keys):
            for level in range(1, len(key) + 1):
                first.setdefault(key[:level], number)

        def rank(group: Key) -> tuple[int, float, int]:
            value = self.found.get((group, place), {}).get(column.key)
            last = LAST.get(group[-1], 0)
            if value is None:
                return (last or 1, 0, first[group])
            return (last, -value if sort.descending else value, first[group])

        return sorted(keys, key=lambda key: [rank(key[:level]) for level in range(1, len(key) + 1)])

    def _find_sorted_measure(self) -> Column | None:
        """The numbers by which rows are sorted; None where they are as the answer has them."""
        definition = self.picture.definition
        sort = definition.sort
        if sort is None or sort.by != "measure" or (self.depth == 1 and not sort.at):
            return None
        by = sort.measure or definition.measures[0]
        pairs = zip(definition.measures, self.picture.measures, strict=True)
        return next((column for own, column in pairs if own.is_same_number(by) and column.kind.is_number), None)

    def _cut(self, lines: list[Key], most: int, what: str) -> list[Key]:
        if len(lines) > most:
            self.notes.append(f"The crosstab shows the first {most:,} of {len(lines):,} {what}s.")
        return lines[:most]

    # Headings.

    def make_headings(self) -> list[list[Cell]]:
        """A row for each dimension across, and one for the measures if several stand across."""
        levels, measures = len(self.across), self.picture.measures
        names_measures = len(measures) > 1 and not self.measures_down
        span = len(measures) if names_measures else 1
        rows = [self._make_level(level, span, names_measures) for level in range(levels)]
        tall = levels + names_measures
        start = [replace(make_heading(self.picture, column), rows=tall) for column in self.down]
        start += [Cell("", rows=tall)] if self.measures_down else []
        rows[0] = start + rows[0]
        if names_measures:
            rows.append(
                [self._make_sortable_heading(i, line) for line in self.lines_across for i in range(len(measures))]
            )
        return rows

    def _make_level(self, level: int, span: int, names_measures: bool) -> list[Cell]:
        """The values of one dimension across, each over all that stands below it; totals reach down from theirs."""
        cells, levels = [], len(self.across)
        for (outer, end), lines in groupby(self.lines_across, key=lambda line: (line[: level + 1], len(line) <= level)):
            if end and len(outer) < level:
                continue  # the heading of a total that began above
            line, wide = outer, span * len(list(lines))
            if end:
                cells.append(self._make_total_heading(line, levels - level, wide, names_measures))
            else:
                is_leaf = level == levels - 1 and not names_measures and not self.measures_down
                cell = self._make_sortable_heading(0, line) if is_leaf else Cell("", number=True)
                text, across = self.picture.label(self.across[level], line[-1]), simplify_point(list(line))
                cells.append(replace(cell, text=text, span=wide, across=across, across_from=self.depth))
        return cells

    def _make_total_heading(self, line: Key, tall: int, wide: int, names_measures: bool) -> Cell:
        cell = Cell("", number=True) if names_measures or self.measures_down else self._make_sortable_heading(0, line)
        text = f"Total {self.picture.label(self.across[len(line) - 1], line[-1])}" if line else "Total"
        return replace(cell, text=text, rows=tall, span=wide)

    def _make_sortable_heading(self, measure: int, line: Key) -> Cell:
        """The heading of a column of numbers, by which rows are sorted."""
        cell = make_sorting_heading(self.picture, make_column_name(measure, simplify_point(list(line))))
        column = make_heading(self.picture, self.picture.measures[measure]).column
        return replace(cell, text=self.picture.measures[measure].name, number=True, column=column)

    # Rows.

    def list_depths(self, line: Key) -> list[int]:
        """For each row of a line, the depth of the group that it closes, or 0."""
        depth = len(line) if len(line) < self.depth else 0
        return [depth] * (len(self.picture.measures) if self.measures_down else 1)

    def make_rows(self, line: Key) -> list[list[Cell]]:
        """The rows of a line: one, or one for each measure."""
        measures = range(len(self.picture.measures))
        if not self.measures_down:
            return [[*self._make_row_heading(line), *self._make_values(line, measures)]]
        names = [Cell(column.name) for column in self.picture.measures]
        headings = [self._make_row_heading(line) if not i else [Cell("") for _ in self.down] for i in measures]
        return [[*headings[i], names[i], *self._make_values(line, [i])] for i in measures]

    def _make_row_heading(self, line: Key) -> list[Cell]:
        if len(line) == self.depth:
            cells = [
                make_value_cell(self.picture, column, value) for column, value in zip(self.down, line, strict=True)
            ]
            point = simplify_point(list(line))
            return [replace(cell, number=False, point=point[: i + 1]) for i, cell in enumerate(cells)]
        text = f"Total {self.picture.label(self.down[len(line) - 1], line[-1])}" if line else "Total"
        before = [Cell("") for _ in line[:-1]]
        span = self.depth - len(before)
        return [*before, make_subtotal_heading(text, span, line) if line else Cell(text, span=span)]

    def _make_values(self, line: Key, measures: Sequence[int]) -> list[Cell]:
        return [self._make_value(line, across, i) for across in self.lines_across for i in measures]

    def _make_value(self, line: Key, across: Key, measure: int) -> Cell:
        row = self.found.get((line, across))
        is_total = len(line) < self.depth or len(across) < len(self.across)
        if row is None:
            return Cell(EMPTY, number=True, subtotal=is_total and bool(line or across))
        if not is_total:
            key = (*line, *across)
            return self.cells_of.make_cell(measure, row, simplify_point(list(key)), key)
        # The rows of a total can be named by the chart's first dimensions alone.
        behind = None if across and len(line) < self.depth else simplify_point([*line, *across])
        cell = self.cells_of.make_total(measure, row, line, behind)
        return replace(cell, subtotal=0 < len(line) < self.depth)

"""Which rows and cells a question is about, in plain Python, for the oracle of the random tests."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Any

from tests.core.query.slow_periods import FINENESS, PARTS, STEPS, end, start
from veduta.core.calendar import Grouping
from veduta.core.query.filters import (
    DatesFilter,
    EmptyFilter,
    ListFilter,
    MeasureFilter,
    PointsFilter,
    RangeFilter,
    RelativeFilter,
)

Row = dict[str, Any]
Cell = tuple[Any, ...]
DATES = ("sailed", "departure")


@dataclass
class Line:
    """Rows that stand behind one line of a result, and which dimensions it shows with which values.

    A line that is not one cell, such as a total, has no others around."""

    groups: tuple[Grouping, ...]
    cell: Cell
    rows: list[Row]
    is_total: bool = False


@dataclass
class SlowRows:
    """The rows and cells of a question.

    `unlimited` are parameters without a limit; `stock` sums a field over days by its last day."""

    everything: list[Row]
    groups: tuple[Grouping, ...] = ()
    filters: tuple = ()
    fiscal: int = 1
    unlimited: frozenset[str] = frozenset()
    stock: str = ""
    rows: list[Row] = field(init=False)
    line_periods: set[dt.date] | None = field(init=False, default=None)

    def __post_init__(self) -> None:
        self.conditions = [each for each in self.filters if isinstance(each, MeasureFilter)]
        self.narrowing = [each for each in self.filters if not isinstance(each, MeasureFilter)]
        self.latest = {
            name: max((start(r[name], "day") for r in self.everything if r[name] is not None), default=None)
            for name in DATES
        }
        self.rows = [row for row in self.everything if all(self.passes(row, each) for each in self.narrowing)]

    # Filters.

    def key(self, row: Row, group: Grouping):
        value = row[group.field]
        if value is None or group.grain in (None, "moment"):
            return value
        return PARTS[group.grain](value) if group.grain in PARTS else start(value, group.grain, self.fiscal)

    def passes(self, row: Row, each) -> bool:
        value = row[getattr(each, "field", "")] if hasattr(each, "field") else None
        if isinstance(each, EmptyFilter):
            return (value is None) != each.exclude
        if isinstance(each, RangeFilter):
            if each.low_parameter in self.unlimited and each.high is None:
                return True
            return (
                value is not None
                and (each.low is None or value >= each.low)
                and (each.high is None or value <= each.high)
            )
        if isinstance(each, DatesFilter | RelativeFilter):
            first, last = self.bounds(each)
            return value is not None and (first or dt.date.min) <= start(value, "day") <= (last or dt.date.max)
        if isinstance(each, PointsFilter):
            return any(self.at(row, each.groups, point) for point in each.points) != each.exclude
        return (
            any(self.at(row, (Grouping(field=each.field, grain=each.grain),), (v,)) for v in each.values)
            != each.exclude
        )

    def at(self, row: Row, groups, point) -> bool:
        def plain(value):
            return value.isoformat() if isinstance(value, dt.date) else value

        return all(plain(self.key(row, group)) == value for group, value in zip(groups, point, strict=True))

    def bounds(self, each) -> tuple[dt.date | None, dt.date | None]:
        if isinstance(each, DatesFilter):
            return each.start, each.end
        latest = self.latest[each.field]
        if latest is None:
            return dt.date.max, dt.date.min
        last = start(latest, each.unit, self.fiscal) - each.back * STEPS[each.unit]
        return last - (each.count - 1) * STEPS[each.unit], end(last, each.unit)

    def elsewhere(self, date: str) -> list[Row]:
        """The rows that pass where other periods of a date are looked up: what is about its periods gives way."""

        def holds(row: Row, each) -> bool:
            if isinstance(each, PointsFilter):
                own = [i for i, g in enumerate(each.groups) if not (g.field == date and g.grain not in PARTS)]
                if len(own) == len(each.groups):
                    return self.passes(row, each)
                if not own or each.exclude:
                    return True
                groups = [each.groups[i] for i in own]
                return any(self.at(row, groups, [point[i] for i in own]) for point in each.points)
            if each.field == date and (
                isinstance(each, DatesFilter | RelativeFilter)
                or (isinstance(each, ListFilter) and each.grain not in PARTS)
            ):
                return True
            return self.passes(row, each)

        return [row for row in self.everything if all(holds(row, each) for each in self.narrowing)]

    def other_rows(self, line: Line, date: str) -> list[Row]:
        """The rows in which a line finds other periods of a date: of a total from which cells were dropped, those with
        the same values of the other dimensions."""
        rows = self.elsewhere(date)
        if not (line.is_total and self.narrowed):
            return rows
        own = [p for p, g in enumerate(self.groups) if not (g.field == date and g.grain in FINENESS)]
        kept = {tuple(c[p] for p in own) for c in self.line_cells}
        return [row for row in rows if tuple(self.key(row, self.groups[p]) for p in own) in kept]

    # Lines.

    def cells(self, rows: Iterable[Row], groups: tuple) -> list[Cell]:
        return list(dict.fromkeys(tuple(self.key(row, g) for g in groups) for row in rows))

    def inside(self, rows: Iterable[Row], groups: tuple, cell: Cell) -> list[Row]:
        return [row for row in rows if tuple(self.key(row, g) for g in groups) == cell]

"""Questions worked out slowly, in plain Python, straight from what the guide says: the oracle of the random tests."""

from __future__ import annotations

import datetime as dt
import math
import statistics
from collections.abc import Callable
from dataclasses import dataclass

from tests.core.query.slow_nodes import (
    AGGREGATES,
    TRUE,
    is_all_at_grain,
    is_comparison,
    list_grained,
    list_needed,
    parsed,
    percentile,
    strip_grain,
)
from tests.core.query.slow_periods import FINENESS, PARTS, enclosing, end, moved, moved_run, start
from tests.core.query.slow_rows import Cell, Line, Row, SlowRows
from veduta.core.calendar import Grouping
from veduta.core.formula.syntax_tree import Call, FieldName, Literal, ParameterName
from veduta.core.query.filters import (
    DatesFilter,
    ListFilter,
    PointsFilter,
    RelativeFilter,
)


@dataclass
class Slowly(SlowRows):
    """A question over rows, with its formulas."""

    def shown(self) -> list[Cell]:
        """The chart's cells that pass the filters on groups."""
        cells = self.cells(self.rows, self.groups) if self.groups else [()]
        return [cell for cell in cells if self.allowed(cell, self.groups, self.rows)]

    def allowed(self, cell: Cell, groups: tuple, rows: list[Row]) -> bool:
        if groups != self.groups:
            return True
        judge = Slowly(self.everything, self.groups, tuple(self.narrowing), self.fiscal, self.unlimited, self.stock)
        for each in self.conditions:
            if each.low_parameter in self.unlimited:
                continue
            value = judge.value(parsed(each.measure.formula), Line(groups, cell, self.inside(rows, groups, cell)), rows)
            if (
                value is None
                or (each.low is not None and value < each.low)
                or (each.high is not None and value > each.high)
            ):
                return False
        return True

    def of_cell(self, text: str, cell: Cell):
        return self.value(parsed(text), Line(self.groups, cell, self.inside(self.rows, self.groups, cell)), self.rows)

    def of_line(self, text: str, groups: tuple, cell: Cell, cells: list[Cell], narrowed: bool):
        """The value of a total, or of what was gathered: the rows of these cells of the chart, as one line.

        Where cells were dropped (`narrowed`) other periods are looked at for the same values of the other dimensions
        only."""
        self.narrowed = narrowed
        rows = [row for row in self.rows if tuple(self.key(row, g) for g in self.groups) in set(cells)]
        rows = self.inside(rows, groups, cell)
        self.line_cells, self.line_periods = cells, None
        node, i = parsed(text), self.axis(self.groups)
        if i is None or self.groups[i] in groups or not is_comparison(node):
            return self.value(node, Line(groups, cell, rows, True), self.rows)
        # What holds a period against another counts those that have both.
        axis = self.groups[i]
        both = set()
        for period in {self.key(row, axis) for row in rows} - {None}:
            own = [row for row in rows if self.key(row, axis) == period]
            fine = Line((*groups, axis), (*cell, period), own, True)
            if all(self.value(each, fine, self.rows) is not None for each in list_needed(node)):
                both.add(period)
        self.line_periods = both
        rows, scope = ([row for row in each if self.key(row, axis) in both] for each in (rows, self.rows))
        return self.value(node, Line(groups, cell, rows, True), scope) if both else None

    # Values.

    def value(self, node, line: Line, scope: list[Row]):
        if isinstance(node, Literal):
            return node.value
        if isinstance(node, ParameterName):
            return TRUE if node.name in self.unlimited else None
        name = node.function
        if node.per is not None or node.unfiltered:
            return self.at_grain(node, line, scope)
        if name in AGGREGATES or name in ("count_rows", "percentile"):
            return self.aggregate(node, line, scope)
        if hasattr(self, name):
            return getattr(self, name)(node, line, scope)
        return self.plain(name, [self.value(each, line, scope) for each in node.arguments])

    def plain(self, name: str, given: list):
        if name == "if":
            return given[1] if given[0] is True or given[0] is TRUE else given[2] if len(given) > 2 else None
        if any(value is TRUE for value in given):
            if name == "and":
                rest = [value for value in given if value is not TRUE]
                return rest[0] if rest else TRUE
            return TRUE
        if None in given:
            return None
        a, b = given[0], given[1] if len(given) > 1 else None
        return {
            "/": lambda: a / b if b else None,
            "+": lambda: a + b,
            "-": lambda: a - b,
            "*": lambda: a * b,
            ">": lambda: a > b,
            "<": lambda: a < b,
            "=": lambda: a == b,
            "and": lambda: a and b,
            "or": lambda: a or b,
            "not": lambda: not a,
            "minus": lambda: -a,
        }[name]()

    def of_row(self, node, row: Row, line: Line, scope: list[Row]):
        if isinstance(node, FieldName):
            return row[node.text]
        if isinstance(node, Literal | ParameterName):
            return self.value(node, line, scope)
        if node.per is not None:
            groups = self.grain(node, line)
            cell = tuple(self.key(row, g) for g in groups)
            rows = line.rows if line.is_total and node.per.shown and not node.per.less else scope
            return self.value(strip_grain(node), Line(groups, cell, self.inside(rows, groups, cell)), scope)
        return self.plain(node.function, [self.of_row(each, row, line, scope) for each in node.arguments])

    def grain(self, node: Call, line: Line) -> tuple:
        if node.per is None:
            return line.groups
        own = []
        for name, unit in node.per.dimensions:
            usual = {"sailed": "day", "departure": "moment"}.get(name.text)
            own.append(Grouping(field=name.text, grain=unit or usual))
        if not node.per.shown:
            return tuple(own)
        if node.per.less:
            gone = {(name.text, unit) for name, unit in node.per.dimensions}
            periods = {name.text for name, _ in node.per.dimensions}
            return tuple(
                g
                for g in line.groups
                if (g.field, "") not in gone and (g.field, g.grain) not in gone and g.grain not in periods
            )
        return tuple(dict.fromkeys((*line.groups, *own)))

    def at_grain(self, node: Call, line: Line, scope: list[Row]):
        groups = self.grain(node, line)
        if node.unfiltered:
            free = {name.text for name in node.unfiltered}
            left = tuple(each for each in self.narrowing if getattr(each, "field", "") not in free)
            scope = Slowly(self.everything, self.groups, left, self.fiscal, self.unlimited, self.stock).rows
        target = []
        for group in groups:
            if group in line.groups:
                target.append(line.cell[line.groups.index(group)])
                continue
            values = {self.key(row, group) for row in line.rows} - {None}
            if len(values) != 1:
                return None
            target.append(values.pop())
        own_extent = line.is_total and (node.per is None or (node.per.shown and not node.per.less))
        if own_extent:
            cells = set(self.line_cells)
            scope = [row for row in scope if tuple(self.key(row, g) for g in self.groups) in cells]
        rows = self.inside(scope, groups, tuple(target))
        return self.value(strip_grain(node), Line(groups, tuple(target), rows, line.is_total and own_extent), scope)

    def aggregate(self, node: Call, line: Line, scope: list[Row]):
        argument = node.arguments[0] if node.arguments else None
        if self.stock and node.function == "sum" and isinstance(argument, FieldName) and argument.text == self.stock:
            holds = (True, TRUE)
            return self.last_day(
                [r for r in line.rows if not node.where or self.of_row(node.where, r, line, scope) in holds]
            )
        if is_all_at_grain(argument):
            groups = tuple(
                dict.fromkeys((*line.groups, *(g for per in list_grained(argument) for g in self.grain(per, line))))
            )
            order = [i for i, g in enumerate(groups) if g not in line.groups]
            empty_first = node.function == "last"
            cells = self.cells(line.rows, groups)
            cells.sort(key=lambda c: [((c[i] is None) != empty_first, str(c[i])) for i in order])
            values = [
                self.value(argument, Line(groups, each, self.inside(line.rows, groups, each), line.is_total), scope)
                for each in cells
            ]
        else:
            holds = (True, TRUE)
            kept = [r for r in line.rows if node.where is None or self.of_row(node.where, r, line, scope) in holds]
            if argument is None:
                return len(kept)
            if node.function in ("first", "last"):
                empty_first = node.function == "last"
                kept.sort(key=lambda r: ((r["sailed"] is None) != empty_first, r["sailed"] or dt.date.min))
            values = [self.of_row(argument, row, line, scope) for row in kept]
        values = [value for value in values if value is not None]
        if node.function == "percentile":
            return percentile(values, node.arguments[1].value)
        return AGGREGATES[node.function](values)

    def last_day(self, rows: list[Row]):
        dated = [row for row in rows if row[self.stock] is not None]
        days = [row["sailed"] for row in dated if row["sailed"] is not None]
        last = max(days, default=None)
        values = [row[self.stock] for row in dated if row["sailed"] == last]
        return math.fsum(values) if values else None

    # Time.

    def axis(self, groups: tuple) -> int | None:
        dated = [i for i, g in enumerate(groups) if g.grain in FINENESS]
        own = [i for i in dated if groups[i].field == groups[dated[0]].field]
        return max(own, key=lambda i: FINENESS.index(groups[i].grain), default=None)

    def others(self, groups: tuple, i: int) -> list[int]:
        """The dimensions that do not follow from the time axis."""
        axis = groups[i]
        told = {"quarter": ("year",), "month": ("year", "quarter", "month_of_year"), "year": (), "week": ()}
        told["day"] = (*FINENESS[:4], "weekday", "month_of_year")
        told["hour"] = (*FINENESS[:5], *PARTS)
        return [
            p for p, g in enumerate(groups) if p != i and not (g.field == axis.field and g.grain in told[axis.grain])
        ]

    def of_periods(self, x, line: Line, fits: Callable[[dt.date], bool], grain: str, date: str):
        """The value over the rows of other periods, in the same place otherwise; empty where there is no such cell."""
        wide = self.other_rows(line, date)
        i = self.axis(line.groups)
        left = [p for p in range(len(line.groups)) if i is None] if i is None else self.others(line.groups, i)
        groups = tuple(line.groups[p] for p in left)
        cell = tuple(line.cell[p] for p in left)
        rows = [
            row
            for row in self.inside(wide, groups, cell)
            if row[date] is not None and fits(self.key(row, Grouping(field=date, grain=grain)))
        ]
        is_cell = i is not None and not self.shown_periods(line)
        if not rows and (is_cell or groups):  # there is no such cell; a total is of whatever rows there are
            return None
        scope = self.elsewhere(date)
        if not is_cell:  # all that the formula asks for is then of these periods
            scope = [
                row for row in scope if row[date] is not None and fits(self.key(row, Grouping(field=date, grain=grain)))
            ]
        return self.value(x, Line(line.groups, line.cell, rows), scope)

    def shown_periods(self, line: Line) -> tuple[str, str, list[dt.date]] | None:
        """In a total of a chart with a time axis: its date, grain, and the periods it shows there."""
        i = self.axis(self.groups) if line.is_total else None
        own = self.axis(line.groups)
        if i is None or (own is not None and line.groups[own] == self.groups[i]):
            return None
        starts = {cell[i] for cell in self.line_cells if cell[i] is not None}
        starts = starts if self.line_periods is None else self.line_periods
        if own is not None:
            starts = {s for s in starts if start(s, line.groups[own].grain, self.fiscal) == line.cell[own]}
        return self.groups[i].field, self.groups[i].grain, sorted(starts)

    def filtered_days(self) -> tuple[str, list[tuple[dt.date, dt.date]]]:
        """The ranges of days that all filters on the first filtered date let pass."""
        date, about = next(
            (date, about)
            for each in self.narrowing
            for date in self.dates_of(each)
            if (about := [other for other in self.narrowing if date in self.dates_of(other)])
        )
        days = [dt.date(2022, 1, 1) + dt.timedelta(days=i) for i in range(1_900)]
        there = [start(r[date], "day") for r in self.everything if r[date] is not None]
        open_start = all(isinstance(e, DatesFilter) and e.start is None for e in about)
        open_end = all(isinstance(e, DatesFilter) and e.end is None for e in about)
        days = [day for day in days if all(self.day_passes(day, date, each) for each in about)]
        if open_start:
            days = [d for d in days if d >= min(there, default=dt.date.max)]
        if open_end:
            days = [d for d in days if d <= max(there, default=dt.date.min)]
        runs: list[tuple[dt.date, dt.date]] = []
        for day in days:
            if runs and runs[-1][1] + dt.timedelta(days=1) == day:
                runs[-1] = (runs[-1][0], day)
            else:
                runs.append((day, day))
        return date, runs

    def dates_of(self, each) -> list[str]:
        """The dates of which a filter lets some periods pass."""
        if isinstance(each, PointsFilter):
            return [g.field for g in each.groups if g.grain in FINENESS]
        dated = isinstance(each, DatesFilter | RelativeFilter) or (
            isinstance(each, ListFilter) and each.grain in FINENESS
        )
        return [each.field] if dated else []

    def day_passes(self, day: dt.date, date: str, each) -> bool:
        if not isinstance(each, PointsFilter):
            return self.passes({date: day}, each)
        i = next(i for i, g in enumerate(each.groups) if g.field == date)
        return any(self.at({date: day}, each.groups[i : i + 1], point[i : i + 1]) for point in each.points)

    def shift(self, node: Call, line: Line, scope, steps: int | None = None):
        x, unit = node.arguments[0], node.arguments[-1].value
        steps = steps if steps is not None else self.value(node.arguments[1], line, scope)
        if shown := self.shown_periods(line):
            date, grain, starts = shown
            if not starts and line.groups:  # a line of empty dates
                return None
            wanted = {moved(s, grain, steps, unit) for s in starts}
            return self.of_periods(x, line, lambda s: s in wanted, grain, date)
        i = self.axis(line.groups)
        if i is None:
            date, runs = self.filtered_days()
            wanted = [moved_run(a, b, steps, unit) for a, b in runs]
            return self.of_periods(x, line, lambda d: any(a <= d <= b for a, b in wanted), "day", date)
        axis, at = line.groups[i], line.cell[i]
        at = at and moved(at, axis.grain, steps, unit)
        if at is None:
            return None
        if isinstance(x, Call) and x.function == "to_date":  # has a value also where the period itself has no rows
            return self.to_date(x, line, scope, at)
        return self.of_periods(x, line, lambda s: s == at, axis.grain, axis.field)

    def change(self, node, line, scope):
        now, before = self.value(node.arguments[0], line, scope), self.shift(node, line, scope, -1)
        return None if None in (now, before) else now - before

    def growth(self, node, line, scope):
        change, before = self.change(node, line, scope), self.shift(node, line, scope, -1)
        return None if change is None or not before else change / abs(before)

    def whole(self, node, line, scope):
        x, unit = node.arguments[0], node.arguments[-1].value
        if shown := self.shown_periods(line):
            date, grain, starts = shown
            if not starts and line.groups:  # a line of empty dates
                return None
            wanted = {enclosing(s, grain, unit, self.fiscal) for s in starts}
            return self.of_periods(x, line, lambda s: s in wanted, unit, date)
        i = self.axis(line.groups)
        if i is None:
            date, runs = self.filtered_days()
            wanted = [(start(a, unit, self.fiscal), end(start(b, unit, self.fiscal), unit)) for a, b in runs]
            return self.of_periods(x, line, lambda d: any(a <= d <= b for a, b in wanted), "day", date)
        axis, at = line.groups[i], line.cell[i]
        if at is None:
            return None
        wanted = enclosing(at, axis.grain, unit, self.fiscal)
        groups = tuple(line.groups[p] for p in self.others(line.groups, i))
        coarse = (*groups, Grouping(field=axis.field, grain=unit))
        cell = (*(line.cell[p] for p in self.others(line.groups, i)), wanted)
        wide = self.other_rows(line, axis.field)
        rows = self.inside(wide, coarse, cell)
        return self.value(x, Line(coarse, cell, rows), wide) if rows else None

    def to_date(self, node, line, scope, at=None):
        unit = node.arguments[-1].value
        shown, i = self.shown_periods(line), self.axis(line.groups)
        if len(node.arguments) == 3 and shown:
            return None
        if shown:
            date, grain, starts = shown
            if not starts and line.groups:
                return None
            latest = max(starts, default=None)
            whole = latest and enclosing(latest, grain, unit, self.fiscal)
            return self.of_periods(
                node.arguments[0],
                line,
                lambda s: bool(latest) and s <= latest and enclosing(s, grain, unit, self.fiscal) == whole,
                grain,
                date,
            )
        if i is None:
            date, runs = self.filtered_days()
            last = runs[-1][1] if runs else None
            first = last and start(last, unit, self.fiscal)
            return self.of_periods(node.arguments[0], line, lambda d: bool(last) and first <= d <= last, "day", date)
        axis = line.groups[i]
        at = line.cell[i] if at is None else at
        if at is None:
            return None
        wide = self.other_rows(line, axis.field)
        left = self.others(line.groups, i)
        rows = [row for row in wide if all(self.key(row, line.groups[p]) == line.cell[p] for p in left)]
        whole = enclosing(at, axis.grain, unit, self.fiscal)

        def so_far(row: Row) -> bool:
            own = self.key(row, axis)
            return own is not None and own <= at and enclosing(own, axis.grain, unit, self.fiscal) == whole

        rows = [row for row in rows if so_far(row)]
        if not rows:
            return None
        if len(node.arguments) == 3:
            cells = self.cells(rows, line.groups)
            values = [
                self.value(node.arguments[1], Line(line.groups, c, self.inside(rows, line.groups, c)), wide)
                for c in cells
            ]
            return AGGREGATES[node.arguments[0].text]([v for v in values if v is not None])
        return self.value(node.arguments[0], Line(line.groups, line.cell, rows), wide)

    def since(self, node, line, scope):
        i = self.axis(line.groups)
        if line.is_total and (i is None or self.shown_periods(line)):
            return None
        axis, left = line.groups[i], self.others(line.groups, i)
        wide = self.other_rows(line, axis.field)
        held = [
            other[i]
            for other in self.cells(wide, line.groups)
            if all(other[p] == line.cell[p] for p in left)
            and other[i]
            and self.value(node.arguments[0], Line(line.groups, other, self.inside(wide, line.groups, other)), wide)
            is True
        ]
        if not held or line.cell[i] is None or line.cell[i] < min(held):
            return None
        at, count = min(held), 0
        while at < line.cell[i]:
            at, count = moved(at, axis.grain, 1, axis.grain), count + 1
        return count

    # Windows.

    def window(self, x, line: Line, restarts: bool, looks_back: bool) -> tuple[list[Cell], list]:
        """The cells that a window goes through, in their order, with the values in them."""
        i = self.axis(line.groups)
        rows = self.elsewhere(line.groups[i].field) if looks_back and i is not None else self.rows
        order = 0 if i is None else i
        cells = [c for c in self.cells(rows, line.groups) if self.allowed(c, line.groups, rows)]
        if restarts and line.groups:
            left = (
                self.others(line.groups, order) if i is not None else [p for p in range(len(line.groups)) if p != order]
            )
            cells = [c for c in cells if all(c[p] == line.cell[p] for p in left)]
        if line.groups:
            cells.sort(key=lambda c: (c[order] is None, c[order] if c[order] is not None else 0))
        return cells, [self.value(x, Line(line.groups, c, self.inside(rows, line.groups, c)), rows) for c in cells]

    def share(self, node, line, scope):
        if line.is_total:
            value = self.value(node.arguments[0], line, scope)
            return None if not value else 1.0
        cells, values = self.window(node.arguments[0], line, False, False)
        total = sum(v for v in values if v is not None)
        value = values[cells.index(line.cell)]
        return value / total if total and value is not None else None

    def rank(self, node, line, scope):
        if line.is_total:
            return None
        cells, values = self.window(node.arguments[0], line, False, False)
        own, sign = values[cells.index(line.cell)], -1 if len(node.arguments) > 1 else 1
        return None if own is None else 1 + sum(1 for v in values if v is not None and sign * v > sign * own)

    def running(self, node, line, scope):
        if line.is_total:
            return None
        cells, values = self.window(node.arguments[-1], line, True, False)
        so_far = [v for v in values[: cells.index(line.cell) + 1] if v is not None]
        return (max if len(node.arguments) > 1 else sum)(so_far) if so_far else None

    def previous(self, node, line, scope):
        if line.is_total:
            return None
        cells, values = self.window(node.arguments[0], line, True, True)
        return values[cells.index(line.cell) - 1] if cells.index(line.cell) else None

    def difference(self, node, line, scope):
        if line.is_total:
            return None
        before = self.previous(node, line, scope)
        cells, values = self.window(node.arguments[0], line, True, True)
        now = values[cells.index(line.cell)]
        return None if None in (now, before) else now - before

    def moving(self, node, line, scope):
        """Of the calendar periods up to this one, from the group's first on; a count of no rows is 0."""
        if line.is_total:
            return None
        x, size = node.arguments[1], node.arguments[2].value
        i = self.axis(line.groups)
        cells, values = self.window(x, line, True, i is not None)
        if i is None:
            last = values[max(0, cells.index(line.cell) - size + 1) : cells.index(line.cell) + 1]
        else:
            axis, there = line.groups[i], dict(zip((c[i] for c in cells), values, strict=True))
            wide = self.elsewhere(axis.field)
            left = self.others(line.groups, i)
            own = [r for r in wide if all(self.key(r, line.groups[p]) == line.cell[p] for p in left)]
            dates = [self.key(r, axis) for r in own if r[axis.field] is not None]
            until = line.cell[i]
            if until is None:
                until = max((self.key(r, axis) for r in wide if r[axis.field] is not None), default=None)
            order, at = [], min(dates, default=None)
            while at is not None and at <= until:
                order.append(at)
                at = moved(at, axis.grain, 1, axis.grain)
            order += [None] * (line.cell[i] is None)
            with_rows = {self.key(r, axis) for r in own}
            nothing = self.value(x, Line(line.groups, ("nothing",) * len(line.groups), []), [])
            # A period that a filter on groups dropped is empty; one without rows is as the measure's rule says.
            last = [
                there.get(p, None if p in with_rows or not self.judged_empty(line, i, p) else nothing)
                for p in order[-size:]
            ]
        last = [v for v in last if v is not None]
        return statistics.fmean(last) if last else None

    def judged_empty(self, line: Line, i: int, period) -> bool:
        """Whether a period without rows passes the filters on groups."""
        cell = tuple(period if p == i else value for p, value in enumerate(line.cell))
        return self.allowed(cell, line.groups, [])

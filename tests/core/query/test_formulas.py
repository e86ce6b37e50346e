"""Formulas over cells against a slow evaluator in plain Python, on random tables and questions."""

from __future__ import annotations

import datetime as dt
import math
import statistics
import unittest
from functools import cache

from dateutil.relativedelta import relativedelta
from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.support import context_of, sailings
from veduta.core.calendar import Grain, Grouping, period_start
from veduta.core.formula.measures import with_ids
from veduta.core.formula.problems import FormulaProblem
from veduta.core.formula.tree import Call, Literal, Name, parse
from veduta.core.query.answer import answer
from veduta.core.query.filters import DatesFilter, ListFilter
from veduta.core.query.measures import Measure
from veduta.core.query.query import Query

REGION, ROUTE = Grouping(field="region"), Grouping(field="route")
AXES = [Grouping(field="sailed", grain=grain) for grain in ("year", "quarter", "month", "week", "day")]
DAYS = st.one_of(
    st.none(),
    st.dates(dt.date(2023, 12, 25), dt.date(2025, 1, 8)),
    st.sampled_from([dt.date(2024, 2, 29), dt.date(2023, 2, 28), dt.date(2025, 2, 28), dt.date(2020, 12, 31), dt.date(2021, 1, 3)]),
)  # fmt: skip
ROWS = st.lists(
    st.fixed_dictionaries(
        {
            "region": st.sampled_from(["North Reach", "Inner Sound", None]),
            "route": st.sampled_from(["A", "B", None]),
            "sailed": DAYS,
            "fare": st.one_of(st.none(), st.integers(-50, 50).map(float)),
            "passengers": st.one_of(st.none(), st.integers(-3, 9)),
            "cancelled": st.sampled_from([True, False, None]),
        }
    ),
    max_size=24,
)
PLAIN = [
    "sum(fare)", "sum(fare where cancelled)", "sum(fare) / sum(passengers)", "mean(fare)", "median(fare)", "count_rows()",
    "count(fare)", "count_distinct(passengers)", "min(sailed)", "max(passengers)", "percentile(fare, 25)",
    "count_rows(where passengers > 2) / count_rows()", "sum(fare - passengers)", "if(sum(fare) > 0, 'more', 'less')",
    "sum(fare) per ()", "sum(fare) per (region)", "sum(fare) per (shown) / sum(fare) per ()", "mean(sum(fare) per (shown, sailed))",
    "max(count_rows() per (shown, route))", "sum(fare) - sum(fare) per (shown except sailed)",
    "sum(if(fare = max(fare) per (route), passengers))", "median(sum(fare) per (route, sailed))",
    "last(sum(passengers) per (shown, sailed))",
]  # fmt: skip
WINDOWS = [
    "share(count_rows())", "rank(sum(fare))", "rank(count_rows(), 'lowest first')", "running(count_rows())", "previous(sum(fare))",
    "difference(count_rows())", "moving(mean, count_rows(), 2)", "running(max, sum(passengers))",
]  # fmt: skip
UNITS = ("year", "quarter", "month", "week", "day")
TIMED = [
    "shift(sum(fare), -1, '{}')", "shift(count_distinct(passengers), 1, '{}')", "whole(sum(fare), '{}')", "whole(median(fare), '{}')",
    "to_date(sum(fare), '{}')", "to_date(count_distinct(passengers), '{}')", "to_date(mean, count_rows(), '{}')",
    "change(count_rows(), '{}')", "growth(sum(fare), '{}')", "to_date(sum(fare) / count_rows(), '{}')", "to_date(median(passengers), '{}')",
    "whole(shift(sum(fare), -1, '{0}'), '{0}')", "shift(to_date(sum(fare), 'year'), -1, '{}')", "sum(fare) - shift(sum(fare), -2, '{}')",
    "since(sum(passengers) > 3) + shift(count_rows(), -1, '{}')", "to_date(max(sum(fare) per (shown, sailed)), '{}')",
]  # fmt: skip
NESTS = {
    "year": ("year",), "quarter": ("quarter", "year"), "month": ("month", "quarter", "year"), "week": ("week", "year"),
    "day": ("day", "week", "month", "quarter", "year"),
}  # fmt: skip


def key(row: dict, group: Grouping):
    value = row[group.field]
    return value if value is None or group.grain is None else period_start(value, group.grain)


def enclosing(start: dt.date, grain: str, unit: str) -> dt.date:
    if grain == "week" and unit == "year":
        return dt.date.fromisocalendar(start.isocalendar()[0], 1, 1)
    return period_start(start, Grain(unit))


def moved(start: dt.date, grain: str, steps: int, unit: str) -> dt.date | None:
    if grain == "week" and unit == "year":
        year, week, _ = start.isocalendar()
        try:
            return dt.date.fromisocalendar(year + steps, week, 1)
        except ValueError:
            return None
    step = {"year": relativedelta(years=1), "quarter": relativedelta(months=3), "month": relativedelta(months=1),
            "week": relativedelta(weeks=1), "day": relativedelta(days=1)}[unit]  # fmt: skip
    found = start + step * steps
    return found if unit in ("week", "day") or found.day == start.day else None


AGGREGATES = {
    "sum": lambda v: math.fsum(v) if v else None,
    "mean": lambda v: statistics.fmean(v) if v else None,
    "median": lambda v: statistics.median(v) if v else None,
    "min": lambda v: min(v, default=None),
    "max": lambda v: max(v, default=None),
    "count": len,
    "count_distinct": lambda v: len(set(v)),
    "first": lambda v: v[0] if v else None,
    "last": lambda v: v[-1] if v else None,
}


def percentile(values: list, percent: float):
    if not values:
        return None
    values = sorted(values)
    at = (len(values) - 1) * percent / 100
    low, high = math.floor(at), math.ceil(at)
    return values[low] + (values[high] - values[low]) * (at - low)


class Slowly:
    """A formula's value in one cell, straight from what the guide says. `rows` pass all filters, `wide` all but those on
    the time axis."""

    def __init__(self, rows: list[dict], wide: list[dict]) -> None:
        self.rows, self.wide = rows, wide

    def cells(self, rows: list[dict], groups: tuple) -> list[tuple]:
        return list(dict.fromkeys(tuple(key(row, g) for g in groups) for row in rows))

    def inside(self, rows: list[dict], groups: tuple, cell: tuple) -> list[dict]:
        return [row for row in rows if tuple(key(row, g) for g in groups) == cell]

    def value(self, node, groups: tuple, cell: tuple, scope: list[dict], matched: list[dict] | None = None):
        """The value over the rows of `scope` in the cell, or over `matched` where those are others."""
        matched = self.inside(scope, groups, cell) if matched is None else matched
        if isinstance(node, Literal):
            return node.value
        name = node.function
        if node.per is not None:
            return self.at_grain(node, groups, cell, scope, matched)
        if name in AGGREGATES or name in ("count_rows", "percentile"):
            return self.aggregate(node, groups, cell, scope, matched)
        if hasattr(self, name):
            return getattr(self, name)(node, groups, cell, scope)
        given = [self.value(each, groups, cell, scope, matched) for each in node.arguments]
        return self.plain(name, given)

    def plain(self, name: str, given: list):
        if name == "if":
            return given[1] if given[0] else given[2] if len(given) > 2 else None
        if None in given:
            return None
        a, b = given[0], given[1] if len(given) > 1 else None
        if name == "/":
            return a / b if b else None
        return {
            "+": lambda: a + b,
            "-": lambda: a - b,
            "*": lambda: a * b,
            ">": lambda: a > b,
            "=": lambda: a == b,
            "minus": lambda: -a,
        }[name]()

    def of_row(self, node, row: dict, groups, scope):
        if isinstance(node, Name):
            return row[node.text]
        if isinstance(node, Literal):
            return node.value
        if node.per is not None:
            inner = self.grain(node, groups)
            return self.value(_plainly(node), inner, tuple(key(row, g) for g in inner), scope)
        return self.plain(node.function, [self.of_row(each, row, groups, scope) for each in node.arguments])

    def grain(self, node: Call, groups: tuple) -> tuple:
        own = tuple(Grouping(field=n.text, grain="day" if n.text == "sailed" else None) for n, _ in node.per.dimensions)
        if not node.per.shown:
            return own
        if node.per.less:
            return tuple(g for g in groups if g.field not in {n.text for n, _ in node.per.dimensions})
        return tuple(dict.fromkeys((*groups, *own)))

    def at_grain(self, node, groups, cell, scope, matched):
        inner = self.grain(node, groups)
        values = {}
        for g in inner:
            if g in groups:
                values[g] = {cell[groups.index(g)]}
            else:
                values[g] = {key(row, g) for row in matched} - {None}
                if len(values[g]) != 1:
                    return None
        target = tuple(next(iter(values[g])) for g in inner)
        return self.value(_plainly(node), inner, target, scope)

    def aggregate(self, node, groups, cell, scope, matched):
        argument = node.arguments[0] if node.arguments else None
        if _all_at_grain(argument):
            inner = tuple(dict.fromkeys((*groups, *(g for per in _pers(argument) for g in self.grain(per, groups)))))
            order = [g for g in inner if g not in groups]
            # Cells without a date come last for the first value, and first for the last.
            empty_first = node.function == "last"
            cells = sorted(
                self.cells(matched, inner),
                key=lambda c: (
                    [((c[inner.index(g)] is None) != empty_first, c[inner.index(g)] or 0) for g in order]
                    if all(g.grain for g in order)
                    else 0
                ),
            )
            values = [self.value(argument, inner, each, scope) for each in cells]
        else:
            kept = [row for row in matched if node.where is None or self.of_row(node.where, row, groups, scope)]
            if argument is None:
                return len(kept)
            values = [self.of_row(argument, row, groups, scope) for row in kept]
        values = [value for value in values if value is not None]
        if node.function == "percentile":
            return percentile(values, node.arguments[1].value)
        return AGGREGATES[node.function](values)

    # Time.

    def axis(self, groups) -> int:
        return next(i for i, g in enumerate(groups) if g.grain)

    def elsewhere(self, x, groups, cell):
        return self.value(x, groups, cell, self.wide) if self.inside(self.wide, groups, cell) else None

    def shift(self, node, groups, cell, scope, steps=None):
        i, unit = self.axis(groups), node.arguments[-1].value
        steps = steps if steps is not None else self.value(node.arguments[1], groups, cell, scope)
        at = cell[i] and moved(cell[i], groups[i].grain, steps, unit)
        if at is None:
            return None
        x = node.arguments[0]
        if isinstance(x, Call) and x.function == "to_date":  # has a value also where the period itself has no rows
            return self.to_date(x, groups, (*cell[:i], at, *cell[i + 1 :]), scope)
        return self.elsewhere(x, groups, (*cell[:i], at, *cell[i + 1 :]))

    def change(self, node, groups, cell, scope):
        now, before = self.value(node.arguments[0], groups, cell, scope), self.shift(node, groups, cell, scope, -1)
        return None if None in (now, before) else now - before

    def growth(self, node, groups, cell, scope):
        change, before = self.change(node, groups, cell, scope), self.shift(node, groups, cell, scope, -1)
        return None if change is None or not before else change / abs(before)

    def whole(self, node, groups, cell, scope):
        i, unit = self.axis(groups), node.arguments[-1].value
        if cell[i] is None:
            return None
        coarse = (*groups[:i], Grouping(field=groups[i].field, grain=unit), *groups[i + 1 :])
        return self.elsewhere(
            node.arguments[0], coarse, (*cell[:i], enclosing(cell[i], groups[i].grain, unit), *cell[i + 1 :])
        )

    def to_date(self, node, groups, cell, scope):
        i, unit, grain = self.axis(groups), node.arguments[-1].value, groups[self.axis(groups)].grain
        if cell[i] is None:
            return None

        def so_far(other: tuple) -> bool:
            same = all(a == b for place, (a, b) in enumerate(zip(other, cell, strict=True)) if place != i)
            return (
                same
                and other[i] is not None
                and other[i] <= cell[i]
                and enclosing(other[i], grain, unit) == enclosing(cell[i], grain, unit)
            )

        cells = [other for other in self.cells(self.wide, groups) if so_far(other)]
        if not cells:
            return None
        if len(node.arguments) == 3:
            values = [self.value(node.arguments[1], groups, other, self.wide) for other in cells]
            return AGGREGATES[node.arguments[0].text]([v for v in values if v is not None])
        rows = [row for row in self.wide if tuple(key(row, g) for g in groups) in cells]
        return self.value(node.arguments[0], groups, cell, self.wide, rows)

    def since(self, node, groups, cell, scope):
        i = self.axis(groups)
        held = [
            other[i] for other in self.cells(self.wide, groups)
            if all(a == b for p, (a, b) in enumerate(zip(other, cell, strict=True)) if p != i) and other[i]
            and self.value(node.arguments[0], groups, other, self.wide)
        ]  # fmt: skip
        if not held or cell[i] is None or cell[i] < min(held):
            return None
        start, count = min(held), 0
        while start < cell[i]:
            start, count = moved(start, groups[i].grain, 1, groups[i].grain), count + 1
        return count

    # Windows.

    def window(self, node, groups, cell, scope, restarts, looks_back):
        i = next((i for i, g in enumerate(groups) if g.grain), None)
        scope = self.wide if looks_back and i is not None else self.rows
        order = 0 if i is None else i
        cells = self.cells(scope, groups)
        if restarts and groups:
            cells = [c for c in cells if all(a == b for p, (a, b) in enumerate(zip(c, cell, strict=True)) if p != order)]
        if groups:
            cells.sort(key=lambda c: (c[order] is None, c[order] if c[order] is not None else 0))
        return cells, [self.value(node.arguments[-1 if node.function == "running" else 0], groups, c, scope) for c in cells]

    def share(self, node, groups, cell, scope):
        cells, values = self.window(node, groups, cell, scope, False, False)
        total = sum(v for v in values if v is not None)
        return values[cells.index(cell)] / total if total else None

    def rank(self, node, groups, cell, scope):
        cells, values = self.window(node, groups, cell, scope, False, False)
        own, sign = values[cells.index(cell)], -1 if len(node.arguments) > 1 else 1
        return None if own is None else 1 + sum(1 for v in values if v is not None and sign * v > sign * own)

    def running(self, node, groups, cell, scope):
        cells, values = self.window(node, groups, cell, scope, True, False)
        so_far = [v for v in values[: cells.index(cell) + 1] if v is not None]
        return (max if len(node.arguments) > 1 else sum)(so_far) if so_far else None

    def previous(self, node, groups, cell, scope):
        cells, values = self.window(node, groups, cell, scope, True, True)
        return values[cells.index(cell) - 1] if cells.index(cell) else None

    def difference(self, node, groups, cell, scope):
        now, before = self.value(node.arguments[0], groups, cell, scope), self.previous(node, groups, cell, scope)
        cells, values = self.window(node, groups, cell, scope, True, True)
        return None if None in (now, before) else values[cells.index(cell)] - before

    def moving(self, node, groups, cell, scope):
        """Of the calendar periods up to this one, from the group's first on; a count of no rows is 0."""
        cells, values = self.window(Call("moving", node.arguments[1:]), groups, cell, scope, True, True)
        i = self.axis(groups)
        there = dict(zip((c[i] for c in cells), values, strict=True))
        dates = [c[i] for c in cells if c[i] is not None]
        if cell[i] is None:
            before = [*self._periods(min(dates), self.last(groups), groups[i].grain)] if dates else []
            order = [*before, None]
        else:
            order = self._periods(min(dates), cell[i], groups[i].grain)
        nothing = self.value(node.arguments[1], groups, ("nothing",) * len(groups), [])
        last = [there.get(at, nothing) for at in order[-node.arguments[2].value :]]
        last = [v for v in last if v is not None]
        return statistics.fmean(last) if last else None

    def last(self, groups):
        return max(each[self.axis(groups)] for each in self.cells(self.wide, groups) if each[self.axis(groups)] is not None)

    def _periods(self, start, end, grain) -> list:
        found = []
        while start <= end:
            found.append(start)
            start = moved(start, grain, 1, grain)
        return found


def _plainly(node: Call) -> Call:
    return Call(node.function, node.arguments, node.where)


def _pers(node) -> list:
    if isinstance(node, Call):
        return [node] if node.per is not None else [found for each in node.arguments for found in _pers(each)]
    return []


def _all_at_grain(node) -> bool:
    if not isinstance(node, Call):
        return False
    return node.per is not None or (bool(_pers(node)) and not any(isinstance(each, Name) for each in node.arguments))


@cache
def parsed(text: str):
    return parse(text)


class AgainstPlainPython(unittest.TestCase):
    def compare(self, rows: list[dict], groups: tuple, texts: list[str], filters: tuple = ()) -> None:
        table, schema = sailings(rows)
        context = context_of(table, schema)
        measures = tuple(Measure(formula=with_ids(text, schema)) for text in texts)
        result = answer(Query(groups=groups, measures=measures, filters=filters), table, schema, context)

        def passes(row: dict, each) -> bool:
            if isinstance(each, DatesFilter):
                return row["sailed"] is not None and each.start <= row["sailed"] <= each.end
            return row["route"] in each.values

        others = [each for each in filters if not isinstance(each, DatesFilter)]
        slowly = Slowly(
            [r for r in rows if all(passes(r, e) for e in filters)], [r for r in rows if all(passes(r, e) for e in others)]
        )
        cells = slowly.cells(slowly.rows, groups) if groups else [()]
        found = {tuple(row[: len(groups)]): row[len(groups) :] for row in result.frame.iter_rows()}
        self.assertEqual(set(found), set(cells))
        for cell in cells:
            for text, value in zip(texts, found[cell], strict=True):
                wanted = slowly.value(parsed(text), groups, cell, slowly.rows)
                same = value == wanted or (
                    isinstance(value, float | int)
                    and isinstance(wanted, float | int)
                    and math.isclose(value, wanted, rel_tol=1e-9, abs_tol=1e-9)
                )
                self.assertTrue(same, f"{text} by {groups} at {cell}: {value!r}, not {wanted!r}")

    @examples(120)
    @given(
        ROWS, st.sampled_from([(), (REGION,), (ROUTE, REGION), (AXES[2],), (AXES[2], ROUTE), (ROUTE, AXES[0])]), st.data()
    )
    def test_aggregates_and_grains(self, rows, groups, data):
        texts = data.draw(st.lists(st.sampled_from(PLAIN), min_size=1, max_size=5, unique=True))
        filters = (ListFilter(field="route", values=("A", None)),) if data.draw(st.booleans()) else ()
        self.compare(rows, groups, texts, filters)

    @examples(150)
    @given(ROWS, st.sampled_from(AXES), st.sampled_from([(), (ROUTE,), (REGION, ROUTE)]), st.data())
    def test_windows_and_time(self, rows, axis, others, data):
        units = data.draw(st.sampled_from(NESTS[axis.grain]))
        timed = [text.format(units) for text in TIMED if "'year'), -1" not in text or units in NESTS[axis.grain]]
        texts = data.draw(st.lists(st.sampled_from(timed + WINDOWS[3:]), min_size=1, max_size=4, unique=True))
        if axis.grain == "week" and units == "year":
            texts = [text for text in texts if "whole" not in text] or ["count_rows()"]
        filters = ()
        if data.draw(st.booleans()):
            filters = (DatesFilter(field="sailed", start=dt.date(2024, 3, 1), end=dt.date(2025, 1, 3)),)
        self.compare(rows, (axis, *others), texts, filters)

    @examples(60)
    @given(ROWS, st.sampled_from([(REGION,), (ROUTE,), (AXES[1],)]))
    def test_ranks_and_shares(self, rows, groups):
        self.compare([row for row in rows if all(key(row, g) is not None for g in groups)], groups, WINDOWS[:4])

    def test_a_finer_period_than_the_charts_is_explained(self):
        rows = [{"sailed": dt.date(2026, 1, 5), "fare": 1.0}]
        with self.assertRaises(FormulaProblem) as caught:
            self.compare(rows, (AXES[2],), ["1 + shift(sum(fare), -1, 'week')"])
        self.assertIn("a week is finer than the chart's months", str(caught.exception))
        self.assertIn("month, quarter, year", caught.exception.hint)
        self.assertEqual(caught.exception.start, 4)

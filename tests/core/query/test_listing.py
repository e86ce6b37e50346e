"""Lists of values, distributions and underlying rows, against plain loops."""

from __future__ import annotations

import datetime as dt
import math
import unittest
from collections import Counter
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.query.asking import daily
from tests.core.support import context_of, sailings
from veduta.core.calendar import Grain, Grouping
from veduta.core.query.filters import ListFilter, RangeFilter
from veduta.core.query.listing import count_distribution, group_values, scan_underlying_rows

ROUTE, NORTH = Grouping(field="route"), ListFilter(field="region", values=("N",))
NAMES = st.sampled_from(["Tern", "Quay", "tern bank", "Gull", None])
ROW = st.fixed_dictionaries(
    {
        "route": NAMES,
        "region": st.sampled_from(["N", "S", None]),
        "fare": st.one_of(st.none(), st.floats(-1e6, 1e6), st.integers(-2, 2).map(float)),
        "passengers": st.one_of(st.none(), st.integers(-3, 120)),
    }
)
ROWS = st.lists(ROW, min_size=1, max_size=25)


def list_by_loop(rows: list[dict[str, Any]], limit: int, selected: tuple[Any, ...] = ()) -> list[tuple[Any, int]]:
    """Selected ones first, then the most frequent, then by name, an empty one last."""
    counts = Counter(row["route"] for row in rows)
    ordered = sorted(counts, key=lambda v: (v not in selected, -counts[v], v is None, v or ""))
    return [(value, counts[value]) for value in ordered[:limit]]


class Values(unittest.TestCase):
    @examples(120)
    @given(ROWS, st.integers(1, 6), st.lists(NAMES, max_size=2))
    def test_as_a_loop_counts_them(self, rows, limit, selected):
        found, there = group_values(sailings(rows), ROUTE, limit=limit, selected=tuple(selected))
        self.assertEqual([(value, n) for value, _, n in found], list_by_loop(rows, limit, tuple(selected)))
        self.assertEqual(there, len({row["route"] for row in rows}))
        self.assertTrue(all(words == (value if value is not None else "empty") for value, words, _ in found))

    @examples(60)
    @given(ROWS)
    def test_under_filters_and_searched_for(self, rows):
        model = sailings(rows)
        under = [row for row in rows if row["region"] == "N"]
        found, there = group_values(model, ROUTE, under=((NORTH,), context_of(model)))
        self.assertEqual([(value, n) for value, _, n in found], list_by_loop(under, 200))
        self.assertEqual(there, len({row["route"] for row in under}))
        matching = [row for row in rows if "ern" in (row["route"] or "").lower()]
        self.assertEqual(
            [v for v, _, _ in group_values(model, ROUTE, "ERN")[0]], [v for v, _ in list_by_loop(matching, 9)]
        )

    def test_periods_come_in_order_and_are_searched_by_their_names(self):
        model = sailings(daily(70))
        months = Grouping(field="sailed", grain=Grain.MONTH)
        found, there = group_values(model, months)
        self.assertEqual([(words, n) for _, words, n in found], [("Jan 2024", 31), ("Feb 2024", 29), ("Mar 2024", 10)])
        self.assertEqual(there, 3)
        self.assertEqual([words for _, words, _ in group_values(model, months, "mar")[0]], ["Mar 2024"])
        self.assertEqual(group_values(model, months, limit=2)[1], 3)


class Distribution(unittest.TestCase):
    @examples(120)
    @given(ROWS, st.integers(1, 7))
    def test_as_a_loop_counts_it(self, rows, bars):
        numbers = [row["passengers"] for row in rows if row["passengers"] is not None]
        wanted = [0] * bars if numbers else []
        width = (max(numbers) - min(numbers)) / bars if numbers else 0
        for number in numbers:
            wanted[min(math.floor((number - min(numbers)) / (width or 1)), bars - 1)] += 1
        self.assertEqual(count_distribution(sailings(rows), "passengers", bars), wanted)

    def test_parts_are_of_all_rows_also_under_filters(self):
        rows = [{"region": "N", "fare": 0.0}, {"region": "S", "fare": 10.0}, {"region": "N", "fare": 9.0}]
        model = sailings(rows)
        under = ((NORTH,), context_of(model))
        self.assertEqual(count_distribution(model, "fare", 2), [1, 2])
        self.assertEqual(count_distribution(model, "fare", 2, under), [1, 1])
        self.assertEqual(count_distribution(model, "route", 2), [])


class Underlying(unittest.TestCase):
    def rows(self, rows: list[dict[str, Any]], *filters: Any, **more: Any) -> list[tuple[Any, ...]]:
        model = sailings(rows)
        lazily = scan_underlying_rows(model, filters, context_of(model), ["route", "passengers"], **more)
        return lazily.collect().rows()

    @examples(60)
    @given(ROWS, st.booleans())
    def test_numbered_as_in_the_table_filtered_and_sorted_with_empties_last(self, rows, down):
        numbered = [(i, row["route"], row["passengers"]) for i, row in enumerate(rows, 1)]
        self.assertEqual(self.rows(rows), numbered)
        full = [row for row in numbered if row[2] is not None]
        empty = [row for row in numbered if row[2] is None]
        wanted = sorted(full, key=lambda row: -row[2] if down else row[2]) + empty
        self.assertEqual(self.rows(rows, sort=("passengers", down)), wanted)
        some = [row for row in numbered if row[2] is not None and row[2] >= 1]
        self.assertEqual(self.rows(rows, RangeFilter(field="passengers", low=1)), some)

    def test_a_search_looks_in_every_column_whatever_the_case(self):
        rows = [
            {"route": "Tern", "passengers": 5},
            {"route": None, "passengers": 15},
            {"route": "Gull", "passengers": 7},
        ]
        for search, found in (("TERN", [1]), ("5", [1, 2]), ("gull", [3]), ("x", []), (".", [])):
            self.assertEqual([row[0] for row in self.rows(rows, search=search)], found, search)

    def test_dates_are_searched_as_they_are_stored(self):
        model = sailings([{"sailed": dt.date(2026, 3, 5)}, {"sailed": None}])
        found = scan_underlying_rows(model, (), context_of(model), ["sailed"], search="2026-03").collect()
        self.assertEqual(found["row"].to_list(), [1])

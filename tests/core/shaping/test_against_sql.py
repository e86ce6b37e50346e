"""Whole chains of steps against the same question in SQL, on random tables with empties, ties and one-row groups."""

from __future__ import annotations

import datetime as dt
import math
import sqlite3
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.shaping.support import flow_of, shaped, table
from veduta.core.data.fields import DataType

SAILED = st.lists(
    st.fixed_dictionaries(
        {
            "route": st.sampled_from(["Quay–Tern", "Tern–Gull Bank", "Merrin–Marram", None]),
            "day": st.dates(dt.date(2023, 12, 29), dt.date(2024, 3, 2)),
            "passengers": st.one_of(st.none(), st.integers(-3, 40)),
            "fare": st.one_of(st.none(), st.integers(-100, 100).map(lambda n: n / 4)),
        }
    ),
    max_size=14,
)
ROUTES = st.lists(
    st.tuples(st.sampled_from(["Quay–Tern", "Tern–Gull Bank", "Lowen–Fennick"]), st.integers(1, 3)), max_size=5
)
KINDS = {"Route": DataType.TEXT, "Day": DataType.DATE, "Passengers": DataType.WHOLE, "Fare": DataType.DECIMAL}


class AgainstSql(unittest.TestCase):
    def flow(self, rows: list[dict[str, Any]]):
        return flow_of({name: [row[name.lower()] for row in rows] for name in KINDS}, **KINDS)

    def sql(self, question: str, rows: list[dict[str, Any]], routes: list[tuple[str, int]] = ()) -> list[tuple]:
        with sqlite3.connect(":memory:") as database:
            database.execute(
                "create table sailed (n integer primary key, route text, day text, passengers integer, fare real)"
            )
            database.executemany(
                "insert into sailed (route, day, passengers, fare) values (?,?,?,?)",
                [(row["route"], row["day"].isoformat(), row["passengers"], row["fare"]) for row in rows],
            )
            database.execute("create table routes (route text, piers integer)")
            database.executemany("insert into routes values (?,?)", routes)
            return database.execute(question).fetchall()

    def same(self, found: dict[str, list[Any]], expected: list[tuple]) -> None:
        """The same rows, whatever their order; decimals but for their last digits."""

        def plain(value: Any) -> Any:
            return value.isoformat() if isinstance(value, dt.date) else value

        def place(row: tuple) -> str:
            return str([round(value, 6) + 0.0 if isinstance(value, float) else value for value in row])

        rows = sorted((tuple(map(plain, row)) for row in zip(*found.values(), strict=True)), key=place)
        wanted = sorted((tuple(map(plain, row)) for row in expected), key=place)
        self.assertEqual(len(rows), len(wanted))
        for row, other in zip(rows, wanted, strict=True):
            for a, b in zip(row, other, strict=True):
                same = (
                    math.isclose(a, b, rel_tol=1e-9, abs_tol=1e-9) if isinstance(a, float) and b is not None else a == b
                )
                self.assertTrue(same, (row, other))

    @given(SAILED)
    @examples(60)
    def test_filter_then_group_by_month(self, rows):
        found = shaped(
            self.flow(rows),
            {"do": "filter", "filters": [{"kind": "range", "field": "passengers", "low": 0}]},
            {
                "do": "group",
                "by": ["route", {"field": "day", "grain": "month"}],
                "measures": [
                    {"field": "passengers", "aggregate": "sum"},
                    {"field": "fare", "aggregate": "mean"},
                    {"field": "fare", "aggregate": "max"},
                    {"field": "fare", "aggregate": "count"},
                    {"field": "fare", "aggregate": "count_distinct"},
                    {},
                ],
            },
        )
        expected = self.sql(
            "select route, date(day, 'start of month'), sum(passengers), avg(fare), max(fare), count(fare),"
            " count(distinct fare), count(*)"
            " from sailed where passengers >= 0 group by 1, 2",
            rows,
        )
        self.same(table(found), expected)

    @given(SAILED, ROUTES)
    @examples(60)
    def test_join_then_formula_then_group(self, rows, routes):
        other = flow_of(
            {"Route": [r for r, _ in routes], "Piers": [p for _, p in routes]},
            Route=DataType.TEXT,
            Piers=DataType.WHOLE,
        )
        join = {
            "do": "join",
            "dataset": "other",
            "keys": [{"own": "route", "other": "route"}],
            "bring": [{"field": "piers"}],
        }
        for several, source in (
            ("multiply", "sailed left join routes using (route)"),
            ("aggregate", "sailed left join (select route, sum(piers) piers from routes group by 1) using (route)"),
        ):
            found = shaped(
                self.flow(rows),
                {**join, "several": several},
                {"do": "formula", "name": "Each", "formula": "fare / coalesce(piers, 0)"},
                {
                    "do": "group",
                    "by": ["route"],
                    "measures": [{"field": "s2", "aggregate": "sum"}, {"field": "s1_piers", "aggregate": "min"}, {}],
                },
                other=other,
            )
            expected = self.sql(
                f"select route, sum(fare / piers), min(piers), count(*) from {source} group by 1", rows, routes
            )
            self.same(table(found), expected)

    @given(SAILED)
    @examples(60)
    def test_windows_in_order_of_day(self, rows):
        formulas = {
            "Before": "previous(passengers) along (day) restart (route)",
            "Step": "difference(passengers) along (day) restart (route)",
            "Place": "row_number() along (day) restart (route)",
            "Rank": "rank(passengers) restart (route)",
        }
        steps = [{"do": "formula", "name": name, "formula": text} for name, text in formulas.items()]
        found = table(
            shaped(self.flow(rows), *steps, {"do": "choose", "fields": ["route", "day", "s1", "s2", "s3", "s4"]})
        )
        expected = self.sql(
            "select route, day, lag(passengers) over w, passengers - lag(passengers) over w, row_number() over w,"
            " case when passengers is not null then rank() over (partition by route"
            " order by passengers desc nulls last) end"
            " from sailed window w as (partition by route order by day, n)",
            rows,
        )
        self.same(found, expected)

    @given(SAILED)
    @examples(40)
    def test_one_row_of_those_that_are_the_same(self, rows):
        found = table(shaped(self.flow(rows), {"do": "dedupe", "fields": ["route", "day"], "keep": "last"}))
        expected = self.sql(
            "select route, day, passengers, fare from sailed where n in (select max(n) from sailed"
            " group by route, day)",
            rows,
        )
        self.same(found, expected)

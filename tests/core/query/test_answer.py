"""Answers against two independent oracles: a slow evaluator in plain Python, and SQL on SQLite."""

from __future__ import annotations

import datetime as dt
import math
import sqlite3
import statistics
import unittest
from collections import defaultdict
from functools import cache

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.support import SAILING_FIELDS, TODAY, MemoryTable, context_of, field, sailings
from veduta.core.calendar import Grain, Grouping, find_period_start, list_grains
from veduta.core.data.fields import Aggregate, DataType, Schema
from veduta.core.errors import DefinitionProblem, MissingField
from veduta.core.model.model import Model
from veduta.core.query.answer import answer, make_context
from veduta.core.query.filters import EmptyFilter, ListFilter, PointsFilter, RangeFilter
from veduta.core.query.listing import group_values, scan_underlying_rows
from veduta.core.query.measures import Measure, TopN
from veduta.core.query.query import Query, Sort
from veduta.demo.generate import generate_sailings as demo_sailings

ROWS = st.lists(
    st.fixed_dictionaries(
        {
            "region": st.sampled_from(["North Reach", "Inner Sound", "north reach", None]),
            "route": st.sampled_from(["A", "B", "C", "D", None]),
            "sailed": st.one_of(st.none(), st.dates(dt.date(2023, 12, 25), dt.date(2025, 1, 8))),
            "fare": st.one_of(st.none(), st.integers(-50, 50).map(float), st.just(1e9)),
            "passengers": st.one_of(st.none(), st.integers(-3, 9)),
            "cancelled": st.sampled_from([True, False, None]),
        }
    ),
    max_size=30,
)
GROUPS = [
    Grouping(field="region"),
    Grouping(field="route"),
    Grouping(field="cancelled"),
    *(Grouping(field="sailed", grain=grain) for grain in list_grains(DataType.DATE)),
]
MEASURES = [
    Measure(),
    *(Measure(field=name, aggregate=a) for name in ("fare", "passengers") for a in Aggregate if a is not Aggregate.OWN),
]


def group_of(row: dict, group: Grouping):
    value = row[group.field]
    if value is None or group.grain is None:
        return value
    if group.grain is Grain.WEEKDAY:
        return value.isoweekday()
    return value.month if group.grain is Grain.MONTH_OF_YEAR else find_period_start(value, group.grain)


def plainly(measure: Measure, rows: list[dict]):
    if measure.field is None:
        return len(rows)
    values = [row[measure.field] for row in rows if row[measure.field] is not None]
    if measure.aggregate is Aggregate.COUNT:
        return len(values)
    if measure.aggregate is Aggregate.COUNT_DISTINCT:
        return len(set(values))
    if not values:
        return None
    work_out = {
        Aggregate.SUM: math.fsum,
        Aggregate.MEAN: statistics.fmean,
        Aggregate.MEDIAN: statistics.median,
        Aggregate.MIN: min,
        Aggregate.MAX: max,
    }
    return work_out[measure.aggregate](values)


def slowly(rows: list[dict], groups: tuple[Grouping, ...], measures: tuple[Measure, ...]) -> dict[tuple, list]:
    found = defaultdict(list)
    for row in rows:
        found[tuple(group_of(row, group) for group in groups)].append(row)
    if not groups:
        found[()] = rows
    return {key: [plainly(measure, members) for measure in measures] for key, members in found.items()}


class AgainstPlainPython(unittest.TestCase):
    def same(self, expected: dict, frame: pl.DataFrame, depth: int) -> None:
        found = {row[:depth]: list(row[depth:]) for row in frame.rows()}
        self.assertEqual(found.keys(), expected.keys())
        for key, values in expected.items():
            for a, b in zip(values, found[key], strict=True):
                if a is None or b is None:
                    self.assertEqual(a, b, key)
                else:
                    self.assertAlmostEqual(a, b, delta=max(1e-6, abs(a) * 1e-12))

    @examples(150)
    @given(
        ROWS,
        st.lists(st.sampled_from(GROUPS), max_size=3, unique=True),
        st.lists(st.sampled_from(MEASURES), min_size=1, max_size=3),
    )
    def test_groups_and_totals(self, rows, groups, measures):
        model = sailings(rows)
        groups, measures = tuple(groups), tuple(measures)
        totals = ((), (len(groups) - 1,)) if groups else ()
        result = answer(
            Query(groups=groups, measures=measures, totals=totals),
            model,
            context_of(model),
        )
        self.same(slowly(rows, groups, measures), result.frame, len(groups))
        self.assertEqual(result.rows_read, len(rows))
        for kept, frame in result.totals.items():
            if kept or rows:
                self.same(slowly(rows, tuple(groups[i] for i in kept), measures), frame, len(kept))

    @examples(100)
    @given(ROWS, st.sampled_from(["top", "bottom"]), st.integers(1, 4), st.sampled_from(MEASURES))
    def test_keep(self, rows, end, count, by):
        model = sailings(rows)
        groups = (Grouping(field="route"), Grouping(field="region"))
        query = Query(groups=groups, measures=(Measure(),), keep=TopN(end=end, count=count, by=by), totals=((),))
        result = answer(query, model, context_of(model))
        ranked = [(v[0], k[0]) for k, v in slowly(rows, groups[:1], (by,)).items() if v[0] is not None]
        ranked.sort(key=lambda pair: (-pair[0] if end == "top" else pair[0], pair[1] is None, pair[1] or ""))
        kept = {name for _, name in ranked[:count]}
        expected = slowly([row for row in rows if row["route"] in kept], groups, (Measure(),))
        self.same(expected, result.frame, 2)
        self.assertEqual(result.totals[()]["m0"][0], sum(values[0] for values in expected.values()))
        edge = ranked[min(count, len(ranked)) - 1][0] if ranked else None
        tied = sum(value == edge for value, _ in ranked[count:])
        self.assertEqual(any("tie" in note for note in result.notes), tied > 0)

    @examples(100)
    @given(ROWS, st.booleans(), st.sampled_from(MEASURES[:8]))
    def test_sort_by_a_measure_puts_empties_last_and_keeps_ties_in_order(self, rows, descending, measure):
        model = sailings(rows)
        groups = (Grouping(field="route"),)
        query = Query(
            groups=groups, measures=(Measure(),), sort=Sort(by="measure", measure=measure, descending=descending)
        )
        found = answer(query, model, context_of(model)).frame["d0"].to_list()
        values = {key[0]: v[0] for key, v in slowly(rows, groups, (measure,)).items()}
        order = sorted(
            values,
            key=lambda name: (
                name is None,
                values[name] is None,
                (values[name] or 0) * (-1 if descending else 1),
                name or "",
            ),
        )
        self.assertEqual(found, order)

    @examples(60)
    @given(ROWS, st.permutations(["A", "B", "C"]))
    def test_own_order(self, rows, order):
        model = sailings(rows)
        query = Query(groups=(Grouping(field="route"),), measures=(Measure(),), sort=Sort(by="own", values=order))
        found = answer(query, model, context_of(model)).frame["d0"].to_list()
        there = {row["route"] for row in rows}
        self.assertEqual(found, [v for v in [*order, "D", None] if v in there])

    @examples(60)
    @given(ROWS, st.permutations(["A", "B", "C", None]), st.sampled_from([g for g in GROUPS if g.field != "route"]))
    def test_own_order_within_another_dimension(self, rows, order, first):
        model = sailings(rows)
        groups = (first, Grouping(field="route"))
        usual = answer(Query(groups=groups, measures=(Measure(),)), model, context_of(model))
        query = Query(groups=groups, measures=(Measure(),), orders=((1, tuple(order)),))
        result = answer(query, model, context_of(model))
        places = {value: place for place, value in enumerate([*order, "D"])}
        firsts = list(dict.fromkeys(usual.frame["d0"].to_list()))
        expected = sorted(usual.frame.rows(), key=lambda row: (firsts.index(row[0]), places[row[1]]))
        self.assertEqual(result.frame.rows(), expected)

    @examples(60)
    @given(ROWS, st.sampled_from(GROUPS), st.sampled_from(GROUPS))
    def test_the_rows_behind_every_mark_add_up(self, rows, a, b):
        model = sailings(rows)
        context = context_of(model)
        groups = (a, b) if a != b else (a,)
        result = answer(Query(groups=groups, measures=(Measure(),)), model, context)
        seen: list[int] = []
        for *point, count in result.frame.rows():
            values = tuple(v.isoformat() if isinstance(v, dt.date) else v for v in point)
            behind = scan_underlying_rows(
                model, (PointsFilter(groups=groups, points=(values,)),), context, ["route"]
            ).collect()
            self.assertEqual(behind.height, count)
            seen += behind["row"].to_list()
        self.assertEqual(sorted(seen), list(range(1, len(rows) + 1)))


@cache
def demo() -> tuple[Model, sqlite3.Connection]:
    """4,000 sailings as a model of the core and as a table in SQLite."""
    made = demo_sailings(4_000).with_columns(
        sailing_date=pl.col("sailing_date"),
        cancelled=pl.col("cancelled") == "yes",
        departure=pl.col("departure").str.to_datetime(),
    )
    kinds = {
        pl.Int64: DataType.WHOLE,
        pl.Float64: DataType.DECIMAL,
        pl.Date: DataType.DATE,
        pl.Boolean: DataType.YES_NO,
        pl.String: DataType.TEXT,
    }
    schema = Schema(
        [field(n, kinds.get(type(t)) or kinds.get(t.base_type(), DataType.DATETIME)) for n, t in made.schema.items()]
    )
    connection = sqlite3.connect(":memory:")
    connection.execute(f"create table sailings ({', '.join(made.columns)})")
    plain = made.with_columns(pl.col("sailing_date").cast(pl.String), pl.col("departure").cast(pl.String))
    connection.executemany(f"insert into sailings values ({', '.join('?' * made.width)})", plain.rows())
    return Model.from_table(MemoryTable(made, schema), schema), connection


def total(name: str, aggregate: Aggregate = Aggregate.SUM) -> Measure:
    return Measure(field=name, aggregate=aggregate)


class AgainstSql(unittest.TestCase):
    def agree(self, query: Query, sql: str) -> None:
        model, connection = demo()
        found = answer(query, model, make_context(model, TODAY)).frame
        rows = [tuple(str(v) if isinstance(v, dt.date) else v for v in row) for row in found.rows()]
        expected = connection.execute(sql).fetchall()
        self.assertGreater(len(expected), 0)
        self.assertEqual(len(rows), len(expected))
        for got, wanted in zip(rows, expected, strict=True):
            for a, b in zip(got, wanted, strict=True):
                self.assertAlmostEqual(a, b, places=4) if isinstance(b, float) else self.assertEqual(a, b)

    def test_revenue_by_month(self):
        query = Query(groups=(Grouping(field="sailing_date", grain=Grain.MONTH),), measures=(total("fare_revenue"),))
        self.agree(
            query,
            "select date(sailing_date, 'start of month') m, sum(fare_revenue) from sailings group by m order by m",
        )

    def test_figures(self):
        query = Query(
            measures=(
                Measure(),
                total("passengers"),
                total("minutes_late", Aggregate.MEAN),
                total("vessel", Aggregate.COUNT_DISTINCT),
            )
        )
        self.agree(query, "select count(*), sum(passengers), avg(minutes_late), count(distinct vessel) from sailings")

    def test_the_five_best_routes_of_2026(self):
        year = Grouping(field="sailing_date", grain=Grain.YEAR)
        query = Query(
            groups=(Grouping(field="route"),),
            measures=(total("fare_revenue"), total("minutes_late", Aggregate.COUNT)),
            filters=(PointsFilter(groups=(year,), points=(("2026-01-01",),)),),
            keep=TopN(count=5, by=total("fare_revenue")),
            sort=Sort(by="measure", descending=True),
        )
        self.agree(
            query,
            "select route, sum(fare_revenue) r, count(minutes_late) from sailings where sailing_date >= '2026-01-01'"
            " group by route order by r desc limit 5",
        )

    def test_weekdays_of_two_regions_without_cancelled_sailings(self):
        query = Query(
            groups=(Grouping(field="sailing_date", grain=Grain.WEEKDAY), Grouping(field="region")),
            measures=(total("passengers", Aggregate.MAX), total("fuel_cost", Aggregate.MIN)),
            filters=(
                ListFilter(field="region", values=("North Reach", "South Banks")),
                ListFilter(field="cancelled", values=(True,), exclude=True),
                RangeFilter(field="capacity", low=200),
            ),
        )
        self.agree(
            query,
            "select (strftime('%w', sailing_date) + 6) % 7 + 1 d, region, max(passengers), min(fuel_cost) from sailings"
            " where region in ('North Reach', 'South Banks') and not cancelled and capacity >= 200"
            " group by d, region order by d, region",
        )

    def test_rows_without_a_reason(self):
        query = Query(
            groups=(Grouping(field="vessel"),), measures=(Measure(),), filters=(EmptyFilter(field="cancel_reason"),)
        )
        self.agree(
            query, "select vessel, count(*) from sailings where cancel_reason is null group by vessel order by vessel"
        )


class Edges(unittest.TestCase):
    def ask(self, rows, **parts):
        model = sailings(rows)
        return answer(Query(**parts), model, context_of(model))

    def test_a_sum_over_no_rows_is_empty_and_a_count_is_nought(self):
        result = self.ask([], measures=(total("fare"), Measure(), total("fare", Aggregate.COUNT)))
        self.assertEqual(result.frame.rows(), [(None, 0, 0)])

    def test_whole_numbers_too_large_to_add_exactly_do_not_wrap(self):
        result = self.ask([{"passengers": 2**62}] * 4, measures=(total("passengers"),))
        self.assertEqual(result.frame["m0"][0], float(2**64))

    def test_week_53_and_leap_day(self):
        rows = [{"sailed": dt.date(2020, 12, 31)}, {"sailed": dt.date(2021, 1, 3)}, {"sailed": dt.date(2024, 2, 29)}]
        weeks = self.ask(rows, groups=(Grouping(field="sailed", grain=Grain.WEEK),), measures=(Measure(),))
        self.assertEqual(weeks.frame.rows(), [(dt.date(2020, 12, 28), 2), (dt.date(2024, 2, 26), 1)])

    def test_departures_fall_on_their_day(self):
        rows = [{"departure": dt.datetime(2026, 3, 1, 23, 59)}, {"departure": dt.datetime(2026, 3, 2)}]
        days = self.ask(rows, groups=(Grouping(field="departure", grain=Grain.DAY),), measures=(Measure(),))
        self.assertEqual(days.frame.rows(), [(dt.date(2026, 3, 1), 1), (dt.date(2026, 3, 2), 1)])

    def test_the_limit_is_announced(self):
        result = self.ask(
            [{"route": str(i)} for i in range(30)], groups=(Grouping(field="route"),), measures=(Measure(),), limit=10
        )
        self.assertEqual((result.frame.height, result.groups, result.notes), (10, 30, ["Showing 10 of 30 groups."]))

    def test_an_unfinished_period_is_told(self):
        rows = [{"sailed": dt.date(2026, 9, 30)}, {"sailed": dt.date(2026, 10, 20)}]
        by = {
            grain: self.ask(rows, groups=(Grouping(field="sailed", grain=grain),), measures=(Measure(),))
            for grain in list_grains(DataType.DATE)
        }
        self.assertEqual(by[Grain.MONTH].unfinished, dt.date(2026, 10, 20))
        self.assertIsNone(by[Grain.DAY].unfinished)
        self.assertIsNone(by[Grain.WEEKDAY].unfinished)
        whole = self.ask(
            [{"sailed": dt.date(2026, 10, 31)}],
            groups=(Grouping(field="sailed", grain=Grain.MONTH),),
            measures=(Measure(),),
        )
        self.assertIsNone(whole.unfinished)

    def test_a_value_that_no_longer_exists_is_said(self):
        result = self.ask(
            [{"region": "North Reach"}],
            groups=(Grouping(field="region"),),
            measures=(Measure(),),
            filters=(ListFilter(field="region", values=("Old Bay",)),),
        )
        self.assertEqual(result.notes, ["Nothing matches: no row has Region is Old Bay."])

    def test_questions_that_do_not_fit_are_refused(self):
        for parts, error in (
            ({"measures": (total("route"),)}, DefinitionProblem),
            ({"measures": (total("gone"),)}, MissingField),
            ({"groups": (Grouping(field="sailed"),)}, DefinitionProblem),
            ({"groups": (Grouping(field="route", grain=Grain.DAY),)}, DefinitionProblem),
        ):
            with self.subTest(parts=parts), self.assertRaises(error):
                self.ask([{"route": "A"}], **parts)

    def test_list_values_are_searched_bounded_and_keep_the_chosen_ones(self):
        model = sailings([{"route": f"Route {i % 50}"} for i in range(120)] + [{}])
        values, count = group_values(model, Grouping(field="route"), search="ROUTE 1", limit=3, selected=("Route 19",))
        self.assertEqual((values[0][0], len(values), count), ("Route 19", 3, 11))
        everything, _ = group_values(model, Grouping(field="route"), limit=100)
        self.assertEqual(sum(rows for _, _, rows in everything), 121)

    def test_two_million_distinct_values_give_a_bounded_list(self):
        schema = Schema([field("Ticket", DataType.WHOLE)])
        model = Model.from_table(
            MemoryTable(pl.DataFrame({"ticket": pl.int_range(2_000_000, eager=True)}), schema), schema
        )
        values, count = group_values(model, Grouping(field="ticket"), limit=100)
        self.assertEqual((len(values), count), (100, 2_000_000))

    def test_rows_behind_are_sorted_with_empties_last_both_ways(self):
        model = sailings([{"fare": 2.0}, {}, {"fare": 9.0}, {"fare": 2.0}])
        for descending, order in ((False, [1, 4, 3, 2]), (True, [3, 1, 4, 2])):
            found = scan_underlying_rows(model, (), context_of(model), ["fare"], ("fare", descending)).collect()
            self.assertEqual(found["row"].to_list(), order)

    def test_the_search_looks_into_all_columns(self):
        model = sailings([{"route": "Tern"}, {"fare": 12.5}, {"region": "Terns"}])
        columns = [f.id for f in SAILING_FIELDS]
        found = scan_underlying_rows(model, (), context_of(model), columns, None, "tern").collect()
        self.assertEqual(found["row"].to_list(), [1, 3])
        self.assertEqual(scan_underlying_rows(model, (), context_of(model), columns, None, "12.5").collect().height, 1)

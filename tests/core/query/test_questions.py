"""Questions over the demo's model, each also as SQL on SQLite."""

from __future__ import annotations

import datetime as dt
import math
import unittest
from typing import Any

from django.test import tag
from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.query.demo_model import database, frames, model
from tests.core.support import SAILING_FIELDS, context_of, sailings
from veduta.core.calendar import Grouping
from veduta.core.data.fields import Schema
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.measures import with_ids
from veduta.core.query.answer import answer
from veduta.core.query.filters import DatesFilter, ListFilter, MeasureFilter, MembershipFilter, RangeFilter
from veduta.core.query.measures import Keep, Measure
from veduta.core.query.query import Query, Sort

MONTH, YEAR = "date({0}, 'start of month')", "date({0}, 'start of year')"
QUARTER = "date({0}, 'start of month', '-' || ((strftime('%m', {0}) - 1) % 3) || ' months')"
WEEK = "date({0}, '-6 days', 'weekday 1')"
M, Q, Y, W = (each.format("day") for each in (MONTH, QUARTER, YEAR, WEEK))
FARE = "sum(fare)"
IN_2025 = DatesFilter(field="day", start=dt.date(2025, 1, 1), end=dt.date(2025, 12, 31))
SQL_2025 = "day between '2025-01-01' and '2025-12-31'"
BY_MONTH = f"with m as (select {M} k, sum(fare) v, count(*) n from s group by 1)"
WITH_ROUTES = "s left join routes r on r.route = s.route"
WITH_PORTS = WITH_ROUTES + " left join ports p on p.port = r.from_port"


def by(*names: str) -> tuple[Grouping, ...]:
    return tuple(Grouping(field=name.partition("@")[0], grain=name.partition("@")[2] or None) for name in names)


# (dimensions, formulas, what else the query has, SQL)
QUESTIONS: list[tuple[tuple[str, ...], list[str], dict[str, Any], str]] = [
    # Aggregates, with empties in keys and values.
    (("route",), [FARE, "count_rows()"], {}, "select route, sum(fare), count(*) from s group by 1"),
    (
        ("region", "vessel"),
        ["mean(late)", "max(passengers)"],
        {},
        "select region, vessel, avg(late), max(passengers) from s group by 1, 2",
    ),
    (
        (),
        [FARE, "count(late)", "count_distinct(route)"],
        {},
        "select sum(fare), count(late), count(distinct route) from s",
    ),
    (("vessel",), ["min(day)", "max(day)"], {}, "select vessel, min(day), max(day) from s group by 1"),
    (
        ("cancelled",),
        ["sum(passengers)", "min(fare)"],
        {},
        "select cancelled, sum(passengers), min(fare) from s group by 1",
    ),
    (
        ("region",),
        ["variance(late)"],
        {},
        "select region, case when count(late) > 1"
        " then (sum(1.0*late*late) - sum(late)*sum(late)*1.0/count(late))/(count(late)-1) end from s group by 1",
    ),
    # Conditions.
    (
        ("route",),
        ["sum(fare where cancelled)"],
        {},
        "select route, sum(case when cancelled then fare end) from s group by 1",
    ),
    (
        ("region",),
        ["count_rows(where late > 10)"],
        {},
        "select region, count(case when late > 10 then 1 end) from s group by 1",
    ),
    (
        ("vessel",),
        ["count_rows(where cancelled) / count_rows()"],
        {},
        "select vessel, 1.0 * count(case when cancelled then 1 end) / count(*) from s group by 1",
    ),
    (
        ("region",),
        ["count_rows(where late <= :late_after) / count(late)"],
        {},
        "select region, 1.0 * count(case when late <= 10 then 1 end) / nullif(count(late), 0) from s group by 1",
    ),
    (
        ("route",),
        ["sum(if(passengers > 100, fare, 0))"],
        {},
        "select route, sum(case when passengers > 100 then fare else 0 end) from s group by 1",
    ),
    (
        ("vessel",),
        ["count_distinct(route where not cancelled)"],
        {},
        "select vessel, count(distinct case when not cancelled then route end) from s group by 1",
    ),
    # Ratios stay ratios of sums.
    (
        ("day@month",),
        ["sum(fare) / sum(passengers)"],
        {},
        f"select {M}, sum(fare) / nullif(sum(passengers), 0) from s group by 1",
    ),
    (
        ("region",),
        ["sum(passengers) / sum(capacity where not cancelled)"],
        {},
        "select region, 1.0 * sum(passengers) / sum(case when not cancelled then capacity end) from s group by 1",
    ),
    (
        ("vessel",),
        ["sum(fare + onboard)", "sum(fare) + sum(onboard)"],
        {},
        "select vessel, sum(fare + onboard), sum(fare) + sum(onboard) from s group by 1",
    ),
    # Grains of dates.
    (("day@year",), [FARE], {}, f"select {Y}, sum(fare) from s group by 1"),
    (("day@quarter",), [FARE], {}, f"select {Q}, sum(fare) from s group by 1"),
    (("day@week",), ["count_rows()"], {}, f"select {W}, count(*) from s group by 1"),
    (("day@day",), ["count_rows()"], {}, "select day, count(*) from s group by 1"),
    # Looked-up tables.
    (("routes.area",), [FARE], {}, f"select r.area, sum(fare) from {WITH_ROUTES} group by 1"),
    (("ports.opened",), ["count_rows()"], {}, f"select p.opened, count(*) from {WITH_PORTS} group by 1"),
    (
        ("routes.area", "day@year"),
        ["sum(passengers)"],
        {},
        f"select r.area, {Y}, sum(passengers) from {WITH_ROUTES} group by 1, 2",
    ),
    ((), ["sum(passengers * Routes.minutes)"], {}, f"select sum(passengers * r.minutes) from {WITH_ROUTES}"),
    (
        ("vessels.built",),
        ["mean(passengers where Routes.area = 'North Reach')"],
        {},
        f"select built, avg(case when r.area = 'North Reach' then passengers end) from {WITH_ROUTES} left"
        " join vessels v on v.vessel = s.vessel group by 1",
    ),
    # Several tables side by side.
    (
        ("route",),
        [FARE, "sum(Targets.goal)"],
        {},
        "with a as (select route k, sum(fare) v from s group by 1), b as (select route k, sum(goal) v"
        " from targets group by 1) select a.k, a.v, b.v from a left join b on a.k = b.k union"
        " select b.k, a.v, b.v from b left join a on a.k = b.k",
    ),
    (
        ("day@month",),
        ["sum(fare) - sum(Targets.goal)"],
        {},
        f"with a as (select {M} k, sum(fare) v from s group by 1), b as (select month k, sum(goal) v from targets"
        " group by 1) select a.k, a.v - b.v from a left join b on a.k = b.k union select b.k, a.v - b.v from b"
        " left join a on a.k = b.k",
    ),
    (
        ("day@year", "routes.area"),
        ["sum(fare) / sum(Targets.goal)"],
        {},
        f"with a as (select {Y} k, r.area g, sum(fare) v from {WITH_ROUTES} group by 1, 2),"
        f" b as (select {YEAR.format('month')} k, r.area g, sum(goal) v from targets t"
        " join routes r on r.route = t.route group by 1, 2) select a.k, a.g, a.v / b.v from a left"
        " join b on a.k is b.k and a.g is b.g union select b.k, b.g, a.v / b.v from b left"
        " join a on a.k is b.k and a.g is b.g",
    ),
    (
        ("routes.area",),
        ["sum(Bookings.paid)", "count_rows()"],
        {},
        f"with a as (select r.area k, count(*) v from {WITH_ROUTES} group by 1),"
        " b as (select r.area k, sum(paid) v from bookings o left join routes r on r.route = o.route group by 1)"
        " select a.k, b.v, a.v from a left join b on a.k is b.k",
    ),
    (
        ("day@day",),
        ["sum(Bookings.party)"],
        {"filters": (DatesFilter(field="day", start=dt.date(2025, 5, 1), end=dt.date(2025, 5, 31)),)},
        "select travelled, sum(party) from bookings where travelled between '2025-05-01' and '2025-05-31' group by 1",
    ),
    (
        (),
        ["sum(Targets.goal)", FARE],
        {"filters": (ListFilter(field="route", values=("Harrow–Tern",)),)},
        "select (select sum(goal) from targets where route = 'Harrow–Tern'), (select sum(fare) from s"
        " where route = 'Harrow–Tern')",
    ),
    (
        (),
        ["sum(Targets.goal)"],
        {"filters": (ListFilter(field="routes.area", values=("Inner Sound",)),)},
        "select sum(goal) from targets t join routes r on r.route = t.route where r.area = 'Inner Sound'",
    ),
    (
        (),
        ["sum(Targets.goal)", "count_rows()"],
        {"filters": (IN_2025,)},
        "select (select sum(goal) from targets"
        f" where month between '2025-01-01' and '2025-12-31'), (select count(*) from s where {SQL_2025})",
    ),
    (("bookings.channel",), ["sum(Bookings.paid)"], {}, "select channel, sum(paid) from bookings group by 1"),
    # Grains of their own.
    (("route",), ["sum(fare) per ()"], {}, "select route, (select sum(fare) from s) from s group by 1"),
    (
        ("route", "region"),
        ["sum(fare) / sum(fare) per (region)"],
        {},
        "select route, region, sum(fare) / (select sum(fare) from s t where t.region is s.region) from s group by 1, 2",
    ),
    (
        ("day@month",),
        ["mean(sum(fare) per (shown, day))"],
        {},
        f"select {M}, avg(v) from (select day, sum(fare) v from s group by 1) group by 1",
    ),
    (
        ("region",),
        ["max(count_rows() per (shown, day))"],
        {},
        "select region, max(n) from (select region, day, count(*) n from s group by 1, 2) group by 1",
    ),
    (
        ("region", "day@year"),
        ["sum(fare) per (shown except year)"],
        {},
        f"select region, {Y}, (select sum(fare) from s t where t.region is s.region) from s group by 1, 2",
    ),
    (
        ("vessel",),
        ["mean(sum(passengers) per (shown, route))"],
        {},
        "select vessel, avg(v) from (select vessel, route, sum(passengers) v from s group by 1, 2) group by 1",
    ),
    (
        (),
        ["median(count_rows() per (day))"],
        {},
        "with c as (select count(*) n, row_number() over (order by count(*)) i, count(*) over () t from s"
        " group by day) select avg(n) from c where i in ((t + 1) / 2, (t + 2) / 2)",
    ),
    (
        ("region",),
        ["count_distinct(route) - count_distinct(route) per ()"],
        {},
        "select region, count(distinct route) - (select count(distinct route) from s) from s group by 1",
    ),
    (
        ("route",),
        ["sum(if(fare = max(fare) per (route), 1))"],
        {},
        "select route, sum(case when fare = (select max(fare) from s t where t.route = s.route) then 1 end)"
        " from s where route is not null group by 1 union select null, 1",
    ),
    # Windows.
    (("route",), ["rank(sum(fare))"], {}, "select route, rank() over (order by sum(fare) desc) from s group by 1"),
    (("route",), ["share(sum(fare))"], {}, "select route, sum(fare) / sum(sum(fare)) over () from s group by 1"),
    (
        ("day@month",),
        ["running(sum(fare))"],
        {},
        f"select {M}, sum(sum(fare)) over (order by {M} nulls last) from s group by 1",
    ),
    (
        ("day@month", "region"),
        ["previous(count_rows())"],
        {},
        f"select {M}, region, lag(count(*)) over (partition by region order by {M} nulls last) from s group by 1, 2",
    ),
    (
        ("day@quarter",),
        ["difference(sum(passengers))"],
        {},
        f"select {Q}, sum(passengers) - lag(sum(passengers)) over (order by {Q} nulls last) from s group by 1",
    ),
    (
        ("day@month",),
        ["moving(mean, sum(fare), 3)"],
        {"filters": (IN_2025,)},
        f"{BY_MONTH}, w as (select k, avg(v) over (order by k nulls last rows 2 preceding) a from m) select *"
        " from w where k between '2025-01-01' and '2025-12-01'",
    ),
    (
        ("region", "vessel"),
        ["rank(sum(fare)) + 0", "share(sum(fare)) restart (region)"],
        {},
        "select region, vessel, rank() over (order by sum(fare) desc), sum(fare) / sum(sum(fare))"
        " over (partition by region) from s group by 1, 2",
    ),
    # Time.
    (
        ("day@month",),
        ["shift(sum(fare), -1, 'year')"],
        {"filters": (IN_2025,)},
        f"{BY_MONTH} select m.k, b.v from m left join m b on b.k = date(m.k, '-1 year')"
        " where m.k between '2025-01-01' and '2025-12-01'",
    ),
    (
        ("day@month",),
        ["growth(sum(fare), 'year')"],
        {},
        f"{BY_MONTH} select m.k, (m.v - b.v) / abs(b.v) from m left join m b on b.k = date(m.k, '-1 year')",
    ),
    (
        ("day@month",),
        ["whole(shift(sum(fare), -1, 'quarter'), 'quarter')"],
        {},
        f"with q as (select {Q} k, sum(fare) v from s where day is not null group by 1),"
        f" m as (select distinct {M} k from s) select m.k, q.v from m left"
        f" join q on q.k = date({QUARTER.format('m.k')}, '-3 months')",
    ),
    (
        ("day@month",),
        ["to_date(sum(fare), 'year')"],
        {"filters": (IN_2025,)},
        f"{BY_MONTH} select m.k, (select sum(b.v) from m b where b.k <= m.k and b.k >= {YEAR.format('m.k')})"
        " from m where m.k between '2025-01-01' and '2025-12-01'",
    ),
    (
        ("day@month",),
        ["to_date(count_distinct(vessel), 'year')"],
        {},
        f"with m as (select distinct {M} k from s) select k, case when k is not null"
        f" then (select count(distinct vessel) from s where {M} <= k and {Y} = {YEAR.format('k')}) end from m",
    ),
    (
        ("day@month",),
        ["to_date(mean, sum(fare), 'year')"],
        {},
        f"{BY_MONTH} select m.k, (select avg(b.v) from m b where b.k <= m.k and b.k >= {YEAR.format('m.k')}) from m",
    ),
    (
        ("day@quarter", "region"),
        ["change(count_rows(), 'year')"],
        {},
        f"with q as (select {Q} k, region g, count(*) n from s group by 1, 2) select q.k, q.g, q.n - b.n from q"
        " left join q b on b.g is q.g and b.k = date(q.k, '-1 year')",
    ),
    (
        ("day@day",),
        ["shift(count_rows(), -1, 'year')"],
        {"filters": (DatesFilter(field="day", start=dt.date(2024, 2, 27), end=dt.date(2024, 3, 2)),)},
        "with d as (select day k, count(*) n from s group by 1) select d.k, case when d.k <> '2024-02-29'"
        " then b.n end from d left join d b on b.k = date(d.k, '-1 year')"
        " where d.k between '2024-02-27' and '2024-03-02'",
    ),
    (
        ("region",),
        ["growth(sum(fare), 'year')"],
        {"filters": (IN_2025,)},
        "select region, (sum(fare) - (select sum(fare) from s t"
        " where t.region is s.region and day between '2024-01-01' and '2024-12-31')) / (select sum(fare) from s t"
        f" where t.region is s.region and day between '2024-01-01' and '2024-12-31') from s where {SQL_2025}"
        " group by 1",
    ),
    (
        (),
        ["to_date(sum(fare), 'year')"],
        {"filters": (DatesFilter(field="day", start=dt.date(2025, 3, 1), end=dt.date(2025, 4, 30)),)},
        "select sum(fare) from s where day between '2025-01-01' and '2025-04-30'",
    ),
    (
        ("route", "day@year"),
        ["since(sum(passengers) > 20000)"],
        {},
        f"with y as (select route r, {Y} k, sum(passengers) v from s group by 1, 2), f as (select r, min(k) k"
        " from y where v > 20000 group by 1) select y.r, y.k, case when y.k >= f.k"
        " then strftime('%Y', y.k) - strftime('%Y', f.k) end from y left join f on f.r is y.r",
    ),
    (
        ("day@month",),
        ["sum(Targets.goal) - shift(sum(Targets.goal), -1, 'month')"],
        {"filters": (IN_2025,)},
        f"with t as (select month k, sum(goal) v from targets group by 1), m as (select {M} k from s"
        f" where {SQL_2025} group by 1) select m.k, t.v - b.v from m join t on t.k = m.k"
        " join t b on b.k = date(m.k, '-1 month')",
    ),
    # Filters, keep, membership.
    (
        ("route",),
        ["sum(fare)"],
        {"filters": (MeasureFilter(measure=Measure(), low=300),)},
        "select route, sum(fare) from s group by 1 having count(*) >= 300",
    ),
    (
        ("route",),
        ["sum(fare)"],
        {"keep": Keep(count=4, by=Measure(field="passengers", aggregate="sum"))},
        "select route, sum(fare) from s group by 1 order by sum(passengers) desc limit 4",
    ),
    (
        ("route",),
        ["sum(fare)"],
        {"keep": Keep(parameter="top_n", end="bottom", by=Measure())},
        "select route, sum(fare) from s group by 1 order by count(*), route nulls last limit 3",
    ),
    (
        ("day@year",),
        ["sum(fare)"],
        {
            "filters": (
                MembershipFilter(
                    field="route", keep=Keep(parameter="top_n", by=Measure(field="fare", aggregate="sum"))
                ),
            )
        },
        f"select {Y}, sum(fare) from s where route in (select route from s group by 1"
        " order by sum(fare) desc limit 3) or (route is null and (select count(*) from (select route from s"
        " group by 1 order by sum(fare) desc limit 3) where route is null)) group by 1",
    ),
    (
        ("region",),
        ["count_rows()"],
        {"filters": (MembershipFilter(field="vessel", measure=Measure(field="late", aggregate="mean"), high=6.5),)},
        "select region, count(*) from s where vessel in (select vessel from s where vessel is not null"
        " group by 1 having avg(late) <= 6.5) group by 1",
    ),
    (
        ("region",),
        ["count_rows()"],
        {
            "filters": (
                IN_2025,
                MembershipFilter(
                    field="route",
                    keep=Keep(count=5, by=Measure(field="passengers", aggregate="sum")),
                    follows=True,
                    exclude=True,
                ),
            )
        },
        f"select region, count(*) from s where {SQL_2025} and coalesce(route not in (select route from s"
        f" where {SQL_2025} group by 1 order by sum(passengers) desc limit 5), 1) group by 1",
    ),
    (
        ("region",),
        ["count_rows()"],
        {"filters": (RangeFilter(field="late", low_parameter="late_after"),)},
        "select region, count(*) from s where late >= 10 group by 1",
    ),
    (
        ("region",),
        ["count_rows()"],
        {"filters": (ListFilter(field="route", parameter="chosen"),)},
        "select region, count(*) from s group by 1",
    ),
    (
        ("region",),
        ["count_rows()"],
        {"filters": (ListFilter(field="vessel", values=("No such vessel",)),)},
        "select region, count(*) from s where 0 group by 1",
    ),
]


def same(a: Any, b: Any) -> bool:
    if isinstance(a, bool) or isinstance(b, bool):
        return (a is None) == (b is None) and (a is None or bool(a) == bool(b))
    if isinstance(a, int | float) and isinstance(b, int | float):
        return math.isclose(a, b, rel_tol=1e-9, abs_tol=1e-6)
    return a == b


def plain(value: Any) -> Any:
    return value.isoformat() if isinstance(value, dt.date) else int(value) if isinstance(value, bool) else value


def ask(names: tuple[str, ...], formulas: list[str], **more: Any):
    found, context = model()
    measures = tuple(Measure(formula=with_ids(text, found.schema)) for text in formulas)
    return answer(Query(groups=by(*names), measures=measures, **more), found, context)


class AgainstSql(unittest.TestCase):
    def test_each_question_has_the_answer_of_its_sql(self):
        self.assertGreaterEqual(len(QUESTIONS), 60)
        for names, formulas, more, sql in QUESTIONS:
            with self.subTest(by=names, show=formulas, **{key: str(value) for key, value in more.items()}):
                depth = len(names)
                wanted = {tuple(row[:depth]): row[depth:] for row in database().execute(sql)}
                result = ask(names, formulas, **more)
                found = {
                    tuple(map(plain, row[:depth])): tuple(map(plain, row[depth:])) for row in result.frame.iter_rows()
                }
                self.assertEqual(set(found), set(wanted))
                for key, values in found.items():
                    self.assertTrue(all(map(same, values, wanted[key])), f"{key}: {values}, not {wanted[key]}")

    def test_a_dimension_that_does_not_reach_a_table_is_said(self):
        result = ask(("vessel",), ["sum(fare)", "sum(Targets.goal)"])
        self.assertEqual(result.frame["m1"].null_count(), result.frame.height)
        self.assertIn("Targets", result.notes[0])
        repeated, context = model(beyond="repeat")
        measure = Measure(formula=with_ids("sum(Targets.goal)", repeated.schema))
        found = answer(Query(groups=by("vessel"), measures=(Measure(), measure)), repeated, context)
        total = database().execute("select sum(goal) from targets").fetchone()[0]
        self.assertTrue(all(same(value, total) for value in found.frame["m1"]))

    def test_a_filter_that_does_not_reach_a_table_is_said(self):
        result = ask((), ["sum(Targets.goal)"], filters=(ListFilter(field="vessel", values=("Knot",)),))
        self.assertEqual(result.frame["m0"][0], database().execute("select sum(goal) from targets").fetchone()[0])
        self.assertIn("Targets is not narrowed", " ".join(result.notes))

    def test_fields_of_two_tables_that_no_row_has_are_refused(self):
        with self.assertRaisesRegex(DefinitionProblem, "No table has all of"):
            ask(("vessel", "bookings.channel"), ["count_rows()"])

    def test_fiscal_years(self):
        found, context = model(fiscal_month=4)
        measure = Measure(formula=with_ids("to_date(sum(fare), 'year')", found.schema))
        shown = answer(Query(groups=by("day@month"), measures=(measure,)), found, context).frame
        fiscal = "date({0}, '-3 months', 'start of year', '+3 months')".format
        sql = f"{BY_MONTH} select m.k, (select sum(b.v) from m b where b.k <= m.k and b.k >= {fiscal('m.k')}) from m"
        wanted = dict(database().execute(sql))
        self.assertTrue(all(same(value, wanted[plain(key)]) for key, value in shown.iter_rows()))
        years = answer(Query(groups=by("day@year"), measures=(Measure(),)), found, context).frame
        self.assertEqual(
            dict(years.drop_nulls().iter_rows()),
            {
                dt.date.fromisoformat(key): n
                for key, n in database().execute(
                    f"select {fiscal('day')}, count(*) from s where day is not null group by 1"
                )
            },
        )

    def test_iso_week_53_has_no_counterpart_in_a_year_without_one(self):
        rows = [
            {"sailed": dt.date(2026, 12, 30), "fare": 4.0},
            {"sailed": dt.date(2025, 12, 29), "fare": 8.0},
            {"sailed": dt.date(2025, 12, 24), "fare": 2.0},
        ]
        model = sailings(rows)
        measure = Measure(formula=with_ids("shift(sum(fare), -1, 'year')", model.schema))
        result = answer(Query(groups=by("sailed@week"), measures=(measure,)), model, context_of(model)).frame
        self.assertIsNone(dict(result.iter_rows())[dt.date(2026, 12, 28)])


class Starts(unittest.TestCase):
    def test_groups_are_counted_from_the_first_period_in_which_they_got_there(self):
        found, context = model()
        test, size = with_ids("sum(passengers) >= 9000", found.schema), with_ids("sum(passengers)", found.schema)
        query = Query(
            groups=by("day@month", "region"), measures=(Measure(formula=size),), aligned=test, filters=(IN_2025,)
        )
        result = answer(query, found, context)
        sql = f"select {M}, region, sum(passengers) from s where day is not null group by 1, 2"
        months = {(month, region): size for month, region, size in database().execute(sql)}
        first: dict = {}
        for (month, region), size in sorted(months.items(), key=str):
            if size and size >= 9000:
                first.setdefault(region, month)
        wanted = {}
        for (k, g), v in months.items():
            if g in first and "2025-01-01" <= k <= "2025-12-31" and k >= first[g]:
                apart = (int(k[:4]) - int(first[g][:4])) * 12 + int(k[5:7]) - int(first[g][5:7])
                wanted[apart, g] = v
        self.assertEqual({row[:2]: row[2] for row in result.frame.iter_rows()}, wanted)
        self.assertEqual(result.frame["d0"].to_list(), sorted(result.frame["d0"]))
        self.assertEqual(result.columns[0].name, "Months since the first")

    def test_names_are_sorted_by_another_field(self):
        rows = [{"route": r, "passengers": n} for r, n in (("March", 3), ("January", 1), ("February", 2))]
        fields = [f.model_copy(update={"sort_by": "passengers"}) if f.id == "route" else f for f in SAILING_FIELDS]
        model = sailings(rows, Schema(fields))
        result = answer(
            Query(groups=by("route"), measures=(Measure(),)),
            model,
            context_of(model),
        )
        self.assertEqual(result.frame["d0"].to_list(), ["January", "February", "March"])


@tag("long")
class Totals(unittest.TestCase):
    def test_other_and_totals_are_worked_out_from_the_rows(self):
        keep = Keep(count=3, by=Measure(field="fare", aggregate="sum"), rest=True)
        result = ask(("route",), ["sum(fare) / sum(passengers)", "count_distinct(vessel)"], keep=keep, totals=((),))
        kept = "select route from s group by 1 order by sum(fare) desc limit 3"
        sql = (
            "select sum(fare) / sum(passengers), count(distinct vessel) from s where not exists (select 1 from"
            f" ({kept}) k where k.route is s.route)"
        )
        other = next(row[:-1] for row in result.frame.iter_rows() if row[-1])
        self.assertTrue(all(map(same, other[1:], database().execute(sql).fetchone())))
        whole = database().execute("select sum(fare) / sum(passengers), count(distinct vessel) from s").fetchone()
        self.assertTrue(all(map(same, result.totals[()].row(0), whole)))
        self.assertEqual((result.frame["rest"][-1], result.rest.name), (True, "Other"))

    def test_totals_of_what_is_kept_are_of_those_rows(self):
        keep = Keep(count=3, by=Measure(field="fare", aggregate="sum"))
        result = ask(("route",), ["median(late)", "mean(fare)"], keep=keep, totals=((),))
        kept = tuple(result.frame["d0"].to_list())
        rows = frames()[""].filter(frames()[""]["route"].is_in(list(kept), nulls_equal=True))
        self.assertTrue(same(result.totals[()]["m0"][0], rows["late"].median()))
        self.assertTrue(same(result.totals[()]["m1"][0], rows["fare"].mean()))

    def test_each_measure_has_its_own_rule(self):
        rules = ("again", "sum", "mean", "min", "max", "none")
        found, context = model()
        text = with_ids("sum(fare) / sum(passengers)", found.schema)
        measures = tuple(Measure(formula=text, total=rule) for rule in rules)
        result = answer(Query(groups=by("region"), measures=measures, totals=((),)), found, context)
        shown = [value for value in result.frame["m0"] if value is not None]
        wanted = [
            database().execute("select sum(fare) / sum(passengers) from s").fetchone()[0],
            sum(shown),
            sum(shown) / len(shown),
            min(shown),
            max(shown),
            None,
        ]
        self.assertTrue(all(map(same, result.totals[()].row(0), wanted)))

    def test_a_total_of_a_year_before_is_of_the_periods_shown(self):
        result = ask(("day@month",), ["shift(sum(fare), -1, 'year')"], filters=(IN_2025,), totals=((),))
        wanted = (
            database().execute("select sum(fare) from s where day between '2024-01-01' and '2024-12-31'").fetchone()[0]
        )
        self.assertTrue(same(result.totals[()]["m0"][0], wanted))

    def test_top_within_each_group_keeps_ties_if_asked(self):
        rows = [{"region": "N", "route": r, "fare": f} for r, f in (("A", 3), ("B", 2), ("C", 2), ("D", 1))]
        rows += [{"region": "S", "route": "E", "fare": 9}]
        model = sailings(rows)
        for ties, kept in ((False, ["A", "B", "E"]), (True, ["A", "B", "C", "E"])):
            keep = Keep(count=2, of="within", by=Measure(field="fare", aggregate="sum"), ties=ties)
            query = Query(groups=by("region", "route"), measures=(Measure(field="fare", aggregate="sum"),), keep=keep)
            result = answer(query, model, context_of(model))
            self.assertEqual(result.frame["d1"].to_list(), kept)
            self.assertTrue(any("tie" in note for note in result.notes))


DIMENSIONS = st.lists(
    st.sampled_from(["route", "region", "vessel", "routes.area", "day@month", "day@year"]), max_size=3, unique=True
)


class Algebra(unittest.TestCase):
    @examples(25)
    @given(
        DIMENSIONS,
        st.sampled_from(
            ["sum(fare)", "count_rows()", "mean(late)", "count_distinct(route)", "sum(fare) / sum(passengers)"]
        ),
        st.booleans(),
    )
    def test_totals_depend_neither_on_sort_nor_on_limit(self, names, formula, descending):
        names = tuple(names)
        plain_ = ask(names, [formula], totals=((),))
        sort = Sort(by="measure", descending=descending) if names else None
        other = ask(names, [formula], totals=((),), sort=sort, limit=2)
        self.assertTrue(same(plain_.totals[()]["m0"][0], other.totals[()]["m0"][0]))
        self.assertTrue(same(plain_.totals[()]["m0"][0], ask((), [formula]).frame["m0"][0]))

    @examples(25)
    @given(
        DIMENSIONS.filter(bool), st.sampled_from(["sum(fare)", "count_rows()", "sum(passengers where not cancelled)"])
    )
    def test_the_parts_add_up_to_the_whole(self, names, formula):
        names = tuple(names)
        whole = ask((), [formula]).frame["m0"][0]
        self.assertTrue(same(sum(v for v in ask(names, [formula]).frame["m0"] if v is not None), whole))
        coarse = {row[:-1]: row[-1] for row in ask(names[:-1], [formula]).frame.iter_rows()}
        summed: dict[tuple, float] = {}
        for row in ask(names, [formula]).frame.iter_rows():
            summed[row[:-2]] = summed.get(row[:-2], 0) + (row[-1] or 0)
        self.assertTrue(all(same(summed[key], value or 0) for key, value in coarse.items()))

    def test_the_order_of_clauses_does_not_matter(self):
        filters = (
            IN_2025,
            RangeFilter(field="late", low=1),
            ListFilter(field="region", values=("Inner Sound",), exclude=True),
        )
        one = ask(("route",), ["sum(fare)", "share(count_rows())"], filters=filters, totals=((),))
        two = ask(("route",), ["share(count_rows())", "sum(fare)"], filters=filters[::-1], totals=((),))
        self.assertEqual(one.frame.select("d0", "m0", "m1").rows(), two.frame.select("d0", "m1", "m0").rows())
        self.assertEqual(one.totals[()].row(0), two.totals[()].row(0)[::-1])

    def test_the_mean_of_groups_is_not_the_mean_of_rows(self):
        groups, rows = ask((), ["mean(mean(late) per (route))", "mean(late)"]).frame.row(0)
        wanted = (
            database()
            .execute(
                "select (select avg(v) from (select avg(late) v from s group by route)), (select avg(late) from s)"
            )
            .fetchone()
        )
        self.assertTrue(all(map(same, (groups, rows), wanted)))
        self.assertFalse(same(groups, rows))

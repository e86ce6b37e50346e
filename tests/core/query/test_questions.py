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
from tests.core.query.question_list import BY_MONTH, IN_2025, QUESTIONS, M, by
from tests.core.support import SAILING_FIELDS, context_of, sailings
from veduta.core.data.fields import Schema
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.measures import replace_names_with_ids
from veduta.core.query.answer import answer
from veduta.core.query.filters import ListFilter, RangeFilter
from veduta.core.query.measures import Measure, TopN
from veduta.core.query.query import Query, Sort


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
    measures = tuple(Measure(formula=replace_names_with_ids(text, found.schema)) for text in formulas)
    return answer(Query(groups=by(*names), measures=measures, **more), found, context)


class AgainstSql(unittest.TestCase):
    @tag("long")
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
        measure = Measure(formula=replace_names_with_ids("sum(Targets.goal)", repeated.schema))
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
        measure = Measure(formula=replace_names_with_ids("to_date(sum(fare), 'year')", found.schema))
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
        measure = Measure(formula=replace_names_with_ids("shift(sum(fare), -1, 'year')", model.schema))
        result = answer(Query(groups=by("sailed@week"), measures=(measure,)), model, context_of(model)).frame
        self.assertIsNone(dict(result.iter_rows())[dt.date(2026, 12, 28)])


class Starts(unittest.TestCase):
    def test_groups_are_counted_from_the_first_period_in_which_they_got_there(self):
        found, context = model()
        test, size = (
            replace_names_with_ids("sum(passengers) >= 9000", found.schema),
            replace_names_with_ids("sum(passengers)", found.schema),
        )
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
        keep = TopN(count=3, by=Measure(field="fare", aggregate="sum"), rest=True)
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
        keep = TopN(count=3, by=Measure(field="fare", aggregate="sum"))
        result = ask(("route",), ["median(late)", "mean(fare)"], keep=keep, totals=((),))
        kept = tuple(result.frame["d0"].to_list())
        rows = frames()[""].filter(frames()[""]["route"].is_in(list(kept), nulls_equal=True))
        self.assertTrue(same(result.totals[()]["m0"][0], rows["late"].median()))
        self.assertTrue(same(result.totals[()]["m1"][0], rows["fare"].mean()))

    def test_each_measure_has_its_own_rule(self):
        rules = ("again", "sum", "mean", "min", "max", "none")
        found, context = model()
        text = replace_names_with_ids("sum(fare) / sum(passengers)", found.schema)
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
            keep = TopN(count=2, of="within", by=Measure(field="fare", aggregate="sum"), ties=ties)
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

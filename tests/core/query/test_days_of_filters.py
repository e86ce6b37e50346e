"""Which days filters on periods name, in plain examples; and what else of filters and measures others ask for."""

from __future__ import annotations

import datetime as dt
import unittest

from tests.core.query.asking import FARE, Asking, by, daily
from tests.core.support import SAILING_FIELDS, sailings
from veduta.core.calendar import Grain, Grouping, find_period_start
from veduta.core.data.fields import DataType, Schema
from veduta.core.formula.measures import ParameterValue
from veduta.core.query.filters import Context, MembershipFilter, PointsFilter, RangeFilter, RelativeFilter
from veduta.core.query.measures import Measure, TopN, measure_heading
from veduta.core.query.query import Sort

SCHEMA = Schema(SAILING_FIELDS)


def day(text: str) -> dt.date:
    return dt.date.fromisoformat(text)


class Recent(unittest.TestCase):
    def test_bounds(self):
        for today, parts, first, last in (
            ("2026-03-31", {"unit": "month", "count": 1}, "2026-03-01", "2026-03-31"),
            ("2026-03-15", {"unit": "month", "count": 1, "to_date": True}, "2026-03-01", "2026-03-15"),
            ("2026-03-31", {"unit": "month", "count": 1, "back": 1, "to_date": True}, "2026-02-01", "2026-02-28"),
            ("2026-03-15", {"unit": "month", "count": 1, "back": 1, "to_date": True}, "2026-02-01", "2026-02-15"),
            ("2026-03-15", {"unit": "month", "count": 3, "back": 1}, "2025-12-01", "2026-02-28"),
            ("2024-02-29", {"unit": "year", "count": 1, "back": 1, "to_date": True}, "2023-01-01", "2023-02-28"),
            ("2026-12-30", {"unit": "week", "count": 1}, "2026-12-28", "2027-01-03"),
            ("2026-12-30", {"unit": "week", "count": 2, "back": 1, "to_date": True}, "2026-12-14", "2026-12-23"),
            ("2026-05-10", {"unit": "quarter", "count": 1, "back": 4, "to_date": True}, "2025-04-01", "2025-05-10"),
            ("2026-05-10", {"unit": "day", "count": 7}, "2026-05-04", "2026-05-10"),
        ):
            with self.subTest(today=today, **parts):
                found = RelativeFilter(field="sailed", anchor="today", **parts).find_bounds(Context(day(today)))
                self.assertEqual(found, (day(first), day(last)))

    def test_of_fiscal_years(self):
        latest = Context(day("2026-12-01"), {"sailed": day("2026-02-10")}, fiscal_month=4)
        for back, first, last in ((0, "2025-04-01", "2026-02-10"), (1, "2024-04-01", "2025-02-10")):
            asked = RelativeFilter(field="sailed", unit="year", count=1, back=back, to_date=True)
            self.assertEqual(asked.find_bounds(latest), (day(first), day(last)))


class Marks(unittest.TestCase):
    def test_days_of_marks_and_of_all_but_them(self):
        february = (day("2026-02-01"), day("2026-02-28"))
        context = Context(day("2026-12-01"))
        of_month = PointsFilter(groups=by("sailed@month"), points=(("2026-02-01",),))
        all_but = of_month.model_copy(update={"exclude": True})
        self.assertEqual(of_month.list_days({"sailed"}, context), [february])
        self.assertEqual(
            all_but.list_days({"sailed"}, context),
            [(dt.date.min, day("2026-01-31")), (day("2026-03-01"), dt.date.max)],
        )
        both = PointsFilter(groups=by("route", "sailed@month"), points=(("A", "2026-02-01"),))
        self.assertEqual(both.list_days({"sailed"}, context), [february])
        without = both.model_copy(update={"exclude": True})
        self.assertIsNone(without.list_days({"sailed"}, context), "other routes have February too")
        self.assertIsNone(of_month.list_days({"departure"}, context))

    def test_the_finest_of_several_periods_counts(self):
        marks = PointsFilter(groups=by("sailed@year", "sailed@month"), points=(("2026-01-01", "2026-02-01"),))
        self.assertIs(marks.get_period_grain({"sailed"}), Grain.MONTH)

    def test_words(self):
        months = tuple((f"2026-0{month}-01",) for month in (1, 2, 3, 4))
        for groups, points, wanted in (
            (by("sailed@month"), months, "Sailed is Jan 2026 to Apr 2026"),
            (by("sailed@month"), months[:2], "Sailed is Jan 2026 or Feb 2026"),
            (by("route"), (("A",), ("B",), ("C",)), "Route is A, B or C"),
            (by("sailed@month"), (*months[:2], ("2026-06-01",)), "Sailed is Jan 2026, Feb 2026 or Jun 2026"),
        ):
            with self.subTest(wanted):
                self.assertEqual(PointsFilter(groups=groups, points=points).describe(SCHEMA), wanted)
        two = PointsFilter(groups=by("sailed@month", "route"), points=tuple((*month, "A") for month in months[:3]))
        self.assertIn("Route is A", two.describe(SCHEMA))
        self.assertNotIn(" to ", two.describe(SCHEMA))


class Memberships(unittest.TestCase):
    def test_fields_that_they_read(self):
        member = MembershipFilter(
            field="route",
            measure=FARE,
            low=1,
            keep=TopN(by=Measure(field="passengers", aggregate="sum")),
            filters=(RangeFilter(field="cancelled", low=0),),
        )
        self.assertEqual(member.list_fields(), {"route", "fare", "passengers", "cancelled"})

    def test_parameters(self):
        member = MembershipFilter(field="route", measure=FARE, low=1, keep=TopN(by=FARE, parameter="most"))
        for values, count in (((3,), 3), ((), None)):
            resolved = member.resolve_parameters({"most": ParameterValue(DataType.WHOLE, values)})
            self.assertEqual((resolved.keep and resolved.keep.count, resolved.measure), (count, FARE))
        only_top = MembershipFilter(field="route", keep=TopN(by=FARE, parameter="most"))
        self.assertIsNone(only_top.resolve_parameters({"most": ParameterValue(DataType.WHOLE, ())}))


class Others(Asking):
    def test_a_moment_lies_in_its_hour(self):
        self.assertEqual(
            find_period_start(dt.datetime(2026, 3, 1, 7, 45, 12, 5), Grain.HOUR), dt.datetime(2026, 3, 1, 7)
        )

    def test_a_formula_without_a_name_is_called_by_its_text(self):
        self.assertEqual(measure_heading(Measure(formula='sum("#fare") / 2'), SCHEMA), "sum(Fare) / 2")
        self.assertEqual(measure_heading(Measure(formula='sum("#fare")', name="half"), SCHEMA), "Half")

    def test_names_in_order_both_ways(self):
        rows = [{"route": route, "fare": 1.0} for route in ("b", "C", "a", None)]
        for down, wanted in ((False, ["a", "b", "C", None]), (True, ["C", "b", "a", None])):
            found = self.ask(rows, ("route",), "sum(fare)", sort=Sort(by="name", descending=down))
            self.assertEqual(found.frame["d0"].to_list(), wanted)

    def test_a_field_as_a_dimension(self):
        for rows, name, wanted in (
            (daily(400), "sailed", Grouping(field="sailed", grain=Grain.MONTH)),
            (daily(30), "sailed", Grouping(field="sailed", grain=Grain.DAY)),
            ([{"route": "A"}], "sailed", Grouping(field="sailed", grain=Grain.MONTH)),
            ([{"route": "A"}], "route", Grouping(field="route")),
            ([{"fare": 1.0}, {"fare": 2.0}], "fare", Grouping(field="fare")),
            (daily(400), "fare", Grouping(field="fare", width=20)),
        ):
            with self.subTest(name=name, wanted=wanted):
                self.assertEqual(sailings(rows).make_grouping(name), wanted)

import datetime as dt
import unittest

from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.support import SAILING_FIELDS, TODAY, context_of, sailings, sailings_table
from veduta.core.calendar import DAY_PERIODS, Grain, Grouping, find_period_end, find_period_start, list_periods
from veduta.core.data.fields import Schema
from veduta.core.errors import DefinitionProblem
from veduta.core.query.filters import (
    Context,
    DatesFilter,
    EmptyFilter,
    ListFilter,
    PointsFilter,
    RangeFilter,
    RelativeFilter,
    TextFilter,
    describe_dates,
    narrow,
)

DAYS = st.dates(dt.date(1990, 1, 1), dt.date(2060, 12, 31))


def passing(rows, filter_, today=TODAY):
    table = sailings_table(rows)
    context = Context(today, context_of(sailings(rows)).latest)
    frame = table.frame.with_row_index("n").lazy()
    return narrow(frame, (filter_,), Schema(SAILING_FIELDS), context).collect()["n"].to_list()


class EachKind(unittest.TestCase):
    @examples(80)
    @given(
        st.lists(st.sampled_from(["A", "B", "C", None]), max_size=20),
        st.lists(st.sampled_from(["A", "B", "Z", None]), unique=True),
        st.booleans(),
    )
    def test_lists(self, routes, values, exclude):
        found = passing(
            [{"route": r} for r in routes], ListFilter(field="route", values=tuple(values), exclude=exclude)
        )
        self.assertEqual(found, [i for i, r in enumerate(routes) if (r in values) != exclude])

    @examples(80)
    @given(
        st.lists(st.one_of(st.none(), st.integers(-5, 5))),
        st.one_of(st.none(), st.integers(-6, 6)),
        st.one_of(st.none(), st.integers(-6, 6)),
    )
    def test_ranges_include_both_ends(self, numbers, low, high):
        found = passing([{"passengers": n} for n in numbers], RangeFilter(field="passengers", low=low, high=high))
        expected = [
            i
            for i, n in enumerate(numbers)
            if n is not None and (low is None or n >= low) and (high is None or n <= high)
        ]
        self.assertEqual(found, expected)

    @examples(80)
    @given(
        st.lists(st.datetimes(dt.datetime(2024, 2, 27), dt.datetime(2024, 3, 3))),
        st.dates(dt.date(2024, 2, 27), dt.date(2024, 3, 3)),
    )
    def test_a_day_holds_all_its_moments(self, moments, day):
        found = passing([{"departure": m} for m in moments], DatesFilter(field="departure", start=day, end=day))
        self.assertEqual(found, [i for i, m in enumerate(moments) if m.date() == day])

    def test_open_ranges_of_dates(self):
        rows = [{"sailed": dt.date(2026, 1, 31)}, {"sailed": dt.date(2026, 2, 1)}, {}]
        self.assertEqual(passing(rows, DatesFilter(field="sailed", start=dt.date(2026, 2, 1))), [1])
        self.assertEqual(passing(rows, DatesFilter(field="sailed", end=dt.date(2026, 1, 31))), [0])

    def test_text(self):
        rows = [{"route": "Harrow–Tern"}, {"route": "TERN–Quay"}, {"route": "Ash"}, {}]
        for match, text, exclude, expected in (
            ("contains", "tern", False, [0, 1]),
            ("starts", "tern", False, [1]),
            ("ends", "TERN", False, [0]),
            ("contains", "tern", True, [2, 3]),
            ("contains", ".*", False, []),
        ):
            with self.subTest(match=match, text=text, exclude=exclude):
                self.assertEqual(
                    passing(rows, TextFilter(field="route", match=match, text=text, exclude=exclude)), expected
                )

    def test_empties(self):
        self.assertEqual(passing([{"fare": 1.0}, {}], EmptyFilter(field="fare")), [1])
        self.assertEqual(passing([{"fare": 1.0}, {}], EmptyFilter(field="fare", exclude=True)), [0])

    def test_points(self):
        month = Grouping(field="sailed", grain=Grain.MONTH)
        rows = [{"sailed": dt.date(2026, 3, 31), "route": "A"}, {"sailed": dt.date(2026, 3, 1)}, {"route": "A"}]
        both = PointsFilter(groups=(month, Grouping(field="route")), points=(("2026-03-01", "A"), (None, "A")))
        self.assertEqual(passing(rows, both), [0, 2])
        self.assertEqual(passing(rows, both.model_copy(update={"exclude": True})), [1])
        self.assertEqual(passing(rows, PointsFilter(groups=(month,), points=(("2026-03-01",),))), [0, 1])

    def test_filters_that_do_not_fit_their_field(self):
        for filter_ in (
            RangeFilter(field="route", low=1),
            DatesFilter(field="route", start=TODAY),
            TextFilter(field="fare", text="x"),
            ListFilter(field="passengers", values=("many",)),
            PointsFilter(groups=(Grouping(field="route"),), points=(("A", "B"),)),
        ):
            with self.subTest(filter=filter_), self.assertRaises(DefinitionProblem):
                passing([{"route": "A"}], filter_)


class Relative(unittest.TestCase):
    def bounds(self, day, anchor="today", **parts):
        return RelativeFilter(field="sailed", anchor=anchor, **parts).find_bounds(
            Context(day, {"sailed": dt.date(2026, 10, 31)})
        )

    def test_known_bounds(self):
        for day, parts, start, end in (
            ("2026-11-23", {"unit": "month", "count": 12}, "2025-12-01", "2026-11-30"),
            ("2024-03-31", {"unit": "month", "count": 2}, "2024-02-01", "2024-03-31"),
            ("2024-02-29", {"unit": "year", "count": 1, "back": 1}, "2023-01-01", "2023-12-31"),
            ("2026-01-01", {"unit": "week", "count": 1}, "2025-12-29", "2026-01-04"),
            ("2026-01-15", {"unit": "quarter", "count": 2}, "2025-10-01", "2026-03-31"),
            ("2024-03-01", {"unit": "day", "count": 2}, "2024-02-29", "2024-03-01"),
        ):
            with self.subTest(day=day, parts=parts):
                found = self.bounds(dt.date.fromisoformat(day), **parts)
                self.assertEqual(found, (dt.date.fromisoformat(start), dt.date.fromisoformat(end)))

    def test_from_the_latest_date_in_the_data(self):
        self.assertEqual(self.bounds(TODAY, anchor="latest", count=1), (dt.date(2026, 10, 1), dt.date(2026, 10, 31)))

    @examples(150)
    @given(DAYS, st.sampled_from([grain.value for grain in DAY_PERIODS]), st.integers(1, 40), st.integers(0, 12))
    def test_bounds_hold_exactly_so_many_periods(self, day, unit, count, back):
        start, end = self.bounds(day, unit=unit, count=count, back=back)
        grain = Grain(unit)
        periods = list_periods(start, find_period_start(end, grain), grain)
        self.assertEqual(len(periods), count)
        self.assertEqual(find_period_end(periods[-1], grain), end)
        if back == 0:
            self.assertTrue(periods[-1] <= day <= end)

    def test_absurd_numbers_do_not_fail(self):
        self.assertEqual(self.bounds(dt.date(100, 1, 1), unit="year", count=1_000), (dt.date.min, dt.date.max))


class Words(unittest.TestCase):
    def test_every_filter_says_what_it_does(self):
        schema = Schema(SAILING_FIELDS)
        month = Grouping(field="sailed", grain=Grain.MONTH)
        for filter_, words in (
            (ListFilter(field="route", values=("A",)), "Route is A"),
            (ListFilter(field="route", values=("A", "B", None), exclude=True), "Route is not A, B or empty"),
            (ListFilter(field="route", values=tuple("ABCDE")), "Route is A, B, C and 2 more"),
            (ListFilter(field="cancelled", values=(False,)), "not Cancelled"),
            (ListFilter(field="cancelled", values=(True,)), "Cancelled"),
            (RangeFilter(field="fare", low=5, high=1_000), "Fare is 5 to 1,000"),
            (RangeFilter(field="fare", high=0.5), "Fare is at most 0.5"),
            (
                DatesFilter(field="sailed", start=dt.date(2025, 1, 1), end=dt.date(2026, 12, 31)),
                "Sailed in 2025 to 2026",
            ),
            (DatesFilter(field="sailed", start=dt.date(2026, 5, 2)), "Sailed from 2 May 2026"),
            (RelativeFilter(field="sailed"), "Sailed in the last 12 months"),
            (RelativeFilter(field="sailed", count=1, anchor="today"), "Sailed in this month"),
            (RelativeFilter(field="sailed", unit="year", count=1, to_date=True), "Sailed in the latest year to date"),
            (
                RelativeFilter(field="sailed", unit="year", count=1, back=1, to_date=True),
                "Sailed in the previous year up to the same day",
            ),
            (RelativeFilter(field="sailed", unit="year", count=1, back=1), "Sailed in the previous year"),
            (TextFilter(field="route", text="ern", exclude=True), "Route does not contain “ern”"),
            (EmptyFilter(field="fare", exclude=True), "Fare is not empty"),
            (
                PointsFilter(groups=(month,), points=(("2026-03-01",), ("2026-04-01",), ("2026-05-01",))),
                "Sailed is Mar 2026 to May 2026",
            ),
            (
                PointsFilter(groups=(month, Grouping(field="route")), points=(("2026-03-01", "A"),)),
                "Sailed is Mar 2026 and Route is A",
            ),
        ):
            with self.subTest(words=words):
                self.assertEqual(filter_.describe(schema), words)

    def test_ranges_of_days_are_said_as_shortly_as_they_can_be(self):
        for start, end, words in (
            ("2026-01-01", "2026-12-31", "2026"),
            ("2026-04-01", "2026-06-30", "Q2 2026"),
            ("2026-01-01", "2026-10-31", "Jan 2026 to Oct 2026"),
            ("2024-02-01", "2024-02-29", "Feb 2024"),
            ("2026-02-01", "2026-02-27", "1 Feb 2026 to 27 Feb 2026"),
            ("2026-02-01", "2026-02-01", "1 Feb 2026"),
        ):
            with self.subTest(words=words):
                self.assertEqual(describe_dates(dt.date.fromisoformat(start), dt.date.fromisoformat(end)), words)


class Periods(unittest.TestCase):
    @examples(150)
    @given(DAYS, st.sampled_from(DAY_PERIODS))
    def test_a_day_lies_in_its_period_and_periods_follow_each_other(self, day, grain):
        start = find_period_start(day, grain)
        end = find_period_end(start, grain)
        self.assertTrue(start <= day <= end)
        self.assertEqual(find_period_start(end, grain), start)
        following = end + dt.timedelta(days=1)
        self.assertEqual(find_period_start(following, grain), following)

    def test_too_many_periods_are_none(self):
        self.assertEqual(list_periods(dt.date(1, 1, 1), dt.date(9999, 1, 1), Grain.DAY), [])

    def test_the_last_year_there_is(self):
        self.assertEqual(
            list_periods(dt.date(9998, 1, 1), dt.date(9999, 1, 1), Grain.YEAR),
            [dt.date(9998, 1, 1), dt.date(9999, 1, 1)],
        )

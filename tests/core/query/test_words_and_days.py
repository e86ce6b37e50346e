"""How filters and measures are written in words, and which days they leave."""

from __future__ import annotations

import datetime as dt
import unittest

from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.query.asking import FARE, Asking, by
from tests.core.support import SAILING_FIELDS
from veduta.core.data.fields import Schema
from veduta.core.query.filters import (
    DatesFilter,
    MeasureFilter,
    MembershipFilter,
    PointsFilter,
    RangeFilter,
)
from veduta.core.query.filters.dates import describe_dates, invert_days
from veduta.core.query.measures import Measure, TopN, label_measures, measure_heading

SCHEMA = Schema(SAILING_FIELDS)
EVERY = Measure()
MEAN, LATEST = Measure(field="fare", aggregate="mean"), Measure(field="sailed", aggregate="max")
NAMED = Measure(field="fare", aggregate="mean", name="Ticket")
PASSENGERS = Measure(field="passengers", aggregate="sum")


class Words(unittest.TestCase):
    def test_measures_beside_each_other(self):
        for measures, wanted in (
            ((FARE,), ["fare"]),
            ((FARE, PASSENGERS), ["fare", "passengers"]),
            ((MEAN, PASSENGERS), ["mean of fare", "sum of passengers"]),
            ((MEAN, NAMED), ["mean of fare", "ticket"]),
            ((FARE, NAMED, EVERY), ["fare", "ticket", "count of rows"]),
            ((MEAN, EVERY), ["mean of fare", "count of rows"]),
            ((FARE, LATEST), ["sum of fare", "highest of sailed"]),
        ):
            with self.subTest(wanted):
                self.assertEqual(label_measures(measures, SCHEMA), wanted)
        self.assertEqual(measure_heading(NAMED, SCHEMA), "Ticket")

    def test_fields_that_a_measure_reads(self):
        for measure, wanted in (
            (EVERY, set()),
            (FARE, {"fare"}),
            (Measure(formula='sum("#fare") / sum("#passengers")'), {"fare", "passengers"}),
        ):
            self.assertEqual(measure.list_fields(), wanted)

    def test_filters(self):
        for filter_, wanted in (
            (MeasureFilter(measure=FARE), "groups whose fare is not empty"),
            (MeasureFilter(measure=FARE, low=2), "groups whose fare is at least 2"),
            (MeasureFilter(measure=MEAN, high=2.5), "groups whose mean of fare is at most 2.5"),
            (MeasureFilter(measure=FARE, low=1, high_parameter="most"), "groups whose fare is 1 to :most"),
            (
                MembershipFilter(field="route", keep=TopN(count=3, by=FARE, ties=True)),
                "Route is among the top 3 by fare with ties overall",
            ),
            (
                MembershipFilter(field="route", measure=FARE, low=5, exclude=True, follows=True),
                "Route is not among those with fare at least 5",
            ),
            (
                MembershipFilter(
                    field="route", keep=TopN(end="bottom", by=EVERY), filters=(RangeFilter(field="fare", low=1),)
                ),
                "Route is among the bottom 10 by count of rows (Fare is at least 1)",
            ),
            (DatesFilter(field="sailed"), "Sailed any day"),
            (DatesFilter(field="sailed", start=dt.date(2026, 3, 5)), "Sailed from 5 Mar 2026"),
            (DatesFilter(field="sailed", end=dt.date(2026, 3, 5)), "Sailed up to 5 Mar 2026"),
        ):
            with self.subTest(wanted):
                self.assertEqual(filter_.describe(SCHEMA), wanted)

    def test_days(self):
        for start, end, wanted in (
            ("2026-01-01", "2026-12-31", "2026"),
            ("2024-01-01", "2026-12-31", "2024 to 2026"),
            ("2026-04-01", "2026-06-30", "Q2 2026"),
            ("2026-02-01", "2026-02-28", "Feb 2026"),
            ("2026-02-01", "2026-02-27", "1 Feb 2026 to 27 Feb 2026"),
            ("2026-02-03", "2026-02-03", "3 Feb 2026"),
        ):
            self.assertEqual(describe_dates(dt.date.fromisoformat(start), dt.date.fromisoformat(end)), wanted)


FIRST, LAST = dt.date.min, dt.date.max
OFFSETS = st.lists(st.tuples(st.integers(0, 30), st.integers(0, 4)), max_size=5)


class Days(Asking):
    @examples(100)
    @given(OFFSETS)
    def test_all_days_but_those_of_some_ranges(self, pairs):
        start = dt.date(2026, 2, 1)
        days = [start + dt.timedelta(days=i) for i in range(-2, 40)]
        ranges = [(start + dt.timedelta(days=at), start + dt.timedelta(days=at + more)) for at, more in pairs]
        left = invert_days(ranges)
        for day in days:
            self.assertNotEqual(
                any(a <= day <= b for a, b in ranges), any(a <= day <= b for a, b in left), (day, ranges)
            )

    def test_nothing_is_before_the_first_day_or_after_the_last(self):
        middle = (dt.date(2026, 1, 1), dt.date(2026, 1, 31))
        for ranges, wanted in (
            ([], [(FIRST, LAST)]),
            ([(FIRST, LAST)], []),
            ([(FIRST, middle[1])], [(dt.date(2026, 2, 1), LAST)]),
            ([(middle[0], LAST)], [(FIRST, dt.date(2025, 12, 31))]),
        ):
            self.assertEqual(invert_days(ranges), wanted)
        noon = (dt.datetime(2026, 1, 1, 12), dt.datetime(2026, 1, 1, 12, 59, 59, 999_999))
        (before, after) = invert_days([noon])
        self.assertEqual(
            (before[1], after[0]), (dt.datetime(2026, 1, 1, 11, 59, 59, 999_999), dt.datetime(2026, 1, 1, 13))
        )

    def test_marks_at_either_end_of_the_calendar_can_be_left_out(self):
        rows = [{"sailed": dt.date(year, 12, 31), "fare": float(year)} for year in (1, 2026, 9999)]
        for year, left in (("0001", [2026, 9999]), ("9999", [1, 2026]), ("2026", [1, 9999])):
            marks = PointsFilter(groups=by("sailed@year"), points=((f"{year}-01-01",),), exclude=True)
            result = self.ask(rows, ("sailed@year",), "sum(fare)", "shift(sum(fare), -1, 'year')", filters=(marks,))
            self.assertEqual([row[1] for row in result.frame.rows() if row[1] is not None], left, year)

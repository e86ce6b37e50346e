"""Periods: their starts, neighbours, ends and names, in plain examples and against loops over days."""

from __future__ import annotations

import datetime as dt
import unittest
from itertools import pairwise

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from veduta.core.calendar import (
    Days,
    Grain,
    choose_grain,
    find_enclosing_period,
    find_period_end,
    find_period_start,
    intersect_days,
    label_period,
    list_periods,
    merge_days,
    shift_days,
    shift_period,
    step_back_periods,
)
from veduta.core.data.fields import DataType

HOUR, DAY, WEEK, MONTH, QUARTER, YEAR = Grain.HOUR, Grain.DAY, Grain.WEEK, Grain.MONTH, Grain.QUARTER, Grain.YEAR


def day(text: str) -> dt.date:
    return dt.datetime.fromisoformat(text) if ":" in text else dt.date.fromisoformat(text)


def of_column(start: str, make) -> dt.date | None:
    return pl.DataFrame({"start": [day(start)]}).select(make(pl.col("start"))).item()


class Shifting(unittest.TestCase):
    def test_the_period_so_many_units_away(self):
        for grain, start, steps, unit, wanted in (
            (YEAR, "2024-01-01", -1, YEAR, "2023-01-01"),
            (QUARTER, "2026-01-01", -1, QUARTER, "2025-10-01"),
            (QUARTER, "2026-01-01", -1, YEAR, "2025-01-01"),
            (MONTH, "2026-01-01", -1, MONTH, "2025-12-01"),
            (MONTH, "2026-02-01", 3, QUARTER, "2026-11-01"),
            (WEEK, "2026-01-05", -1, WEEK, "2025-12-29"),
            (WEEK, "2026-01-05", 2, WEEK, "2026-01-19"),
            (WEEK, "2026-01-05", -1, YEAR, "2025-01-06"),  # week 2 of both
            (WEEK, "2025-12-29", -1, YEAR, "2024-12-30"),  # week 1 of 2026 and of 2025
            (WEEK, "2026-12-28", -1, YEAR, None),  # week 53, of which 2025 has none
            (WEEK, "2026-12-28", -6, YEAR, "2020-12-28"),
            (DAY, "2026-03-01", -1, DAY, "2026-02-28"),
            (DAY, "2024-03-01", -1, DAY, "2024-02-29"),
            (DAY, "2026-03-10", -2, WEEK, "2026-02-24"),
            (DAY, "2024-02-29", -1, YEAR, None),
            (DAY, "2024-02-29", -4, YEAR, "2020-02-29"),
            (DAY, "2026-03-31", -1, MONTH, None),
            (DAY, "2026-03-31", -1, QUARTER, "2025-12-31"),
            (HOUR, "2026-01-01 00:00", -1, HOUR, "2025-12-31 23:00"),
            (HOUR, "2026-01-01 05:00", -7, DAY, "2025-12-25 05:00"),
        ):
            with self.subTest(grain=grain.value, start=start, steps=steps, unit=unit.value):
                found = of_column(start, lambda column: shift_period(column, grain, steps, unit))  # noqa: B023
                self.assertEqual(found, wanted and day(wanted))

    def test_the_period_that_holds_another(self):
        for grain, start, unit, month, wanted in (
            (WEEK, "2025-12-29", YEAR, 1, "2025-12-29"),  # the ISO year 2026 begins with this week
            (WEEK, "2026-12-28", YEAR, 1, "2025-12-29"),
            (WEEK, "2026-06-29", MONTH, 1, "2026-06-01"),
            (WEEK, "2026-06-29", WEEK, 1, "2026-06-29"),
            (MONTH, "2026-03-01", QUARTER, 1, "2026-01-01"),
            (MONTH, "2026-03-01", YEAR, 4, "2025-04-01"),
            (MONTH, "2026-03-01", QUARTER, 3, "2026-03-01"),
            (DAY, "2026-03-01", WEEK, 1, "2026-02-23"),
            (HOUR, "2026-03-01 07:00", DAY, 1, "2026-03-01"),
        ):
            with self.subTest(grain=grain.value, start=start, unit=unit.value, month=month):
                found = of_column(start, lambda column: find_enclosing_period(column, grain, unit, month))  # noqa: B023
                self.assertEqual(found, day(wanted))

    def test_ranges_of_days_move_and_whole_months_stay_whole(self):
        for first, last, steps, unit, wanted in (
            ("2026-03-01", "2026-03-31", -1, MONTH, ("2026-02-01", "2026-02-28")),
            ("2026-02-01", "2026-02-28", 1, MONTH, ("2026-03-01", "2026-03-31")),
            ("2026-02-28", "2026-02-28", 1, MONTH, ("2026-03-28", "2026-03-28")),  # one day ends nothing
            ("2026-02-10", "2026-02-20", -1, QUARTER, ("2025-11-10", "2025-11-20")),
            ("2026-01-01", "2026-12-31", -1, YEAR, ("2025-01-01", "2025-12-31")),
            ("2026-01-01", "2026-01-31", -1, WEEK, ("2025-12-25", "2026-01-24")),
            ("2026-01-31", "2026-02-28", 30, DAY, ("2026-03-02", "2026-03-30")),
        ):
            with self.subTest(first=first, last=last, steps=steps, unit=unit.value):
                self.assertEqual(shift_days(day(first), day(last), steps, unit), tuple(map(day, wanted)))
        ends = (dt.date(9999, 12, 1), dt.date.max)
        self.assertEqual(shift_days(*ends, 1, MONTH), ends, "there is nothing later")


class Periods(unittest.TestCase):
    def test_names(self):
        for start, grain, wanted in (
            ("2026-01-01", YEAR, "2026"),
            ("2026-04-01", YEAR, "2026/27"),
            ("2099-10-01", YEAR, "2099/00"),
            ("2026-10-01", QUARTER, "Q4 2026"),
            ("2026-02-01", QUARTER, "Feb–Apr 2026"),
            ("2025-11-01", QUARTER, "Nov–Jan 2026"),
            ("2025-12-01", QUARTER, "Dec–Feb 2026"),
            ("2026-12-01", MONTH, "Dec 2026"),
            ("2025-12-29", WEEK, "W1 2026"),
            ("2026-12-28", WEEK, "W53 2026"),
            ("2024-02-29", DAY, "29 Feb 2024"),
        ):
            with self.subTest(wanted):
                self.assertEqual(label_period(day(start), grain), wanted)

    def test_a_list_of_them_is_whole_or_empty(self):
        for grain, last, count in (
            (YEAR, "2030-01-01", 5),
            (QUARTER, "2027-01-01", 5),
            (MONTH, "2026-05-01", 5),
            (WEEK, "2026-01-29", 5),
            (DAY, "2026-01-05", 5),
            (HOUR, "2026-01-01 04:00", 5),
        ):
            with self.subTest(grain.value):
                first, end = (day("2026-01-01 00:00"), day(last)) if grain is HOUR else (day("2026-01-01"), day(last))
                starts = list_periods(first, end, grain, 5)
                self.assertEqual((len(starts), starts[0], starts[-1]), (count, first, end))
                self.assertEqual(list_periods(first, end, grain, 4), [])

    @examples(100)
    @given(st.dates(dt.date(1990, 1, 1), dt.date(2060, 1, 1)), st.sampled_from([DAY, WEEK, MONTH, QUARTER, YEAR]))
    def test_a_period_is_all_days_that_have_its_start(self, today, grain):
        start = find_period_start(today, grain)
        end = find_period_end(start, grain)
        self.assertLessEqual(start, today)
        self.assertLessEqual(today, end)
        after = end + dt.timedelta(days=1)
        self.assertEqual((find_period_start(end, grain), find_period_start(after, grain)), (start, after))
        self.assertEqual(step_back_periods(after, grain, 1), start)
        self.assertEqual(step_back_periods(start, grain, -2), find_period_end(after, grain) + dt.timedelta(days=1))

    def test_the_grain_that_is_seen_first(self):
        for days, rhythm, kind, wanted in (
            (1, None, DataType.DATE, DAY),
            (1, None, DataType.DATETIME, HOUR),
            (45, None, DataType.DATE, DAY),
            (46, None, DataType.DATE, WEEK),
            (151, None, DataType.DATE, MONTH),
            (12 * 366, None, DataType.DATE, MONTH),
            (12 * 366 + 1, None, DataType.DATE, QUARTER),
            (20 * 366 + 1, None, DataType.DATE, YEAR),
            (100, YEAR, DataType.DATE, YEAR),
            (150 * 30, MONTH, DataType.DATE, MONTH),
            (150 * 30 + 1, MONTH, DataType.DATE, QUARTER),
            (120 * 7 + 1, WEEK, DataType.DATE, MONTH),
        ):
            with self.subTest(days=days, rhythm=rhythm and rhythm.value):
                self.assertIs(choose_grain(days, rhythm, kind), wanted)


RANGES = st.lists(st.tuples(st.integers(0, 40), st.integers(0, 8)), max_size=6)


def ranges_of(pairs: list[tuple[int, int]]) -> list[Days]:
    first = dt.date(2026, 2, 1)
    return [(first + dt.timedelta(days=at), first + dt.timedelta(days=at + length)) for at, length in pairs]


def days_of(ranges: list[Days]) -> set[dt.date]:
    return {first + dt.timedelta(days=i) for first, last in ranges for i in range((last - first).days + 1)}


class Ranges(unittest.TestCase):
    @examples(100)
    @given(RANGES, RANGES)
    def test_as_sets_of_days(self, one, other):
        a, b = ranges_of(one), ranges_of(other)
        for made, wanted in ((merge_days(a), days_of(a)), (intersect_days(a, b), days_of(a) & days_of(b))):
            self.assertEqual(days_of(made), wanted)
            self.assertTrue(all((later[0] - sooner[1]).days > 1 for sooner, later in pairwise(made)))

    def test_moments_meet_without_a_gap_only(self):
        night = (dt.datetime(2026, 2, 1, 22), dt.datetime(2026, 2, 1, 23, 59, 59, 999_999))
        self.assertEqual(merge_days([night, (dt.date(2026, 2, 2),) * 2]), [(night[0], dt.date(2026, 2, 2))])
        early = (dt.datetime(2026, 2, 1, 1), dt.datetime(2026, 2, 1, 2))
        self.assertEqual(merge_days([night, early]), [early, night])
        self.assertEqual(intersect_days([night], [early]), [])
        self.assertEqual(intersect_days([night], [(dt.date(2026, 2, 1),) * 2]), [night])

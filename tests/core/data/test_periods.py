from __future__ import annotations

import datetime as dt
import unittest

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

from veduta.core.data.convert import Failures, convert
from veduta.core.data.fields import DataType
from veduta.core.data.periods import find_rhythm, read_periods, recognise_period
from veduta.core.data.recognise import recognise_field

days = st.dates(dt.date(1900, 1, 1), dt.date(2099, 12, 31))


def first_of_week(day: dt.date) -> dt.date:
    return day - dt.timedelta(days=day.weekday())


WAYS = {
    "year": (
        lambda day: day.replace(month=1, day=1),
        ("{0:%Y}", " {0:%Y} "),
    ),
    "quarter": (
        lambda day: day.replace(month=(day.month - 1) // 3 * 3 + 1, day=1),
        ("{0:%Y}-Q{quarter}", "Q{quarter} {0:%Y}", "{quarter}Q{0:%Y}", "{0:%Y}q{quarter}", "{0:%Y} Q{quarter}"),
    ),
    "month": (
        lambda day: day.replace(day=1),
        ("{0:%Y-%m}", "{0:%Y}M{0:%m}", "{0:%m/%Y}", "{0:%b %Y}", "{0:%B %Y}", "{0:%b}-{0:%Y}", "{0:%Y %b}"),
    ),
    "week": (
        first_of_week,
        ("{iso}W{week:02}", "{iso}-W{week:02}", "W{week} {iso}", "wk {week} {iso}"),
    ),
}


def written(day: dt.date, way: str) -> str:
    iso, week, _ = day.isocalendar()
    return way.format(day, quarter=(day.month + 2) // 3, iso=iso, week=week)


class Writing(unittest.TestCase):
    @given(st.sampled_from([(period, way) for period, (_, ways) in WAYS.items() for way in ways]), st.lists(days))
    def test_a_period_is_read_as_its_first_day(self, how, them):
        period, way = how
        texts = pl.Series([written(day, way) for day in them], dtype=pl.String)
        self.assertEqual(read_periods(texts, period).to_list(), [WAYS[period][0](day) for day in them])

    def test_years_of_two_digits_are_of_the_last_or_this_century(self):
        found = read_periods(pl.Series(["Jan-68", "Jan-69", "Dec '09"]), "month")
        self.assertEqual([day.year for day in found], [2068, 1969, 2009])

    def test_what_is_no_period_is_empty(self):
        for text, period in (
            ("2023W53", "week"),
            ("2024-13", "month"),
            ("Q5 2024", "quarter"),
            ("24", "year"),
            ("Mai 2024", "month"),
        ):
            with self.subTest(text):
                self.assertEqual(read_periods(pl.Series([text]), period).to_list(), [None])


class Recognising(unittest.TestCase):
    def test_texts_that_can_be_nothing_else(self):
        for texts, period in (
            (["2024-01", "2024-02"], "month"),
            (["Jan 2010", "Feb 2010"], "month"),
            (["Q1 2024", "Q2 2024"], "quarter"),
            (["2024W05", "2024W06"], "week"),
        ):
            with self.subTest(texts):
                self.assertEqual(recognise_period(["when"], texts), period)

    def test_numbers_are_periods_only_where_the_heading_says_so(self):
        for heading, texts, period in (
            (["year"], ["2023", "2024"], "year"),
            (["built", "in", "year"], ["1999", "2004"], "year"),
            (["fiscal", "year"], ["2023"], "year"),
            (["time"], ["2023"], "year"),
            (["month"], ["202401", "202402"], "month"),
            (["capacity"], ["1999", "2004"], ""),
            (["year", "to", "date", "sales"], ["1999", "2004"], ""),
            (["fares"], ["202401", "202402"], ""),
            (["year"], ["7", "8"], ""),
            (["built"], ["1890", "2004"], "year"),
        ):
            with self.subTest(heading, texts=texts):
                self.assertEqual(recognise_period(heading, texts), period)

    def test_a_column_of_months_is_read_into_dates_and_says_what_did_not_fit(self):
        texts = ["Jan 2026", "Feb 2026", "2026-03", "soon", "", "n/a", *["Apr 2026"] * 20]
        field = recognise_field("c1", "when", "When", texts).field
        self.assertEqual((field.kind, field.reading.period), (DataType.DATE, "month"))
        failures = Failures()
        values = convert(pl.Series(texts), field, ("n/a",), failures)
        self.assertEqual(values.to_list()[:6], [*(dt.date(2026, month, 1) for month in (1, 2, 3)), None, None, None])
        self.assertEqual(failures.examples, [(4, "soon")])

    def test_years_that_came_as_numbers_become_dates(self):
        field = recognise_field("c1", "Year", "Year", ["2025", "2026"]).field
        values = convert(pl.Series([2025, None, 2026]), field, (), Failures())
        self.assertEqual(values.to_list(), [dt.date(2025, 1, 1), None, dt.date(2026, 1, 1)])


class Rhythm(unittest.TestCase):
    def test_how_far_dates_are_apart(self):
        first = dt.date(2023, 1, 1)
        for what, dates, found in (
            ("first of years", [first, dt.date(2020, 1, 1)], "year"),
            ("last of years", [dt.date(2020, 12, 31), dt.date(2022, 12, 31)], "year"),
            ("first of quarters", [dt.date(2023, month, 1) for month in (1, 4, 10)], "quarter"),
            ("first of months", [dt.date(2023, month, 1) for month in (1, 2, 7)], "month"),
            ("last of months", [dt.date(2024, 1, 31), dt.date(2024, 2, 29)], "month"),
            ("Sundays", [first + dt.timedelta(days=7 * number) for number in range(4)], "week"),
            ("days", [first, dt.date(2023, 1, 2), dt.date(2023, 2, 1)], ""),
            ("a single day", [first, first], ""),
        ):
            with self.subTest(what):
                self.assertEqual(find_rhythm(pl.Series(dates)), found)

    def test_moments_have_a_rhythm_only_at_midnight(self):
        midnights = [dt.datetime(2023, month, 1) for month in (1, 2, 3)]
        self.assertEqual(find_rhythm(pl.Series(midnights)), "month")
        self.assertEqual(find_rhythm(pl.Series([*midnights, dt.datetime(2023, 4, 1, 6)])), "")

"""A date control goes to what is earlier and later, to date, and a year before."""

from __future__ import annotations

import datetime as dt
import unittest

from hypothesis import given
from hypothesis import strategies as st

from veduta.core.calendar import count_whole_months
from veduta.core.dashboard.controls import DatesChoice
from veduta.core.query.filters import Context

DAYS = st.dates(dt.date(2000, 1, 1), dt.date(2060, 12, 31))
LATEST = dt.date(2026, 5, 31)
CONTEXT = Context(dt.date(2026, 6, 10), {"sailed": LATEST})


def between(first: str, last: str) -> DatesChoice:
    return DatesChoice(kind="dates", start=dt.date.fromisoformat(first), end=dt.date.fromisoformat(last))


def days(choice: DatesChoice | None) -> tuple[str, str]:
    assert choice is not None
    made = choice.filter("sailed")
    assert made is not None
    first, last = made.find_bounds(CONTEXT)
    return f"{first}", f"{last}"


class Steps(unittest.TestCase):
    def test_recent_periods_go_back_by_as_many_and_not_beyond_the_latest(self):
        quarter = DatesChoice(unit="month", count=3)
        self.assertEqual(days(quarter), ("2026-03-01", "2026-05-31"))
        earlier = quarter.step(-1)
        self.assertEqual(days(earlier), ("2025-12-01", "2026-02-28"))
        self.assertEqual(earlier.step(1), quarter)
        self.assertIsNone(quarter.step(1))

    def test_whole_months_step_by_months_and_other_ranges_by_their_days(self):
        self.assertEqual(days(between("2026-01-01", "2026-01-31").step(1)), ("2026-02-01", "2026-02-28"))
        self.assertEqual(days(between("2026-02-01", "2026-02-28").step(-1)), ("2026-01-01", "2026-01-31"))
        self.assertEqual(days(between("2026-01-01", "2026-12-31").step(-1)), ("2025-01-01", "2025-12-31"))
        self.assertEqual(days(between("2026-05-04", "2026-05-10").step(1)), ("2026-05-11", "2026-05-17"))
        self.assertEqual(days(between("2026-03-01", "2026-03-01").step(-1)), ("2026-02-28", "2026-02-28"))
        self.assertIsNone(DatesChoice(kind="dates", start=LATEST).step(-1))

    @given(DAYS, DAYS, st.sampled_from((-1, 1)))
    def test_steps_leave_no_day_out_and_take_none_twice(self, first, last, by):
        first, last = min(first, last), max(first, last)
        now = DatesChoice(kind="dates", start=first, end=last)
        then = now.step(by)
        earlier, later = (then, now) if by < 0 else (now, then)
        self.assertEqual(later.start - earlier.end, dt.timedelta(days=1))
        if months := count_whole_months(now.start, now.end):
            self.assertEqual(count_whole_months(then.start, then.end), months)
        else:
            self.assertEqual(then.end - then.start, now.end - now.start)


class ToDate(unittest.TestCase):
    def test_the_year_to_date_ends_with_the_latest_day_and_so_does_the_one_before(self):
        year = DatesChoice(unit="year", count=1, to_date=True)
        self.assertEqual(days(year), ("2026-01-01", "2026-05-31"))
        self.assertEqual(days(year.step(-1)), ("2025-01-01", "2025-05-31"))
        self.assertEqual(
            days(DatesChoice(unit="month", count=1, anchor="today", to_date=True)), ("2026-06-01", "2026-06-10")
        )

    def test_a_leap_day_is_the_last_of_february_in_other_years(self):
        leap = Context(LATEST, {"sailed": dt.date(2024, 2, 29)})
        before = DatesChoice(unit="year", count=1, back=1, to_date=True).filter("sailed")
        self.assertEqual(before.find_bounds(leap), (dt.date(2023, 1, 1), dt.date(2023, 2, 28)))

    def test_the_same_a_year_before(self):
        for choice, expected in (
            (DatesChoice(unit="month", count=3), ("2025-03-01", "2025-05-31")),
            (DatesChoice(unit="year", count=1, to_date=True), ("2025-01-01", "2025-05-31")),
            (DatesChoice(unit="day", count=7), ("2025-05-25", "2025-05-31")),
            (between("2024-02-01", "2024-02-29"), ("2023-02-01", "2023-02-28")),
            (between("2026-05-04", "2026-05-10"), ("2025-05-04", "2025-05-10")),
        ):
            with self.subTest(choice=choice):
                bounds = choice.filter("sailed").find_bounds(CONTEXT)
                self.assertEqual(days(choice.move_year_back(*bounds)), expected)


if __name__ == "__main__":
    unittest.main()

"""Years and quarters that begin with any month: of one day and of whole columns, against a table and a plain loop."""

from __future__ import annotations

import datetime as dt
import unittest

import polars as pl

from veduta.core.calendar import Grain, find_period_end, find_period_start, truncate_to_grain

# The fiscal year begins with; a day; its quarter and its year begin on.
EXAMPLES = (
    (1, "2026-02-28", "2026-01-01", "2026-01-01"),
    (2, "2026-01-31", "2025-11-01", "2025-02-01"),
    (2, "2026-02-01", "2026-02-01", "2026-02-01"),
    (2, "2026-10-31", "2026-08-01", "2026-02-01"),
    (3, "2024-02-29", "2023-12-01", "2023-03-01"),
    (3, "2026-05-31", "2026-03-01", "2026-03-01"),
    (3, "2026-12-01", "2026-12-01", "2026-03-01"),
    (4, "2026-03-31", "2026-01-01", "2025-04-01"),
    (7, "2026-06-30", "2026-04-01", "2025-07-01"),
    (10, "2025-12-31", "2025-10-01", "2025-10-01"),
    (12, "2026-11-30", "2026-09-01", "2025-12-01"),
    (12, "2025-12-01", "2025-12-01", "2025-12-01"),
)
DAYS = [dt.date(2023, 1, 1) + dt.timedelta(days=days) for days in range(4 * 365 + 1)]


def latest_first_of(day: dt.date, months: set[int]) -> dt.date:
    """The first day of the latest of some months that has begun, by going back day after day."""
    while day.day != 1 or day.month not in months:
        day -= dt.timedelta(days=1)
    return day


class FiscalYears(unittest.TestCase):
    def test_the_table(self):
        for month, day, quarter, year in EXAMPLES:
            with self.subTest(month=month, day=day):
                found = [
                    str(find_period_start(dt.date.fromisoformat(day), grain, month))
                    for grain in (Grain.QUARTER, Grain.YEAR)
                ]
                self.assertEqual(found, [quarter, year])

    def test_every_month_in_both_engines(self):
        column = pl.DataFrame({"day": DAYS})
        for month in range(1, 13):
            quarters = {(month - 1 + later) % 12 + 1 for later in (0, 3, 6, 9)}
            for grain, months in ((Grain.QUARTER, quarters), (Grain.YEAR, {month})):
                with self.subTest(month=month, grain=grain):
                    wanted = [latest_first_of(day, months) for day in DAYS]
                    self.assertEqual([find_period_start(day, grain, month) for day in DAYS], wanted)
                    found = column.select(truncate_to_grain(pl.col("day"), False, grain, month))["day"]
                    self.assertEqual(found.cast(pl.Date).to_list(), wanted)

    def test_a_period_ends_where_the_next_begins(self):
        for month in range(1, 13):
            for grain in (Grain.QUARTER, Grain.YEAR):
                start = find_period_start(dt.date(2025, 6, 15), grain, month)
                last = find_period_end(start, grain)
                after = last + dt.timedelta(days=1)
                self.assertEqual(find_period_start(last, grain, month), start)
                self.assertEqual(find_period_start(after, grain, month), after)


if __name__ == "__main__":
    unittest.main()

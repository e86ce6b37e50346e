from __future__ import annotations

import datetime as dt
import unittest
from zoneinfo import ZoneInfo

from hypothesis import given
from hypothesis import strategies as st

from veduta.core.errors import DefinitionProblem
from veduta.core.schedule import DAYS, Schedule, schedule_from

OFTEN = {
    "hourly": lambda t: True,
    "daily": lambda t: True,
    "weekdays": lambda t: t.weekday() < 5,
    "weekly": lambda t: t.weekday() in (0, 2),
    "monthly": lambda t: t.day == 1,
}


class Schedules(unittest.TestCase):
    @given(
        st.sampled_from(sorted(OFTEN)),
        st.integers(0, 23),
        st.integers(0, 59),
        st.datetimes(dt.datetime(2024, 1, 1), dt.datetime(2028, 1, 1)),
    )
    def test_the_next_time_is_the_first_minute_that_fits(self, often, hour, minute, now):
        found = schedule_from(often, f"{hour:02d}:{minute:02d}", "UTC", ["WE", "MO"], 1).find_next(
            now.replace(tzinfo=dt.UTC)
        )
        step = dt.timedelta(hours=1) if often == "hourly" else dt.timedelta(days=1)
        expected = (
            now.replace(minute=minute, second=0, microsecond=0)
            if often == "hourly"
            else now.replace(hour=hour, minute=minute, second=0, microsecond=0)
        )
        while expected <= now or not OFTEN[often](expected):
            expected += step
        self.assertEqual(found, expected.replace(tzinfo=dt.UTC))

    def test_the_wall_clock_stays_when_the_clocks_change(self):
        schedule = schedule_from("daily", "06:00", "Europe/London")
        winter = schedule.find_next(dt.datetime(2026, 3, 28, 12, tzinfo=dt.UTC))
        self.assertEqual(winter, dt.datetime(2026, 3, 29, 5, tzinfo=dt.UTC))
        self.assertEqual(winter.astimezone(ZoneInfo("Europe/London")).hour, 6)

    def test_words_and_back(self):
        for often, days, day, words in (
            ("hourly", [], 1, "every hour, 30 minutes past"),
            ("daily", [], 1, "every day at 06:30 (UTC)"),
            ("weekdays", [], 1, "on weekdays at 06:30 (UTC)"),
            ("weekly", ["FR", "MO"], 1, "every Monday and Friday at 06:30 (UTC)"),
            ("monthly", [], 1, "monthly on the 1st at 06:30 (UTC)"),
            ("monthly", [], -1, "monthly on the last day at 06:30 (UTC)"),
            ("monthly", [], 22, "monthly on the 22nd at 06:30 (UTC)"),
            ("monthly", [], 11, "monthly on the 11th at 06:30 (UTC)"),
        ):
            schedule = schedule_from(often, "06:30", "UTC", days, day)
            self.assertEqual((schedule.words, schedule.often), (words, often))
        self.assertEqual(len(DAYS), 7)

    def test_what_does_not_fit_is_said(self):
        for arguments, said in (
            (("daily", "25:00", "UTC"), "not readable"),
            (("daily", "soon", "UTC"), "not readable"),
            (("daily", "06:00", "Nowhere/Land"), "not a time zone"),
            (("weekly", "06:00", "UTC"), "No day of the week"),
            (("yearly", "06:00", "UTC"), "How often"),
            (("monthly", "06:00", "UTC", (), 40), "1 to 31"),
        ):
            with self.assertRaisesRegex(DefinitionProblem, said):
                schedule_from(*arguments)
        with self.assertRaisesRegex(DefinitionProblem, "cannot be read"):
            Schedule(rule="FREQ=SOMETIMES")

    def test_a_rule_without_an_end_that_never_comes(self):
        self.assertIsNone(
            Schedule(rule="FREQ=DAILY;UNTIL=20260101T000000").find_next(dt.datetime(2026, 6, 1, tzinfo=dt.UTC))
        )

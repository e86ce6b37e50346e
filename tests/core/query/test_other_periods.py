"""Questions about other periods, each worked out a second time by a plain loop."""

from __future__ import annotations

import datetime as dt
import math
import statistics
import unittest
from collections import defaultdict
from typing import Any

import numpy as np
import polars as pl
from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.query.asking import FIRST, Asking, ask_model, by, daily
from tests.core.support import SAILING_FIELDS, MemoryTable, field, sailings_table
from veduta.core.calendar import Grain, find_period_start, shift_days
from veduta.core.data.fields import DataType, Schema
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.problems import FormulaProblem
from veduta.core.model.definition import JoinKey, ModelDefinition, ModelJoin, ModelTable
from veduta.core.model.model import Model
from veduta.core.query.filters import (
    DatesFilter,
    EmptyFilter,
    ListFilter,
    PointsFilter,
    RelativeFilter,
)


class PartsOfDates(Asking):
    """A filter on weekdays or months of the year holds in every period that is looked at."""

    SATURDAYS = ListFilter(field="sailed", grain="weekday", values=(6,))

    def test_only_saturdays_a_year_before(self):
        rows = daily()
        count = defaultdict(int)
        for row in rows:
            count[row["sailed"].replace(day=1)] += row["sailed"].isoweekday() == 6
        found = self.values(rows, ("sailed@month",), "shift(count_rows(), -1, 'year')", filters=(self.SATURDAYS,))
        self.same(found, {month: count.get(month.replace(year=month.year - 1)) for month in found})
        self.assertEqual(found[dt.date(2025, 3, 1)], 5)

    def test_growth_of_some_months_of_the_year_in_a_period(self):
        rows = daily()
        summer = ListFilter(field="sailed", grain="month_of_year", values=(6, 7, 8))
        year = DatesFilter(field="sailed", start=dt.date(2025, 1, 1), end=dt.date(2025, 12, 31))
        sums = defaultdict(float)
        for row in rows:
            sums[row["sailed"].year] += row["fare"] * (row["sailed"].month in (6, 7, 8))
        found = self.values(rows, (), "growth(sum(fare), 'year')", filters=(summer, year))
        self.assertAlmostEqual(found[()], sums[2025] / sums[2024] - 1)

    def test_marks_of_months_and_weekdays_keep_their_weekdays(self):
        rows = daily()
        marks = PointsFilter(groups=by("sailed@month", "sailed@weekday"), points=(("2025-03-01", 6), ("2025-04-01", 6)))
        found = self.values(rows, ("sailed@month",), "shift(count_rows(), -1, 'year')", filters=(marks,))
        saturdays = sum(row["sailed"].isoweekday() == 6 and str(row["sailed"])[:7] == "2024-03" for row in rows)
        self.assertEqual(found, {dt.date(2025, 3, 1): saturdays, dt.date(2025, 4, 1): 4})

    def test_marks_of_a_month_and_a_route_keep_the_route(self):
        rows = daily(route="A") + daily(route="B")
        marks = PointsFilter(groups=by("sailed@month", "route"), points=(("2025-03-01", "A"),))
        found = self.values(rows, (), "shift(count_rows(), -1, 'year')", filters=(marks,))
        self.assertEqual(found[()], 31)


class FiltersOnOneDate(Asking):
    """Without a time axis the period is what all filters on the date let pass."""

    def grown(self, rows: list[dict], *filters: Any) -> float | None:
        return self.values(rows, (), "growth(sum(fare), 'year')", filters=filters)[()]

    def wanted(self, rows: list[dict], first: dt.date, last: dt.date) -> float:
        now = sum(row["fare"] for row in rows if first <= row["sailed"] <= last)
        # The last day of a month has that of the month a year before for its counterpart.
        last_before = (last + dt.timedelta(days=1)).replace(year=last.year - 1) - dt.timedelta(days=1)
        before = sum(row["fare"] for row in rows if first.replace(year=first.year - 1) <= row["sailed"] <= last_before)
        return now / before - 1

    def test_the_last_two_years_and_a_quarter(self):
        rows = daily()
        two_years = RelativeFilter(field="sailed", unit="year", count=2)
        quarter = DatesFilter(field="sailed", start=dt.date(2025, 1, 1), end=dt.date(2025, 2, 28))
        wanted = self.wanted(rows, dt.date(2025, 1, 1), dt.date(2025, 2, 28))
        for filters in ((two_years, quarter), (quarter, two_years)):
            self.assertAlmostEqual(self.grown(rows, *filters), wanted)

    def test_a_selected_month_within_a_period_that_cuts_it(self):
        rows = daily()
        from_the_tenth = DatesFilter(field="sailed", start=dt.date(2025, 2, 10), end=dt.date(2025, 12, 31))
        february = ListFilter(field="sailed", grain="month", values=("2025-02-01",))
        self.assertAlmostEqual(
            self.grown(rows, from_the_tenth, february), self.wanted(rows, dt.date(2025, 2, 10), dt.date(2025, 2, 28))
        )

    def test_months_chosen_as_values(self):
        rows = daily()
        months = ListFilter(field="sailed", grain="month", values=("2025-01-01", "2025-02-01"))
        self.assertAlmostEqual(self.grown(rows, months), self.wanted(rows, dt.date(2025, 1, 1), dt.date(2025, 2, 28)))

    def test_a_filter_open_at_one_end_goes_as_far_as_the_data(self):
        rows = daily(366 + 59)  # to the end of February 2025
        since = DatesFilter(field="sailed", start=dt.date(2025, 1, 1))
        self.assertAlmostEqual(self.grown(rows, since), self.wanted(rows, dt.date(2025, 1, 1), dt.date(2025, 2, 28)))
        rows = daily(500)
        until = DatesFilter(field="sailed", end=dt.date(2025, 2, 28))
        found = self.values(rows, (), "shift(sum(fare), 1, 'year')", filters=(until,))[()]
        self.assertEqual(found, sum(row["fare"] for row in rows if row["sailed"] >= dt.date(2025, 1, 1)))

    def test_a_filter_open_at_both_ends_says_no_period(self):
        with self.assertRaisesRegex(FormulaProblem, "no date"):
            self.grown(daily(10), DatesFilter(field="sailed"))


class MovedDays(unittest.TestCase):
    """Each range, the unit and the steps, and where its ends come to stand."""

    EXAMPLES = (
        ("2026-05-01", "2026-05-30", -1, Grain.MONTH, "2026-04-01", "2026-04-30"),
        ("2026-05-01", "2026-05-31", -1, Grain.MONTH, "2026-04-01", "2026-04-30"),
        ("2026-04-01", "2026-04-30", -1, Grain.MONTH, "2026-03-01", "2026-03-31"),
        ("2026-03-01", "2026-03-28", -1, Grain.MONTH, "2026-02-01", "2026-02-28"),
        ("2026-03-01", "2026-03-30", -1, Grain.MONTH, "2026-02-01", "2026-02-28"),
        ("2012-02-28", "2012-02-28", -1, Grain.YEAR, "2011-02-28", "2011-02-28"),
        ("2012-02-01", "2012-02-28", -1, Grain.YEAR, "2011-02-01", "2011-02-28"),
        ("2025-01-01", "2025-02-28", -1, Grain.YEAR, "2024-01-01", "2024-02-29"),
        ("2024-01-01", "2024-02-29", 1, Grain.YEAR, "2025-01-01", "2025-02-28"),
        ("2026-02-15", "2026-02-28", -1, Grain.QUARTER, "2025-11-15", "2025-11-30"),
        ("2026-04-30", "2026-04-30", -1, Grain.MONTH, "2026-03-30", "2026-03-30"),
        ("2026-04-20", "2026-04-30", -1, Grain.WEEK, "2026-04-13", "2026-04-23"),
        ("2026-04-20", "2026-04-30", -1, Grain.DAY, "2026-04-19", "2026-04-29"),
        ("2026-04-01T06:00", "2026-04-30T18:00", -1, Grain.MONTH, "2026-03-01T06:00", "2026-03-31T18:00"),
        ("2026-04-30T06:00", "2026-04-30T18:00", -1, Grain.MONTH, "2026-03-30T06:00", "2026-03-30T18:00"),
        ("0001-01-01", "0001-01-31", -1, Grain.MONTH, "0001-01-01", "0001-01-31"),
    )

    def test_each_end(self):
        def day(text: str) -> dt.date:
            return dt.datetime.fromisoformat(text) if "T" in text else dt.date.fromisoformat(text)

        for first, last, steps, unit, *wanted in self.EXAMPLES:
            with self.subTest(first=first, last=last, unit=unit):
                self.assertEqual(shift_days(day(first), day(last), steps, unit), tuple(map(day, wanted)))


class WhichDaysWereCompared(Asking):
    """A figure shows neither of the periods that it compares, so its note says them."""

    def notes(self, first: dt.date, last: dt.date, text: str = "growth(sum(fare), 'year')", days: int = 1_000) -> list:
        days_asked = DatesFilter(field="sailed", start=first, end=last)
        return self.ask(daily(days), (), text, filters=(days_asked,)).notes

    def test_both_ranges(self):
        notes = self.notes(dt.date(2026, 5, 1), dt.date(2026, 5, 30), "growth(sum(fare), 'month')")
        self.assertEqual(notes, ["1 May 2026 to 30 May 2026 is compared with Apr 2026."])

    def test_unlike_numbers_of_days(self):
        notes = self.notes(dt.date(2025, 1, 1), dt.date(2025, 2, 28))
        self.assertEqual(notes, ["Jan 2025 to Feb 2025 is compared with Jan 2024 to Feb 2024 (59 days with 60)."])

    def test_ends_of_the_data(self):
        notes = self.notes(dt.date(2024, 7, 1), dt.date(2025, 6, 30), days=400)
        self.assertIn("the data begins on 1 Jan 2024; the data ends on 3 Feb 2025.", notes[0])

    def test_days_apart_from_each_other_are_not_said(self):
        months = ListFilter(field="sailed", grain="month", values=("2025-01-01", "2025-03-01"))
        self.assertEqual(self.ask(daily(), (), "growth(sum(fare), 'year')", filters=(months,)).notes, [])


class TotalsOfComparedPeriods(Asking):
    """They count the periods that have both values."""

    def total(self, rows: list[dict], names: tuple[str, ...], text: str, total: tuple[int, ...] = ()) -> dict:
        result = self.ask(rows, names, text, totals=(total,))
        self.notes = result.notes
        return {row[:-1]: row[-1] for row in result.totals[total].iter_rows()}

    def monthly(self, rows: list[dict]) -> dict[dt.date, float]:
        sums: dict[dt.date, float] = defaultdict(float)
        for row in rows:
            sums[row["sailed"].replace(day=1)] += row["fare"]
        return sums

    def test_growth_of_years_leaves_out_the_first_one(self):
        rows = daily()
        sums = self.monthly(rows)
        both = [month for month in sums if month.replace(year=month.year - 1) in sums]
        wanted = sum(map(sums.get, both)) / sum(sums[month.replace(year=month.year - 1)] for month in both) - 1
        for text in ("growth(sum(fare), 'year')", "sum(fare) / shift(sum(fare), -1, 'year') - 1"):
            self.assertAlmostEqual(self.total(rows, ("sailed@month",), text)[()], wanted)
            self.assertIn("count the months that have both values: 21 of 33 months.", self.notes[0])

    def test_the_total_of_changes_is_their_sum(self):
        rows = daily()
        changes = self.values(rows, ("sailed@month",), "change(sum(fare), 'month')").values()
        total = self.total(rows, ("sailed@month",), "change(sum(fare), 'month')")[()]
        self.assertAlmostEqual(total, sum(change for change in changes if change is not None))

    def test_a_line_that_began_later_counts_its_own_periods(self):
        rows = daily(800, route="A") + [row | {"route": "B"} for row in daily(800) if row["fare"] > 400]
        found = self.total(rows, ("route", "sailed@month"), "change(sum(fare), 'year')", (0,))
        for route in ("A", "B"):
            own = self.monthly([row for row in rows if row["route"] == route])
            earlier = {month: own.get(month.replace(year=month.year - 1)) for month in own}
            wanted = sum(own[month] - before for month, before in earlier.items() if before is not None)
            self.assertAlmostEqual(found[(route,)], wanted)

    def test_a_period_of_nothing_before_counts(self):
        rows = [{"sailed": dt.date(2024 + i, m, 1), "fare": float(i * m)} for i in (0, 1) for m in (1, 2)]
        self.assertIsNone(self.total(rows, ("sailed@month",), "growth(sum(fare), 'year')")[()])
        self.assertEqual(self.total(rows, ("sailed@month",), "change(sum(fare), 'year')")[()], 3)

    def test_no_period_has_both(self):
        self.assertEqual(self.total(daily(60), ("sailed@month",), "growth(sum(fare), 'year')"), {(): None})

    def test_rows_without_a_date_are_on_neither_side(self):
        rows = [*daily(366 + 365), {"fare": 1e6}]
        total = self.total(rows, ("sailed@month",), "change(sum(fare), 'year')")[()]
        self.assertAlmostEqual(total, sum(range(367, 732)) - sum(range(1, 367)))

    def test_a_mere_value_of_another_period_is_of_all_that_are_shown(self):
        self.assertEqual(self.total(daily(), ("sailed@month",), "shift(sum(fare), -1, 'year')")[()], sum(range(1, 640)))
        self.assertEqual(self.notes, [])

    def test_very_many_lines_with_periods_of_their_own_are_refused_in_words(self):
        rows = [
            {
                "sailed": dt.date(2024 + (month + line) // 12, (month + line) % 12 + 1, 1),
                "fare": 1.0,
                "route": str(line),
            }
            for line in range(70)
            for month in range(2)
        ]
        found = self.total(rows, ("route", "sailed@month"), "change(sum(fare), 'month')", (0,))
        self.assertEqual(set(found.values()), {None})
        self.assertIn("are not given: too many lines", self.notes[0])


class TwoGroupingsOfOneDate(Asking):
    """Time goes along the finest of them."""

    def test_every_function_of_time_by_year_and_month(self):
        rows = daily()
        texts = (
            "sum(fare)",
            "shift(sum(fare), -1, 'year')",
            "growth(sum(fare), 'year')",
            "shift(sum(fare), -1, 'month')",
            "to_date(sum(fare), 'year')",
            "running(sum(fare))",
            "previous(sum(fare))",
            "whole(sum(fare), 'quarter')",
            "sum(fare) per (shown except month)",
        )
        plain = {row[0]: row[1:] for row in self.ask(rows, ("sailed@month",), *texts[:-1]).frame.iter_rows()}
        both = self.ask(rows, ("sailed@year", "sailed@month"), *texts)
        years = self.values(rows, ("sailed@year",), "sum(fare)")
        self.assertEqual(both.frame.height, len(plain))
        for year, month, *values, whole in both.frame.iter_rows():
            self.assertEqual(year, month.replace(month=1, day=1))
            self.assertEqual(tuple(values), plain[month])
            self.assertEqual(whole, years[year])

    def test_a_month_and_its_part_of_the_year(self):
        rows = daily()
        found = self.values(rows, ("sailed@month_of_year", "sailed@month"), "shift(count_rows(), -1, 'month')")
        self.assertEqual(found[3, dt.date(2024, 3, 1)], 29)
        self.assertIsNone(found[1, dt.date(2024, 1, 1)])

    def test_subtotals_of_a_year_before_are_of_the_months_shown(self):
        rows = daily(366 + 90)  # to 31 March 2025
        result = self.ask(rows, ("sailed@year", "sailed@month"), "shift(sum(fare), -1, 'year')", totals=((0,), ()))
        until_march = sum(row["fare"] for row in rows if row["sailed"] < dt.date(2024, 4, 1))
        self.same(dict(result.totals[(0,)].iter_rows()), {dt.date(2024, 1, 1): None, dt.date(2025, 1, 1): until_march})
        self.assertEqual(result.totals[()]["m0"][0], until_march)


class FiscalYears(unittest.TestCase):
    """One definition of a period everywhere: filters, joins, axes, notes and words."""

    def model(self, rows: list[dict], month: int = 4) -> Model:
        table = sailings_table(rows)
        return Model({"": (table, SAILING_FIELDS)}, ModelDefinition(fiscal_month=month))

    def test_relative_filters_take_fiscal_periods(self):
        model = self.model(daily(500))  # to 14 May 2025
        last = RelativeFilter(field="sailed", unit="year", count=1)
        found = ask_model(model, (), "min(sailed)", "max(sailed)", filters=(last,))
        self.assertEqual(found.frame.row(0), (dt.date(2025, 4, 1), dt.date(2025, 5, 14)))
        self.assertEqual(
            last.model_copy(update={"count": 2}).describe(model.schema), "Sailed in the last 2 fiscal years"
        )
        odd = self.model(daily(500), month=2)
        quarter = RelativeFilter(field="sailed", unit="quarter", count=1)
        self.assertEqual(ask_model(odd, (), "min(sailed)", filters=(quarter,)).frame.row(0), (dt.date(2025, 5, 1),))
        self.assertIn("the latest fiscal quarter", quarter.describe(odd.schema))

    def test_dates_are_said_by_their_fiscal_year(self):
        schema = self.model([]).schema
        dates = DatesFilter(field="sailed", start=dt.date(2025, 4, 1), end=dt.date(2026, 3, 31))
        self.assertEqual(dates.describe(schema), "Sailed in 2025/26")

    def test_a_fiscal_year_that_is_not_over_is_unfinished(self):
        result = ask_model(self.model(daily(500)), ("sailed@year",), "count_rows()")
        self.assertEqual(result.unfinished, dt.date(2025, 5, 14))
        over = ask_model(self.model(daily(366 + 90)), ("sailed@year",), "count_rows()")  # to 31 March 2025
        self.assertIsNone(over.unfinished)

    def test_yearly_rows_of_another_table_lie_in_their_fiscal_year(self):
        goals = pl.DataFrame({"year": [dt.date(2024, 4, 1), dt.date(2025, 4, 1)], "goal": [100.0, 200.0]})
        fields = [field("Year", DataType.DATE), field("Goal", DataType.DECIMAL)]
        model = Model(
            {"": (sailings_table(daily(500)), SAILING_FIELDS), "goals": (MemoryTable(goals, Schema(fields)), fields)},
            ModelDefinition(
                tables=(ModelTable(id="goals", dataset="g", name="Goals"),),
                joins=(ModelJoin(right="goals", keys=(JoinKey(left="sailed", right="year", grain="year"),)),),
                fiscal_month=4,
            ),
        )
        found = ask_model(model, ("sailed@year",), "sum(Goals.goal)", "count_rows()").frame
        self.assertEqual(
            {row[0]: row[1:] for row in found.iter_rows()},
            {dt.date(2023, 4, 1): (None, 91), dt.date(2024, 4, 1): (100.0, 365), dt.date(2025, 4, 1): (200.0, 44)},
        )


class SameDays(Asking):
    def test_an_unfinished_period_against_as_many_days(self):
        rows = daily(366 + 31 + 10)  # to 10 February 2025
        text = "shift(sum(fare), -1, 'year', 'same days')"

        def between(first: str, last: str) -> float:
            return sum(row["fare"] for row in rows if first <= row["sailed"].isoformat() <= last)

        result = self.ask(rows, ("sailed@month",), text, totals=((),))
        found = dict(result.frame.iter_rows())
        self.assertEqual(found[dt.date(2025, 2, 1)], between("2024-02-01", "2024-02-10"))
        self.assertEqual(found[dt.date(2025, 1, 1)], between("2024-01-01", "2024-01-31"))
        self.assertEqual(result.totals[()]["m0"][0], between("2024-01-01", "2024-02-10"))
        self.assertIn(
            "Feb 2025 goes to 10 Feb 2025 and is compared with the same days, 1 Feb 2024 to 10 Feb 2024.", result.notes
        )
        years = self.values(rows, ("sailed@year",), "growth(sum(fare), 'year', 'same days')")
        self.assertAlmostEqual(
            years[dt.date(2025, 1, 1)], between("2025-01-01", "2025-12-31") / between("2024-01-01", "2024-02-10") - 1
        )
        year = RelativeFilter(field="sailed", unit="year", count=1)
        self.assertEqual(self.values(rows, (), text, filters=(year,))[()], between("2024-01-01", "2024-02-10"))


def with_goals(rows: list[dict]) -> Model:
    """Sailings joined by month with goals for the whole of 2024, January's 1 to December's 12."""
    goals = pl.DataFrame(
        {"month": [dt.date(2024, m, 1) for m in range(1, 13)], "goal": [float(m) for m in range(1, 13)]}
    )
    fields = [field("Month", DataType.DATE), field("Goal", DataType.DECIMAL)]
    return Model(
        {"": (sailings_table(rows), SAILING_FIELDS), "goals": (MemoryTable(goals, Schema(fields)), fields)},
        ModelDefinition(
            tables=(ModelTable(id="goals", dataset="g", name="Goals"),),
            joins=(ModelJoin(right="goals", keys=(JoinKey(left="sailed", right="month", grain="month"),)),),
        ),
    )


class JoinedDates(unittest.TestCase):
    def test_a_filter_on_a_date_that_a_join_equates_with_the_axis_narrows_only_what_is_shown(self):
        model = with_goals(daily(366))
        spring = DatesFilter(field="goals.month", start=dt.date(2024, 4, 1), end=dt.date(2024, 6, 30))
        found = ask_model(
            model, ("sailed@month",), "shift(count_rows(), -1, 'month')", "previous(sum(Goals.goal))", filters=(spring,)
        ).frame
        self.assertEqual([row[1:] for row in found.iter_rows()], [(31, 3.0), (30, 4.0), (31, 5.0)])

    def test_the_latest_day_is_that_of_the_axis_not_of_targets_in_the_future(self):
        model = with_goals(daily(40))
        result = ask_model(model, ("sailed@year",), "count_rows()")
        self.assertEqual(result.unfinished, dt.date(2024, 2, 9))


def year_of(day: dt.date, grain: str) -> int:
    """The year to which a day's period belongs."""
    return day.isocalendar().year if grain == "week" else day.year


class ToDate(Asking):
    def test_distinct_counts_and_others_to_date(self):
        rows = [
            {
                "sailed": FIRST + dt.timedelta(days=i * 7 % 500),
                "passengers": i * i % 37 if i % 5 else None,
                "route": "AB"[i % 2],
            }
            for i in range(400)
        ]
        for names in (("sailed@day",), ("sailed@month", "route")):
            found = self.ask(
                rows,
                names,
                "to_date(count_distinct(passengers), 'year')",
                "to_date(median(passengers), 'year')",
                "to_date(max(passengers), 'year')",
            ).frame
            for row in found.iter_rows():
                day, (distinct, median, most) = row[0], row[len(names) :]
                so_far = sorted(
                    r["passengers"]
                    for r in rows
                    if r["passengers"] is not None
                    and r["sailed"].year == day.year
                    and find_period_start(r["sailed"], by(*names)[0].grain) <= day
                    and (len(names) == 1 or r["route"] == row[1])
                )
                middle = len(so_far) // 2
                wanted = (
                    None
                    if not so_far
                    else so_far[middle]
                    if len(so_far) % 2
                    else (so_far[middle - 1] + so_far[middle]) / 2
                )
                self.assertEqual((distinct, median, most), (len(set(so_far)), wanted, so_far[-1] if so_far else None))

    def test_what_would_read_too_many_rows_is_refused(self):
        rows = [{"sailed": FIRST + dt.timedelta(days=i % 366), "fare": float(i)} for i in range(60_000)]
        with self.assertRaisesRegex(DefinitionProblem, "would look at 1"):
            self.ask(rows, ("sailed@day",), "to_date(last(fare), 'year')")

    @examples(60)
    @given(
        st.lists(
            st.tuples(
                st.one_of(st.none(), st.integers(0, 800)),
                st.one_of(st.none(), st.floats(-1e9, 1e9), st.integers(-3, 3).map(float)),
                st.sampled_from(["A", "B", None]),
            ),
            max_size=60,
        ),
        st.sampled_from([0, 10, 37.5, 50, 100]),
        st.sampled_from(["month", "week", "day"]),
    )
    def test_quantiles_and_deviations_to_date(self, drawn, percent, grain):
        rows = [
            {"sailed": None if day is None else FIRST + dt.timedelta(days=day), "fare": fare, "route": route}
            for day, fare, route in drawn
        ]
        found = self.ask(
            rows,
            (f"sailed@{grain}", "route"),
            f"to_date(percentile(fare, {percent}), 'year')",
            "to_date(median(fare), 'year')",
            "to_date(std_dev(fare), 'year')",
        ).frame
        for start, route, *values in found.drop_nulls("d0").iter_rows():
            so_far = [
                row["fare"]
                for row in rows
                if row["fare"] is not None
                and row["sailed"]
                and row["route"] == route
                and year_of(row["sailed"], grain) == year_of(start, grain)
                and find_period_start(row["sailed"], Grain(grain)) <= start
            ]
            wanted = [
                float(np.percentile(so_far, percent)) if so_far else None,
                statistics.median(so_far) if so_far else None,
                statistics.stdev(so_far) if len(so_far) > 1 else None,
            ]
            for value, right in zip(values, wanted, strict=True):
                if right is None or value is None:
                    self.assertEqual(value, right, (start, route))
                else:
                    self.assertTrue(math.isclose(value, right, rel_tol=1e-6, abs_tol=1e-4), (value, right))


class EmptyDates(Asking):
    def test_a_filter_on_empties_is_no_period(self):
        rows = [*daily(366 + 60), {"fare": 5.0}]
        dated = EmptyFilter(field="sailed", exclude=True)
        found = self.values(rows, ("sailed@year",), "shift(count_rows(), -1, 'year')", filters=(dated,))
        self.assertEqual(found, {dt.date(2024, 1, 1): None, dt.date(2025, 1, 1): 366})
        self.assertFalse(any(isinstance(value, float) and math.isnan(value) for value in found.values()))

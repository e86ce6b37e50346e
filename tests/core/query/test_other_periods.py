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
from veduta.core.calendar import Grain, period_start
from veduta.core.data.fields import Kind, Schema
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.problems import FormulaProblem
from veduta.core.model.definition import Join, Key, ModelDefinition, ModelTable
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
        self.assertEqual(last.model_copy(update={"count": 2}).words(model.schema), "Sailed in the last 2 fiscal years")
        odd = self.model(daily(500), month=2)
        quarter = RelativeFilter(field="sailed", unit="quarter", count=1)
        self.assertEqual(ask_model(odd, (), "min(sailed)", filters=(quarter,)).frame.row(0), (dt.date(2025, 5, 1),))
        self.assertIn("the latest fiscal quarter", quarter.words(odd.schema))

    def test_dates_are_said_by_their_fiscal_year(self):
        schema = self.model([]).schema
        dates = DatesFilter(field="sailed", start=dt.date(2025, 4, 1), end=dt.date(2026, 3, 31))
        self.assertEqual(dates.words(schema), "Sailed in 2025/26")

    def test_a_fiscal_year_that_is_not_over_is_unfinished(self):
        result = ask_model(self.model(daily(500)), ("sailed@year",), "count_rows()")
        self.assertEqual(result.unfinished, dt.date(2025, 5, 14))
        over = ask_model(self.model(daily(366 + 90)), ("sailed@year",), "count_rows()")  # to 31 March 2025
        self.assertIsNone(over.unfinished)

    def test_yearly_rows_of_another_table_lie_in_their_fiscal_year(self):
        goals = pl.DataFrame({"year": [dt.date(2024, 4, 1), dt.date(2025, 4, 1)], "goal": [100.0, 200.0]})
        fields = [field("Year", Kind.DATE), field("Goal", Kind.DECIMAL)]
        model = Model(
            {"": (sailings_table(daily(500)), SAILING_FIELDS), "goals": (MemoryTable(goals, Schema(fields)), fields)},
            ModelDefinition(
                tables=(ModelTable(id="goals", dataset="g", name="Goals"),),
                joins=(Join(right="goals", keys=(Key(left="sailed", right="year", grain="year"),)),),
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
    fields = [field("Month", Kind.DATE), field("Goal", Kind.DECIMAL)]
    return Model(
        {"": (sailings_table(rows), SAILING_FIELDS), "goals": (MemoryTable(goals, Schema(fields)), fields)},
        ModelDefinition(
            tables=(ModelTable(id="goals", dataset="g", name="Goals"),),
            joins=(Join(right="goals", keys=(Key(left="sailed", right="month", grain="month"),)),),
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
                    and period_start(r["sailed"], by(*names)[0].grain) <= day
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
                and period_start(row["sailed"], Grain(grain)) <= start
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

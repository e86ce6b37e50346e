"""A plan and what came of it are counted over the same periods, and that is said."""

from __future__ import annotations

import datetime as dt
import unittest
from collections.abc import Sequence

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

from tests.core.support import TODAY, MemoryTable, field
from veduta.core.calendar import Grain, Grouping
from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.mark_filters import make_points_filters
from veduta.core.chart.question import find_underlying_filters
from veduta.core.data.fields import Aggregate, DataType, Schema
from veduta.core.model.definition import JoinKey, ModelDefinition, ModelJoin, ModelTable
from veduta.core.model.model import Model
from veduta.core.query.answer import answer, make_context
from veduta.core.query.filters import DatesFilter, Filter
from veduta.core.query.listing import scan_underlying_rows
from veduta.core.query.measures import Measure
from veduta.core.query.query import Query, Result

FARE = Measure(field="fare", aggregate=Aggregate.SUM)
GOAL = Measure(field="targets.goal", aggregate=Aggregate.SUM)
REACHED = Measure(formula='sum("#fare") / sum("#targets.goal")')
IN_2026 = DatesFilter(field="sailed", start=dt.date(2026, 1, 1), end=dt.date(2026, 12, 31))
Sailings = Sequence[tuple[dt.date, str, float]]


def table(fields: list, rows: Sequence[tuple]) -> MemoryTable:
    dtypes = {each.id: each.kind.dtype for each in fields}
    return MemoryTable(pl.DataFrame(rows, schema=dtypes, orient="row"), Schema(fields))


def model_of(sailings: Sailings, targets: Sailings, grain: str = "month") -> Model:
    fields = [field("Sailed", DataType.DATE), field("Region", DataType.TEXT), field("Fare", DataType.DECIMAL)]
    goals = [field("Due", DataType.DATE), field("Area", DataType.TEXT), field("Goal", DataType.DECIMAL)]
    keys = (JoinKey(left="region", right="area"), JoinKey(left="sailed", right="due", grain=grain))
    definition = ModelDefinition(
        tables=(ModelTable(id="targets", dataset="2", name="Targets"),), joins=(ModelJoin(right="targets", keys=keys),)
    )
    tables = {"": (table(fields, sailings), fields), "targets": (table(goals, targets), goals)}
    return Model(tables, definition, name="Sailings")


def asked(model: Model, *filters: Filter, by: tuple[str, ...] = (), **more) -> Result:
    groups = tuple(Grouping(field=name, grain=Grain.MONTH if name == "sailed" else None) for name in by)
    query = Query(groups=groups, measures=(FARE, GOAL, REACHED), filters=filters, **more)
    return answer(query, model, make_context(model, TODAY))


def monthly(months: int, value: float = 100.0, year: int = 2026) -> list[tuple[dt.date, str, float]]:
    return [(dt.date(year, month, 1), region, value) for month in range(1, months + 1) for region in ("North", "South")]


TEN = [(day.replace(day=11), region, fare) for day, region, fare in monthly(10, 90.0)]


class TenMonthsOfTwelve(unittest.TestCase):
    def test_both_are_counted_for_the_ten_and_that_is_said(self):
        found = asked(model_of(TEN, monthly(12)), IN_2026)
        self.assertEqual(found.frame.row(0), (1800.0, 2000.0, 0.9))
        self.assertTrue(found.same_periods)
        self.assertIn(
            "Sailings covers Jan 2026 to Oct 2026 and Targets covers 2026. Both are counted for Jan 2026 to Oct 2026.",
            found.notes,
        )

    def test_each_has_its_own_periods_where_that_is_wanted(self):
        found = asked(model_of(TEN, monthly(12)), IN_2026, own_periods=True)
        self.assertEqual(found.frame.row(0), (1800.0, 2400.0, 0.75))
        self.assertEqual(found.notes, [])

    def test_a_plan_that_ends_before_the_rows_narrows_those(self):
        found = asked(model_of(TEN, monthly(6)), IN_2026, by=("region",))
        self.assertEqual(found.frame.rows(), [("North", 540.0, 600.0, 0.9), ("South", 540.0, 600.0, 0.9)])

    def test_periods_that_are_seen_stay(self):
        found = asked(model_of(TEN, monthly(12)), IN_2026, by=("sailed",))
        self.assertEqual(found.frame.height, 12)
        self.assertEqual(found.notes, [])

    def test_all_time_is_not_narrowed_but_said(self):
        found = asked(model_of(TEN, monthly(12)))
        self.assertEqual(found.frame.row(0)[:2], (1800.0, 2400.0))
        self.assertIn("Each is counted over its own periods.", found.notes[0])

    def test_nothing_in_common_is_said_and_left(self):
        found = asked(model_of(TEN, monthly(12, year=2025)), DatesFilter(field="sailed", start=dt.date(2025, 1, 1)))
        self.assertEqual(found.frame.row(0)[:2], (1800.0, 2400.0))
        self.assertIn("The two tables have no period in common", found.notes[0])

    def test_no_rows_at_all_narrow_nothing(self):
        found = asked(model_of([], monthly(12)), IN_2026)
        self.assertEqual(found.frame.row(0)[:2], (None, 2400.0))

    def test_two_tables_that_know_days_are_left(self):
        days = [(dt.date(2026, 1, 1) + dt.timedelta(days=number), "North", 1.0) for number in range(200)]
        found = asked(model_of(days, days[40:90], grain="day"), IN_2026)
        self.assertEqual(found.frame.row(0)[:2], (200.0, 50.0))
        self.assertFalse(found.same_periods)
        self.assertEqual(found.notes, [])

    @given(
        st.lists(st.tuples(st.dates(dt.date(2025, 1, 1), dt.date(2027, 12, 31)), st.integers(-50, 50)), max_size=12),
        st.sets(st.tuples(st.integers(2025, 2027), st.integers(1, 12)), max_size=30),
        st.integers(2025, 2027),
    )
    def test_it_is_what_a_loop_over_the_common_months_says(self, sailings, months, year):
        rows = [(day, "North", float(fare)) for day, fare in sailings]
        goals = [(dt.date(year, month, 1), "North", 10.0) for year, month in sorted(months)]
        within = DatesFilter(field="sailed", start=dt.date(year, 1, 1), end=dt.date(year, 12, 31))
        found = asked(model_of(rows, goals), within)
        actual = {day.replace(day=1) for day, _, _ in rows if day.year == year}
        planned = {day for day, _, _ in goals if day.year == year}
        first, last = dt.date.min, dt.date.max
        if actual and planned:
            first, last = max(min(actual), min(planned)), min(max(actual), max(planned))
        if first > last:
            first, last = dt.date.min, dt.date.max

        def total(rows: Sailings) -> float | None:
            counted = [value for day, _, value in rows if day.year == year and first <= day.replace(day=1) <= last]
            return sum(counted) if counted else None

        self.assertEqual(found.frame.row(0)[:2], (total(rows), total(goals)))

    def test_the_records_behind_are_those_that_are_counted(self):
        model = model_of(TEN, monthly(12))
        context = make_context(model, TODAY)
        for own, expected in ((False, 1000.0), (True, 1200.0)):
            with self.subTest(own_periods=own):
                region = Grouping(field="region")
                chart = ChartDefinition(dataset="1", by=(region,), show=(GOAL, FARE), only=(IN_2026,), own_periods=own)
                north = dict(asked(model, IN_2026, by=("region",), own_periods=own).frame.select("d0", "m1").rows())
                filters = find_underlying_filters(chart, model, context, marks=make_points_filters(chart, [["North"]]))
                rows = scan_underlying_rows(model, filters, context, ["targets.goal"], home="targets").collect()
                self.assertEqual((rows["targets.goal"].sum(), north["North"]), (expected, expected))


if __name__ == "__main__":
    unittest.main()

"""Windows, counts, stocks, date-times and what is refused, each worked out a second time by a plain loop."""

from __future__ import annotations

import datetime as dt
import unittest
from itertools import accumulate
from typing import Any

import polars as pl

from tests.core.query.asking import FARE, FIRST, Asking, ask_model, by, daily
from tests.core.support import SAILING_FIELDS, MemoryTable, context_of, field, sailings
from veduta.core.data.fields import DataType, Schema
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.measures import replace_names_with_ids
from veduta.core.model.definition import JoinKey, ModelDefinition, ModelJoin, ModelTable
from veduta.core.model.model import Model
from veduta.core.query.answer import answer
from veduta.core.query.filters import (
    DatesFilter,
    MeasureFilter,
    MembershipFilter,
    filter_adapter,
)
from veduta.core.query.measures import Measure, TopN
from veduta.core.query.query import Query, Sort


class Stocks(Asking):
    def test_a_stock_over_everything_is_the_sum_on_the_last_day(self):
        rows = [
            {"route": route, "sailed": dt.date(2026, 1, day), "fare": value}
            for route, day, value in (("A", 1, 10.0), ("A", 2, 11.0), ("B", 1, 5.0), ("B", 2, 6.0), ("C", 1, 100.0))
        ]
        fields = [f.model_copy(update={"over_dates": "last"}) if f.id == "fare" else f for f in SAILING_FIELDS]
        result = self.ask(rows, ("route",), "sum(fare)", "sum(fare) per ()", schema=Schema(fields), totals=((),))
        self.assertEqual(result.frame.rows(), [("A", 11.0, 17.0), ("B", 6.0, 17.0), ("C", 100.0, 17.0)])
        self.assertEqual(result.totals[()].row(0), (17.0, 17.0))


VESSELS = [("Knot", 1990), ("Plover", 2005), ("Tern", 2015)]


TRIPS = [("Knot", 10.0), ("Knot", 20.0), ("Plover", 5.0), ("Tern", 7.0), ("Nobody", 1.0), (None, 2.0)]


def fleet(sold: list[tuple] = TRIPS, **more: Any) -> Model:
    trips = pl.DataFrame({"vessel": [t[0] for t in sold], "fare": [t[1] for t in sold]})
    vessels = pl.DataFrame({"vessel": [v[0] for v in VESSELS], "built": [v[1] for v in VESSELS]})
    fields = [field("Vessel", DataType.TEXT), field("Fare", DataType.DECIMAL)]
    others = [field("Vessel", DataType.TEXT), field("Built", DataType.WHOLE)]
    definition = ModelDefinition(
        tables=(ModelTable(id="vessels", dataset="v", name="Vessels"),),
        joins=(ModelJoin(right="vessels", keys=(JoinKey(left="vessel", right="vessel"),)),),
        **more,
    )
    tables = {
        "": (MemoryTable(trips, Schema(fields)), fields),
        "vessels": (MemoryTable(vessels, Schema(others)), others),
    }
    return Model(tables, definition, name="Trips")


class CountsOfRows(unittest.TestCase):
    """Rows are those of the table that the rest of the formula counts; a looked-up condition is about each of them."""

    def test_a_condition_on_a_looked_up_field(self):
        result = ask_model(
            fleet(),
            (),
            "count_rows(where Vessels.built < 2010)",
            "count_rows(where Vessels.built < 2010) / count_rows()",
        )
        self.assertEqual(result.frame.row(0), (3, 0.5))
        vessels = ask_model(fleet(), ("vessel",), "count_rows(where Vessels.built < 2010)").frame
        self.assertEqual(dict(vessels.iter_rows()), {"Knot": 2, "Plover": 1, "Tern": 0, "Nobody": 0, None: 0})

    def test_beside_another_table(self):
        found = ask_model(
            fleet(),
            (),
            "sum(Vessels.built) / count_rows()",
            "count_distinct(Vessels.vessel where Vessels.built < 2010)",
        )
        self.assertEqual(found.frame.row(0), (sum(year for _, year in VESSELS) / 3, 2))


class Windows(Asking):
    ROWS = [
        {"region": region, "route": route, "sailed": dt.date(2026, month, 1), "fare": fare, "passengers": order}
        for region, route, month, fare, order in (
            ("N", "A", 1, 5.0, 3),
            ("N", "B", 1, 20.0, 1),
            ("S", "C", 1, 10.0, 2),
            ("N", "A", 2, 50.0, 3),
            ("S", "C", 2, 15.0, 2),
        )
    ]

    def test_running_along_a_measure_goes_through_all_that_is_shown(self):
        totals = {"A": 55.0, "B": 20.0, "C": 25.0}
        found = self.values(self.ROWS, ("route",), "running(share(sum(fare))) along (fare desc)")
        names = sorted(totals, key=totals.get, reverse=True)
        self.same(found, dict(zip(names, accumulate(totals[name] / 100 for name in names), strict=True)))

    def test_keep_and_sort_by_a_window_with_two_dimensions(self):
        for text, wanted in (("rank(sum(fare))", ["B"]), ("share(sum(fare))", ["A"])):
            measure = Measure(formula=replace_names_with_ids(text, Schema(SAILING_FIELDS)))
            kept = self.ask(self.ROWS, ("route", "sailed@month"), "sum(fare)", keep=TopN(count=1, by=measure))
            self.assertEqual(kept.frame["d0"].unique().to_list(), wanted, text)
            sort = Sort(by="measure", measure=measure, descending=True)
            ordered = (
                self.ask(self.ROWS, ("route", "sailed@month"), "sum(fare)", sort=sort)
                .frame["d0"]
                .unique(maintain_order=True)
            )
            self.assertEqual(ordered.to_list(), ["B", "C", "A"] if "rank" in text else ["A", "C", "B"])

    def test_a_fields_own_order_counts_for_windows_and_second_dimensions(self):
        fields = [f.model_copy(update={"sort_by": "passengers"}) if f.id == "route" else f for f in SAILING_FIELDS]
        schema = Schema(fields)
        self.same(self.values(self.ROWS, ("route",), "running(sum(fare))", schema=schema), {"B": 20, "C": 45, "A": 100})
        self.same(
            self.values(self.ROWS, ("route",), "previous(sum(fare))", schema=schema), {"B": None, "C": 20, "A": 25}
        )
        second = self.ask(self.ROWS, ("region", "route"), "sum(fare)", schema=schema).frame
        self.assertEqual(second.rows(), [("N", "B", 20.0), ("N", "A", 55.0), ("S", "C", 25.0)])

    def test_windows_see_only_groups_that_pass_also_behind_what_is_shown(self):
        fares = (10.0, 1.0, 30.0, 2.0, 50.0, 60.0)
        rows = [{"sailed": dt.date(2026, month + 1, 1), "fare": fare} for month, fare in enumerate(fares)]
        large = MeasureFilter(measure=FARE, low=5)
        everything = DatesFilter(field="sailed", start=dt.date(2026, 1, 1), end=dt.date(2026, 12, 31))
        since_may = DatesFilter(field="sailed", start=dt.date(2026, 5, 1), end=dt.date(2026, 12, 31))
        wanted = {1: None, 3: 10.0, 5: 30.0, 6: 50.0}
        for text, expected in (
            ("previous(sum(fare))", wanted),
            ("difference(sum(fare))", {1: None, 3: 20.0, 5: 20.0, 6: 10.0}),
            ("moving(sum, sum(fare), 2)", {1: 10.0, 3: 30.0, 5: 50.0, 6: 110.0}),
        ):
            for filters in ((large,), (large, everything), (large, since_may)):
                with self.subTest(text=text, filters=len(filters)):
                    found = self.values(rows, ("sailed@month",), text, filters=filters)
                    shown = {dt.date(2026, month, 1): value for month, value in expected.items()}
                    self.same(found, {month: value for month, value in shown.items() if month in found})
                    self.assertEqual(len(found), 2 if since_may in filters else 4)

    def test_the_order_of_filters_on_groups_does_not_matter(self):
        best = MeasureFilter(
            measure=Measure(formula=replace_names_with_ids("rank(sum(fare))", Schema(SAILING_FIELDS))), high=2
        )
        small = MeasureFilter(measure=FARE, high=30)
        for filters in ((best, small), (small, best)):
            self.same(self.values(self.ROWS, ("route",), "sum(fare)", filters=filters), {"C": 25.0})

    def test_restart_is_empty_in_totals(self):
        text = "share(sum(fare)) restart (region)"
        result = self.ask(self.ROWS, ("region", "route"), text, totals=((0,), (1,), ()))
        self.assertEqual([row[-1] for row in result.frame.iter_rows()], [55 / 75, 20 / 75, 1.0])
        self.assertTrue(all(value is None for total in result.totals.values() for value in total["m0"]))

    def test_a_mean_of_three_months_is_of_calendar_months(self):
        rows = [
            {"sailed": dt.date(2026, month, 2), "fare": fare}
            for month, fare in ((1, 6.0), (2, 9.0), (5, 30.0), (6, 10.0))
        ]
        found = self.values(rows, ("sailed@month",), "moving(mean, sum(fare), 3)")
        self.same(
            found, {dt.date(2026, month, 1): value for month, value in ((1, 6.0), (2, 7.5), (5, 30.0), (6, 20.0))}
        )
        counted = self.values(rows, ("sailed@month",), "moving(mean, count_rows(), 3)")
        self.same(
            counted, {dt.date(2026, month, 1): value for month, value in ((1, 1), (2, 1), (5, 1 / 3), (6, 2 / 3))}
        )


class FirstAndLast(Asking):
    ROWS = [
        {"route": "A", "sailed": dt.date(2026, 3, 1), "fare": 3.0, "passengers": 1},
        {"route": "A", "sailed": dt.date(2026, 1, 1), "fare": 1.0, "passengers": 9},
        {"route": "A", "sailed": None, "fare": 7.0, "passengers": 5},
        {"route": "A", "sailed": dt.date(2026, 2, 1), "fare": 2.0, "passengers": 4},
        {"route": "B", "sailed": None, "fare": 8.0, "passengers": 4},
    ]

    def test_by_the_tables_own_date_or_as_told(self):
        result = self.ask(
            self.ROWS,
            ("route",),
            "first(fare)",
            "last(fare)",
            "first(fare) along (passengers)",
            "last(fare) along (passengers desc)",
        )
        self.assertEqual(result.frame.rows(), [("A", 1.0, 3.0, 3.0, 3.0), ("B", 8.0, 8.0, 8.0, 8.0)])

    def test_of_equals_the_first_is_the_first_of_the_table_with_looked_up_fields_too(self):
        sold = [(("Knot", "Nobody", "Plover")[i % 3], float(i)) for i in range(300_000)]
        asked = "first(fare) along (Vessels.built)", "last(fare) along (Vessels.built)"
        found = ask_model(fleet(sold), ("vessels.built",), *asked).frame
        self.assertEqual(found.rows(), [(1990, 0.0, 299997.0), (2005, 2.0, 299999.0), (None, 1.0, 299998.0)])

    def test_of_equals_the_first_is_the_first_of_the_table_beside_values_of_groups_too(self):
        rows = [{"route": "AB"[i % 2], "sailed": FIRST, "fare": float(i)} for i in range(300_000)]
        result = self.ask(rows, ("route",), "first(fare - min(fare) per (route))", "last(fare - min(fare) per (route))")
        self.assertEqual(result.frame.rows(), [("A", 0.0, 299998.0), ("B", 0.0, 299998.0)])

    def test_last_under_a_condition(self):
        self.assertEqual(self.values(self.ROWS, (), "last(fare where passengers > 3)")[()], 2.0)


class DateTimes(Asking):
    ROWS = [
        {"route": "A", "departure": dt.datetime(2026, 3, 1, hour, minute), "fare": fare}
        for hour, minute, fare in ((8, 0, 1.0), (8, 30, 2.0), (9, 0, 4.0), (9, 0, 8.0), (23, 59, 16.0))
    ] + [{"route": "A", "departure": dt.datetime(2026, 3, 2, 8, 15), "fare": 32.0}]

    def test_per_a_date_time_is_by_the_moment(self):
        result = self.ask(
            self.ROWS,
            ("route",),
            "max(sum(fare) per (shown, departure))",
            "max(sum(fare) per (shown, trunc(departure, 'day')))",
            "max(count_rows() per (shown, trunc(departure, 'hour')))",
        )
        self.assertEqual(result.frame.rows(), [("A", 32.0, 32.0, 2)])
        smaller = self.ask(
            self.ROWS[:-1],
            ("route",),
            "max(sum(fare) per (shown, departure))",
            "max(sum(fare) per (shown, trunc(departure, 'day')))",
        )
        self.assertEqual(smaller.frame.rows(), [("A", 16.0, 31.0)])

    def test_hours_and_hours_of_the_day(self):
        hours = self.values(self.ROWS, ("departure@hour",), "sum(fare)")
        self.assertEqual(hours[dt.datetime(2026, 3, 1, 8)], 3.0)
        self.assertEqual(self.values(self.ROWS, ("departure@hour_of_day",), "sum(fare)"), {8: 35.0, 9: 12.0, 23: 16.0})
        cells = self.values(self.ROWS, ("departure@weekday", "departure@hour_of_day"), "count_rows()")
        self.assertEqual(cells, {(7, 8): 2, (7, 9): 2, (7, 23): 1, (1, 8): 1})
        before = self.values(self.ROWS, ("departure@hour",), "shift(sum(fare), -1, 'day')")
        self.assertEqual(before[dt.datetime(2026, 3, 2, 8)], 3.0)
        to_date = self.values(self.ROWS, ("departure@hour",), "to_date(sum(fare), 'day')")
        self.assertEqual(list(to_date.values()), [3.0, 15.0, 31.0, 32.0])
        middle = self.values(self.ROWS, ("departure@hour",), "to_date(median(fare), 'day')")
        self.assertEqual(list(middle.values()), [1.5, 3.0, 4.0, 32.0])

    def test_an_hour_of_a_day_is_refused(self):
        with self.assertRaisesRegex(DefinitionProblem, "no time of day"):
            self.ask([{"sailed": FIRST}], ("sailed@hour",), "count_rows()")

    def test_filters_finer_than_a_day(self):
        morning = DatesFilter(
            field="departure",
            start=dt.date(2026, 3, 1),
            start_time=dt.time(8, 30),
            end=dt.date(2026, 3, 1),
            end_time=dt.time(9),
        )
        self.assertEqual(self.values(self.ROWS, (), "sum(fare)", filters=(morning,))[()], 14.0)
        self.assertEqual(morning.describe(Schema(SAILING_FIELDS)), "Departure from 1 Mar 2026 08:30 to 09:00")
        self.assertEqual(filter_adapter.validate_json(filter_adapter.dump_json(morning)), morning)

    def test_a_membership_on_a_date_time(self):
        best = MembershipFilter(field="departure", keep=TopN(count=1, by=FARE))
        self.assertEqual(self.values(self.ROWS, (), "sum(fare)", filters=(best,))[()], 32.0)


class Refused(Asking):
    def test_totals_that_values_do_not_have(self):
        for field_id, aggregate in (("sailed", "max"),):
            measure = Measure(field=field_id, aggregate=aggregate, total="sum")
            model = sailings(daily(3))
            with self.assertRaisesRegex(DefinitionProblem, "cannot be a total"):
                answer(
                    Query(groups=by("route"), measures=(measure,), totals=((),)),
                    model,
                    context_of(model),
                )

    def test_a_filter_on_groups_by_a_text(self):
        text = Measure(formula=replace_names_with_ids("if(sum(fare) > 0, 'more', 'less')", Schema(SAILING_FIELDS)))
        with self.assertRaisesRegex(DefinitionProblem, "not a number"):
            self.ask(daily(3), ("route",), "count_rows()", filters=(MeasureFilter(measure=text, low=1),))

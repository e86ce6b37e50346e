"""Questions whose meaning was once open or answered wrongly, each worked out a second time by a plain loop."""

from __future__ import annotations

import datetime as dt
import math
import unittest
from collections import defaultdict
from itertools import accumulate
from typing import Any

import polars as pl

from tests.core.support import SAILING_FIELDS, TODAY, MemoryTable, context_of, field, sailings
from veduta.core.calendar import Grouping, period_start
from veduta.core.data.fields import Kind, Schema
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.measures import with_ids
from veduta.core.formula.problems import FormulaProblem
from veduta.core.model.definition import Join, Key, ModelDefinition, ModelTable, ParameterField
from veduta.core.model.model import Model
from veduta.core.query.answer import answer, context_for
from veduta.core.query.filters import (
    DatesFilter,
    EmptyFilter,
    ListFilter,
    MeasureFilter,
    MembershipFilter,
    PointsFilter,
    RangeFilter,
    RelativeFilter,
    filter_adapter,
)
from veduta.core.query.measures import Keep, Measure
from veduta.core.query.query import Query, Result, Sort

FARE = Measure(field="fare", aggregate="sum")
FIRST = dt.date(2024, 1, 1)


def daily(days: int = 1_000, **more: Any) -> list[dict]:
    """One sailing a day from 2024 on; the fare is the number of the day."""
    return [{"sailed": FIRST + dt.timedelta(days=i), "fare": float(i + 1), **more} for i in range(days)]


def by(*names: str) -> tuple[Grouping, ...]:
    return tuple(Grouping(field=name.partition("@")[0], grain=name.partition("@")[2] or None) for name in names)


class Asking(unittest.TestCase):
    def ask(
        self, rows: list[dict], names: tuple[str, ...], *texts: str, schema: Schema | None = None, **more: Any
    ) -> Result:
        table, usual = sailings(rows)
        schema = schema or usual
        measures = tuple(Measure(formula=with_ids(text, schema)) for text in texts)
        return answer(Query(groups=by(*names), measures=measures, **more), table, schema, context_of(table, schema))

    def values(self, rows: list[dict], names: tuple[str, ...], text: str, **more: Any) -> dict:
        """The only measure's values by the dimension, or by all of them."""
        result = self.ask(rows, names, text, **more)
        depth = len(names)
        return {row[0] if depth == 1 else row[:depth]: row[depth] for row in result.frame.iter_rows()}

    def same(self, found: dict, wanted: dict) -> None:
        self.assertEqual(set(found), set(wanted))
        for key, value in wanted.items():
            if value is None or found[key] is None:
                self.assertEqual(found[key], value, key)
            else:
                self.assertAlmostEqual(found[key], value, msg=str(key))


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


def shares(ports: tuple[tuple[str, int], ...]) -> list[dict]:
    return [{"route": route, "fare": 1.0, "passengers": i} for route, n in ports for i in range(n)]


class PerBesideKeep(Asking):
    """`per` is worked out over all rows that pass the filters on rows, whatever is kept or dropped afterwards."""

    ROWS = shares((("A", 30), ("B", 20), ("C", 25), ("D", 15), ("E", 10)))
    PART = "count_rows() / count_rows() per ()"

    def test_other_is_its_own_part_and_the_total_the_part_that_is_kept(self):
        for rest in (True, False):
            result = self.ask(self.ROWS, ("route",), self.PART, keep=Keep(count=2, by=Measure(), rest=rest), totals=((),))
            self.assertEqual([row[1] for row in result.frame.iter_rows()], [0.3, 0.25, *[0.45] * rest])
            self.assertAlmostEqual(result.totals[()]["m0"][0], 1.0 if rest else 0.55)

    def test_a_total_under_a_filter_on_groups(self):
        result = self.ask(
            self.ROWS, ("route",), self.PART, filters=(MeasureFilter(measure=Measure(), low=20),), totals=((),)
        )
        self.assertEqual(dict(result.frame.iter_rows()), {"A": 0.3, "B": 0.2, "C": 0.25})
        self.assertAlmostEqual(result.totals[()]["m0"][0], 0.75)

    def test_per_a_dimension_in_subtotals(self):
        rows = [{**row, "region": "N" if row["route"] in "AB" else "S"} for row in self.ROWS]
        text = "count_rows() / count_rows() per (region)"
        keep = Keep(count=1, of="within", by=Measure())
        result = self.ask(rows, ("region", "route"), text, keep=keep, totals=((0,),))
        self.same(dict(result.totals[(0,)].iter_rows()), {"N": 0.6, "S": 0.5})

    def test_shown_is_the_lines_own_extent(self):
        text = "max(count_rows() per (shown, route))"
        result = self.ask(
            self.ROWS, ("route",), text, keep=Keep(count=2, by=Measure(), end="bottom", rest=True), totals=((),)
        )
        self.assertEqual([row[1] for row in result.frame.iter_rows()], [15, 10, 30])
        kept = self.ask(self.ROWS, ("route",), text, keep=Keep(count=2, by=Measure(), end="bottom"), totals=((),))
        self.assertEqual(kept.totals[()]["m0"][0], 15)


class Other(Asking):
    """What is gathered is what passes the filters on groups and is not kept."""

    ROWS = [
        {"region": region, "route": route, "fare": 1.0}
        for region, route, n in (("N", "A", 9), ("N", "B", 7), ("S", "A", 2), ("S", "C", 6), ("S", "D", 5), ("N", "E", 1))
        for _ in range(n)
    ]

    def test_the_lines_add_up_to_the_total_under_a_filter_on_groups(self):
        keep = Keep(count=2, by=Measure(), rest=True)
        at_least = MeasureFilter(measure=Measure(), low=5)
        result = self.ask(self.ROWS, ("route",), "count_rows()", keep=keep, filters=(at_least,), totals=((),))
        self.assertEqual([row[1] for row in result.frame.iter_rows()], [11, 7, 11])
        self.assertEqual(result.totals[()]["m0"][0], 29)

    def test_crosstabs_have_totals_of_what_was_gathered(self):
        keep = Keep(count=1, by=Measure(), rest=True)
        result = self.ask(
            self.ROWS, ("route", "region"), "count_rows()", keep=keep, totals=((0,), (1,), ()), sort=Sort(by="name")
        )
        self.assertEqual(
            result.frame.rows(), [("A", "N", 9, None), ("A", "S", 2, None), (None, "N", 8, True), (None, "S", 11, True)]
        )
        self.assertEqual([row[:2] for row in result.totals[(0,)].iter_rows()], [("A", 11), (None, 19)])
        self.assertEqual(dict(result.totals[(1,)].iter_rows()), {"N": 17, "S": 13})
        self.assertEqual(result.totals[()]["m0"][0], 30)

    def test_gathered_within_each_group(self):
        keep = Keep(count=1, of="within", by=Measure(), rest=True)
        result = self.ask(self.ROWS, ("region", "route"), "count_rows()", keep=keep, totals=((0,), (1,), ()))
        self.assertEqual(
            result.frame.rows(), [("N", "A", 9, None), ("N", None, 8, True), ("S", "C", 6, None), ("S", None, 7, True)]
        )
        self.assertEqual(dict(result.totals[(0,)].iter_rows()), {"N": 17, "S": 13})
        self.assertEqual([row[:2] for row in result.totals[(1,)].iter_rows()], [("A", 9), ("C", 6), (None, 15)])

    def test_a_value_called_other_is_not_the_rest(self):
        rows = shares((("Other", 5), ("A", 4), ("B", 3), ("C", 2)))
        result = self.ask(rows, ("route",), "count_rows()", keep=Keep(count=2, by=Measure(), rest=True))
        self.assertEqual((result.rest.key, result.rest.name), ("d0", "All others"))
        self.assertEqual(sum(row[1] for row in result.frame.iter_rows() if row[-1]), 5)

    def test_numbers_and_dates_can_be_gathered(self):
        rows = daily(90)
        result = self.ask(rows, ("sailed@month",), "count_rows()", keep=Keep(count=2, by=Measure(), rest=True), totals=((),))
        self.assertEqual([row[1] for row in result.frame.iter_rows()], [31, 30, 29])
        numbers = self.ask(
            shares((("A", 3), ("B", 2))), ("passengers",), "count_rows()", keep=Keep(count=1, by=Measure(), rest=True)
        )
        self.assertEqual(numbers.frame.rows(), [(0, 2, None), (None, 3, True)])

    def test_empties_take_a_place_unless_left_out_and_that_is_said(self):
        rows = [{"route": None}] * 5 + shares((("A", 4), ("B", 3)))
        result = self.ask(rows, ("route",), "count_rows()", keep=Keep(count=1, by=Measure()))
        self.assertEqual(result.frame.rows(), [(None, 5)])
        self.assertIn("An empty route is among those kept.", result.notes)
        left_out = self.ask(rows, ("route",), "count_rows()", keep=Keep(count=1, by=Measure(), empties=False, rest=True))
        self.assertEqual(left_out.frame.rows(), [("A", 4, None), (None, 8, True)])

    def test_a_part_of_all_is_kept_in_percent(self):
        rows = shares(tuple((f"R{i:02}", i + 1) for i in range(25)))
        for percent, kept in ((10, 3), (1, 1), (100, 25), (40, 10)):
            result = self.ask(rows, ("route",), "count_rows()", keep=Keep(count=percent, percent=True, by=Measure()))
            self.assertEqual(result.frame.height, kept, percent)

    def test_the_rows_of_what_was_gathered_can_be_selected_with_others(self):
        rest = MembershipFilter(field="route", keep=Keep(count=2, by=Measure()), follows=True)
        marks = PointsFilter(groups=by("route"), points=(("␟rest",), ("A",)), rest=rest)
        found = self.values(self.ROWS, ("route",), "count_rows()", filters=(marks,))
        self.assertEqual(found, {"A": 11, "C": 6, "D": 5, "E": 1})
        out = self.values(self.ROWS, ("route",), "count_rows()", filters=(marks.model_copy(update={"exclude": True}),))
        self.assertEqual(out, {"B": 7})


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


class TwoGroupingsOfOneDate(Asking):
    """Time goes along the finest of them."""

    def test_every_function_of_time_by_year_and_month(self):
        rows = daily()
        texts = (
            "sum(fare)", "shift(sum(fare), -1, 'year')", "growth(sum(fare), 'year')", "shift(sum(fare), -1, 'month')",
            "to_date(sum(fare), 'year')", "running(sum(fare))", "previous(sum(fare))", "whole(sum(fare), 'quarter')",
            "sum(fare) per (shown except month)",
        )  # fmt: skip
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


VESSELS = [("Knot", 1990), ("Plover", 2005), ("Tern", 2015)]
TRIPS = [("Knot", 10.0), ("Knot", 20.0), ("Plover", 5.0), ("Tern", 7.0), ("Nobody", 1.0), (None, 2.0)]


def fleet(**more: Any) -> Model:
    trips = pl.DataFrame({"vessel": [t[0] for t in TRIPS], "fare": [t[1] for t in TRIPS]})
    vessels = pl.DataFrame({"vessel": [v[0] for v in VESSELS], "built": [v[1] for v in VESSELS]})
    fields = [field("Vessel", Kind.TEXT), field("Fare", Kind.DECIMAL)]
    others = [field("Vessel", Kind.TEXT), field("Built", Kind.WHOLE)]
    definition = ModelDefinition(
        tables=(ModelTable(id="vessels", dataset="v", name="Vessels"),),
        joins=(Join(right="vessels", keys=(Key(left="vessel", right="vessel"),)),),
        **more,
    )
    tables = {"": (MemoryTable(trips, Schema(fields)), fields), "vessels": (MemoryTable(vessels, Schema(others)), others)}
    return Model(tables, definition, name="Trips")


def ask_model(model: Model, names: tuple[str, ...], *texts: str, **more: Any) -> Result:
    measures = tuple(Measure(formula=with_ids(text, model.schema)) for text in texts)
    context = context_for(model, model.schema, TODAY)
    return answer(Query(groups=by(*names), measures=measures, **more), model, model.schema, context)


class CountsOfRows(unittest.TestCase):
    """Rows are those of the table that the rest of the formula counts; a looked-up condition is about each of them."""

    def test_a_condition_on_a_looked_up_field(self):
        result = ask_model(
            fleet(), (), "count_rows(where Vessels.built < 2010)", "count_rows(where Vessels.built < 2010) / count_rows()"
        )
        self.assertEqual(result.frame.row(0), (3, 0.5))
        vessels = ask_model(fleet(), ("vessel",), "count_rows(where Vessels.built < 2010)").frame
        self.assertEqual(dict(vessels.iter_rows()), {"Knot": 2, "Plover": 1, "Tern": 0, "Nobody": 0, None: 0})

    def test_beside_another_table(self):
        found = ask_model(
            fleet(), (), "sum(Vessels.built) / count_rows()", "count_distinct(Vessels.vessel where Vessels.built < 2010)"
        )
        self.assertEqual(found.frame.row(0), (sum(year for _, year in VESSELS) / 3, 2))


class FiscalYears(unittest.TestCase):
    """One definition of a period everywhere: filters, joins, axes, notes and words."""

    def model(self, rows: list[dict], month: int = 4) -> Model:
        table, _ = sailings(rows)
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
            {"": (sailings(daily(500))[0], SAILING_FIELDS), "goals": (MemoryTable(goals, Schema(fields)), fields)},
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


class NoLimit(unittest.TestCase):
    """A condition that contains a parameter without a limit does not narrow at all."""

    ROWS = [{"route": r, "fare": f} for r, f in (("A", 1.0), ("B", 2.0), (None, 3.0), ("C", None))]

    def model(self) -> Model:
        table, _ = sailings(self.ROWS)
        parameter = ParameterField(id="p", name="P", kind=Kind.DECIMAL, required=False)
        other = ParameterField(id="name", name="Name", kind=Kind.TEXT, default=("x",))
        return Model({"": (table, SAILING_FIELDS)}, ModelDefinition(parameters=(parameter, other)))

    def count(self, *filters: Any, text: str = "count_rows()") -> int:
        return ask_model(self.model(), (), text, filters=filters).frame["m0"][0]

    def test_ranges_keep_empties(self):
        self.assertEqual(self.count(RangeFilter(field="fare", low_parameter="p")), 4)
        self.assertEqual(self.count(RangeFilter(field="fare", low_parameter="p", high_parameter="p")), 4)
        self.assertEqual(self.count(RangeFilter(field="fare", low_parameter="p", high=1)), 1)

    def test_filters_on_groups_and_memberships_keep_empties(self):
        on_groups = MeasureFilter(measure=FARE, low_parameter="p")
        self.assertEqual(ask_model(self.model(), ("route",), "count_rows()", filters=(on_groups,)).frame.height, 4)
        self.assertEqual(self.count(MembershipFilter(field="route", measure=FARE, high_parameter="p")), 4)
        self.assertEqual(self.count(MembershipFilter(field="route", keep=Keep(parameter="p", by=FARE))), 4)

    def test_conditions_in_formulas(self):
        for condition, count in (
            ("fare < :p", 4), ("not (fare < :p)", 4), ("fare >= :p + 0", 4), ("fare between :p and 2", 4), ("fare in (:p)", 4),
            ("fare > 1 and fare < :p", 2), ("fare > 2 or fare < :p", 4), ("not (fare > 1 and not fare < :p)", 1),
            ("(:p is empty) and fare > 1", 2), ("coalesce(:p, 2) <= fare", 2),
        ):  # fmt: skip
            with self.subTest(condition=condition):
                self.assertEqual(self.count(text=f"count_rows(where {condition})"), count)

    def test_a_parameter_of_the_wrong_kind_is_refused(self):
        for filters, keep in (
            ((RangeFilter(field="fare", low_parameter="name"),), None),
            ((MeasureFilter(measure=FARE, low_parameter="name"),), None),
            ((), Keep(parameter="name", by=FARE)),
        ):
            with self.assertRaisesRegex(DefinitionProblem, ":name holds a text"):
                ask_model(self.model(), ("route",), "count_rows()", filters=filters, keep=keep)


class Windows(Asking):
    ROWS = [
        {"region": region, "route": route, "sailed": dt.date(2026, month, 1), "fare": fare, "passengers": order}
        for region, route, month, fare, order in (
            ("N", "A", 1, 5.0, 3), ("N", "B", 1, 20.0, 1), ("S", "C", 1, 10.0, 2), ("N", "A", 2, 50.0, 3), ("S", "C", 2, 15.0, 2),
        )
    ]  # fmt: skip

    def test_running_along_a_measure_goes_through_all_that_is_shown(self):
        totals = {"A": 55.0, "B": 20.0, "C": 25.0}
        found = self.values(self.ROWS, ("route",), "running(share(sum(fare))) along (fare desc)")
        names = sorted(totals, key=totals.get, reverse=True)
        self.same(found, dict(zip(names, accumulate(totals[name] / 100 for name in names), strict=True)))

    def test_keep_and_sort_by_a_window_with_two_dimensions(self):
        for text, wanted in (("rank(sum(fare))", ["B"]), ("share(sum(fare))", ["A"])):
            measure = Measure(formula=with_ids(text, sailings([])[1]))
            kept = self.ask(self.ROWS, ("route", "sailed@month"), "sum(fare)", keep=Keep(count=1, by=measure))
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
        self.same(self.values(self.ROWS, ("route",), "previous(sum(fare))", schema=schema), {"B": None, "C": 20, "A": 25})
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
        best = MeasureFilter(measure=Measure(formula=with_ids("rank(sum(fare))", sailings([])[1])), high=2)
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
            {"sailed": dt.date(2026, month, 2), "fare": fare} for month, fare in ((1, 6.0), (2, 9.0), (5, 30.0), (6, 10.0))
        ]
        found = self.values(rows, ("sailed@month",), "moving(mean, sum(fare), 3)")
        self.same(found, {dt.date(2026, month, 1): value for month, value in ((1, 6.0), (2, 7.5), (5, 30.0), (6, 20.0))})
        counted = self.values(rows, ("sailed@month",), "moving(mean, count_rows(), 3)")
        self.same(counted, {dt.date(2026, month, 1): value for month, value in ((1, 1), (2, 1), (5, 1 / 3), (6, 2 / 3))})


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

    def test_last_under_a_condition(self):
        self.assertEqual(self.values(self.ROWS, (), "last(fare where passengers > 3)")[()], 2.0)


class DateTimes(Asking):
    ROWS = [
        {"route": "A", "departure": dt.datetime(2026, 3, 1, hour, minute), "fare": fare}
        for hour, minute, fare in ((8, 0, 1.0), (8, 30, 2.0), (9, 0, 4.0), (9, 0, 8.0), (23, 59, 16.0))
    ] + [{"route": "A", "departure": dt.datetime(2026, 3, 2, 8, 15), "fare": 32.0}]

    def test_per_a_date_time_is_by_the_moment(self):
        result = self.ask(
            self.ROWS, ("route",), "max(sum(fare) per (shown, departure))", "max(sum(fare) per (shown, trunc(departure, 'day')))",
            "max(count_rows() per (shown, trunc(departure, 'hour')))",
        )  # fmt: skip
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
        self.assertEqual(morning.words(Schema(SAILING_FIELDS)), "Departure from 1 Mar 2026 08:30 to 1 Mar 2026 09:00")
        self.assertEqual(filter_adapter.validate_json(filter_adapter.dump_json(morning)), morning)

    def test_a_membership_on_a_date_time(self):
        best = MembershipFilter(field="departure", keep=Keep(count=1, by=FARE))
        self.assertEqual(self.values(self.ROWS, (), "sum(fare)", filters=(best,))[()], 32.0)


class Refused(Asking):
    def test_totals_that_values_do_not_have(self):
        for field_id, aggregate in (("sailed", "max"),):
            measure = Measure(field=field_id, aggregate=aggregate, total="sum")
            table, schema = sailings(daily(3))
            with self.assertRaisesRegex(DefinitionProblem, "cannot be a total"):
                answer(
                    Query(groups=by("route"), measures=(measure,), totals=((),)), table, schema, context_of(table, schema)
                )

    def test_a_filter_on_groups_by_a_text(self):
        text = Measure(formula=with_ids("if(sum(fare) > 0, 'more', 'less')", sailings([])[1]))
        with self.assertRaisesRegex(DefinitionProblem, "not a number"):
            self.ask(daily(3), ("route",), "count_rows()", filters=(MeasureFilter(measure=text, low=1),))


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
                    r["passengers"] for r in rows
                    if r["passengers"] is not None and r["sailed"].year == day.year
                    and period_start(r["sailed"], by(*names)[0].grain) <= day and (len(names) == 1 or r["route"] == row[1])
                )  # fmt: skip
                middle = len(so_far) // 2
                wanted = (
                    None if not so_far else so_far[middle] if len(so_far) % 2 else (so_far[middle - 1] + so_far[middle]) / 2
                )
                self.assertEqual((distinct, median, most), (len(set(so_far)), wanted, so_far[-1] if so_far else None))

    def test_what_would_read_too_many_rows_is_refused(self):
        rows = [{"sailed": FIRST + dt.timedelta(days=i % 366), "fare": float(i)} for i in range(60_000)]
        with self.assertRaisesRegex(DefinitionProblem, "would look at 1"):
            self.ask(rows, ("sailed@day",), "to_date(std_dev(fare), 'year')")


class LeavingOutFilters(Asking):
    ROWS = [
        {"region": region, "route": route, "fare": fare, "sailed": dt.date(2026, month, 1)}
        for region, route, fare, month in (("N", "A", 10.0, 1), ("N", "B", 20.0, 2), ("S", "A", 70.0, 1))
    ]

    def test_a_share_of_all_regions(self):
        north = ListFilter(field="region", values=("N",))
        text = "sum(fare) / sum(fare) unfiltered (region)"
        self.same(self.values(self.ROWS, (), text, filters=(north,)), {(): 0.3})
        self.same(self.values(self.ROWS, ("route",), text, filters=(north,)), {"A": 10 / 80, "B": 1.0})
        of_all = "sum(fare) / sum(fare) per () unfiltered (region)"
        self.same(
            self.values(self.ROWS, ("route",), of_all, filters=(north, ListFilter(field="route", values=("A",)))),
            {"A": 10 / 80},
        )

    def test_marks_lose_only_that_dimension(self):
        mark = PointsFilter(groups=by("region", "route"), points=(("N", "A"),))
        self.same(self.values(self.ROWS, (), "sum(fare) unfiltered (region)", filters=(mark,)), {(): 80.0})


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


class JoinedDates(unittest.TestCase):
    def test_a_filter_on_a_date_that_a_join_equates_with_the_axis_narrows_only_what_is_shown(self):
        goals = pl.DataFrame(
            {"month": [dt.date(2024, m, 1) for m in range(1, 13)], "goal": [float(m) for m in range(1, 13)]}
        )
        fields = [field("Month", Kind.DATE), field("Goal", Kind.DECIMAL)]
        model = Model(
            {"": (sailings(daily(366))[0], SAILING_FIELDS), "goals": (MemoryTable(goals, Schema(fields)), fields)},
            ModelDefinition(
                tables=(ModelTable(id="goals", dataset="g", name="Goals"),),
                joins=(Join(right="goals", keys=(Key(left="sailed", right="month", grain="month"),)),),
            ),
        )
        spring = DatesFilter(field="goals.month", start=dt.date(2024, 4, 1), end=dt.date(2024, 6, 30))
        found = ask_model(
            model, ("sailed@month",), "shift(count_rows(), -1, 'month')", "previous(sum(Goals.goal))", filters=(spring,)
        ).frame
        self.assertEqual([row[1:] for row in found.iter_rows()], [(31, 3.0), (30, 4.0), (31, 5.0)])

    def test_the_latest_day_is_that_of_the_axis_not_of_targets_in_the_future(self):
        goals = pl.DataFrame(
            {"month": [dt.date(2024, m, 1) for m in range(1, 13)], "goal": [float(m) for m in range(1, 13)]}
        )
        fields = [field("Month", Kind.DATE), field("Goal", Kind.DECIMAL)]
        model = Model(
            {"": (sailings(daily(40))[0], SAILING_FIELDS), "goals": (MemoryTable(goals, Schema(fields)), fields)},
            ModelDefinition(
                tables=(ModelTable(id="goals", dataset="g", name="Goals"),),
                joins=(Join(right="goals", keys=(Key(left="sailed", right="month", grain="month"),)),),
            ),
        )
        result = ask_model(model, ("sailed@year",), "count_rows()")
        self.assertEqual(result.unfinished, dt.date(2024, 2, 9))


class EmptyDates(Asking):
    def test_a_filter_on_empties_is_no_period(self):
        rows = [*daily(366 + 60), {"fare": 5.0}]
        dated = EmptyFilter(field="sailed", exclude=True)
        found = self.values(rows, ("sailed@year",), "shift(count_rows(), -1, 'year')", filters=(dated,))
        self.assertEqual(found, {dt.date(2024, 1, 1): None, dt.date(2025, 1, 1): 366})
        self.assertFalse(any(isinstance(value, float) and math.isnan(value) for value in found.values()))

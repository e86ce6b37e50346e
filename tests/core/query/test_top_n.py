"""What is kept, gathered and left out, and what stands for everything all the same, by plain numbers."""

from __future__ import annotations

import datetime as dt
import unittest
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from tests.core.query.asking import FARE, Asking, ask_model, by, daily, shares
from tests.core.support import SAILING_FIELDS, sailings_table
from veduta.core.data.fields import DataType
from veduta.core.errors import DefinitionProblem
from veduta.core.model.definition import ModelDefinition, ParameterField
from veduta.core.model.model import Model
from veduta.core.query.filters import (
    DatesFilter,
    ListFilter,
    MeasureFilter,
    MembershipFilter,
    PointsFilter,
    RangeFilter,
)
from veduta.core.query.measures import Measure, TopN
from veduta.core.query.query import Sort


class PerBesideKeep(Asking):
    """`per` is worked out over all rows that pass the filters on rows, whatever is kept or dropped afterwards."""

    ROWS = shares((("A", 30), ("B", 20), ("C", 25), ("D", 15), ("E", 10)))
    PART = "count_rows() / count_rows() per ()"

    def test_other_is_its_own_part_and_the_total_the_part_that_is_kept(self):
        for rest in (True, False):
            result = self.ask(
                self.ROWS, ("route",), self.PART, keep=TopN(count=2, by=Measure(), rest=rest), totals=((),)
            )
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
        keep = TopN(count=1, of="within", by=Measure())
        result = self.ask(rows, ("region", "route"), text, keep=keep, totals=((0,),))
        self.same(dict(result.totals[(0,)].iter_rows()), {"N": 0.6, "S": 0.5})

    def test_shown_is_the_lines_own_extent(self):
        text = "max(count_rows() per (shown, route))"
        result = self.ask(
            self.ROWS, ("route",), text, keep=TopN(count=2, by=Measure(), end="bottom", rest=True), totals=((),)
        )
        self.assertEqual([row[1] for row in result.frame.iter_rows()], [15, 10, 30])
        kept = self.ask(self.ROWS, ("route",), text, keep=TopN(count=2, by=Measure(), end="bottom"), totals=((),))
        self.assertEqual(kept.totals[()]["m0"][0], 15)


class Other(Asking):
    """What is gathered is what passes the filters on groups and is not kept."""

    ROWS = [
        {"region": region, "route": route, "fare": 1.0}
        for region, route, n in (
            ("N", "A", 9),
            ("N", "B", 7),
            ("S", "A", 2),
            ("S", "C", 6),
            ("S", "D", 5),
            ("N", "E", 1),
        )
        for _ in range(n)
    ]

    def test_the_lines_add_up_to_the_total_under_a_filter_on_groups(self):
        keep = TopN(count=2, by=Measure(), rest=True)
        at_least = MeasureFilter(measure=Measure(), low=5)
        result = self.ask(self.ROWS, ("route",), "count_rows()", keep=keep, filters=(at_least,), totals=((),))
        self.assertEqual([row[1] for row in result.frame.iter_rows()], [11, 7, 11])
        self.assertEqual(result.totals[()]["m0"][0], 29)

    def test_crosstabs_have_totals_of_what_was_gathered(self):
        keep = TopN(count=1, by=Measure(), rest=True)
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
        keep = TopN(count=1, of="within", by=Measure(), rest=True)
        result = self.ask(self.ROWS, ("region", "route"), "count_rows()", keep=keep, totals=((0,), (1,), ()))
        self.assertEqual(
            result.frame.rows(), [("N", "A", 9, None), ("N", None, 8, True), ("S", "C", 6, None), ("S", None, 7, True)]
        )
        self.assertEqual(dict(result.totals[(0,)].iter_rows()), {"N": 17, "S": 13})
        self.assertEqual([row[:2] for row in result.totals[(1,)].iter_rows()], [("A", 9), ("C", 6), (None, 15)])

    def test_a_value_called_other_is_not_the_rest(self):
        rows = shares((("Other", 5), ("A", 4), ("B", 3), ("C", 2)))
        result = self.ask(rows, ("route",), "count_rows()", keep=TopN(count=2, by=Measure(), rest=True))
        self.assertEqual((result.rest.key, result.rest.name), ("d0", "All others"))
        self.assertEqual(sum(row[1] for row in result.frame.iter_rows() if row[-1]), 5)

    def test_numbers_and_dates_can_be_gathered(self):
        rows = daily(90)
        result = self.ask(
            rows, ("sailed@month",), "count_rows()", keep=TopN(count=2, by=Measure(), rest=True), totals=((),)
        )
        self.assertEqual([row[1] for row in result.frame.iter_rows()], [31, 30, 29])
        numbers = self.ask(
            shares((("A", 3), ("B", 2))), ("passengers",), "count_rows()", keep=TopN(count=1, by=Measure(), rest=True)
        )
        self.assertEqual(numbers.frame.rows(), [(0, 2, None), (None, 3, True)])

    def test_empties_take_a_place_unless_left_out_and_that_is_said(self):
        rows = [{"route": None}] * 5 + shares((("A", 4), ("B", 3)))
        result = self.ask(rows, ("route",), "count_rows()", keep=TopN(count=1, by=Measure()))
        self.assertEqual(result.frame.rows(), [(None, 5)])
        self.assertIn("An empty route is among those kept.", result.notes)
        left_out = self.ask(
            rows, ("route",), "count_rows()", keep=TopN(count=1, by=Measure(), empties=False, rest=True)
        )
        self.assertEqual(left_out.frame.rows(), [("A", 4, None), (None, 8, True)])

    def test_ties_at_the_edge(self):
        """What is kept of A 4, B 3, C 3, D 3, E 1; of ties the first by name, unless all are kept."""
        rows = shares((("E", 1), ("D", 3), ("B", 3), ("A", 4), ("C", 3)))
        for end, count, ties, kept, more in (
            ("top", 1, False, "A", 0),
            ("top", 2, False, "AB", 2),
            ("top", 2, True, "ABCD", 2),
            ("top", 3, False, "ABC", 1),
            ("top", 3, True, "ABCD", 1),
            ("top", 4, False, "ABCD", 0),
            ("top", 9, True, "ABCDE", 0),
            ("bottom", 1, True, "E", 0),
            ("bottom", 2, False, "EB", 2),
            ("bottom", 2, True, "EBCD", 2),
        ):
            with self.subTest(end=end, count=count, ties=ties):
                keep = TopN(count=count, end=end, ties=ties, by=Measure())
                result = self.ask(rows, ("route",), "count_rows()", keep=keep)
                self.assertEqual(set(result.frame["d0"]), set(kept))
                self.assertEqual(any(note.startswith(f"{more} more of Route") for note in result.notes), more > 0)
                self.assertEqual(any("tie" in note for note in result.notes), more > 0)

    def test_values_of_nothing_are_empty_and_counts_are_nought(self):
        nothing = {"sum(fare)": None, "mean(fare)": None, "max(fare)": None, "median(fare)": None, "count(fare)": 0}
        empties = [{"route": "A", "fare": None}, {"route": "B", "fare": None}]
        for rows, counted in ((empties, 2), ([], 0)):
            for text, wanted in (nothing | {"count_rows()": counted, "count_distinct(fare)": 0}).items():
                with self.subTest(text=text, rows=len(rows)):
                    self.assertEqual(self.ask(rows, (), text).frame["m0"].to_list(), [wanted])
        for text, wanted in nothing.items():
            with self.subTest(text=text, total=True):
                result = self.ask(empties, ("route",), text, totals=((),))
                self.assertEqual(result.frame["m0"].to_list(), [wanted, wanted])
                self.assertEqual(result.totals[()]["m0"].to_list(), [wanted])

    def test_a_part_of_all_is_kept_in_percent(self):
        rows = shares(tuple((f"R{i:02}", i + 1) for i in range(25)))
        for percent, kept in ((10, 3), (1, 1), (100, 25), (40, 10)):
            result = self.ask(rows, ("route",), "count_rows()", keep=TopN(count=percent, percent=True, by=Measure()))
            self.assertEqual(result.frame.height, kept, percent)

    def test_the_rows_of_what_was_gathered_can_be_selected_with_others(self):
        rest = MembershipFilter(field="route", keep=TopN(count=2, by=Measure()), follows=True)
        marks = PointsFilter(groups=by("route"), points=(("␟rest",), ("A",)), rest=rest)
        found = self.values(self.ROWS, ("route",), "count_rows()", filters=(marks,))
        self.assertEqual(found, {"A": 11, "C": 6, "D": 5, "E": 1})
        out = self.values(self.ROWS, ("route",), "count_rows()", filters=(marks.model_copy(update={"exclude": True}),))
        self.assertEqual(out, {"B": 7})


class NoLimit(unittest.TestCase):
    """A condition that contains a parameter without a limit does not narrow at all."""

    ROWS = [{"route": r, "fare": f} for r, f in (("A", 1.0), ("B", 2.0), (None, 3.0), ("C", None))]

    def model(self) -> Model:
        table = sailings_table(self.ROWS)
        parameter = ParameterField(id="p", name="P", kind=DataType.DECIMAL, required=False)
        other = ParameterField(id="name", name="Name", kind=DataType.TEXT, default=("x",))
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
        self.assertEqual(self.count(MembershipFilter(field="route", keep=TopN(parameter="p", by=FARE))), 4)

    def test_conditions_in_formulas(self):
        for condition, count in (
            ("fare < :p", 4),
            ("not (fare < :p)", 4),
            ("fare >= :p + 0", 4),
            ("fare between :p and 2", 4),
            ("fare in (:p)", 4),
            ("fare > 1 and fare < :p", 2),
            ("fare > 2 or fare < :p", 4),
            ("not (fare > 1 and not fare < :p)", 1),
            ("(:p is empty) and fare > 1", 2),
            ("coalesce(:p, 2) <= fare", 2),
        ):
            with self.subTest(condition=condition):
                self.assertEqual(self.count(text=f"count_rows(where {condition})"), count)

    def test_a_parameter_of_the_wrong_kind_is_refused(self):
        for filters, keep in (
            ((RangeFilter(field="fare", low_parameter="name"),), None),
            ((MeasureFilter(measure=FARE, low_parameter="name"),), None),
            ((), TopN(parameter="name", by=FARE)),
        ):
            with self.assertRaisesRegex(DefinitionProblem, ":name holds a text"):
                ask_model(self.model(), ("route",), "count_rows()", filters=filters, keep=keep)


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


class OverPeriods(Asking):
    @given(
        st.lists(st.tuples(st.sampled_from("ABCD"), st.sampled_from((2024, 2025)), st.integers(-9, 9)), max_size=24),
        st.integers(-5, 5),
    )
    def test_who_came_in_one_year_and_not_in_the_next(self, rows, least):
        sailed = [{"route": route, "sailed": dt.date(year, 5, 1), "fare": float(fare)} for route, year, fare in rows]

        def of(year: int) -> tuple[DatesFilter]:
            return (DatesFilter(field="sailed", start=dt.date(year, 1, 1), end=dt.date(year, 12, 31)),)

        came = MembershipFilter(field="route", measure=FARE, low=least, filters=of(2024))
        stayed = MembershipFilter(field="route", measure=Measure(), low=1, filters=of(2025), exclude=True)
        found = self.values(sailed, ("route",), "count_rows()", filters=(came, stayed))
        expected: dict[str, int] = {}
        for name in "ABCD":
            fares = [fare for route, year, fare in rows if (route, year) == (name, 2024)]
            if fares and sum(fares) >= least and not any((route, year) == (name, 2025) for route, year, _ in rows):
                expected[name] = len(fares)
        self.assertEqual(found, expected)

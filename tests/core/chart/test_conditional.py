from __future__ import annotations

import statistics
import unittest

from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.chart.test_charts import FARE, MONTH, ROWS, asked, chart
from tests.core.support import SAILING_FIELDS, context_of, sailings, sailings_table
from veduta.core.chart.choose import choose_kind
from veduta.core.chart.conditional import TESTS, ConditionalFormat, describe_condition
from veduta.core.chart.contrast import compute_contrast
from veduta.core.chart.drawing.picture import iterate_units
from veduta.core.chart.edits import apply_edit
from veduta.core.chart.question import ask
from veduta.core.errors import DefinitionProblem
from veduta.core.model.definition import ModelDefinition, ParameterField
from veduta.core.model.model import Model

PASSENGERS = {"field": "passengers", "aggregate": "sum"}
NUMBERS = st.lists(
    st.none() | st.integers(-50, 50).map(float) | st.floats(-1e12, 1e12).map(lambda number: round(number, 2)),
    min_size=1,
    max_size=12,
)

# No two values are alike.
APART = [row | {"fare": row["fare"] + place / 8 + 40} for place, row in enumerate(ROWS)]


def table_of(rules, rows=ROWS, **parts):
    asks = {"show": [FARE, PASSENGERS], "by": ["route"], "kind": "table", **parts}
    return asked(chart(conditional=rules, **asks), rows).drawing.table


def of_values(values, rule):
    """For each route, which has one value, whether a rule holds of its fare."""
    rows = [{"route": f"Route {i:03}", "fare": value} for i, value in enumerate(values)]
    rule = {"measure": FARE, "ground": "worse", **rule}
    table = table_of([rule], rows, sort={"by": "name"})
    return [row[1].look is not None for row in table.rows]


class Conditions(unittest.TestCase):
    @examples(60)
    @given(NUMBERS, st.sampled_from(["above", "from", "below", "to", "is", "is_not"]), st.data())
    def test_numbers_are_compared_as_python_does(self, values, test, data):
        against = data.draw(st.sampled_from([value for value in values if value is not None] or [0.0]))
        compare = {
            "above": float.__gt__,
            "from": float.__ge__,
            "below": float.__lt__,
            "to": float.__le__,
            "is": float.__eq__,
            "is_not": float.__ne__,
        }[test]
        expected = [value is not None and compare(value, against) for value in values]
        self.assertEqual(of_values(values, {"test": test, "value": against}), expected)

    @examples(40)
    @given(NUMBERS, st.sampled_from(["mean", "median"]))
    def test_statistics_are_those_of_all_values_shown(self, values, statistic):
        there = [value for value in values if value is not None]
        if not there:
            self.assertNotIn(True, of_values(values, {"test": "above", "against": statistic}))
            return
        middle = getattr(statistics, statistic)(there)
        held = of_values(values, {"test": "above", "against": statistic})
        for value, holds in zip(values, held, strict=True):
            if value is None or abs(value - middle) > 1e-6 * max(1.0, abs(middle)):
                self.assertEqual(holds, value is not None and value > middle)

    @examples(40)
    @given(NUMBERS, st.integers(1, 5), st.sampled_from(["highest", "lowest"]))
    def test_the_highest_and_lowest_are_held_with_all_that_tie(self, values, count, test):
        there = sorted((value for value in values if value is not None), reverse=test == "highest")
        last = there[min(count, len(there)) - 1] if there else None
        expected = [
            value is not None and last is not None and (value >= last if test == "highest" else value <= last)
            for value in values
        ]
        self.assertEqual(of_values(values, {"test": test, "count": count}), expected)

    def test_between_empty_and_a_percentile(self):
        values = [1.0, 2.0, 3.0, 4.0, None]
        self.assertEqual(
            of_values(values, {"test": "between", "value": 2, "high": 3}), [False, True, True, False, False]
        )
        self.assertEqual(of_values(values, {"test": "empty"}), [False, False, False, False, True])
        self.assertEqual(of_values(values, {"test": "there"}), [True, True, True, True, False])
        above = {"test": "above", "against": "percentile", "percent": 50}
        self.assertEqual(of_values(values, above), [False, False, True, True, False])

    def test_what_is_not_whole_or_does_not_suit_the_values_holds_nowhere(self):
        for rule in (
            {"test": "above"},
            {"test": "between", "value": 1},
            {"test": "above", "against": "measure"},
            {"test": "contains", "value": "1"},
            {"test": "above", "value": "many"},
            {"tests": "formula"},
            {"test": "above", "against": "measure", "other": {"field": "sailed", "aggregate": "max"}},
            {"measure": {"field": "sailed", "aggregate": "max"}, "against": "measure", "other": FARE},
            {"measure": {"field": "departure", "aggregate": "max"}, "against": "parameter", "parameter": ""},
            {"tests": "dimension", "dimension": "region", "test": "is", "value": "North Reach"},
        ):
            with self.subTest(rule=rule):
                self.assertEqual(of_values([1.0, 2.0], rule), [False, False])

    def test_a_measure_that_is_not_shown_another_one_and_a_formula_are_worked_out(self):
        rows = [
            {"route": name, "fare": fare, "passengers": people} for name, fare, people in (("A", 9, 1), ("B", 2, 4))
        ]
        for rule in (
            {"measure": PASSENGERS, "test": "below", "value": 3},
            {"measure": FARE, "test": "above", "against": "measure", "other": PASSENGERS},
            {"tests": "formula", "formula": "sum(fare) > 2 * sum(passengers)"},
        ):
            with self.subTest(rule=rule):
                table = table_of([{"ground": "better", **rule}], rows, show=[FARE], sort={"by": "name"})
                self.assertEqual([row[1].look is not None for row in table.rows], [True, False])

    def test_words_and_dates_of_dimensions_are_tested(self):
        def held(rule, **parts):
            table = table_of([{"tests": "dimension", "ground": "quiet", **rule}], sort={"by": "name"}, **parts)
            return [row[0].text for row in table.rows if row[0].look]

        self.assertEqual(
            held({"dimension": "region", "test": "contains", "value": "REACH"}, by=["region"]), ["North Reach"]
        )
        self.assertEqual(
            held({"dimension": "region", "test": "is_not", "value": "North Reach"}, by=["region"])[1:], ["South Banks"]
        )
        self.assertEqual(held({"dimension": "region", "test": "begins", "value": "so"}, by=["region"]), ["South Banks"])
        dates = {"by": [MONTH], "sort": {"by": "time"}}
        rule = {"tests": "dimension", "dimension": MONTH, "test": "from", "value": "2026-04-01", "ground": "quiet"}
        table = table_of([rule], **dates)
        self.assertEqual([row[0].text for row in table.rows if row[0].look], ["Apr 2026", "May 2026"])

    def test_what_was_gathered_is_no_value_of_its_dimension(self):
        for test, expected in (("there", [True, True, False]), ("empty", [False] * 3)):
            rule = {"tests": "dimension", "dimension": "route", "test": test, "ground": "quiet"}
            table = table_of([rule], keep={"count": 2, "by": FARE, "rest": True})
            self.assertEqual([row[0].look is not None for row in table.rows], expected)

    def test_a_parameter_is_compared_with_and_no_limit_holds_nowhere(self):
        definition = ModelDefinition(parameters=(ParameterField(id="most", name="Most", kind="decimal", default=(5,)),))
        rows = [{"route": "A", "fare": 4.0}, {"route": "B", "fare": 6.0}]
        model = Model({"": (sailings_table(rows), SAILING_FIELDS)}, definition)
        rule = {"measure": FARE, "test": "above", "against": "parameter", "parameter": "most", "ground": "worse"}
        asks = chart(show=[FARE], by=["route"], kind="table", conditional=[rule], sort={"by": "name"})
        rows = ask(asks, model, context_of(model)).drawing.table.rows
        self.assertEqual([row[1].look is not None for row in rows], [False, True])


class Looks(unittest.TestCase):
    def test_each_part_of_the_look_is_of_the_first_rule_that_sets_it(self):
        rules = [
            {"measure": FARE, "test": "above", "value": 0, "colour": "better", "sign": "up", "said": "in profit"},
            {"measure": FARE, "test": "there", "colour": "worse", "ground": "#fff0c0", "strong": True},
        ]
        rows = [{"route": "A", "fare": 5.0}, {"route": "B", "fare": -5.0}]
        first, second = (row[1].look for row in table_of(rules, rows, sort={"by": "name"}).rows)
        self.assertEqual((first.colour, first.ground, first.strong, first.sign), ("better", "#FFF0C0", True, "▲"))
        self.assertEqual(first.said, ("in profit", "fare not empty"))
        self.assertEqual((second.colour, second.ground, second.sign), ("worse", "#FFF0C0", ""))

    def test_a_rule_looks_after_its_cells_a_whole_row_or_those_of_another_measure(self):
        def looks(**rule):
            rows = [{"route": "A", "fare": 5.0, "passengers": 1}]
            table = table_of([{"measure": FARE, "test": "above", "value": 0, "ground": "worse", **rule}], rows)
            return [cell.look is not None for cell in table.rows[0]]

        self.assertEqual(looks(), [False, True, False])
        self.assertEqual(looks(on="row"), [True, True, True])
        self.assertEqual(looks(cells=PASSENGERS), [False, False, True])
        unshown = {"field": "fare", "aggregate": "max"}
        self.assertEqual(looks(measure=unshown), [False, True, True])

    def test_totals_are_never_coloured_and_do_not_count(self):
        rules = [{"measure": FARE, "test": "highest", "count": 1, "ground": "worse", "on": "row"}]
        table = table_of(rules, by=["region", "route"], totals="all")
        coloured = [row for row in table.rows if any(cell.look for cell in row)]
        self.assertTrue(coloured)
        self.assertFalse(any(cell.subtotal for row in coloured for cell in row))
        self.assertFalse(any(cell.look for cell in table.totals[0]))
        crosstab = table_of(rules, kind="crosstab", by=["route"], split=MONTH, show=[FARE])
        ruled = [[cell.look is not None for cell in row] for row in crosstab.rows]
        self.assertTrue(any(map(any, ruled)))
        self.assertFalse(any(row[-1] for row in ruled) or any(cell.look for cell in crosstab.totals[0]))

    def test_a_rule_has_the_ground_where_it_meets_a_shade_unless_set_otherwise(self):
        rules = [{"measure": FARE, "test": "above", "value": 0, "ground": "worse", "strong": True}]
        rows = [{"route": "A", "fare": 5.0}]
        for first, expected in ((False, ("", "worse")), (True, ("rise-5", ""))):
            look = {"columns": [{"measure": 0, "draws": "shade", "shade_first": first}]}
            cell = table_of(rules, rows, look=look).rows[0][1]
            self.assertEqual((cell.shade, cell.look.ground), expected)
            self.assertTrue(cell.look.strong)

    def test_marks_of_every_kind_say_what_holds_of_them_and_have_its_colour(self):
        rules = [{"measure": FARE, "test": "highest", "count": 2, "ground": "#AA0000", "said": "best"}]
        for kind in ("bar", "lying", "line", "pie", "nested", "lollipop"):
            definition = chart(show=[FARE], by=["route"], kind=kind, conditional=rules)
            answered = asked(definition, APART)
            if choose_kind(definition, sailings(ROWS))[0].name != kind:
                continue
            with self.subTest(kind=kind):
                held = [row for row in answered.drawing.rows if row.get("format") == 0]
                self.assertEqual(len({tuple(row["point"]) for row in held}), 2)
                self.assertTrue(all("; best" in row["said"] and ["", "best"] in row["tip"] for row in held))
                painted = [
                    unit
                    for unit in iterate_units(answered.drawing.spec)
                    if "datum.format === 0" in str(unit["encoding"])
                ]
                self.assertTrue(painted)
                self.assertNotIn("line", [unit["mark"]["type"] for unit in painted])

    def test_a_single_figure_looks_as_its_rule_says(self):
        rules = [{"measure": FARE, "test": "above", "value": 0, "colour": "better", "sign": "check"}]
        figure = asked(chart(show=[FARE], conditional=rules), [{"fare": 3.0}]).drawing.figures[0]
        self.assertEqual((figure.look.colour, figure.look.sign), ("better", "✓"))
        self.assertIsNone(asked(chart(show=[FARE], conditional=rules), [{"fare": -3.0}]).drawing.figures[0].look)

    def test_panels_have_the_rules_of_the_whole_chart(self):
        rules = [{"measure": FARE, "test": "highest", "count": 1, "ground": "worse"}]
        definition = chart(show=[FARE], by=["route"], kind="bar", panels={"by": ["region"]}, conditional=rules)
        held = [row for row in asked(definition, APART).drawing.rows if row.get("format") == 0]
        self.assertEqual(len(held), 1)

    def test_labels_have_a_colour_that_can_be_read_on_the_sheet(self):
        rules = [{"measure": FARE, "test": "there", "colour": "#FFFF00"}]
        definition = chart(show=[FARE], by=["route"], kind="lying", conditional=rules)
        spec = asked(definition).drawing.spec
        colours = [
            condition["value"]
            for unit in iterate_units(spec)
            if unit["mark"]["type"] == "text"
            for condition in unit["encoding"]["color"]["condition"]
        ]
        self.assertTrue(colours)
        self.assertTrue(all(compute_contrast(colour, "#FFFFFF") >= 4.5 for colour in colours))


class Words(unittest.TestCase):
    def said(self, **rule):
        return describe_condition(
            ConditionalFormat.model_validate(rule), chart(show=[FARE, PASSENGERS]).measures, sailings(ROWS)
        )

    def test_conditions_are_said_as_people_would(self):
        self.assertEqual(self.said(test="above", value=1000), "fare above 1,000")
        self.assertEqual(self.said(measure=PASSENGERS, test="between", value=2, high=3), "passengers between 2 and 3")
        self.assertEqual(self.said(test="highest", count=3), "fare among the 3 highest")
        self.assertEqual(self.said(test="below", against="mean"), "fare below the mean")
        self.assertEqual(self.said(test="below", against="measure", other=PASSENGERS), "fare below passengers")
        self.assertEqual(self.said(test="from", against="percentile", percent=90), "fare at least the 90th percentile")
        region = {"tests": "dimension", "dimension": {"field": "region"}}
        self.assertEqual(self.said(**region, test="is", value="North Reach"), "region is North Reach")
        self.assertEqual(self.said(**region, test="empty"), "region empty")
        month = {"tests": "dimension", "dimension": MONTH}
        self.assertEqual(self.said(**month, test="from", value="2026-03-01"), "month of sailed on or after Mar 2026")
        self.assertEqual(self.said(test="above"), "fare above …")
        self.assertEqual(self.said(tests="formula", formula='sum("#fare") > 3'), "sum(Fare) > 3")

    def test_every_test_suits_some_kind_of_values_but_that_of_a_formula(self):
        suited = {name for name, test in TESTS.items() if test.numbers or test.dates or test.texts}
        self.assertEqual(set(TESTS) - suited, {"holds"})


class Edits(unittest.TestCase):
    def setUp(self):
        self.model = sailings(ROWS)
        self.definition = chart(show=[FARE, PASSENGERS], by=["region", MONTH])

    def after(self, *changes):
        definition = self.definition
        for change in changes:
            definition = apply_edit(definition, self.model, change)
        return definition.conditional

    def test_a_rule_begins_with_what_makes_sense_of_a_measure_and_of_a_dimension(self):
        (rule,) = self.after({"edit": "add_condition", "index": 1})
        self.assertEqual((rule.measure.field, rule.test, rule.against), ("passengers", "below", "mean"))
        (rule,) = self.after({"edit": "add_condition", "tests": "dimension", "index": 1})
        self.assertEqual((rule.dimension.field, rule.test), ("sailed", "empty"))

    def test_a_test_gives_way_to_one_that_suits_the_values(self):
        start = (
            {"edit": "add_condition"},
            {"edit": "set_condition", "index": 0, "changes": {"test": "above", "value": 3}},
        )
        region = {"tests": "dimension", "dimension": {"field": "region"}}
        (rule,) = self.after(*start, {"edit": "set_condition", "index": 0, "changes": region})
        self.assertEqual((rule.test, rule.against, rule.value), ("is", "value", None))
        formula = {"tests": "formula", "formula": "sum(Fare) > 3"}
        (rule,) = self.after(*start, {"edit": "set_condition", "index": 0, "changes": formula})
        self.assertEqual((rule.test, rule.formula), ("holds", 'sum("#fare") > 3'))

    def test_rules_change_places_and_are_removed(self):
        three = [{"edit": "add_condition", "index": i % 2} for i in range(3)]
        names = [{"edit": "set_condition", "index": i, "changes": {"said": name}} for i, name in enumerate("abc")]
        moved = self.after(*three, *names, {"edit": "move", "clause": "conditional", "index": 2, "to": 0})
        self.assertEqual([rule.said for rule in moved], ["c", "a", "b"])
        removed = self.after(*three, *names, {"edit": "remove", "clause": "conditional", "index": 1})
        self.assertEqual([rule.said for rule in removed], ["a", "c"])

    def test_what_a_rule_cannot_have_is_said(self):
        for changes, words in (
            ({"ground": "reddish"}, "“reddish” is no colour"),
            ({"ground": 'red"><b'}, "is no colour"),
            ({"test": "nearly"}, "cannot be set to that"),
            ({"tests": "formula", "formula": "sum(Fare)"}, "yes or no"),
            ({"percent": 101}, "cannot be set to that"),
        ):
            with self.subTest(changes=changes), self.assertRaises(DefinitionProblem) as caught:
                self.after(
                    {"edit": "add_condition"},
                    {"edit": "set_condition", "index": 0, "changes": changes},
                )
            self.assertIn(words, caught.exception.message)

    def test_colours_are_taken_as_css_writes_them(self):
        for written, kept in (
            ("teal", "#008080"),
            ("rgb(1 2 3)", "#010203"),
            ("hsl(0 100% 50%)", "#FF0000"),
            ("3", "3"),
        ):
            (rule,) = self.after(
                {"edit": "add_condition"},
                {"edit": "set_condition", "index": 0, "changes": {"ground": written}},
            )
            self.assertEqual(rule.ground, kept)

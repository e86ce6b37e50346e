import datetime as dt
import unittest

from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.chart.test_charts import FARE, MONTH, asked, chart
from tests.core.support import SAILING_FIELDS, context_of, sailings, sailings_table
from veduta.core.chart.question import ask
from veduta.core.chart.text_placeholders import find_formulas
from veduta.core.chart.texts import show_text, store_text, strip_placeholders
from veduta.core.errors import DefinitionProblem
from veduta.core.model.definition import ModelDefinition, ParameterField
from veduta.core.model.model import Model

ROWS = [
    {"route": route, "region": region, "sailed": day, "fare": fare, "passengers": people}
    for route, region, day, fare, people in (
        ("Tern", "North", dt.date(2026, 1, 4), 10.0, 4),
        ("Quay", "South", dt.date(2026, 3, 9), -5.0, 6),
        ("Gull", "North", dt.date(2026, 3, 10), 30.5, None),
    )
]


class Said(unittest.TestCase):
    def said(self, title, rows=ROWS, **parts):
        return asked(chart(**{"show": [FARE], "by": ["route"], "title": title, **parts}), rows).title

    def test_each_value_is_that_of_the_chart(self):
        for text, words in (
            ("{highest} with {highest value}", "Gull with 30.50"),
            ("{lowest}: {lowest value}", "Quay: −5.00"),
            ("{first}, {first value}; {last}, {last value}", "Gull, 30.50; Quay, −5.00"),
            ("{total} of {groups} routes, {rows} rows", "35.50 of 3 routes, 3 rows"),
            ("to {latest}", "to 10 Mar 2026"),
            ("{filters}", "nothing"),
            ('{=sum("#fare") / sum("#passengers")}', "3.55"),
            ('{=max("#sailed")}', "10 Mar 2026"),
            ("{{highest}} and {other}", "{highest} and {other}"),
        ):
            with self.subTest(text=text):
                self.assertEqual(self.said(text, sort={"by": "measure", "descending": True}), words)

    def test_what_the_chart_is_narrowed_by_and_which_periods_it_shows(self):
        only = [{"kind": "list", "field": "region", "values": ["North"]}]
        said = self.said("{period}: {filters}", by=[MONTH], only=only)
        self.assertEqual(said, "Jan 2026 to Mar 2026: region is North")
        self.assertEqual(self.said("{period}", rows=ROWS[:1], by=[MONTH]), "Jan 2026")

    def test_the_dates_are_those_that_all_filters_let_pass_together(self):
        year = {"kind": "relative", "field": "sailed", "unit": "year", "count": 1}
        quarter = {"kind": "list", "field": "sailed", "grain": "quarter", "values": ["2026-01-01"]}
        since = {"kind": "dates", "field": "sailed", "start": "2026-02-01"}
        for only, words in (
            ([year], "2026"),
            ([year, quarter], "Q1 2026"),
            ([quarter, year], "Q1 2026"),
            ([quarter, since], "Feb 2026 to Mar 2026"),
            ([since], "1 Feb 2026 to 10 Mar 2026"),
            ([{"kind": "list", "field": "region", "values": ["North"]}], "all up to 10 Mar 2026"),
        ):
            with self.subTest(only=only):
                self.assertEqual(self.said("{dates}", only=only), words)

    def test_the_latest_day_is_that_of_the_date_the_chart_is_about(self):
        rows = [*ROWS, {"departure": dt.datetime(2031, 1, 1, 8), "fare": 1.0}]
        self.assertEqual(self.said("{latest}", rows=rows), "10 Mar 2026")
        self.assertEqual(self.said("{latest}", rows=rows, by=[{"field": "departure", "grain": "day"}]), "1 Jan 2031")

    def test_a_figure_and_a_chart_without_rows_have_texts_too(self):
        self.assertEqual(self.said('{total}, {=sum("#passengers")}', by=[]), "35.50, 10")
        empty = '{highest} {highest value} {total} {period} {=sum("#fare")}'
        self.assertEqual(self.said(empty, rows=[]), "– – – – –")

    def test_the_note_has_values_too_and_totals_are_not_drawn_for_it(self):
        definition = chart(show=[FARE], by=["route"], kind="table", totals="none", note="{total}")
        answered = asked(definition, ROWS)
        self.assertEqual((answered.note, answered.drawing.table.totals), ("35.50", []))
        self.assertEqual(asked(chart(show=[FARE], by=["route"], kind="bar", note="{total}"), ROWS).note, "35.50")

    def test_parameters_are_told_in_words_and_in_formulas_by_their_value(self):
        definition = ModelDefinition(parameters=(ParameterField(id="most", name="Most", kind="decimal", default=(9,)),))
        model = Model({"": (sailings_table(ROWS), SAILING_FIELDS)}, definition)
        text = store_text("over :most: {sum(Fare where Fare > :most)}", model)
        answered = ask(chart(show=[FARE], by=["route"], title=text), model, context_of(model))
        self.assertEqual(answered.title, "over 9: 40.50")


class Kept(unittest.TestCase):
    def setUp(self):
        self.model = sailings(ROWS)

    def test_formulas_are_kept_by_ids_and_read_by_names(self):
        kept = store_text("{ highest   value } {sum(Fare)} {=sum(Fare)} {{x}}", self.model)
        self.assertEqual(kept, '{highest value} {=sum("#fare")} {=sum("#fare")} {{x}}')
        self.assertEqual(find_formulas(kept), ['sum("#fare")'])
        self.assertEqual(show_text(kept, self.model), "{highest value} {=sum(Fare)} {=sum(Fare)} {{x}}")
        self.assertEqual(strip_placeholders(kept), "… … … {x}")

    def test_blanks_within_a_formula_stay(self):
        self.assertIn("'a  b'", store_text("{count_rows(where Route = 'a  b')}", self.model))

    def test_what_is_no_value_is_said_with_what_to_do(self):
        for text in ("{nothing}", "{=sum(}", "{}", "{=}", "{Fare}"):
            with self.subTest(text=text), self.assertRaises(DefinitionProblem) as caught:
                store_text(text, self.model)
            self.assertIn("{{", caught.exception.hint)

    @examples(100)
    @given(st.text(alphabet="{}=: ab1", max_size=12))
    def test_any_text_is_kept_or_refused_and_can_always_be_shown(self, text):
        try:
            kept = store_text(text, self.model)
        except DefinitionProblem:
            kept = text
        self.assertIsInstance(asked(chart(show=[FARE], title=text.replace("=", "")), ROWS).title, str)
        self.assertIsInstance(strip_placeholders(kept), str)

"""Own specifications: what is wrong with them and where, what can be written, and how they are drawn."""

from __future__ import annotations

import gzip
import json
import unittest

from hypothesis import given
from hypothesis import strategies as st

from tests.core.chart.test_kinds import GRAMMARS, MEASURES, MONTH, drawn, model_of, row, validator
from veduta.core.chart.complete_specification import complete
from veduta.core.chart.definition import load_definition
from veduta.core.chart.edits import apply_edit
from veduta.core.chart.grammar import schema
from veduta.core.chart.grammar.checking import check_specification, find_problem, format_specification, list_completions
from veduta.core.chart.grammar.source import locate_caret, locate_parts
from veduta.core.chart.kinds.own_specification import list_field_names, write_starting_text
from veduta.core.errors import DefinitionProblem

ROWS = [row(i) for i in range(40)]
BARS = {
    "mark": "bar",
    "encoding": {"y": {"field": "Region", "type": "nominal"}, "x": {"field": "Fare", "type": "quantitative"}},
}
JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(),
    lambda inner: st.lists(inner) | st.dictionaries(st.text(), inner),
    max_leaves=12,
)


def wrong(spec: object) -> tuple[str, str]:
    """What is said to be wrong, and about which part of the text."""
    text = spec if isinstance(spec, str) else json.dumps(spec)
    problem = find_problem(text)
    assert problem is not None, "nothing is wrong"
    return problem.message, text[problem.span.start : problem.span.end]


def offered(text: str, *fields: str) -> list[str]:
    """The completions where a bar stands in a text."""
    return [each.label for each in list_completions(text.replace("|", ""), text.index("|"), fields)[0]]


class Checking(unittest.TestCase):
    def test_the_schema_is_that_of_the_library_which_draws(self):
        ours = json.loads(gzip.decompress(schema.FILE.read_bytes()))
        self.assertEqual(ours, json.loads((GRAMMARS / "vega-lite/build/vega-lite-schema.json").read_text()))

    def test_what_is_right_passes(self):
        for spec in (BARS, {"layer": [BARS, BARS]}, {**BARS, "data": {"values": [{"url": 3, "href": "x"}]}}):
            self.assertIsNone(find_problem(json.dumps(spec)))

    def test_what_has_no_meaning_is_said_with_its_place(self):
        cases = [
            ({**BARS, "mark": "baz"}, "“baz” has no meaning here. Did you mean “bar”?", '"baz"'),
            ({"marks": "bar"}, "“marks” has no meaning here. Did you mean “mark”?", '"marks"'),
            (
                {"mark": {"type": "bar", "colour": "red"}},
                "“colour” has no meaning here. Did you mean “color”?",
                '"colour"',
            ),
            (
                {"layer": [BARS, {"mark": "line", "encoding": {"y": {"agregate": "sum"}}}]},
                "“agregate” has no meaning here. Did you mean “aggregate”?",
                '"agregate"',
            ),
            ({"mark": {"type": "bar", "opacity": "x"}}, '"x" is not of type "number".', '"x"'),
            ([], "A specification is an object, in braces.", "[]"),
            ("", "It is empty.", ""),
            ({**BARS, "$schema": "vega/v6.json"}, "Only Vega-Lite 6 is drawn here.", '"vega/v6.json"'),
        ]
        for spec, message, part in cases:
            with self.subTest(message):
                said, about = wrong(spec)
                self.assertEqual(said, message)
                self.assertEqual(about, part)

    def test_the_line_is_that_of_the_mistake(self):
        problem = find_problem('{\n  "mark": "bar",\n  "encoding": {\n    "x": {"feild": "Fare"}\n  }\n}')
        self.assertEqual(problem.line, 4)
        self.assertIn("Line 2: This is not JSON yet", self.refused('{"mark": "bar",\n}'))

    def refused(self, text: str) -> str:
        with self.assertRaises(DefinitionProblem) as caught:
            check_specification(text)
        return str(caught.exception)

    def test_addresses_are_refused_wherever_they_stand(self):
        for spec in (
            {**BARS, "data": {"url": "https://elsewhere.example/rows.json"}},
            {**BARS, "mark": {"type": "image", "url": "https://elsewhere.example/a.png"}},
            {**BARS, "encoding": {"href": {"value": "https://elsewhere.example"}}},
            {"layer": [{**BARS, "transform": [{"lookup": "a", "from": {"data": {"url": "x.csv"}, "key": "a"}}]}]},
            {**BARS, "encoding": {"url": {"field": "Route"}}},
        ):
            with self.subTest(spec):
                self.assertIn("nothing is fetched from elsewhere", wrong(spec)[0])
        self.assertEqual(wrong({**BARS, "data": {"name": "others"}}), ("The data is called rows or marks.", '"others"'))

    def test_fields_that_the_rows_do_not_have_are_said(self):
        def said(spec, *fields):
            problem = find_problem(json.dumps(spec), fields)
            return problem.message if problem else ""

        self.assertEqual(said(BARS, "Region", "Fare"), "")
        self.assertEqual(said(BARS, "Region", "Fares"), "The rows have no field “Fare”. Did you mean “Fares”?")
        self.assertEqual(said(BARS, "Fare", "Day"), "The rows have no field “Region”. There are Fare and Day.")
        for makes in ({"transform": []}, {"data": {"name": "marks"}}, {"data": {"values": []}}):
            self.assertEqual(said({**BARS, **makes}, "Day"), "")

    @given(JSON)
    def test_nonsense_never_gets_further_than_a_message(self, data):
        for spec in (data, {"mark": data}, {**BARS, "encoding": data}, {"layer": data}):
            problem = find_problem(json.dumps(spec))
            self.assertTrue(problem is None or problem.message)

    @given(JSON)
    def test_places_are_those_of_the_values(self, data):
        text = json.dumps(data, indent=1)
        values, _ = locate_parts(text)

        def walk(part, path):
            span = values[path]
            self.assertEqual(json.loads(text[span.start : span.end]), part)
            inner = part.items() if isinstance(part, dict) else enumerate(part) if isinstance(part, list) else ()
            for step, value in inner:
                walk(value, (*path, step))

        walk(data, ())

    def test_even_text_says_the_same(self):
        self.assertEqual(json.loads(format_specification(json.dumps(BARS))), BARS)
        with self.assertRaises(DefinitionProblem):
            format_specification("{")


class Completing(unittest.TestCase):
    def test_keys_and_words_that_may_stand_there(self):
        self.assertIn("encoding", offered('{"mark": "bar", "enc|'))
        self.assertNotIn("mark", offered('{"mark": "bar", |'))
        self.assertIn("bar", offered('{"mark": "b|"}'))
        self.assertEqual(offered('{"mark": "bar", "encoding": {"x": {"type": "quan|"}}}'), ["quantitative"])
        self.assertEqual(offered('{"mark": {"type": "bar", "filled": t|}}'), ["true"])
        self.assertIn("aggregate", offered('{"layer": [{"mark": "bar", "encoding": {"x": {|'))

    def test_fields_where_fields_are_named(self):
        self.assertEqual(offered('{"encoding": {"x": {"field": "|"}}}', "Fare", "Region"), ["Fare", "Region"])
        self.assertEqual(offered('{"transform": [{"groupby": ["Reg|"]}]}', "Fare", "Region"), ["Region"])
        self.assertEqual(offered('{"data": {"name": |'), ["rows", "marks"])

    @given(st.text('{}[]",: ab\\1', max_size=40), st.integers(0, 40))
    def test_whatever_is_written_so_far(self, text, caret):
        writing = locate_caret(text, min(caret, len(text)))
        self.assertLessEqual(writing.span.start, writing.span.end)
        list_completions(text, min(caret, len(text)), ["Fare"])


class Drawing(unittest.TestCase):
    def own(self, spec: dict, **parts):
        return drawn(
            {"kind": "own", "show": MEASURES[:1], "by": ["region"], "specification": json.dumps(spec), **parts}, ROWS
        )

    def test_its_rows_are_the_charts_answer_by_the_names_of_the_fields(self):
        answered = self.own(BARS)
        expected = {
            name: sum(each["fare"] for each in ROWS if each["region"] == name) for name in {e["region"] for e in ROWS}
        }
        self.assertEqual({each["Region"]: each["Fare"] for each in answered.drawing.rows}, expected)
        self.assertTrue(validator("vega-lite").is_valid(answered.drawing.spec))
        self.assertTrue(validator("vega-lite").is_valid(complete(answered)))
        self.assertEqual(answered.sentence, "Show fare as an own specification by region.")

    def test_dates_are_moments_and_names_are_plain_and_apart(self):
        answered = self.own(
            BARS, by=[MONTH], show=[{**MEASURES[0], "name": "A.b[c]"}, {**MEASURES[1], "name": "A b c"}]
        )
        names = list_field_names([column.name for column in answered.result.columns])
        self.assertEqual(names[1:], ["A b c", "A b c 2"])
        self.assertEqual(answered.drawing.rows[0][names[0]], "2025-01-01T00:00:00")

    def test_it_begins_with_what_was_drawn(self):
        definition = load_definition({"dataset": "d", "kind": "pie", "show": MEASURES[:1], "by": ["region"]})
        model_parts = definition.model_dump(mode="json")
        before = drawn(model_parts, ROWS)
        own = apply_edit(definition, model_of(ROWS), {"edit": "set_kind", "kind": "own"})
        begun = drawn(own.model_dump(mode="json"), ROWS)
        self.assertEqual((begun.kind.name, begun.drawing.spec), ("own", before.drawing.spec))
        text = write_starting_text(begun.drawing)
        taken = apply_edit(own, model_of(ROWS), {"edit": "set_specification", "text": text})
        answered = drawn(taken.model_dump(mode="json"), ROWS)
        self.assertEqual(answered.drawing.named["marks"], before.drawing.rows)
        self.assertEqual(answered.drawing.spec["layer"], before.drawing.spec["layer"])

    def test_what_is_wrong_does_not_get_into_the_chart(self):
        definition = load_definition({"dataset": "d"})
        with self.assertRaisesRegex(DefinitionProblem, "Line 1: “marc” has no meaning here"):
            apply_edit(definition, model_of(ROWS), {"edit": "set_specification", "text": '{"marc": "bar"}'})


if __name__ == "__main__":
    unittest.main()

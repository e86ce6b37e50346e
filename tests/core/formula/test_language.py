"""Reading, checking, tidying and completing formulas."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.formula.support import SCHEMA, value
from veduta.core.formula.check import check
from veduta.core.formula.compile import compile_formula
from veduta.core.formula.completion import call_around, complete
from veduta.core.formula.formatter import tidy, write
from veduta.core.formula.functions import load_registry
from veduta.core.formula.problems import FormulaProblem
from veduta.core.formula.syntax_tree import Call, FieldName, FormulaGrain, Literal, ParameterName, SortOrder, parse

# A broken formula, the part of it that is wrong, and what is said.
BROKEN = (
    ("", "", "There is no formula yet."),
    ("1 +", "", "The formula breaks off here."),
    ("count and", "", "The formula breaks off here."),
    ("(1 + 2", "(", "1 opening bracket is not closed. Add “)” where it ends."),
    ("round((1", "(", "2 opening brackets are not closed."),
    ("1 + 2)", ")", "This bracket was never opened."),
    ("count in ()", ")", "There is nothing between these brackets."),
    ("abs(1,)", ")", "A value is missing before this bracket."),
    ("if(, 1)", ",", "A value is missing before this comma."),
    ("1,5", ",", "A comma stands here without a function. Decimals are written with a point: 1.5"),
    ("1 2", "2", "Something is missing before “2”."),
    ("count & & 1", "&", "“&” cannot stand here: a value is expected."),
    ("'Quay", "'Quay", "This text has no closing quote."),
    ('"Fare', '"Fare', "This name has no closing quote."),
    ("count == 1", "==", "Two values are compared with one sign: ="),
    ("count != 1", "!=", "“Not equal” is written <>"),
    ("abs(1; 2)", ";", "Values are separated by commas."),
    ("[Fare revenue]", "[", "Names with spaces stand in double quotes."),
    ("count % 2", "%", "There is no percent sign"),
    ("@count", "@", "“@” has no meaning here."),
    ("fare_revenu * 2", "fare_revenu", 'There is no field “fare_revenu”. Did you mean "Fare revenue"?'),
    ("fare * 2", "fare", 'There is no field “fare”. Did you mean "Fare revenue"?'),
    ('"it is Quay"', '"it is Quay"', "Text stands in single quotes: 'it is Quay'."),
    ("rank + 1", "rank", "“rank” is a function; its values stand in brackets."),
    ("ports.count", "ports.count", "There is no table “ports” here."),
    (":top_n", ":top_n", "Parameters such as :top_n are not known in shaping."),
    ("ronud(1.5)", "ronud", "There is no function “ronud”. Did you mean round(…)?"),
    ("xyzzy(1)", "xyzzy", "There is no function “xyzzy”. The reference lists them all."),
    ("abs()", "abs()", "abs takes 1 value, not none. It is written abs(number)."),
    ("today(1)", "today(1)", "today takes no values, not 1."),
    ("coalesce()", "coalesce()", "coalesce takes at least 1 value, not none."),
    ("round(1, 2, 3)", "round(1, 2, 3)", "round takes 1 to 2 values, not 3."),
    ("port * 2", "port", "“*” needs a number here, and this is text. Read it as a number with number(…)"),
    ("port + 1", "port + 1", "Text cannot be added. Text is joined with &."),
    ("upper(count)", "count", "upper needs text here, and this is a whole number. Convert it with text(…)"),
    ("year(port)", "port", "year needs a date here, and this is text. Convert it with date(…)"),
    ("if(count, 1, 2)", "count", "if needs yes or no here"),
    ("if(cancelled, 1, 'no')", "'no'", "These values are of different kinds: text and whole number."),
    ("day = '2026-10-31'", "'2026-10-31'", "Write dates as date('2026-10-31')."),
    ("round(1.5, count)", "count", "round: the places must be written out, not taken from a field."),
    ("trunc(day, 'months')", "'months'", "trunc: the unit is one of 'year', 'quarter', 'month'"),
    ("moving(middle, count, 2)", "middle", "moving: the how is one of mean, sum, min, max, median."),
    ("moving(mean, count, 0)", "moving(mean, count, 0)", "A moving value takes 1 to 10,000 rows."),
    ("previous(count) restart (prot)", "prot", "There is no field “prot”. Did you mean Port?"),
    ("abs(count) along (day)", "abs", "abs looks at its own row only"),
    ("running(count) along (day) along (day)", "running(count) along (day) along (day)", "“along” is given twice."),
    ("sum(count)", "sum", "sum(…) makes one value of many rows; a formula in shaping works row by row."),
    ("sum(count where cancelled) per (port)", "sum", "For the sum so far write running(…)"),
    ("abs(count where cancelled)", "abs", "“where” belongs to aggregates such as sum(…)."),
    ("abs(count) per ()", "abs", "“per” belongs to aggregates such as sum(…)."),
    ("matches(port, '(')", "matches(port, '(')", "The pattern cannot be read: unclosed group."),
    ("split_part(port, '–', 0)", "split_part(port, '–', 0)", "Parts are counted from 1."),
    ("1" * 5001, "", "The formula has 5,001 characters"),
    ("-" * 3000 + "1", "", "The formula is nested too deeply."),
)


class Problems(unittest.TestCase):
    def test_each_is_said_where_it_is(self):
        for formula, wrong, message in BROKEN:
            with self.subTest(formula=formula[:40]):
                with self.assertRaises(FormulaProblem) as caught:
                    compile_formula(check(formula, SCHEMA))
                self.assertIn(message, str(caught.exception))
                if wrong:
                    self.assertEqual(formula[caught.exception.at.start : caught.exception.at.end], wrong)

    @given(st.text(alphabet="ab1 +-*/()'\",.&<>=:^!;%count", max_size=25))
    @examples(400)
    def test_anything_typed_gives_a_formula_or_a_problem(self, text):
        try:
            check(text, SCHEMA)
        except FormulaProblem as problem:
            self.assertTrue(problem.message)
            self.assertTrue(0 <= problem.at.start <= problem.at.end <= len(text) or not text.strip())


NAMES = st.builds(
    FieldName, st.sampled_from(["Port", "Fare revenue", "in", 'a "b"', "größe"]), st.sampled_from(["", "ports"])
)
LEAVES = st.one_of(
    st.builds(
        Literal, st.one_of(st.integers(0, 999), st.floats(0, 1e9), st.booleans(), st.none(), st.text(max_size=5))
    ),
    NAMES,
    st.builds(ParameterName, st.just("top_n")),
)


def trees(inner):
    two = st.tuples(inner, inner)
    names = st.lists(NAMES, min_size=1, max_size=2).map(tuple)
    dimensions = st.lists(st.tuples(NAMES, st.sampled_from(["", "month"])), min_size=1, max_size=2).map(tuple)
    return st.one_of(
        st.builds(Call, st.sampled_from(["+", "-", "*", "/", "^", "&", "=", "<>", "<=", "and", "or"]), two),
        st.builds(Call, st.sampled_from(["minus", "plus", "not", "is empty"]), st.tuples(inner)),
        st.builds(Call, st.sampled_from(["in", "between"]), st.tuples(inner, inner, inner)),
        st.builds(
            Call,
            st.just("sum"),
            st.lists(inner, max_size=2).map(tuple),
            where=st.one_of(st.none(), inner),
            along=st.lists(st.builds(SortOrder, NAMES, st.booleans()), max_size=2).map(tuple),
            restart=st.one_of(st.just(()), names),
            per=st.one_of(
                st.none(),
                st.builds(FormulaGrain, dimensions, st.just(False)),
                st.just(FormulaGrain()),
                st.builds(FormulaGrain, dimensions, st.just(True), st.booleans()),
            ),
            unfiltered=st.one_of(st.just(()), names),
        ),
    )


class Tidy(unittest.TestCase):
    @given(st.recursive(LEAVES, trees, max_leaves=12))
    @examples(300)
    def test_what_is_written_reads_the_same(self, tree):
        self.assertEqual(parse(write(tree)), tree)

    def test_even_writing(self):
        for formula, expected in (
            ("  1+2 *3", "1 + 2 * 3"),
            ("(1+2)*3", "(1 + 2) * 3"),
            ("((count))", "count"),
            ("1-(2-3)", "1 - (2 - 3)"),
            ("NOT cancelled AND count>3", "not cancelled and count > 3"),
            ("ROUND( count ,1)", "round(count, 1)"),
            ("port  NOT IN('a')", "port not in ('a')"),
            ("day is not empty", "day is not empty"),
            ("-(-2)", "--2"),
            ("running(count)along(day DESC)restart(port)", "running(count) along (day desc) restart (port)"),
            ('"fare_revenue"', '"Fare revenue"'),
            ("fare_revenue", "fare_revenue"),
            ("(2^3)^2", "(2 ^ 3) ^ 2"),
        ):
            with self.subTest(formula):
                self.assertEqual(tidy(formula, SCHEMA), expected)


class Names(unittest.TestCase):
    def test_ways_to_write_a_name(self):
        for text in ("fare_revenue", '"Fare revenue"', '"fare revenue"', "FARE_REVENUE"):
            self.assertEqual(check(text, SCHEMA).field, "fare_revenue")

    def test_fields_that_are_read(self):
        found = check("if(cancelled, 0, running(count) along (day) restart (port))", SCHEMA).fields
        self.assertEqual(found, {"cancelled", "count", "day", "port"})

    def test_a_bare_empty_is_of_the_kind_that_is_wanted(self):
        self.assertEqual((value("if(empty, 1, 2)"), value("not empty"), value("length(empty)")), (2, None, None))

    def test_a_formula_that_would_be_planned_for_ever_is_refused(self):
        for repeated, times in (("sqrt({})", 30), ("1 / ({})", 30), ("mod(1, {})", 30), ("nullif({}, 1)", 30)):
            nested = "count"
            for _ in range(times):
                nested = repeated.format(nested)
            with self.subTest(repeated), self.assertRaisesRegex(FormulaProblem, "stands within itself too often"):
                check(nested, SCHEMA)
        self.assertEqual(value(" / ".join(["1"] * 100)), 1.0)
        self.assertEqual(value(" & ".join(["port"] * 100)), "Quay" * 100)

    def test_text_keeps_its_quotes_and_capitals(self):
        self.assertEqual(value("'It''s Quay'"), "It's Quay")
        self.assertIs(value("'Quay' = 'quay'"), False)


class Completion(unittest.TestCase):
    def inserts(self, text: str) -> list[str]:
        return [suggestion.insert for suggestion in complete(text, len(text), SCHEMA)]

    def test_fields_functions_and_options(self):
        self.assertEqual(self.inserts("fa")[0], '"Fare revenue"')
        self.assertIn("round(", self.inserts("1 + ro"))
        self.assertEqual(self.inserts("trunc(day, 'mo"), ["'month'"])
        self.assertEqual(self.inserts("moving(me"), ["mean", "median"])
        self.assertEqual(self.inserts("running(count) restart (p"), ["Port", "Departure"])
        self.assertEqual(self.inserts('"fare r'), ['"Fare revenue"'])
        self.assertEqual(self.inserts("'any text co"), [])
        self.assertNotIn("sum(", self.inserts("su"))
        self.assertEqual(self.inserts(""), [])

    def test_what_is_replaced(self):
        (suggestion,) = complete("1 + fare", 8, SCHEMA)
        self.assertEqual(suggestion.start, 4)

    def test_names_of_several_words_are_completed_from_their_first_word_on(self):
        for text, start in (("1 + fare r", 4), ("round(Fare rev", 6), ("if(port = port and fare reve", 19)):
            with self.subTest(text):
                (suggestion,) = complete(text, len(text), SCHEMA)
                self.assertEqual((suggestion.insert, suggestion.start), ('"Fare revenue"', start))
        self.assertIn("Port", self.inserts("fare where po"))

    def test_the_call_around(self):
        self.assertEqual(call_around("if(a, round(b, ", 15), ("round", 1))
        self.assertEqual(call_around("if(a, round(b, 1), ", 19), ("if", 2))
        self.assertEqual(call_around("replace('a,(b', ", 16), ("replace", 1))
        self.assertIsNone(call_around("1 + 2", 5))

    def test_every_function_can_be_completed(self):
        for each in load_registry().values():
            if not each.operator and each.theme not in ("Aggregates", "Time"):
                self.assertIn(f"{each.name}(", self.inserts(each.name), each.name)

    def test_formulas_of_charts_complete_aggregates_periods_and_parameters_too(self):
        def inserts(text: str) -> list[str]:
            return [each.insert for each in complete(text, len(text), SCHEMA, {"top_n": "Top n"})]

        for each in load_registry().values():
            if not each.operator:
                self.assertIn(f"{each.name}(", inserts(each.name), each.name)
        self.assertEqual(inserts("rank(sum(count)) <= :to"), [":top_n"])
        self.assertEqual(inserts("shift(sum(count), -1, 'qu"), ["'quarter'"])

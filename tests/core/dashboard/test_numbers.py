"""Numbers in texts: they stand where their names do in braces, and nowhere else."""

import unittest

from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from tests import examples
from veduta.core.dashboard.numbers import TextNumber, list_used, put_numbers, replace_with_tokens
from veduta.core.query.measures import Measure

FARES = TextNumber(name="Fares", dataset="d", measure=Measure(field="fare", aggregate="sum"))
LATE = TextNumber(name="Minutes late, Outer Light", dataset="d", measure=Measure())


class Numbers(unittest.TestCase):
    def put(self, text, numbers=(FARES, LATE)):
        return put_numbers(replace_with_tokens(text, numbers), lambda place: f"<{numbers[place].name}>")

    def test_they_stand_where_their_names_do(self):
        text = "Up to {Fares}, or { minutes  LATE, outer light }."
        self.assertEqual(self.put(text), "Up to <Fares>, or <Minutes late, Outer Light>.")
        self.assertEqual(self.put("{Fares} {Fares}"), "<Fares> <Fares>")

    def test_other_braces_stay(self):
        self.assertEqual(self.put("{Berths} {{Fares}} {"), "{Berths} {Fares} {")
        self.assertEqual(self.put("{Fares}", ()), "{Fares}")

    def test_a_text_keeps_the_numbers_that_are_in_it(self):
        self.assertEqual(list_used("{Fares}", (FARES, LATE)), (FARES,))
        self.assertEqual(list_used("none", (FARES, LATE)), ())

    def test_its_chart_is_the_total(self):
        self.assertEqual(FARES.chart.title, "{total}")
        self.assertEqual(FARES.chart.groups, ())

    def test_names_have_no_braces(self):
        with self.assertRaises(ValidationError):
            TextNumber(name="Fares}", dataset="d", measure=Measure())

    @examples(100)
    @given(st.text(alphabet="{}ab \ue000\ue001" + "01Fares"))
    def test_no_text_puts_a_number_that_is_not_named_in_it(self, text):
        placed = []
        put_numbers(replace_with_tokens(text, (FARES,)), lambda place: placed.append(place) or "")
        self.assertLessEqual(len(placed), text.casefold().count("fares"))
        self.assertTrue(all(place == 0 for place in placed))

from __future__ import annotations

import datetime as dt
import unittest

from hypothesis import given
from hypothesis import strategies as st

from veduta.core.data.typed_values import parse_typed_day, parse_typed_number
from veduta.core.errors import DefinitionProblem

TODAY = dt.date(2026, 11, 23)
DAY = dt.date(2026, 3, 15)


class Days(unittest.TestCase):
    def test_a_day_is_understood_however_it_is_written(self):
        for text in (
            "2026-03-15", "15 Mar 2026", "15 March 2026", "15. March 2026", "Mar 15, 2026", "March 15 2026",
            "15/3/2026", "15.03.2026", " 15.3.26 ", "3/15/2026", "15 mar 26", "15.3.", "15 March", "15/3",
        ):  # fmt: skip
            with self.subTest(text):
                self.assertEqual(parse_typed_day(text, TODAY), DAY)

    def test_of_numbers_alone_the_day_comes_first(self):
        self.assertEqual(parse_typed_day("4/3/2026", TODAY), dt.date(2026, 3, 4))

    def test_words_for_days_near_today(self):
        self.assertEqual(
            [parse_typed_day(word, TODAY).day for word in ("Yesterday", "today", "tomorrow")], [22, 23, 24]
        )

    def test_what_is_no_day_is_said(self):
        for text in ("soon", "31 Feb 2026", "2026", "15", "", "٣", "15 Mar 2026 12:00"):
            with self.subTest(text), self.assertRaisesRegex(DefinitionProblem, "is not a day"):
                parse_typed_day(text, TODAY)

    @given(st.dates(dt.date(1000, 1, 1)), st.sampled_from(["%Y-%m-%d", "%d %b %Y", "%d.%m.%Y", "%B %d, %Y"]))
    def test_every_day_comes_back(self, day, pattern):
        self.assertEqual(parse_typed_day(day.strftime(pattern), TODAY), day)

    @given(st.text(max_size=20))
    def test_anything_else_is_refused_in_words(self, text):
        try:
            self.assertIsInstance(parse_typed_day(text, TODAY), dt.date)
        except DefinitionProblem as problem:
            self.assertIn("is not a day", problem.message)


class Numbers(unittest.TestCase):
    def test_both_signs_of_a_fraction_are_understood(self):
        for text, number in (
            ("3,5", 3.5), ("3.5", 3.5), ("1.234,5", 1234.5), ("1,234.5", 1234.5), ("1 234,5", 1234.5),
            ("1'234", 1234.0), ("1,200", 1200.0),
            ("-7", -7.0), ("(7)", -7.0), ("7-", -7.0), ("+7", 7.0), ("€3,50", 3.5),
            ("12,5 %", 0.125), ("1e3", 1000.0), (",5", 0.5),
        ):  # fmt: skip
            with self.subTest(text):
                self.assertAlmostEqual(parse_typed_number(text), number)

    def test_what_is_no_number_is_said(self):
        for text in ("many", "1,2,3", "", "--1", "1 2", "²"):
            with self.subTest(text), self.assertRaisesRegex(DefinitionProblem, "is not a number"):
                parse_typed_number(text)

    @given(st.floats(-1e12, 1e12).map(lambda number: round(number, 4)))
    def test_every_number_comes_back_with_either_sign(self, number):
        said = f"{number:.4f}"
        self.assertEqual(parse_typed_number(said), number)
        self.assertEqual(parse_typed_number(said.replace(".", ",")), number)

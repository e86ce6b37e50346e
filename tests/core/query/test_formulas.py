"""Formulas over cells against a slow evaluator in plain Python, on random tables and questions."""

from __future__ import annotations

import datetime as dt
import unittest

from django.test import tag
from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.query.random_questions import RANKS, REGION, ROUTE, ROWS, Asked, compare, grains, questions
from tests.core.query.slow_periods import start
from veduta.core.formula.problems import FormulaProblem


class AgainstPlainPython(unittest.TestCase):
    @examples(150)
    @given(questions(timed=False))
    def test_aggregates_and_grains(self, question):
        compare(self, question)

    @tag("long")
    @examples(250)
    @given(questions(timed=True))
    def test_windows_and_time(self, question):
        compare(self, question)

    def test_the_total_of_a_change_over_no_rows_is_empty(self):
        for text in ("change(count_rows(), 'year')", "growth(sum(fare), 'year')"):
            compare(self, Asked([], (grains("year")[0],), [text], totals=((),)))

    @examples(60)
    @given(ROWS, st.sampled_from([(REGION,), (ROUTE,), grains("quarter"), grains("year", "month")]))
    def test_ranks_and_shares(self, rows, groups):
        def full(row: dict) -> bool:
            return all(
                (row[g.field] if not g.grain else row[g.field] and start(row[g.field], g.grain)) is not None
                for g in groups
            )

        compare(self, Asked([row for row in rows if full(row)], groups, RANKS))

    def test_a_finer_period_than_the_charts_is_explained(self):
        rows = [{"sailed": dt.date(2026, 1, 5), "fare": 1.0}]
        with self.assertRaises(FormulaProblem) as caught:
            compare(self, Asked(rows, grains("month"), ["1 + shift(sum(fare), -1, 'week')"]))
        self.assertIn("a week is finer than the chart's months", str(caught.exception))
        self.assertIn("month, quarter, year", caught.exception.hint)
        self.assertEqual(caught.exception.at.start, 4)

"""Answers kept in memory."""

from __future__ import annotations

import threading
import unittest
from concurrent.futures import ThreadPoolExecutor
from copy import copy
from dataclasses import replace
from unittest.mock import patch

import polars as pl

from tests.core.query.demo_model import model
from veduta.core.cache import Cache
from veduta.core.calendar import Grouping
from veduta.core.data.fields import DataType
from veduta.core.errors import DefinitionProblem, QueryCancelled
from veduta.core.formula.measures import ParameterValue
from veduta.core.model.definition import RowRule
from veduta.core.model.row_level_security import SecurityContext
from veduta.core.query.answer import answer
from veduta.core.query.measures import Measure
from veduta.core.query.query import Query, Result


def result(rows: int = 1) -> Result:
    return Result([], pl.DataFrame({"m0": range(rows)}))


def kept(most: int) -> Cache[Result]:
    return Cache(most, lambda each: each.frame.estimated_size())


class TheCache(unittest.TestCase):
    def test_what_is_asked_twice_at_once_is_worked_out_once(self):
        cache, started, asked = kept(10**6), threading.Event(), []

        def work_out() -> Result:
            asked.append(1)
            started.wait(5)
            return result()

        with ThreadPoolExecutor(8) as pool:
            waiting = [pool.submit(cache.get, "a", work_out) for _ in range(8)]
            started.set()
            found = {id(each.result()) for each in waiting}
        self.assertEqual((len(asked), len(found)), (1, 1))

    def test_it_stays_within_its_bound_and_keeps_what_was_used_last(self):
        cache = kept(32_000)
        for key in "abc":
            cache.get(key, lambda: result(1_000))
        cache.get("a", lambda: self.fail("a is kept"))
        for key in "defg":
            cache.get(key, lambda: result(1_000))
            cache.get("a", lambda: self.fail("a was used last"))
        self.assertLessEqual(len(cache), 4)
        cache.get("large", lambda: result(1_000_000))
        cache.get("a", lambda: self.fail("too large an answer pushes nothing out"))

    def test_a_failure_is_told_to_all_and_not_kept(self):
        cache = kept(10**6)

        def fail() -> Result:
            raise DefinitionProblem("no")

        with self.assertRaises(DefinitionProblem):
            cache.get("a", fail)
        self.assertEqual(cache.get("a", result).frame.height, 1)

    def test_a_question_nobody_waits_for_is_stopped_and_not_kept(self):
        found, context = model()
        kept = copy(found)
        kept.key = "test of stopping"
        query = Query(measures=(Measure(),))
        with self.assertRaises(QueryCancelled):
            answer(query, kept, replace(context, stopped=lambda: True))
        self.assertEqual(answer(query, kept, context).frame["m0"][0], kept.rows)

    def test_far_too_many_groups_are_refused_with_what_to_do(self):
        found, context = model()
        with patch("veduta.core.query.engine.scanning.MOST_CELLS", 100), self.assertRaises(DefinitionProblem) as caught:
            answer(Query(groups=(Grouping(field="passengers"),), measures=(Measure(),)), found, context)
        self.assertIn("at most 100 are worked out", caught.exception.message)
        self.assertIn("Take a dimension out", caught.exception.hint)

    def test_answers_depend_on_rules_parameters_and_the_model(self):
        found, context = model()
        kept = copy(found)
        kept.key = "test of the cache"
        query = Query(measures=(Measure(formula='count_rows(where "#late" > :late_after)'),))

        def ask(asked) -> int:
            return answer(query, asked, context).frame["m0"][0]

        rule = RowRule(name="r", text='"#region" in (:person_regions)')
        ruled = [
            kept.apply_reader(
                {}, SecurityContext((rule,), (("person_regions", ParameterValue(DataType.TEXT, (name,))),))
            )
            for name in ("Inner Sound", "North Reach")
        ]
        asked = [kept, kept.apply_reader({"late_after": 5}), *ruled]
        first = [ask(each) for each in asked]
        self.assertEqual([ask(each) for each in asked], first)
        self.assertEqual(len(set(first)), 4)
        other = copy(kept)
        other.key = "another version"
        self.assertIsNot(answer(query, kept, context), answer(query, other, context))
        self.assertIs(answer(query, kept, context), answer(query, kept, context))

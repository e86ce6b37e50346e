"""Questions that are asked together: each has the answer that it has alone, and none waits for another."""

from __future__ import annotations

import threading
import unittest
from collections.abc import Callable
from dataclasses import replace
from functools import partial
from unittest.mock import patch

import polars as pl
from hypothesis import given
from hypothesis import strategies as st
from polars.testing import assert_frame_equal

from tests.core.query.asking import by, daily
from tests.core.query.random_questions import Asked, posed, questions
from tests.core.support import SAILING_FIELDS, MemoryTable, context_of, sailings, sailings_table
from veduta.core.data.fields import Schema
from veduta.core.errors import DefinitionProblem, QueryCancelled, VedutaError
from veduta.core.formula.measures import replace_names_with_ids
from veduta.core.model.model import Model
from veduta.core.query import batch
from veduta.core.query.answer import answer
from veduta.core.query.batch import ModelQuery, answer_all
from veduta.core.query.filters import ListFilter, MembershipFilter, RangeFilter
from veduta.core.query.measures import Measure, TopN
from veduta.core.query.query import Query, Result

WAIT = 20
"""Seconds after which a test gives up on another thread."""


class WatchedTable(MemoryTable):
    """A table that notes how many of its rows each scan came to, and may have readers of a field wait."""

    def __init__(self, frame: pl.DataFrame, schema: Schema) -> None:
        super().__init__(frame, schema)
        self.scans: list[list[str]] = []
        self.slow, self.go_on = "", threading.Event()

    def scan(self, names: list[str]) -> pl.LazyFrame:
        self.scans.append(sorted(names))
        rows = super().scan(names)
        return rows.map_batches(self._after_a_while) if self.slow in names else rows

    def _after_a_while(self, rows: pl.DataFrame) -> pl.DataFrame:
        self.go_on.wait(WAIT)
        return rows


def watched(rows: list[dict]) -> tuple[Model, WatchedTable]:
    table = WatchedTable(sailings_table(rows).frame, Schema(SAILING_FIELDS))
    return Model.from_table(table, Schema(SAILING_FIELDS)), table


def question(model: Model, names: tuple[str, ...], *texts: str, **more) -> Callable[[], ModelQuery]:
    measures = tuple(Measure(formula=replace_names_with_ids(text, model.schema)) for text in texts)
    return partial(ModelQuery, Query(groups=by(*names), measures=measures, **more), model, context_of(model))


def outcomes_of(makers: list[Callable[[], ModelQuery]]) -> dict[int, Callable[[], Result]]:
    """What gives each question's result, in the order in which they came."""
    return dict(filter(None, answer_all(makers)))


def answered(makers: list[Callable[[], ModelQuery]]) -> list[Result]:
    """The results in the order of the questions."""
    outcomes = outcomes_of(makers)
    return [outcomes[i]() for i in range(len(makers))]


ROWS = [
    {"region": "North Reach", "route": "A", "fare": 1.0, "passengers": 2},
    {"region": "North Reach", "route": "B", "fare": 10.0, "passengers": 3},
    {"region": "Inner Sound", "route": "C", "fare": 100.0, "passengers": 5},
    {"region": "Inner Sound", "route": "C", "fare": 1_000.0, "passengers": 7},
    {"region": None, "route": "D", "fare": 10_000.0, "passengers": 11},
]
INNER = ListFilter(field="region", values=("Inner Sound",))


class SameAsAlone(unittest.TestCase):
    def same(self, together: Result, alone: Result) -> None:
        assert_frame_equal(together.frame, alone.frame, check_exact=False)
        self.assertEqual(set(together.totals), set(alone.totals))
        for positions, total in alone.totals.items():
            assert_frame_equal(together.totals[positions], total, check_exact=False)
        for name in ("columns", "rows_read", "rows_there", "groups", "rest", "notes", "unfinished", "orders"):
            self.assertEqual(getattr(together, name), getattr(alone, name), name)

    @given(
        st.lists(st.one_of(questions(timed=False), questions(timed=True)), min_size=2, max_size=4),
        st.lists(st.booleans(), min_size=4, max_size=4),
        st.sampled_from([0, 1_000]),
    )
    def test_random_questions_of_one_table(self, asked: list[Asked], alike: list[bool], many: int):
        # Some get all filters of the first as well, so that there is something in common.
        first = asked[0]
        asked = [
            replace(each, rows=first.rows, fiscal=first.fiscal, stock=first.stock, filters=(*first.filters, *own))
            for each, like in zip(asked, alike, strict=False)
            for own in [each.filters if each is not first else ()]
            if like or each is first or not each.filters
        ]
        model = posed(first)[1]
        queries = [posed(each)[0] for each in asked]
        makers = [partial(ModelQuery, query, model, context_of(model)) for query in queries]
        with patch.object(batch, "MANY_ROWS", many):
            outcomes = outcomes_of(makers)
        for i, query in enumerate(queries):
            try:
                alone = answer(query, model, context_of(model))
            except DefinitionProblem as problem:
                with self.assertRaisesRegex(type(problem), "^" + str(problem)[:20]):
                    outcomes[i]()
                continue
            self.same(outcomes[i](), alone)

    def test_figures_bars_and_what_is_filtered_further(self):
        model = sailings(ROWS)
        dear = RangeFilter(field="fare", low=500)
        with patch.object(batch, "MANY_ROWS", 0):
            figure, bars, further, free = answered(
                [
                    question(model, (), "sum(fare)", filters=(INNER,)),
                    question(model, ("route",), "sum(passengers)", filters=(INNER,)),
                    question(model, ("route",), "count_rows()", filters=(INNER, dear)),
                    question(model, ("route",), "count_rows()"),
                ]
            )
        self.assertEqual(figure.frame.rows(), [(1_100.0,)])
        self.assertEqual(bars.frame.rows(), [("C", 12)])
        self.assertEqual((further.frame.rows(), further.rows_read), ([("C", 1)], 1))
        self.assertEqual(free.frame.rows(), [("A", 1), ("B", 1), ("C", 2), ("D", 1)])


class ReadOnce(unittest.TestCase):
    def test_the_same_groups_of_the_same_rows(self):
        model, table = watched(ROWS)
        fares, passengers, means = answered(
            [
                question(model, ("route",), "sum(fare)", filters=(INNER,)),
                question(model, ("route",), "sum(passengers)", filters=(INNER,)),
                question(model, ("route",), "mean(fare)", filters=(INNER,)),
            ]
        )
        self.assertEqual(len(table.scans), 1)
        found = [each.frame.rows() for each in (fares, passengers, means)]
        self.assertEqual(found, [[("C", 1_100.0)], [("C", 12)], [("C", 550.0)]])

    def test_rows_that_filters_in_common_let_pass(self):
        model, table = watched([*ROWS, *daily(20, region="Outer Isles")])
        makers = [
            question(model, (name,), "sum(fare)", filters=(INNER,)) for name in ("route", "sailed@month", "passengers")
        ]
        with patch.object(batch, "MANY_ROWS", 10):
            answered(makers)
        # Once to count them, and once for all fields; then which days each month has, whatever is filtered.
        self.assertEqual(table.scans, [["region"], ["fare", "passengers", "region", "route", "sailed"], ["sailed"]])

    def test_not_where_the_filters_leave_little_out(self):
        model, table = watched(ROWS)
        free = RangeFilter(field="fare", low=5)
        with patch.object(batch, "MANY_ROWS", 0):
            answered([question(model, (name,), "sum(fare)", filters=(free,)) for name in ("route", "region")])
        self.assertEqual(table.scans[1:], [["fare", "route"], ["fare", "region"]])


class NoneWaits(unittest.TestCase):
    def test_a_slow_one_comes_last(self):
        model, table = watched(ROWS)
        table.slow = "passengers"
        together = answer_all(
            [
                question(model, ("route",), "median(passengers)"),
                question(model, ("region",), "sum(fare)"),
                question(model, ("route",), "sum(fare)"),
            ]
        )
        came = filter(None, together)
        self.assertEqual({next(came)[0], next(came)[0]}, {1, 2})
        self.assertIsNone(next(together))
        table.go_on.set()
        position, give = next(came)
        self.assertEqual((position, give().frame.height), (0, 4))

    def test_one_that_asks_another_question_first_comes_last(self):
        model = sailings(ROWS)
        largest = MembershipFilter(field="region", keep=TopN(count=1, by=Measure(field="fare", aggregate="sum")))
        order = list(
            outcomes_of(
                [
                    question(model, (), "sum(passengers)", filters=(largest,)),
                    question(model, ("route",), "sum(fare)"),
                ]
            ).items()
        )
        self.assertEqual([position for position, _ in order], [1, 0])
        self.assertEqual(order[1][1]().frame.item(), 11)

    def test_what_is_wrong_with_one_is_its_own(self):
        model = sailings(ROWS)
        broken = Query(measures=(Measure(formula="sum(gone)"),))

        def gone() -> ModelQuery:
            raise DefinitionProblem("The dataset is gone.")

        makers = [partial(ModelQuery, broken, model, context_of(model)), gone, question(model, (), "sum(fare)")]
        outcomes = outcomes_of(makers)
        for position in (0, 1):
            with self.assertRaises(VedutaError):
                outcomes[position]()
        self.assertEqual(outcomes[2]().frame.item(), 11_111.0)

    def test_a_fault_in_reading_is_its_own(self):
        model, table = watched(ROWS)
        table.slow = "passengers"
        with patch.object(table, "_after_a_while", side_effect=ValueError("a fault")):
            outcomes = outcomes_of([question(model, (), "sum(passengers)"), question(model, ("route",), "sum(fare)")])
        with self.assertRaisesRegex(Exception, "a fault"):
            outcomes[0]()
        self.assertEqual(outcomes[1]().groups, 4)

    def test_a_fault_in_narrowing_is_that_of_the_questions(self):
        model = sailings(ROWS)
        gone = ListFilter(field="tide", values=("High",))
        makers = [question(model, (name,), "sum(fare)", filters=(gone,)) for name in ("route", "region")]
        with patch.object(batch, "MANY_ROWS", 0):
            outcomes = outcomes_of([*makers, question(model, (), "sum(fare)")])
        for position in (0, 1):
            with self.assertRaisesRegex(VedutaError, "tide"):
                outcomes[position]()
        self.assertEqual(outcomes[2]().frame.item(), 11_111.0)

    def test_it_stops_when_nobody_waits(self):
        model, table = watched(ROWS)
        table.slow = "fare"
        self.addCleanup(table.go_on.set)
        context = replace(context_of(model), stopped=lambda: True)
        query = Query(measures=(Measure(field="fare", aggregate="sum"),))
        with self.assertRaises(QueryCancelled), patch.object(batch, "LOOK_UP", 0.01):
            list(answer_all([partial(ModelQuery, query, model, context)]))


class Kept(unittest.TestCase):
    def test_answers_are_kept_and_given_again(self):
        model, table = watched(ROWS)
        model.key = "kept"
        makers = [question(model, ("route",), "sum(fare)"), question(model, (), "max(fare)")]
        first = answered(makers)
        table.scans.clear()
        self.assertEqual(answered(makers), first)
        self.assertEqual(table.scans, [])

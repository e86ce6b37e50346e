"""Texts that would be too large are refused before they are made; all others are as before."""

from __future__ import annotations

import unittest
from unittest import mock

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.support import field
from veduta.core.data.fields import DataType, Schema
from veduta.core.formula.check import check
from veduta.core.formula.compile import compile_formula
from veduta.core.formula.library import bounds
from veduta.core.formula.library.bounds import TextsTooLarge, replace_pattern
from veduta.core.formula.problems import FormulaProblem

SCHEMA = Schema([field(name, DataType.TEXT) for name in "tfp"])
TEXTS = st.one_of(st.none(), st.text(alphabet="aAbß–é ", max_size=6))


def frame(**columns) -> pl.DataFrame:
    return pl.DataFrame({name: pl.Series(name, values, dtype=pl.String) for name, values in columns.items()})


def values(formula: str, rows: pl.DataFrame) -> list[str | None]:
    return compile_formula(check(formula, SCHEMA)).apply_to(rows.lazy(), "value").collect()["value"].to_list()


class TooLarge(unittest.TestCase):
    def refused(self, formula: str, texts: list[str]) -> None:
        with self.assertRaises(FormulaProblem) as caught:
            values(formula, frame(t=texts))
        self.assertEqual(caught.exception.message, TextsTooLarge().message)
        self.assertIn("shorten with left", caught.exception.hint)

    def test_replacing_within_what_was_replaced(self):
        nested = "t"
        for _ in range(6):
            nested = f"replace({nested}, 'e', '{'e' * 50}')"
        self.refused(nested, ["Fennick quay"] * 120)

    def test_joining_with_itself_again_and_again(self):
        self.refused(" & ".join(["t"] * 200), ["Fennick quay " * 50])

    def test_many_that_are_large_together(self):
        with mock.patch.object(bounds, "FREE", 10_000):
            self.refused("t & t", ["Fennick quay " * 45] * 25)
            self.assertEqual(len(values("t & t", frame(t=["Fennick quay " * 30] * 25))), 25)
        with mock.patch.object(bounds, "FREE", 0), mock.patch.object(bounds, "MOST_TOGETHER", 1_000):
            self.refused("t & t", ["Quay" * 30] * 25)

    def test_a_pattern_that_takes_up_what_it_finds(self):
        rows = frame(t=["quay" * 1_000])
        with self.assertRaises(TextsTooLarge):
            rows.select(replace_pattern(pl.col("t"), "(.+)", "$1" * 60))
        self.assertEqual(rows.select(replace_pattern(pl.col("t"), "(q)", "$1$1")).item(), "qquay" * 1_000)

    def test_what_does_not_grow_is_never_refused(self):
        long = ["Fennick quay " * 20_000]
        self.assertEqual(values("replace(t, 'y', 'i')", frame(t=long)), [long[0].replace("y", "i")])
        self.refused("t & '!'", long)


class AsBefore(unittest.TestCase):
    @examples(100)
    @given(st.lists(st.tuples(TEXTS, TEXTS, TEXTS), max_size=5))
    def test_replacing_and_joining(self, rows):
        columns = list(zip(*rows, strict=True)) or [(), (), ()]
        rows_ = frame(**dict(zip("tfp", columns, strict=True)))
        replaced = [None if None in row else row[0].replace(row[1], row[2]) if row[1] else row[0] for row in rows]
        joined = [None if a is b is None else (a or "") + (b or "") for a, b, _ in rows]
        self.assertEqual(values("replace(t, f, p)", rows_), replaced)
        self.assertEqual(values("t & f", rows_), joined)
        once = [text if text is None else text.replace("a", "<é>") for text, _, _ in rows]
        self.assertEqual(values("replace(t, 'a', '<é>')", rows_), once)
        self.assertEqual(values("'<' & t & 1", rows_), [f"<{t or ''}1" for t, _, _ in rows])

from __future__ import annotations

import unittest

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from veduta.core.data.combining import append_rows, replace_rows

# Rows before, new rows and rows after, each of a port, a day and a number.
TABLE = (
    ("nothing before", "", "A1-5", "A1-5"),
    ("nothing new", "A1-5", "", "A1-5"),
    ("another key is added", "A1-5", "B1-6", "A1-5 B1-6"),
    ("the same key is replaced", "A1-5 B1-6", "A1-7", "B1-6 A1-7"),
    ("both columns of a key count", "A1-5 A2-6", "A2-7", "A1-5 A2-7"),
    ("of equal new keys the last counts", "A1-5", "A1-6 B1-1 A1-7", "B1-1 A1-7"),
    ("all old rows of a key go", "A1-5 A1-6 B1-7", "A1-8", "B1-7 A1-8"),
    ("old rows of equal keys stay", "A1-5 A1-6", "B1-7", "A1-5 A1-6 B1-7"),
    ("an empty part of a key is a value", "_1-5 A1-6", "_1-7", "A1-6 _1-7"),
    ("the value may be empty", "A1-5", "A1-_", "A1-_"),
)


def read(text: str) -> pl.LazyFrame:
    rows = [[None if part == "_" else part for part in (row[0], row[1], row[3:])] for row in text.split()]
    return pl.LazyFrame(rows, schema=dict.fromkeys(("port", "day", "count"), pl.String), orient="row")


class Combining(unittest.TestCase):
    def test_rows_are_replaced_by_their_key(self):
        for said, before, new, after in TABLE:
            with self.subTest(said):
                found = replace_rows(read(before), read(new), ["port", "day"]).collect()
                self.assertEqual(found.rows(), read(after).collect().rows())

    @examples(60)
    @given(*[st.lists(st.tuples(st.sampled_from("AB_"), st.sampled_from("12"), st.integers(0, 9)))] * 2)
    def test_as_a_loop_over_the_rows_does(self, before, new):
        old, fresh = ([f"{port}{day}-{count}" for port, day, count in rows] for rows in (before, new))
        keys = {row[:2] for row in fresh}
        wanted = [row for row in old if row[:2] not in keys]
        wanted += [row for i, row in enumerate(fresh) if row[:2] not in {later[:2] for later in fresh[i + 1 :]}]
        found = replace_rows(read(" ".join(old)), read(" ".join(fresh)), ["port", "day"]).collect()
        self.assertEqual(found.rows(), read(" ".join(wanted)).collect().rows())

    def test_columns_that_one_of_them_lacks_are_empty(self):
        old, new = pl.LazyFrame({"port": ["A"], "hut": [1]}), pl.LazyFrame({"port": ["B"], "pier": [2]})
        self.assertEqual(append_rows(old, new).collect().to_dict(as_series=False), {
            "port": ["A", "B"], "hut": [1, None], "pier": [None, 2],
        })  # fmt: skip

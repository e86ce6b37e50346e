"""Joins, maps and appends, and how keys match, against plain loops."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.shaping.support import flow_of, run_with, shaped, steps, table
from veduta.core.data.fields import DataType
from veduta.core.errors import DefinitionProblem
from veduta.core.shaping.matching import match_share, suggest_keys, suggest_spellings
from veduta.core.shaping.shaping import shape
from veduta.core.shaping.steps.tables import list_unmapped

KEYS = st.lists(st.one_of(st.none(), st.sampled_from("abcd")), max_size=9)
BY_KEY = {"do": "join", "dataset": "other", "keys": [{"own": "key", "other": "code"}], "bring": [{"field": "paid"}]}


def tables(ours, theirs):
    own = flow_of({"Key": ours, "N": list(range(len(ours)))}, Key=DataType.TEXT, N=DataType.WHOLE)
    other = flow_of(
        {"Code": theirs, "Paid": [10 * i for i in range(len(theirs))]}, Code=DataType.TEXT, Paid=DataType.WHOLE
    )
    return own, other


class Joins(unittest.TestCase):
    @given(KEYS, KEYS)
    @examples(100)
    def test_against_a_loop(self, ours, theirs):
        own, other = tables(ours, theirs)
        paid = {
            i: [10 * j for j, code in enumerate(theirs) if code is not None and code == key]
            for i, key in enumerate(ours)
        }
        for several, keep, expected in (
            ("aggregate", "all", [(i, sum(paid[i]) if paid[i] else None) for i in paid]),
            ("aggregate", "matched", [(i, sum(paid[i])) for i in paid if paid[i]]),
            ("multiply", "all", [(i, each) for i in paid for each in paid[i] or [None]]),
            ("multiply", "unmatched", [(i, None) for i in paid if not paid[i]]),
        ):
            found = table(shaped(own, {**BY_KEY, "several": several, "keep": keep}, other=other))
            pairs = zip(found["N"], found.get("Paid", [None] * len(found["N"])), strict=True)
            self.assertEqual(sorted(pairs, key=str), sorted(expected, key=str))
            self.assertEqual(found["N"], sorted(found["N"]))  # the rows keep their order
        share = match_share(own, other, (("key", "code"),))
        self.assertEqual((share.own.rows, share.own.matched), (len(ours), sum(bool(found) for found in paid.values())))
        self.assertEqual(
            (share.other.rows, share.other.matched),
            (len(theirs), sum(code is not None and code in ours for code in theirs)),
        )
        self.assertEqual(share.several, len({code for code in theirs if code and theirs.count(code) > 1}))
        self.assertEqual(share.rows_after, sum(max(1, len(found)) for found in paid.values()))

    def test_several_keys_and_kinds(self):
        own = flow_of({"Port": ["a", "a", "b"], "Pier": [1, 2, 1]})
        other = flow_of({"Port": ["a", "b"], "Pier": [1.0, 1.0], "Berth": ["A1", "B1"]})
        both = {
            "do": "join",
            "dataset": "other",
            "keys": [{"own": "port", "other": "port"}, {"own": "pier", "other": "pier"}],
            "bring": [{"field": "berth"}],
        }
        self.assertEqual(table(shaped(own, both, other=other))["Berth"], ["A1", None, "B1"])
        with self.assertRaisesRegex(DefinitionProblem, "so they never match"):
            shaped(own, {**both, "keys": [{"own": "port", "other": "pier"}]}, other=other)

    def test_unmatched_are_listed(self):
        own, other = tables(["a", "x", "x", None], ["a", "a", "q"])
        share = match_share(own, other, (("key", "code"),))
        self.assertEqual(share.own.unmatched, (("x", 2), ("empty", 1)))
        self.assertEqual(share.other.unmatched, (("q", 1),))
        self.assertEqual((share.own.share, share.several), (0.25, 1))

    def test_too_many_rows_are_refused_before_they_are_made(self):
        own, other = tables(["a"] * 100, ["a"] * 50)
        run = run_with(other=other)
        run.most_rows = 4_999
        with self.assertRaisesRegex(DefinitionProblem, "would make 5,000 rows"):
            shape(steps({**BY_KEY, "several": "multiply"}), own, run)

    def test_keys_are_suggested_from_values_and_names(self):
        own = flow_of(
            {"Customer": ["C1", "C2", "C3", "C4"], "Party": [1, 2, 3, 4], "Port": ["Quay", "Tern", "Quay", "Tern"]}
        )
        other = flow_of({"Pier": [1, 2, 3], "Customer no": ["C2", "C3", "C9"], "Home port": ["Quay", "Kelda", "Tern"]})
        found = [(s.own, s.other) for s in suggest_keys(own, other)]
        self.assertEqual(found[0], ("port", "home_port"))
        self.assertIn(("customer", "customer_no"), found)
        self.assertNotIn(("party", "pier"), found)


class Maps(unittest.TestCase):
    def test_own_list_goes_before_a_datasets(self):
        flow = flow_of({"Port": ["Quay", "Tern hbr", "Kelda", None]})
        other = flow_of({"From": ["Tern hbr", "Kelda"], "To": ["Tern", "Kelda Rock"]})
        step = {
            "do": "map",
            "field": "port",
            "dataset": "other",
            "find_column": "from",
            "put_column": "to",
            "pairs": [{"find": "Kelda", "put": "K"}],
        }
        self.assertEqual(table(shaped(flow, step, other=other))["Port"], ["Quay", "Tern", "K", None])
        emptied = {**step, "otherwise": "empty", "name": "Harbour"}
        self.assertEqual(table(shaped(flow, emptied, other=other))["Harbour"], [None, "Tern", "K", None])
        (mapped,) = steps(step).steps
        self.assertEqual(list_unmapped(mapped, flow, run_with(other=other)), [("Quay", 1)])

    def test_an_unclear_mapping_is_refused(self):
        flow, other = flow_of({"Port": ["a"]}), flow_of({"From": ["a", "a", "a"], "To": ["x", "x", "y"]})
        with self.assertRaisesRegex(DefinitionProblem, "“a” stands twice"):
            shaped(
                flow,
                {"do": "map", "field": "port", "dataset": "other", "find_column": "from", "put_column": "to"},
                other=other,
            )

    def test_spellings(self):
        found = suggest_spellings([("Isle of Ash", 9), ("Isle-of-ash", 2), ("Quay", 5)], None)
        self.assertEqual([pair[:2] for pair in found], [("Isle-of-ash", "Isle of Ash")])
        targets = ["Outer Light", "Kelda Rock", "Quay"]
        found = suggest_spellings([("outer light", 1), ("Rock, Kelda", 1), ("Quay", 3), ("Zzz", 1)], targets)
        self.assertEqual(
            {value: target for value, target, _ in found}, {"outer light": "Outer Light", "Rock, Kelda": "Kelda Rock"}
        )


class Appends(unittest.TestCase):
    def test_columns_by_name(self):
        flow = flow_of({"Port": ["a"], "Count": [1], "Note": ["n"]})
        other = flow_of({"count": [2.5], "PORT": ["b"], "Pier": [7]})
        found = shaped(flow, {"do": "append", "dataset": "other", "mark": "Source"}, other=other)
        self.assertEqual(
            table(found),
            {
                "Port": ["a", "b"],
                "Count": [1, 2.5],
                "Note": ["n", None],
                "Pier": [None, 7],
                "Source": ["this table", "Other"],
            },
        )
        left = table(shaped(flow, {"do": "append", "dataset": "other", "new_columns": "leave"}, other=other))
        self.assertEqual(list(left), ["Port", "Count", "Note"])
        (step,) = steps({"do": "append", "dataset": "other"}).steps
        self.assertEqual(step.list_differences(flow, run_with(other=other)), (["Note"], ["Pier"], ["Count"]))

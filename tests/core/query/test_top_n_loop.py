"""What top N keeps and gathers, against a plain loop: ties, empties, overall and within, and what the notes say."""

from __future__ import annotations

import itertools
import math
from collections import Counter, defaultdict
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.query.asking import FARE, Asking, shares
from veduta.core.query.measures import Measure, TopN

ROW = st.fixed_dictionaries(
    {
        "region": st.sampled_from(["N", "S", None]),
        "route": st.sampled_from(["A", "B", "C", None]),
        "fare": st.one_of(st.none(), st.integers(-2, 3).map(float)),
    }
)
KEEPS = st.builds(
    TopN,
    end=st.sampled_from(["top", "bottom"]),
    count=st.integers(1, 3),
    percent=st.booleans(),
    by=st.just(FARE),
    of=st.sampled_from(["by", "split", "within"]),
    ties=st.booleans(),
    empties=st.booleans(),
    rest=st.booleans(),
)
POSITIONS = {"by": 0, "split": 1, "within": 1}
"""Of the two dimensions, the one whose values are kept."""
Sums = dict[Any, float | None]


def sum_up(rows: list[dict[str, Any]], *names: str) -> Sums:
    """The fares by the values of some fields; None where none has a fare."""
    found: Sums = {}
    for row in rows:
        key = tuple(row[name] for name in names)
        before = found.setdefault(key, None)
        if row["fare"] is not None:
            found[key] = (before or 0.0) + row["fare"]
    return found


def pick_by_loop(ranked: Sums, keep: TopN) -> set[Any]:
    """The keys that are kept of a ranking: by value, then by name, an empty one last."""
    there = [(key, value) for key, value in ranked.items() if value is not None and (keep.empties or key[-1])]
    direction = -1 if keep.end == "top" else 1
    there.sort(key=lambda each: (direction * each[1], each[0][-1] is None, each[0][-1] or ""))
    count = max(1, math.ceil(len(there) * keep.count / 100)) if keep.percent else keep.count
    edge = there[:count][-1:]
    return {key for i, (key, value) in enumerate(there) if i < count or (keep.ties and edge and value == edge[0][1])}


def keep_by_loop(rows: list[dict[str, Any]], keep: TopN) -> Counter[Any]:
    """The cells (region, route, fares, whether gathered) of a question by both."""
    cells = sum_up(rows, "region", "route")
    position = POSITIONS[keep.of]
    if keep.of == "within":
        kept: set[Any] = set()
        for region in {key[0] for key in cells}:
            kept |= pick_by_loop({key: value for key, value in cells.items() if key[0] == region}, keep)
    else:
        name = ("region", "route")[position]
        picked = pick_by_loop(sum_up(rows, name), keep)
        kept = {key for key in cells if (key[position],) in picked}
    found: list[Any] = [(*key, cells[key], False) for key in kept]
    if keep.rest:
        left = [row for row in rows if (row["region"], row["route"]) not in kept]
        name = ("route", "region")[position]
        for (other,), value in sum_up(left, name).items():
            found.append((None, other, value, True) if position == 0 else (other, None, value, True))
    return Counter(found)


class AgainstALoop(Asking):
    @examples(300)
    @given(st.lists(ROW, max_size=14), KEEPS)
    def test_what_is_kept_and_gathered(self, rows, keep):
        of = POSITIONS[keep.of]
        result = self.ask(rows, ("region", "route"), "sum(fare)", keep=keep, keep_group=of)
        found = Counter((*row[:3], bool(row[3]) if len(row) > 3 else False) for row in result.frame.iter_rows())
        self.assertEqual(found, keep_by_loop(rows, keep))


class Notes(Asking):
    def notes(self, numbers: tuple[int, ...], **keep: Any) -> list[str]:
        rows = shares(tuple((f"R{i}", number) for i, number in enumerate(numbers)))
        return self.ask(rows, ("route",), "count_rows()", keep=TopN(by=Measure(), **keep)).notes

    def test_ties_are_counted_in_words(self):
        for numbers, keep, wanted in (
            ((3, 2, 2), {"count": 2}, ["1 more of Route ties with the last one kept."]),
            ((3, 2, 2, 2), {"count": 2}, ["2 more of Route tie with the last one kept."]),
            ((3, 2, 2), {"count": 2, "ties": True}, ["1 more of Route is kept because of ties."]),
            ((3, 2, 2, 2), {"count": 2, "ties": True}, ["2 more of Route are kept because of ties."]),
            ((3, 2, 1), {"count": 2}, []),
            ((3, 2), {"count": 2, "ties": True}, []),
            ((1, 1, 2), {"count": 1, "end": "bottom"}, ["1 more of Route ties with the last one kept."]),
        ):
            with self.subTest(numbers=numbers, **keep):
                self.assertEqual(self.notes(numbers, **keep), wanted)

    def test_an_empty_one_is_told_where_others_are_left_out(self):
        rows = [{"route": None}] * 3 + shares((("A", 2), ("B", 1)))
        for count, wanted in ((1, True), (2, True), (3, False)):
            notes = self.ask(rows, ("route",), "count_rows()", keep=TopN(count=count, by=Measure())).notes
            self.assertEqual(notes, ["An empty route is among those kept."] * wanted, count)
        notes = self.ask(rows, ("route",), "count_rows()", keep=TopN(count=1, by=Measure(), empties=False)).notes
        self.assertEqual(notes, [])


class NamesOfTheRest(Asking):
    def test_the_first_name_that_no_value_has(self):
        names = ("other", "All others", "Everything else")
        for taken, wanted in enumerate(("Other", "All others", "Everything else", "Other (4)")):
            numbers = [*zip(names[:taken], itertools.count(9)), ("A", 20), ("B", 4), ("C", 3), ("D", 2), ("E", 1)]
            keep = TopN(count=1 + taken, by=Measure(), rest=True)
            result = self.ask(shares(tuple(numbers)), ("route",), "count_rows()", keep=keep)
            self.assertEqual((result.rest and result.rest.name, taken), (wanted, taken))

    def test_shares_of_the_rest_add_up_and_other_windows_have_none(self):
        rows = [*shares((("A", 5), ("B", 3), ("C", 2))), {"route": "D", "fare": None}]
        texts = ("count_rows()", "share(count_rows())", "rank(count_rows())", "share(sum(fare))")
        keep = TopN(count=1, by=Measure(), rest=True)
        result = self.ask(rows, ("route",), *texts, keep=keep)
        (kept, gathered) = result.frame.rows()
        self.assertEqual(kept[1:4], (5, 5 / 11, 1))
        self.assertEqual(gathered[:4], (None, 6, 6 / 11, None))
        self.assertAlmostEqual(gathered[4], 0.5)

    def test_shares_of_a_rest_without_any_value_are_empty(self):
        rows = [{"route": "A", "fare": 2.0}, {"route": "B", "fare": None}, {"route": "C", "fare": None}]
        keep = TopN(count=1, by=FARE, rest=True)
        result = self.ask(rows, ("route",), "sum(fare)", "share(sum(fare))", keep=keep)
        self.assertEqual([row[1:3] for row in result.frame.rows()], [(2.0, 1.0), (None, None)])


class Totals(Asking):
    def test_subtotals_of_empty_groups(self):
        rows = [
            {"region": region, "route": route, "fare": fare}
            for region, route, fare in ((None, "A", 4.0), (None, "B", 1.0), ("N", "A", 2.0), ("N", None, 8.0))
        ]
        for keep in (None, TopN(count=2, by=FARE, of="within")):
            result = self.ask(rows, ("region", "route"), "sum(fare)", "max(fare)", keep=keep, totals=((0,), (1,), ()))
            self.assertEqual({row[0]: row[1:3] for row in result.totals[(0,)].rows()}, {None: (5, 4), "N": (10, 8)})
            by_route = defaultdict(list)
            for row in rows:
                by_route[row["route"]].append(row["fare"])
            wanted = {route: (sum(fares), max(fares)) for route, fares in by_route.items()}
            self.assertEqual({row[0]: row[1:3] for row in result.totals[(1,)].rows()}, wanted)
            self.assertEqual(result.totals[()].row(0)[:2], (15, 8))

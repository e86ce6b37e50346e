"""What several people did to one chart, brought together."""

from __future__ import annotations

import itertools
import unittest

from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.editors import Editor
from veduta.core.chart import merging
from veduta.core.chart.definition import load_definition
from veduta.core.chart.merging import (
    ALL,
    find_changed_parts,
    get_part,
    merge_definitions,
    rebase_definition,
    replace_parts,
)

FARE = {"field": "fare", "aggregate": "sum"}
SAILINGS = {"aggregate": "count"}
PASSENGERS = {"field": "passengers", "aggregate": "sum"}
REGION, ROUTE = {"field": "region"}, {"field": "route"}
NORTH = {"kind": "list", "field": "region", "values": ["North Reach"]}
LATE = {"kind": "range", "field": "minutes", "low": 5}


def chart(**parts):
    return load_definition({"version": 2, "dataset": "d", "kind": "bar", "show": [FARE], "by": [REGION]} | parts)


BARS_AND_LINE = [{"measures": [0], "how": "bar"}, {"measures": [1], "how": "line"}]
BASE = chart()


def both_of(earlier, later, base=BASE):
    """The parts that the two changed, and what is made of them."""
    found = merge_definitions(base, earlier, later)
    return found.both, found.definition


class Merging(unittest.TestCase):
    def test_parts_that_one_changed_are_taken_from_them(self):
        for first, second in itertools.permutations(
            ({"title": "Fares"}, {"kind": "line"}, {"only": [NORTH]}, {"look": {"whole": {"size": "large"}}}), 2
        ):
            self.assertEqual(both_of(chart(**first), chart(**second)), ((), chart(**first, **second)))

    def test_of_a_part_that_both_changed_the_later_holds(self):
        both, made = both_of(chart(title="Theirs", kind="line"), chart(title="Mine"))
        self.assertEqual((both, made), (("title",), chart(title="Mine", kind="line")))
        self.assertEqual(both_of(chart(title="Same"), chart(title="Same")), ((), chart(title="Same")))

    def test_what_both_add_is_there_once(self):
        both, made = both_of(chart(only=[NORTH]), chart(only=[LATE, NORTH]))
        self.assertEqual((both, made), ((), chart(only=[NORTH, LATE])))
        both, made = both_of(chart(show=[FARE, SAILINGS]), chart(show=[FARE, PASSENGERS]))
        self.assertEqual((both, made), ((), chart(show=[FARE, SAILINGS, PASSENGERS])))

    def test_what_is_named_by_its_place_keeps_it(self):
        mine = chart(show=[FARE, PASSENGERS], layers=BARS_AND_LINE)
        both, made = both_of(chart(show=[FARE, SAILINGS]), mine)
        self.assertEqual([each.field for each in made.show], ["fare", "passengers", None])
        self.assertEqual((both, made.layers), ((), mine.layers))

    def test_two_that_write_different_measures_otherwise(self):
        base = chart(show=[FARE, SAILINGS])
        first = chart(show=[FARE | {"name": "Revenue"}, SAILINGS])
        second = chart(show=[FARE, SAILINGS | {"name": "Crossings"}])
        both, made = both_of(first, second, base)
        self.assertEqual((both, [each.name for each in made.show]), ((), ["Revenue", "Crossings"]))

    def test_what_names_a_measure_that_the_other_takes_away_is_not_mixed_with_it(self):
        base = chart(show=[FARE, SAILINGS, PASSENGERS])
        compared = chart(show=[FARE, SAILINGS, PASSENGERS], references=[{"of": "groups", "measure": 1}])
        fewer = chart(show=[FARE, PASSENGERS])
        self.assertEqual(both_of(fewer, compared, base), (("show",), compared))
        self.assertEqual(both_of(compared, fewer, base), (("references",), fewer))

    def test_parts_of_one_definition_are_put_into_another(self):
        made = replace_parts(chart(title="Now", kind="line"), chart(title="Mine", only=[NORTH]), ["title"])
        self.assertEqual(made, chart(title="Mine", kind="line"))

    def test_undoing_leaves_what_another_changed_since(self):
        mine = chart(title="Mine", only=[NORTH])
        theirs = chart(title="Theirs", only=[NORTH], kind="line")
        undone = rebase_definition(mine, theirs, BASE)
        self.assertEqual((undone.definition, undone.both), (chart(title="Theirs", kind="line"), ("title",)))
        added = rebase_definition(chart(show=[FARE, SAILINGS]), chart(show=[FARE, SAILINGS, FARE]), BASE)
        self.assertEqual(len(added.definition.show), 3, "what another added beside it stays, with it")

    @examples(150)
    @given(st.data())
    def test_undoing_never_takes_back_what_another_of_three_did(self, data):
        """Texts say who wrote them; the parts are the title, the note and the words at the foot."""
        shared = BASE
        editors = [Editor(merging, BASE, BASE) for _ in range(3)]
        for step in range(data.draw(st.integers(2, 12))):
            who = data.draw(st.integers(0, 2))
            editor = editors[who]
            before = editor.bring(shared)
            if editor.past and data.draw(st.booleans()):
                editor.undo()
                shared = editor.bring(before)
                for part in find_changed_parts(before, shared):
                    replaced = get_part(before.model_dump(), part)
                    self.assertIn(replaced[:1], ("", str(who)), f"{who} undid {replaced}")
            else:
                part = data.draw(st.sampled_from(["title", "note", "foot"]))
                editor.make(editor.now.model_copy(update={part: f"{who} in {step}"}))
                shared = editor.bring(before)

    def test_a_measure_that_is_another_at_its_place_holds_together_with_what_names_it_there(self):
        """A reference at the first measure's place must not come to stand at another measure."""
        share, rate = ({"formula": text} for text in ("mean(#fare)", "max(#fare)"))
        base = chart(show=[share, FARE])
        at_the_first = chart(show=[share, FARE], references=[{"of": "number", "value": 5, "measure": 0}])
        for other in ([rate, FARE], [{"field": "fare", "aggregate": "mean"}, share], [FARE, share]):
            with self.subTest(other):
                both, found = both_of(chart(show=other), at_the_first, base)
                self.assertEqual(both, ("show",))
                self.assertEqual(found, at_the_first)
        added, found = both_of(chart(show=[share, FARE, SAILINGS]), at_the_first, base)
        self.assertEqual((added, len(found.show), len(found.references)), ((), 3, 1))

    @examples(60)
    @given(st.lists(st.sampled_from(range(8)), min_size=2, max_size=2))
    def test_it_is_never_lost_what_only_one_changed(self, picked):
        made = [
            BASE,
            chart(title="T"),
            chart(only=[NORTH]),
            chart(kind="line", note="N"),
            chart(show=[FARE, SAILINGS]),
            chart(by=[REGION, ROUTE]),
            chart(show=[SAILINGS], title="Other"),
            chart(references=[{"of": "groups", "measure": 0}]),
        ]
        earlier, later = (made[each] for each in picked)
        found = merge_definitions(BASE, earlier, later)
        data = found.definition.model_dump(mode="json")
        for part in ALL:
            if part not in find_changed_parts(BASE, later) and part not in found.both:
                self.assertEqual(get_part(data, part), get_part(earlier.model_dump(mode="json"), part))
            if part not in find_changed_parts(BASE, earlier):
                self.assertEqual(get_part(data, part), get_part(later.model_dump(mode="json"), part))

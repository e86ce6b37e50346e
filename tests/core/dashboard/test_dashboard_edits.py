"""Edits of a dashboard: each does what it says, and what cannot be done is told."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.support import one_page
from veduta.core.dashboard.arrangements import STARTS, make_placeholders
from veduta.core.dashboard.definition import load_dashboard
from veduta.core.dashboard.edits import EDITS, apply_edit
from veduta.core.dashboard.layout import overlaps
from veduta.core.errors import DefinitionProblem

REGION = {"id": "region", "kind": "list", "dataset": "d", "field": "c3", "field_kind": "text", "name": "Region"}
TOP = {"id": "top", "kind": "parameter", "dataset": "d", "field": "top", "field_kind": "whole", "name": "Top"}
FARES = {"id": "fares", "kind": "chart", "chart": "1", "x": 0, "y": 0, "w": 6, "h": 4}
LATE = {"id": "late", "kind": "chart", "chart": "2", "x": 6, "y": 0, "w": 6, "h": 4}
SAID = {"id": "said", "kind": "text", "text": "Said", "x": 0, "y": 4, "w": 6, "h": 2}
START = load_dashboard(one_page(FARES, LATE, SAID, controls=[REGION, TOP]))
FIXED = apply_edit(START, {"edit": "set_page", "page": "p1", "kind": "fixed", "width": 1200})
GROUPED = apply_edit(START, {"edit": "group_blocks", "id": "both", "blocks": ["late", "said"], "title": "Both"})
PLACE = apply_edit(START, {"edit": "add_block", "id": "there", "kind": "place", "text": "What the winter brings"})
NOT_CANCELLED = {"kind": "list", "field": "c4", "values": [False]}
WITH_FILTER = apply_edit(START, {"edit": "add_filter", "id": "cancelled", "dataset": "d", "filter": NOT_CANCELLED})
PAGES = apply_edit(START, {"edit": "add_page", "id": "p2", "name": "Vessels"})


def after(edit, start=START, /, **sent):
    return apply_edit(start, {"edit": edit, **sent})


def place(definition, name):
    block = definition.find_block(name)
    return (block.x, block.y, block.w, block.h)


def names(definition, page=0):
    return [block.id for block in definition.pages[page].blocks]


class Edits(unittest.TestCase):
    def test_each_does_what_it_says(self):
        colours = [{"fields": ["Region"], "colours": [{"values": ["North Reach"], "colour": "#AA5500"}]}]
        examples = {
            "add_block": ({"id": "new", "kind": "heading"}, lambda d: place(d, "new") == (0, 6, 12, 1)),
            "add_column": ({"id": "new", "page": "p1", "side": "left"}, lambda d: place(d, "fares") == (3, 0, 4, 4)),
            "move_blocks": ({"blocks": ["said"], "x": 6, "y": 0}, lambda d: place(d, "late") == (6, 2, 6, 4)),
            "step_blocks": ({"blocks": ["said"], "down": -1}, lambda d: place(d, "fares") == (0, 2, 6, 4)),
            "size_block": ({"block": "fares", "w": 3, "h": 6}, lambda d: place(d, "said") == (0, 6, 6, 2)),
            "grow_block": ({"block": "fares", "right": -1, "down": 1}, lambda d: place(d, "fares") == (0, 0, 5, 5)),
            "put_blocks": (
                {"blocks": ["said"], "target": "late", "side": "left"},
                lambda d: (place(d, "said"), place(d, "late")) == ((6, 0, 3, 4), (9, 0, 3, 4)),
            ),
            "move_line": (
                {"block": "fares", "edge": "right", "by": 2},
                lambda d: (place(d, "fares"), place(d, "late")) == ((0, 0, 8, 4), (8, 0, 4, 4)),
            ),
            "same_size": ({"blocks": ["said", "late"]}, lambda d: place(d, "late") == (6, 0, 6, 2)),
            "align_blocks": ({"blocks": ["late", "said"], "edge": "left"}, lambda d: place(d, "said") == (6, 4, 6, 2)),
            "lock_blocks": ({"blocks": ["late"]}, lambda d: d.find_block("late").locked),
            "group_blocks": (
                {"id": "both", "blocks": ["late", "said"]},
                lambda d: (place(d, "both"), d.find_block("late").group) == ((0, 0, 12, 4), "both"),
            ),
            "even_row": ({"block": "said"}, lambda d: place(d, "said") == (0, 4, 12, 2)),
            "set_block": ({"block": "said", "text": "More"}, lambda d: d.find_block("said").text == "More"),
            "add_filter": (
                {"id": "cancelled", "dataset": "d", "filter": NOT_CANCELLED},
                lambda d: d.filters[0].filter.values == (False,),
            ),
            "set_reach": (
                {"block": "fares", "reaches": {"of": "blocks", "names": ["late"]}, "highlights": ["late"]},
                lambda d: (
                    (d.find_block("fares").reaches.names, d.find_block("fares").highlights) == (("late",), ("late",))
                ),
            ),
            "set_click": (
                {"block": "fares", "other": "late", "does": "highlight"},
                lambda d: (d.find_block("fares").reaches.of, d.find_block("fares").highlights) == ("all", ("late",)),
            ),
            "shape_control": (
                {"control": "region", "kind": "text", "depends": True},
                lambda d: (d.controls[0].kind, d.controls[0].list, d.controls[0].depends) == ("text", None, True),
            ),
            "set_applies": ({"applies": True}, lambda d: d.applies),
            "set_ground": (
                {"page": "p1", "ground": {"colour": "teal"}, "widest": 1100, "gap": 16},
                lambda d: (d.pages[0].ground.colour, d.pages[0].widest, d.pages[0].gap) == ("#008080", 1100, 16),
            ),
            "set_own": (
                {"block": "fares", "own": {"kind": "line"}, "title": "As a line"},
                lambda d: (d.find_block("fares").own, d.find_block("fares").title) == ({"kind": "line"}, "As a line"),
            ),
            "set_look": (
                {"block": "fares", "title": "Takings", "look": {"ground": "teal"}, "click": {"does": "rows"}},
                lambda d: (d.find_block("fares").look.ground, d.find_block("fares").click.does) == ("#008080", "rows"),
            ),
            "remove_blocks": ({"blocks": ["fares"]}, lambda d: place(d, "said") == (0, 0, 6, 2)),
            "duplicate_blocks": (
                {"blocks": ["late", "said"], "prefix": "new"},
                lambda d: (place(d, "new1"), place(d, "new2")) == ((6, 4, 6, 4), (0, 6, 6, 2)),
            ),
            "copy_to_page": (
                {"blocks": ["said"], "page": "p1", "prefix": "new"},
                lambda d: place(d, "new1") == (0, 6, 6, 2),
            ),
            "paste_blocks": (
                {"blocks": [{**SAID, "text": "From elsewhere"}], "page": "p1", "prefix": "new"},
                lambda d: d.find_block("new1").text == "From elsewhere",
            ),
            "move_to_page": ({"blocks": ["said"], "page": "p1"}, lambda d: d == START),
            "add_page": ({"id": "p2"}, lambda d: [each.name for each in d.pages] == ["Page 1", "Page 2"]),
            "begin_with": (
                {"page": "p1", "start": "map", "prefix": "new"},
                lambda d: [place(d, f"new{number}")[1] for number in (1, 2, 3)] == [6, 4, 14],
            ),
            "move_on_narrow": ({"block": "said", "to": 0}, lambda d: d.pages[0].narrow.order[0] == "said"),
            "set_on_narrow": (
                {"block": "said", "hidden": True, "height": 90},
                lambda d: d.pages[0].narrow.blocks["said"].height == 90,
            ),
            "set_paper": ({"paper": {"size": "A3"}}, lambda d: d.paper.size == "A3"),
            "set_on_paper": ({"block": "said", "breaks": True}, lambda d: d.pages[0].breaks == ("said",)),
            "reset_narrow": ({"page": "p1"}, lambda d: d == START),
            "turn_page": (
                {"page": "p1"},
                lambda d: (
                    [place(d, name) for name in ("fares", "said", "late")]
                    == [(0, 0, 6, 4), (6, 0, 6, 4), (0, 4, 12, 4)]
                ),
            ),
            "copy_page": ({"page": "p1", "id": "p2"}, lambda d: names(d, 1) == ["p21", "p22", "p23"]),
            "set_page": ({"page": "p1", "name": " Fares "}, lambda d: d.pages[0].name == "Fares"),
            "move_page": ({"page": "p1", "to": 3}, lambda d: d == START),
            "add_control": (
                {"control": {**REGION, "id": "other"}},
                lambda d: [each.id for each in d.controls] == ["region", "top", "other"],
            ),
            "remove_control": ({"control": "region"}, lambda d: [each.id for each in d.controls] == ["top"]),
            "set_control": (
                {"control": "region", "choice": {"values": ["North Reach"]}},
                lambda d: d.controls[0].list.values == ("North Reach",),
            ),
            "set_colours": (
                {"colours": colours, "own_colours": True},
                lambda d: (d.own_colours, d.colours[0].fields) == (True, ("Region",)),
            ),
        }
        others = {
            "fill_place": (
                PLACE,
                {"block": "there", "kind": "text", "text": "Here"},
                lambda d: (d.find_block("there").kind, d.find_block("there").text) == ("text", "Here"),
            ),
            "order_blocks": (FIXED, {"blocks": ["fares"], "to": "front"}, lambda d: names(d)[-1] == "fares"),
            "ungroup": (GROUPED, {"group": "both"}, lambda d: names(d) == ["fares", "late", "said"]),
            "drop_own": (
                after("set_own", block="fares", own={"kind": "line", "totals": "all"}),
                {"block": "fares", "part": "kind"},
                lambda d: d.find_block("fares").own == {"totals": "all"},
            ),
            "set_filter": (
                WITH_FILTER,
                {"filter_id": "cancelled", "in_trail": False},
                lambda d: (d.filters[0].in_trail, d.filters[0].filter.field) == (False, "c4"),
            ),
            "remove_filter": (WITH_FILTER, {"filter_id": "cancelled"}, lambda d: d.filters == ()),
            "set_scope": (
                WITH_FILTER,
                {"narrows": "cancelled", "scope": {"of": "pages", "names": ["p1"]}, "fields": {"e": "c7"}},
                lambda d: (d.filters[0].scope.of, d.filters[0].fields) == ("pages", {"e": "c7"}),
            ),
            "set_follows": (
                WITH_FILTER,
                {"narrows": "region", "block": "fares", "follows": False},
                lambda d: (d.controls[0].scope.of, d.controls[0].scope.names) == ("but", ("fares",)),
            ),
            "take_settings": (
                START,
                {
                    "other": after("set_block", block="fares", title="Then").model_dump(mode="json"),
                    "settings": [["block", "fares", "title"]],
                },
                lambda d: d.find_block("fares").title == "Then",
            ),
            "remove_page": (PAGES, {"page": "p1"}, lambda d: [each.id for each in d.pages] == ["p2"]),
        }
        examples_of_all = {name: (START, *example) for name, example in examples.items()} | others
        self.assertEqual(set(examples_of_all), set(EDITS))
        for name, (start, sent, holds) in examples_of_all.items():
            with self.subTest(edit=name):
                changed = after(name, start, **sent)
                self.assertTrue(holds(changed), changed.pages)

    def test_what_cannot_be_done_is_told(self):
        for edit, sent in (
            ("add_block", {"id": "fares", "kind": "text"}),
            ("add_block", {"id": "new", "kind": "text", "target": "gone"}),
            ("add_block", {"id": "No id!", "kind": "text"}),
            ("move_blocks", {"blocks": ["gone"], "x": 0, "y": 0}),
            ("put_blocks", {"blocks": ["said"], "target": "late", "side": "within"}),
            ("set_look", {"block": "fares", "look": {"ground": "seaish"}}),
            (
                "set_look",
                {"block": "fares", "look": {}, "click": {"does": "address", "address": "javascript:alert(1)"}},
            ),
            ("fill_place", {"block": "said", "kind": "text"}),
            ("add_filter", {"id": "region", "dataset": "d", "filter": NOT_CANCELLED}),
            ("add_filter", {"id": "new", "dataset": "d", "filter": {"kind": "tide"}}),
            ("set_filter", {"filter_id": "gone", "in_trail": False}),
            ("shape_control", {"control": "region", "kind": "dates"}),
            ("shape_control", {"control": "region", "required": True}),
            ("shape_control", {"control": "top", "kind": "list"}),
            ("shape_control", {"control": "top", "first": "highest"}),
            ("shape_control", {"control": "region", "first": "reader", "attribute": " "}),
            ("set_scope", {"narrows": "gone", "scope": {}}),
            ("set_scope", {"narrows": "region", "scope": {"of": "moons"}}),
            ("set_follows", {"narrows": "region", "block": "gone", "follows": True}),
            ("order_blocks", {"blocks": ["said"], "to": "front"}),
            ("add_column", {"id": "fares", "page": "p1", "side": "left"}),
            ("set_page", {"page": "p1", "hidden": True}),
            ("set_page", {"page": "gone", "name": "New"}),
            ("remove_page", {"page": "p1"}),
            ("add_page", {"id": "p1"}),
            ("begin_with", {"page": "p1", "start": "any", "prefix": "new"}),
            ("set_on_narrow", {"block": "said", "height": 5}),
            ("set_paper", {"paper": {"size": "A9"}}),
            ("ungroup", {"group": "gone"}),
            ("move_to_page", {"blocks": ["said"], "page": "gone"}),
            ("remove_blocks", {"blocks": []}),
            ("paste_blocks", {"blocks": [{**SAID, "kind": "engine"}], "page": "p1", "prefix": "new"}),
            ("set_control", {"control": "region", "choice": {"set": [3]}}),
            ("add_control", {"control": REGION}),
            ("turn_over", {}),
        ):
            with self.subTest(edit=edit, sent=sent), self.assertRaises(DefinitionProblem):
                after(edit, **sent)

    def test_a_parameter_without_a_choice_has_no_limit(self):
        self.assertIsNone(after("set_control", control="top").controls[1].parameter.set)
        self.assertIsNone(after("set_control", control="region").controls[0].list)

    def test_what_is_said_of_nothing_stays(self):
        changed = after("set_block", block="said", title="Said by")
        self.assertEqual((changed.find_block("said").text, changed.find_block("said").title), ("Said", "Said by"))


class Starts(unittest.TestCase):
    def test_each_fills_its_page_as_it_is_drawn(self):
        self.assertGreaterEqual(len(STARTS), 8)
        for start in STARTS:
            with self.subTest(start.name):
                page = after("begin_with", load_dashboard({}), page="p1", start=start.id, prefix="new").pages[0]
                places = [(block.x, block.y, block.w, block.h) for block in page.blocks]
                self.assertEqual(places, [(block.x, block.y, block.w, block.h) for block in start.blocks])
                self.assertTrue(all(block.text for block in page.blocks))
                self.assertEqual(max(x + w for x, _, w, _ in places), 12)

    def test_a_page_is_a_start_too(self):
        like = make_placeholders(GROUPED.pages[0].blocks, ["Fares", "Late", "Said", "Both"])
        self.assertEqual([(b.kind, b.text) for b in like[:2]], [("place", "Fares"), ("place", "Late")])
        self.assertEqual([(b.kind, b.title) for b in like[3:]], [("group", "Both")])


class Turning(unittest.TestCase):
    COLUMNS = load_dashboard(
        one_page(
            {"id": "head", "kind": "heading", "text": "How we stand", "w": 12, "h": 1},
            *(
                {"id": f"{column}{row}", "kind": "text", "x": 4 * place, "y": 1 + 4 * row, "w": 4, "h": 4}
                for place, column in enumerate("abc")
                for row in range(2)
            ),
        )
    )

    def test_columns_become_rows_and_columns_again(self):
        rows = after("turn_page", self.COLUMNS, page="p1")
        self.assertEqual(place(rows, "head"), (0, 0, 12, 1))
        self.assertEqual([place(rows, name) for name in ("a0", "a1")], [(0, 1, 6, 4), (6, 1, 6, 4)])
        self.assertEqual([place(rows, name) for name in ("b0", "c1")], [(0, 5, 6, 4), (6, 9, 6, 4)])
        self.assertEqual(after("turn_page", rows, page="p1"), self.COLUMNS)

    def test_groups_turn_with_what_they_hold(self):
        grouped = self.COLUMNS
        for column in "abc":
            names_ = [f"{column}0", f"{column}1"]
            grouped = after("group_blocks", grouped, id=f"g{column}", blocks=names_, title=column.upper())
        self.assertEqual(place(grouped, "gb"), (4, 1, 4, 9))
        rows = after("turn_page", grouped, page="p1")
        self.assertEqual([place(rows, name) for name in ("ga", "gb")], [(0, 1, 12, 5), (0, 6, 12, 5)])
        self.assertEqual([place(rows, name) for name in ("a0", "a1")], [(0, 0, 6, 4), (6, 0, 6, 4)])
        self.assertEqual(after("turn_page", rows, page="p1"), grouped)


class Groups(unittest.TestCase):
    def test_a_group_is_as_high_as_what_it_holds_and_its_title(self):
        self.assertEqual(place(GROUPED, "both"), (0, 0, 12, 5))
        self.assertEqual([place(GROUPED, name) for name in ("late", "said")], [(6, 0, 6, 4), (0, 0, 6, 2)])
        taller = after("size_block", GROUPED, block="said", w=6, h=9)
        self.assertEqual((place(taller, "both")[3], place(taller, "fares")[1]), (10, 10))

    def test_it_moves_as_one_and_is_left_by_what_is_put_elsewhere(self):
        moved = after("put_blocks", GROUPED, blocks=["both"], target="fares", side="right")
        self.assertEqual((place(moved, "fares"), place(moved, "both")), ((0, 0, 3, 4), (3, 0, 3, 5)))
        left = after("put_blocks", GROUPED, blocks=["said"], target="fares", side="below")
        self.assertEqual(left.find_block("said").group, "")
        joined = after("put_blocks", GROUPED, blocks=["fares"], target="late", side="above")
        self.assertEqual((joined.find_block("fares").group, place(joined, "late")), ("both", (6, 4, 6, 4)))

    def test_a_group_that_holds_nothing_goes(self):
        emptied = after("remove_blocks", GROUPED, blocks=["late", "said"])
        self.assertEqual(names(emptied), ["fares"])
        self.assertEqual(names(after("remove_blocks", GROUPED, blocks=["both"])), ["fares"])

    def test_its_copy_holds_copies(self):
        copied = after("duplicate_blocks", GROUPED, blocks=["both"], prefix="new")
        held = [block.text for block in copied.blocks if block.group in ("new1", "new2", "new3")]
        self.assertEqual(held, ["", "Said"])

    def test_no_group_is_in_another(self):
        again = after("group_blocks", GROUPED, id="all", blocks=["fares", "both"])
        self.assertEqual({block.group for block in again.blocks if block.kind != "group"}, {"all"})


class Pages(unittest.TestCase):
    def test_blocks_move_between_pages(self):
        moved = after("move_to_page", PAGES, blocks=["late", "said"], page="p2")
        self.assertEqual((names(moved), names(moved, 1)), (["fares"], ["late", "said"]))
        self.assertEqual(place(moved, "late"), (6, 0, 6, 4))
        put = after("put_blocks", moved, blocks=["fares"], target="said", side="left")
        self.assertEqual((names(put), place(put, "fares")), ([], (0, 0, 3, 2)))

    def test_some_page_is_always_shown(self):
        hidden = after("set_page", PAGES, page="p2", hidden=True)
        with self.assertRaises(DefinitionProblem):
            after("remove_page", hidden, page="p1")
        with self.assertRaises(DefinitionProblem):
            after("set_page", hidden, page="p1", hidden=True)

    def test_what_is_locked_stays(self):
        locked = after("lock_blocks", blocks=["late"])
        for edit, sent in (
            ("move_blocks", {"blocks": ["late"], "x": 0, "y": 0}),
            ("size_block", {"block": "late", "w": 3, "h": 3}),
            ("remove_blocks", {"blocks": ["said", "late"]}),
            ("set_block", {"block": "late", "title": "New"}),
        ):
            with self.subTest(edit), self.assertRaisesRegex(DefinitionProblem, "locked"):
                after(edit, locked, **sent)
        self.assertFalse(after("lock_blocks", locked, blocks=["late"], locked=False).find_block("late").locked)


class FixedPages(unittest.TestCase):
    def test_blocks_lie_where_they_were_put_on_the_grid_and_on_the_page(self):
        self.assertEqual([place(FIXED, name) for name in ("fares", "late")], [(0, 0, 600, 228), (600, 0, 600, 228)])
        moved = after("move_blocks", FIXED, blocks=["said", "late"], x=312, y=1_000)
        self.assertEqual(place(moved, "said"), (320, 606, 600, 114))
        self.assertEqual(place(moved, "late"), (600, 492, 600, 228))
        loose = after("set_page", FIXED, page="p1", snap=False)
        self.assertEqual(place(after("move_blocks", loose, blocks=["said"], x=3, y=4), "said"), (3, 4, 600, 114))
        self.assertEqual(place(after("size_block", FIXED, block="late", w=5_000, h=1), "late"), (600, 0, 600, 20))

    def test_it_becomes_one_that_flows_again(self):
        self.assertEqual(after("set_page", FIXED, page="p1", kind="flowing", width=1280), START)

    def test_blocks_lie_over_one_another_in_an_order(self):
        for to, order in (
            ("front", ["late", "said", "fares"]),
            ("forward", ["late", "fares", "said"]),
            ("back", ["fares", "late", "said"]),
        ):
            with self.subTest(to):
                self.assertEqual(names(after("order_blocks", FIXED, blocks=["fares"], to=to)), order)

    def test_a_smaller_page_keeps_all_blocks_on_it(self):
        small = after("set_page", FIXED, page="p1", width=400, height=300)
        for block in small.blocks:
            self.assertLessEqual(block.x + block.w, 400)
            self.assertLessEqual(block.y + block.h, 300)


class Anything(unittest.TestCase):
    @examples(80)
    @given(st.data())
    def test_no_series_of_edits_loses_a_block_or_lays_one_over_another(self, data):
        definition = load_dashboard(one_page(FARES, LATE, SAID, {**SAID, "id": "more", "y": 8}))
        number = st.integers(-2, 14)
        for step in range(data.draw(st.integers(1, 6))):
            there = [block.id for block in definition.blocks]
            some = st.lists(st.sampled_from(there), min_size=1, max_size=3, unique=True)
            one = st.sampled_from(there)
            sides = st.sampled_from(["left", "right", "above", "below", "row_above", "row_below"])
            change = data.draw(
                st.one_of(
                    st.fixed_dictionaries({"edit": st.just("move_blocks"), "blocks": some, "x": number, "y": number}),
                    st.fixed_dictionaries({"edit": st.just("size_block"), "block": one, "w": number, "h": number}),
                    st.fixed_dictionaries(
                        {"edit": st.just("put_blocks"), "blocks": some, "target": one, "side": sides}
                    ),
                    st.fixed_dictionaries(
                        {
                            "edit": st.just("move_line"),
                            "block": one,
                            "edge": st.sampled_from(["right", "below"]),
                            "by": number,
                        }
                    ),
                    st.fixed_dictionaries({"edit": st.just("group_blocks"), "id": st.just(f"g{step}"), "blocks": some}),
                    st.fixed_dictionaries({"edit": st.just("even_row"), "block": one}),
                )
            )
            definition = apply_edit(definition, change)
            self.whole(definition.pages[0].blocks)

    def whole(self, blocks):
        self.assertEqual({b.id for b in blocks if b.kind != "group"}, {"fares", "late", "said", "more"})
        for i, one in enumerate(blocks):
            for other in blocks[i + 1 :]:
                self.assertFalse(one.group == other.group and overlaps(one, other), (one, other))

"""What several people did to one dashboard, brought together."""

from __future__ import annotations

import unittest
from dataclasses import dataclass
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.editors import Editor
from tests.core.support import one_page
from veduta.core.dashboard import merging
from veduta.core.dashboard.definition import DashboardDefinition, load_dashboard
from veduta.core.dashboard.edits import apply_edit
from veduta.core.dashboard.layout import overlaps
from veduta.core.dashboard.merging import (
    MergeConflict,
    list_overridden,
    merge_definitions,
    rebase_definition,
    replace_settings,
)

REGION = {
    "id": "region", "kind": "list", "dataset": "d", "field": "region", "field_kind": "text", "name": "Region",
}  # fmt: skip


def text(name: str, y: int, **more: Any) -> dict[str, Any]:
    return {"id": name, "kind": "text", "text": name, "y": y, "w": 12, "h": 2, **more}


BASE = load_dashboard(one_page(text("a", 0), text("b", 2), text("c", 4), controls=[REGION]))


def after(definition: DashboardDefinition, *changes: dict[str, Any]) -> DashboardDefinition:
    for change in changes:
        definition = apply_edit(definition, change)
    return definition


def words(definition: DashboardDefinition) -> dict[str, str]:
    return {block.id: block.text for block in definition.blocks}


def set_text(block: str, said: str) -> dict[str, Any]:
    return {"edit": "set_block", "block": block, "text": said}


AWAY = {"edit": "remove_blocks", "blocks": ["b"]}


class Merging(unittest.TestCase):
    def test_what_only_one_changed_is_theirs(self):
        other = after(BASE, set_text("a", "A"))
        for earlier, later in ((BASE, other), (other, BASE), (other, other)):
            found = merge_definitions(BASE, earlier, later)
            self.assertEqual((found.definition, found.both), (other, []))

    def test_settings_of_different_blocks_and_of_one_come_together(self):
        title = {"edit": "set_block", "block": "a", "title": "Mine"}
        found = merge_definitions(BASE, after(BASE, set_text("a", "A"), set_text("b", "B")), after(BASE, title))
        self.assertEqual(words(found.definition), {"a": "A", "b": "B", "c": "c"})
        self.assertEqual(found.definition.find_block("a").title, "Mine")
        self.assertEqual(found.both, [])

    def test_blocks_stay_in_their_group(self):
        grouped = after(BASE, {"edit": "group_blocks", "id": "g", "blocks": ["a", "b"]})
        self.assertEqual([grouped.find_block(name).group for name in "abc"], ["g", "g", ""])
        found = merge_definitions(grouped, after(grouped, set_text("a", "A")), after(grouped, set_text("c", "C")))
        self.assertEqual([found.definition.find_block(name).group for name in "abc"], ["g", "g", ""])
        found = merge_definitions(BASE, grouped, after(BASE, set_text("c", "C")))
        self.assertEqual([found.definition.find_block(name).group for name in "abc"], ["g", "g", ""])

    def test_of_one_setting_the_later_one_holds_and_the_earlier_one_is_told(self):
        found = merge_definitions(BASE, after(BASE, set_text("a", "theirs")), after(BASE, set_text("a", "mine")))
        self.assertEqual(words(found.definition)["a"], "mine")
        self.assertEqual(found.both, [MergeConflict("block", "a", "text", "theirs")])

    def test_a_block_that_one_takes_away_goes_unless_the_other_changed_it(self):
        self.assertEqual([*words(merge_definitions(BASE, BASE, after(BASE, AWAY)).definition)], ["a", "c"])
        changed = after(BASE, set_text("b", "B"))
        for earlier, later in ((changed, after(BASE, AWAY)), (after(BASE, AWAY), changed)):
            found = merge_definitions(BASE, earlier, later)
            self.assertEqual(words(found.definition)["b"], "B")
            self.assertIn(MergeConflict("block", "b"), found.both)

    def test_new_blocks_of_both_stay(self):
        def new(name: str) -> DashboardDefinition:
            return after(BASE, {"edit": "add_block", "id": name, "kind": "text"})

        self.assertEqual({*words(merge_definitions(BASE, new("x"), new("y")).definition)}, {"a", "b", "c", "x", "y"})

    def test_a_page_that_goes_comes_back_with_what_was_put_on_it(self):
        two = after(BASE, {"edit": "add_page", "id": "p2", "name": "Two"})
        put = after(two, {"edit": "add_block", "id": "x", "kind": "text", "page": "p2"})
        gone = after(two, {"edit": "remove_page", "page": "p2"})
        for earlier, later in ((put, gone), (gone, put)):
            found = merge_definitions(two, earlier, later).definition
            self.assertEqual(found.find_page_of("x").name, "Two")

    def test_orders_come_together(self):
        three = after(BASE, *({"edit": "add_page", "id": f"p{i}", "name": f"{i}"} for i in (2, 3)))
        moved = after(three, {"edit": "move_page", "page": "p3", "to": 0})
        more = after(three, {"edit": "add_page", "id": "p4", "name": "4"})
        for earlier, later in ((moved, more), (more, moved)):
            found = [page.id for page in merge_definitions(three, earlier, later).definition.pages]
            self.assertEqual(found, ["p3", "p4", "p1", "p2"])

    def test_controls_are_merged_as_blocks_are(self):
        without = after(BASE, {"edit": "remove_control", "control": "region"})
        self.assertEqual(merge_definitions(BASE, after(BASE, set_text("a", "A")), without).definition.controls, ())

    def test_to_undo_is_to_merge_backwards(self):
        mine = after(BASE, set_text("a", "A"))
        theirs = after(mine, set_text("b", "B"))
        self.assertEqual(words(merge_definitions(mine, theirs, BASE).definition), {"a": "a", "b": "B", "c": "c"})


class Undoing(unittest.TestCase):
    def left(self, base, theirs, state, step_to):
        made = rebase_definition(base, theirs, state)
        return made.definition, [each.key for each in list_overridden(made.both, state, step_to)]

    def test_a_setting_that_another_changed_since_stays_theirs(self):
        mine = after(BASE, set_text("a", "A"), set_text("b", "B"))
        theirs = after(mine, set_text("a", "theirs"), set_text("c", "C"))
        made, left = self.left(mine, theirs, BASE, mine)
        self.assertEqual(words(made), {"a": "theirs", "b": "b", "c": "C"})
        self.assertEqual(left, [("block", "a", "text")])

    def test_a_block_that_one_added_and_another_changed_stays(self):
        mine = after(BASE, {"edit": "add_block", "id": "n", "kind": "text", "text": "new"})
        theirs = after(mine, set_text("n", "theirs"))
        made, left = self.left(mine, theirs, BASE, mine)
        self.assertEqual((words(made)["n"], left), ("theirs", [("block", "n", "")]))
        undone = replace_settings(made, BASE, [MergeConflict("block", "n")])
        self.assertEqual(words(undone), words(BASE))

    def test_a_block_that_another_took_away_stays_away(self):
        mine = after(BASE, set_text("a", "A"))
        theirs = after(mine, {"edit": "remove_blocks", "blocks": ["a"]})
        made, left = self.left(mine, theirs, BASE, mine)
        self.assertEqual((words(made), left), ({"b": "b", "c": "c"}, [("block", "a", "")]))
        undone = replace_settings(made, BASE, [MergeConflict("block", "a")])
        self.assertEqual(words(undone)["a"], "a")

    def test_one_that_one_took_away_comes_back(self):
        mine = after(BASE, {"edit": "remove_blocks", "blocks": ["a"]})
        theirs = after(mine, set_text("b", "theirs"))
        made, left = self.left(mine, theirs, BASE, mine)
        self.assertEqual((words(made), left), ({"a": "a", "b": "theirs", "c": "c"}, []))


class ThreeUndo(unittest.TestCase):
    @examples(150)
    @given(st.data())
    def test_undoing_never_takes_back_what_another_did_later(self, data):
        """Each text says who wrote it and when, and those of nobody are named as their block."""
        shared = BASE
        editors = {name: Editor(merging, BASE, BASE) for name in "xyz"}
        for step in range(data.draw(st.integers(2, 14))):
            name = data.draw(st.sampled_from(sorted(editors)))
            editor = editors[name]
            shared = editor.bring(shared)
            does = data.draw(st.sampled_from(["write", "write", "undo", "undo", "redo"]))
            before = words(shared)
            if does == "write":
                block = data.draw(st.sampled_from(sorted(before)))
                editor.make(after(editor.now, set_text(block, f"{name}{step}")))
            elif does == "undo" and editor.past:
                editor.undo()
            elif does == "redo" and editor.future:
                editor.redo()
            shared = editor.bring(shared)
            for block, said in words(shared).items():
                if does != "write" and said != before[block] and before[block][0] not in (name, block):
                    # Somebody else's words were there when what is done again was first written over them.
                    self.assertEqual((does, said[0]), ("redo", name), f"{does} of {name} replaced what another wrote")
                    self.assertGreater(int(said[1:]), int(before[block][1:]), "another wrote that later")

    @examples(100)
    @given(st.data())
    def test_nor_blocks_that_others_added_moved_or_took_away(self, data):
        shared = BASE
        editors = [Editor(merging, BASE, BASE) for _ in range(3)]
        made_by: dict[str, int] = {}
        for step in range(data.draw(st.integers(2, 10))):
            number = data.draw(st.integers(0, 2))
            editor = editors[number]
            shared = editor.bring(shared)
            there = {block.id for block in shared.blocks}
            if editor.past and data.draw(st.booleans()):
                editor.undo()
                shared = editor.bring(shared)
                gone = there - {block.id for block in shared.blocks}
                self.assertEqual({made_by.get(name, number) for name in gone} - {number}, set())
            else:
                editor.make(after(editor.now, {"edit": "add_block", "id": f"n{step}", "kind": "text"}))
                made_by[f"n{step}"] = number
                shared = editor.bring(shared)
        ids = [block.id for block in shared.blocks]
        self.assertEqual(len(ids), len(set(ids)))


@dataclass
class Person:
    """Somebody with an editor: what they began with, and what they have made of it."""

    base: DashboardDefinition
    mine: DashboardDefinition


class Three(unittest.TestCase):
    @examples(80)
    @given(st.data())
    def test_three_people_end_with_the_same_and_no_block_is_lost(self, data):
        kept = BASE
        people = [Person(BASE, BASE) for _ in range(3)]
        made = {block.id for block in BASE.blocks}
        for step in range(data.draw(st.integers(1, 12))):
            person = data.draw(st.sampled_from(people))
            if data.draw(st.booleans()):
                kept = merge_definitions(person.base, kept, person.mine).definition
                person.base = person.mine = kept
            else:
                change = data.draw(self.changes(step, [block.id for block in person.mine.blocks]))
                person.mine = apply_edit(person.mine, change)
                made |= {change["id"]} if change["edit"] == "add_block" else set()
        for person in [*people, *people]:
            kept = merge_definitions(person.base, kept, person.mine).definition
            person.base = person.mine = kept
        for person in people:
            self.assertEqual(merge_definitions(person.base, kept, person.mine).definition, kept)
        self.assertEqual({block.id for block in kept.blocks if block.kind != "group"}, made)
        for page in kept.pages:
            for i, one in enumerate(page.blocks):
                for other in page.blocks[i + 1 :]:
                    self.assertFalse(one.group == other.group and overlaps(one, other), (one, other))

    def changes(self, step: int, there: list[str]) -> st.SearchStrategy:
        one, number = st.sampled_from(there), st.integers(0, 12)
        some = st.lists(one, min_size=1, max_size=3, unique=True)
        return st.one_of(
            st.fixed_dictionaries({"edit": st.just("move_blocks"), "blocks": some, "x": number, "y": number}),
            st.fixed_dictionaries({"edit": st.just("size_block"), "block": one, "w": number, "h": number}),
            st.fixed_dictionaries({"edit": st.just("group_blocks"), "id": st.just(f"g{step}"), "blocks": some}),
            st.just({"edit": "add_block", "id": f"n{step}", "kind": "text"}),
        )

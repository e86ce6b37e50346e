"""A page on narrow screens: no block is lost, what was moved stays so, what is new comes where it stands."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from veduta.core.dashboard.mobile_layout import MobileBlock, MobileLayout, arrange_blocks, drop_blocks, move_block

PAGE = ["head", "fares", "late", "said"]


def order(narrow, page=PAGE):
    return [each.id for each in arrange_blocks(page, narrow)]


class NarrowScreens(unittest.TestCase):
    def test_blocks_are_in_reading_order_until_they_are_moved(self):
        self.assertEqual(order(MobileLayout()), PAGE)
        changed = move_block(PAGE, MobileLayout(), "said", 1)
        self.assertEqual(order(changed), ["head", "said", "fares", "late"])
        self.assertEqual(order(move_block(PAGE, changed, "head", 99)), ["said", "fares", "late", "head"])

    def test_what_is_new_comes_behind_what_it_stands_behind(self):
        changed = move_block(PAGE, MobileLayout(), "late", 0)
        self.assertEqual(order(changed, ["new", *PAGE]), ["new", "late", "head", "fares", "said"])
        self.assertEqual(
            order(changed, ["head", "fares", "late", "more", "said"]), ["late", "more", "head", "fares", "said"]
        )

    def test_what_is_gone_is_forgotten(self):
        narrow = MobileLayout(order=("late", "head"), blocks={"late": MobileBlock(hidden=True), "head": MobileBlock()})
        self.assertEqual(order(narrow, ["head", "said"]), ["head", "said"])
        self.assertEqual(drop_blocks(narrow, ["head"]), MobileLayout(order=("head",)))

    @examples(100)
    @given(
        st.permutations("abcdef"),
        st.lists(st.tuples(st.sampled_from("abcdef"), st.integers(0, 9)), max_size=5),
        st.data(),
    )
    def test_no_block_is_lost(self, page, moves, data):
        narrow = MobileLayout()
        for name, to in moves:
            narrow = move_block(page, narrow, name, to)
            self.assertEqual(order(narrow, page)[min(to, 5)], name)
        other = data.draw(st.permutations("abcxyz"))
        self.assertEqual(sorted(order(narrow, other)), sorted(other))

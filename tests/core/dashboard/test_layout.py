"""Blocks on a page that flows: none is lost, none overlaps another, and what people do has the place it says."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from veduta.core.dashboard.definition import DashboardBlock
from veduta.core.dashboard.grid import COLUMNS
from veduta.core.dashboard.layout import (
    compact,
    even_widths,
    find_bottom,
    find_neighbour,
    find_next_position,
    move_block,
    move_line,
    overlaps,
    put,
    resize_block,
    scale_width,
    stack_blocks,
    swap_blocks,
)

SIDES = ("left", "right", "above", "below", "row_above", "row_below")


def block(name, x=0, y=0, w=6, h=4):
    return DashboardBlock(id=name, kind="text", x=x, y=y, w=w, h=h)


@st.composite
def pages(draw, least=1):
    """Blocks wherever somebody, or a file, has put them, also over one another."""
    count = draw(st.integers(least, 9))
    made = []
    for number in range(count):
        w = draw(st.integers(1, COLUMNS))
        x, y = draw(st.integers(0, COLUMNS - w)), draw(st.integers(0, 12))
        made.append(block(f"b{number}", x, y, w, draw(st.integers(1, 6))))
    return made


def places(blocks):
    return {each.id: (each.x, each.y, each.w, each.h) for each in blocks}


class Whole(unittest.TestCase):
    def check(self, before, after):
        self.assertEqual([each.id for each in after], [each.id for each in before])
        for i, one in enumerate(after):
            self.assertLessEqual(one.x + one.w, COLUMNS)
            for other in after[i + 1 :]:
                self.assertFalse(overlaps(one, other), (one, other))
        for each in after:  # none hangs in the air
            under = [other for other in after if other is not each and other.y + other.h == each.y]
            self.assertTrue(each.y == 0 or any(o.x < each.x + each.w and each.x < o.x + o.w for o in under), each)

    @examples(150)
    @given(pages(least=2), st.data())
    def test_whatever_is_done_no_block_is_lost_or_over_another(self, blocks, data):
        page = compact(blocks)
        self.check(blocks, page)
        self.assertEqual(compact(page), page)
        names = st.sampled_from([each.id for each in page])
        one, other = data.draw(names), data.draw(names)
        number = st.integers(-3, 60)
        for changed in (
            move_block(page, one, data.draw(number), data.draw(number)),
            resize_block(page, one, data.draw(number), data.draw(number)),
            put(page, one, other, data.draw(st.sampled_from(SIDES))),
            even_widths(page, one),
            move_line(page, one, data.draw(st.sampled_from(("right", "below"))), data.draw(number)),
            scale_width(page, data.draw(st.booleans()), 3),
        ):
            self.check(page, changed)
            self.assertEqual(compact(changed), changed)

    @examples(60)
    @given(pages())
    def test_a_narrow_screen_has_them_below_one_another_in_reading_order(self, blocks):
        page = compact(blocks)
        narrow = stack_blocks(page)
        self.check(page, narrow)
        order = [each.id for each in sorted(page, key=lambda each: (each.y, each.x))]
        self.assertEqual([each.id for each in sorted(narrow, key=lambda each: each.y)], order)
        self.assertEqual(find_bottom(narrow), sum(each.h for each in page))


class Places(unittest.TestCase):
    PAGE = (block("a", 0, 0), block("b", 6, 0), block("c", 0, 4, 12, 2))

    def test_a_block_that_is_moved_has_the_place_and_the_others_make_room(self):
        self.assertEqual(
            places(move_block(self.PAGE, "c", 0, 0)), {"a": (0, 2, 6, 4), "b": (6, 2, 6, 4), "c": (0, 0, 12, 2)}
        )
        self.assertEqual(places(move_block(self.PAGE, "a", 6, 0))["a"], (6, 0, 6, 4))
        self.assertEqual(places(move_block(self.PAGE, "a", 6, 0))["b"], (6, 4, 6, 4))

    def test_beside_another_one_it_takes_half_of_its_place(self):
        for side, own, others in (("right", (3, 0, 3, 4), (0, 0, 3, 4)), ("left", (0, 0, 3, 4), (3, 0, 3, 4))):
            with self.subTest(side=side):
                after = places(put(self.PAGE, "c", "a", side))
                self.assertEqual((after["c"], after["a"], after["b"]), (own, others, (6, 0, 6, 4)))
        odd = (block("a", 0, 0, 5), block("b", 5, 0, 7))
        self.assertEqual(places(put(odd, "b", "a", "right")), {"a": (0, 0, 3, 4), "b": (3, 0, 2, 4)})
        self.assertEqual(places(put(odd, "b", "a", "left")), {"a": (2, 0, 3, 4), "b": (0, 0, 2, 4)})

    def test_beside_one_of_a_single_column_it_goes_below(self):
        narrow = (block("a", 0, 0, 1), block("b", 1, 0, 6))
        self.assertEqual(places(put(narrow, "b", "a", "right"))["b"], (0, 4, 1, 4))

    def test_above_and_below_another_one_it_is_as_wide(self):
        self.assertEqual(places(put(self.PAGE, "c", "b", "below"))["c"], (6, 4, 6, 2))
        above = places(put(self.PAGE, "c", "b", "above"))
        self.assertEqual((above["c"], above["b"], above["a"]), ((6, 0, 6, 2), (6, 2, 6, 4), (0, 0, 6, 4)))

    def test_over_the_full_width_it_has_a_row_of_its_own(self):
        page = (block("a", 0, 0, 6, 2), block("b", 6, 0, 6, 5), block("c", 0, 2, 6, 3), block("d", 0, 5, 4, 1))
        below = places(put(page, "d", "a", "row_below"))
        self.assertEqual(below["d"], (0, 5, 12, 1))  # b and c stand beside a, or beside what does
        above = places(put(page, "d", "c", "row_above"))
        self.assertEqual((above["d"], above["a"], above["b"]), ((0, 0, 12, 1), (0, 1, 6, 2), (6, 1, 6, 5)))

    def test_a_row_is_made_even(self):
        row = (block("a", 0, 0, 2, 3), block("b", 2, 0, 7, 5), block("c", 9, 0, 3, 1), block("d", 0, 5, 12, 1))
        self.assertEqual(
            places(even_widths(row, "b")),
            {"a": (0, 0, 4, 5), "b": (4, 0, 4, 5), "c": (8, 0, 4, 5), "d": (0, 5, 12, 1)},
        )

    def test_the_line_between_blocks_moves_for_all_along_it(self):
        page = (block("a", 0, 0, 6, 2), block("b", 6, 0, 6, 4), block("c", 0, 2, 6, 2), block("d", 0, 4, 6, 1))
        after = places(move_line(page, "a", "right", -2))
        self.assertEqual(after, {"a": (0, 0, 4, 2), "b": (4, 0, 8, 4), "c": (0, 2, 4, 2), "d": (0, 4, 6, 1)})
        self.assertEqual(places(move_line(page, "b", "right", 3)), places(page))  # it ends at the edge of the page
        self.assertEqual(places(move_line(page, "a", "right", 20))["b"], (11, 0, 1, 4))
        lower = places(move_line(page, "c", "below", 3))
        self.assertEqual((lower["c"], lower["b"], lower["d"]), ((0, 2, 6, 5), (6, 0, 6, 7), (0, 7, 6, 1)))

    def test_a_heading_over_the_full_width_stays_so(self):
        heading = DashboardBlock(id="h", kind="heading", x=0, y=0, w=12, h=1)
        page = (heading, block("a", 0, 1), block("b", 6, 1))
        self.assertEqual(places(put(page, "h", "b", "left"))["h"], (0, 4, 12, 1))
        self.assertEqual(
            places(put(page, "b", "h", "right")), {"h": (0, 0, 12, 1), "a": (0, 5, 6, 4), "b": (0, 1, 12, 4)}
        )

    def test_a_new_one_goes_beside_the_last_where_there_is_room_and_else_below_all(self):
        def goes(*blocks):
            there = find_next_position(blocks, block("new"))
            return there.x, there.y

        self.assertEqual(goes(), (0, 0))
        self.assertEqual(goes(block("a", h=7)), (6, 0))
        self.assertEqual(goes(block("a"), block("b", 6)), (0, 4))
        self.assertEqual(goes(block("a"), block("b", 6, h=9), block("c", y=4)), (0, 9), "there stands another")
        self.assertEqual(goes(block("a", w=7)), (0, 4))

    def test_two_of_one_width_trade_places(self):
        page = (block("a", 0, 0, 6, 2), block("b", 0, 2, 6, 5), block("c", 6, 0, 6, 7))
        self.assertEqual(find_neighbour(page, "a", down=True).id, "b")
        self.assertIsNone(find_neighbour(page, "a", down=False))
        self.assertEqual(places(swap_blocks(page, "a", "b")), {"a": (0, 5, 6, 2), "b": (0, 0, 6, 5), "c": (6, 0, 6, 7)})

    def test_a_block_that_is_not_there_is_told(self):
        with self.assertRaises(KeyError):
            move_block(self.PAGE, "z", 0, 0)

"""Sheets of paper: where they end follows from their size, and each block that an end would cut is told."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from veduta.core.dashboard.definition import DashboardBlock
from veduta.core.dashboard.layout import compact
from veduta.core.dashboard.print_layout import PrintLayout, count_head_rows, split_into_sheets

HEAD = 3


def block(name, y, h, x=0, w=12):
    return DashboardBlock(id=name, kind="chart", x=x, y=y, w=w, h=h)


class OnSheets(unittest.TestCase):
    PAPER = PrintLayout()  # A4 upright: 297 mm less twice 14 are 1,016 px, which are 17 rows

    def test_a_sheet_has_as_many_rows_as_fit(self):
        self.assertEqual(self.PAPER.rows, 17)
        self.assertEqual(PrintLayout(direction="lying").rows, 12)
        self.assertEqual(PrintLayout(size="A3").rows, 25)
        self.assertEqual(PrintLayout(direction="lying").mm, (297, 210))

    def test_what_would_be_cut_is_told_with_the_room_that_is_left(self):
        page = [block("a", 0, 8), block("b", 8, 8), block("c", 16, 5)]
        found = split_into_sheets(page, self.PAPER, (), (), HEAD)
        self.assertEqual((found.begins, found.cut), ((14,), {"b": 6}))
        self.assertEqual(split_into_sheets(page, self.PAPER, (), {"b"}, HEAD).cut, {})

    def test_a_block_begins_a_new_sheet_by_hand(self):
        page = [block("a", 0, 8), block("b", 8, 8), block("c", 16, 5)]
        found = split_into_sheets(page, self.PAPER, {"b"}, (), HEAD)
        self.assertEqual((found.begins, found.cut), ((8,), {}))

    def test_what_is_higher_than_a_sheet_goes_on_anyway(self):
        found = split_into_sheets([block("a", 0, 40)], self.PAPER, (), (), HEAD)
        self.assertEqual((found.begins, found.cut), ((14, 31), {}))

    def test_a_long_trail_takes_more_of_the_first_sheet(self):
        # Seen in a browser: 117 px with these three parts, 196 px with a fourth that takes two lines.
        trail = ["Sailing date: the last 12 months", "Region: all", "Vessel: all"]
        self.assertEqual(count_head_rows([], self.PAPER), 3)
        self.assertEqual(count_head_rows(trail, self.PAPER), 3)
        self.assertEqual(count_head_rows([*trail, "Vessel: " + "Greenshank, " * 9], self.PAPER), 4)
        self.assertEqual(count_head_rows([*trail, "Vessel: " + "Greenshank, " * 60], self.PAPER), 7)

    @examples(80)
    @given(
        st.lists(st.tuples(st.integers(0, 11), st.integers(1, 12), st.integers(0, 30), st.integers(1, 20)), max_size=9)
    )
    def test_ends_are_never_farther_apart_than_a_sheet(self, places):
        blocks = [block(f"b{i}", y, h, x, min(w, 12 - x)) for i, (x, w, y, h) in enumerate(places)]
        page = compact(blocks)
        found = split_into_sheets(page, self.PAPER, [each.id for each in page[::2]], (), HEAD)
        last = 0
        for begin in found.begins:
            self.assertLessEqual(begin - last, self.PAPER.rows if last else self.PAPER.rows - HEAD)
            self.assertGreater(begin, last)
            last = begin
        for name, left in found.cut.items():
            self.assertLess(left, next(each.h for each in page if each.id == name))

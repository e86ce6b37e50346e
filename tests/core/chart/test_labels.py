"""Which marks are labelled, and that names where lines end do not touch."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from tests.core.chart.test_kinds import MEASURES, MONTH, drawn, row, validator
from veduta.core.chart.drawing.labels import MOST_NAMED_ENDS, MOST_NEAR, choose, note_ends, set_apart
from veduta.core.chart.drawing.marks import Mark

VALUES = st.lists(st.none() | st.floats(-1e6, 1e6), min_size=1, max_size=12)
ROWS = [row(i) for i in range(120)]


def line(values: list, series: str = "a") -> list[Mark]:
    return [Mark(i, str(i), series, value, "", [], "x", [i]) for i, value in enumerate(values)]


class Choosing(unittest.TestCase):
    @given(VALUES, VALUES)
    def test_those_that_are_asked_for_of_each_series(self, first, second):
        made = line(first, "a") + line(second, "b")
        for series, values in (("a", first), ("b", second)):
            there = [value for value in values if value is not None]

            def chosen(which, series=series):
                return [mark.value for mark in choose(made, which) if mark.series == series]

            self.assertEqual(chosen("all"), there)
            self.assertEqual(set(chosen("ends")), {*there[:1], *there[-1:]})
            self.assertEqual(set(chosen("extremes")), {max(there), min(there)} if there else set())

    def test_names_of_some_lines_stand_at_their_ends_from_the_highest_down(self):
        lines = [mark for i in range(5) for mark in line([0, (i * 7) % 5], f"line {i}")]
        self.assertTrue(note_ends(lines))
        ends = sorted((mark for mark in lines if mark.more["end"]), key=lambda mark: mark.more["end_rank"])
        self.assertEqual([mark.value for mark in ends], [4, 3, 2, 1, 0])
        self.assertEqual([ends[3].more[f"end{i}"] for i in range(4)], [4, 3, 2, 1])
        self.assertEqual([mark.more["end_below"] for mark in ends], [4, 3, 2, 1, 0])
        many = [mark for i in range(MOST_NAMED_ENDS + 1) for mark in line([i], f"line {i}")]
        self.assertFalse(note_ends(many))

    @given(st.lists(st.floats(-1e6, 1e6), min_size=1, max_size=40))
    def test_the_highest_is_labelled_and_others_know_those_that_go_before_them(self, values):
        made = line(values)
        for mark in made:
            mark.more |= {"wide": 40, "labelled": 1}
        set_apart(made, made, "name")
        highest = max(made, key=lambda mark: mark.value)
        self.assertEqual(highest.more["labelled"], 1)
        self.assertNotIn("near0_x", highest.more)
        for mark in made:
            near = [mark.more[f"near{i}_y"] for i in range(MOST_NEAR) if f"near{i}_y" in mark.more]
            self.assertTrue(all(value >= mark.value for value in near))


class Drawn(unittest.TestCase):
    def spec(self, **parts) -> dict:
        drawing = drawn({"show": MEASURES[:1], "by": [MONTH], **parts}, ROWS).drawing
        self.assertTrue(validator("vega-lite").is_valid(drawing.spec))
        return drawing.spec

    def texts(self, spec: dict) -> list[dict]:
        return [part for part in spec.get("layer", ()) if part["mark"].get("type") == "text"]

    def test_values_are_drawn_only_if_they_are_asked_for(self):
        for kind in ("bar", "line"):
            self.assertEqual(self.texts(self.spec(kind=kind)), [])
            self.assertEqual(len(self.texts(self.spec(kind=kind, settings={"labels": "extremes"}))), 1)
        self.assertEqual(self.texts(self.spec(kind="lying", by=["route"], settings={"labels": "none"})), [])
        self.assertEqual(len(self.texts(self.spec(kind="lying", by=["route"]))), 2)

    def test_names_at_the_ends_take_the_place_of_the_legend_if_they_are_not_many(self):
        parts = {"kind": "line", "show": MEASURES[:1], "by": [MONTH], "settings": {"names": "ends"}}
        for split, has_legend in (("region", False), ({"field": "passengers", "width": 2}, True)):
            spec = drawn({**parts, "split": split}, ROWS).drawing.spec
            self.assertEqual(len(self.texts(spec)), int(not has_legend))
            legends = [part["encoding"]["color"].get("legend") for part in spec["layer"] if "color" in part["encoding"]]
            self.assertEqual(any(legends), has_legend)


if __name__ == "__main__":
    unittest.main()

"""Names that values have in a chart."""

from __future__ import annotations

import unittest

from tests.core.chart.test_charts import FARE, ROWS, asked, chart
from tests.core.support import sailings
from veduta.core.chart.edits import apply_edit
from veduta.core.errors import DefinitionProblem

NAMES = {"names": [{"field": "region", "value": "North Reach", "name": "The north"}]}


class Names(unittest.TestCase):
    def test_a_value_is_called_so_in_marks_legends_cells_titles_and_panels(self):
        asks = {"show": [FARE], "by": ["region"], "look": NAMES}
        drawing = asked(chart(**asks, kind="bar")).drawing
        self.assertIn("The north", {row["name"] for row in drawing.rows})
        self.assertIn(["North Reach"], [row["point"] for row in drawing.rows])  # it still is what it is
        table = asked(chart(**asks, kind="table")).drawing.table
        self.assertIn("The north", [row[0].text for row in table.rows])
        first = {"by": "own", "values": ["North Reach"]}
        self.assertEqual(asked(chart(**asks, title="{first}", sort=first)).title, "The north")
        split = asked(chart(show=[FARE], by=["route"], split="region", kind="bar", look=NAMES))
        self.assertIn(("The north", "North Reach"), split.series)
        panels = asked(chart(show=[FARE], by=["route"], panels={"by": ["region"]}, kind="bar", look=NAMES))
        self.assertIn("The north", str(panels.drawing.spec))

    def test_its_colour_stays(self):
        asks = {"show": [FARE], "by": ["route"], "split": "region", "kind": "bar"}
        drawn = [asked(chart(**asks, **look)).drawing.spec for look in ({}, {"look": NAMES})]
        scales = [spec["encoding"]["color"]["scale"] for spec in drawn]
        plain, named = (dict(zip(each["domain"], each["range"], strict=True)) for each in scales)
        self.assertEqual(named["The north"], plain["North Reach"])

    def test_parts_of_dates_and_empties_have_names(self):
        rows = [row | {"region": None} for row in ROWS]
        look = {"names": [{"field": "region", "value": None, "name": "At sea"}]}
        self.assertEqual(
            asked(chart(show=[FARE], by=["region"], kind="bar", look=look), rows).drawing.rows[0]["name"], "At sea"
        )
        weekday = {"field": "sailed", "grain": "weekday"}
        look = {"names": [{"field": "sailed weekday", "value": "1", "name": "First of the week"}]}
        drawn = asked(chart(show=[FARE], by=[weekday], kind="bar", look=look)).drawing.rows
        self.assertIn("First of the week", [row["name"] for row in drawn])

    def test_two_values_cannot_be_called_the_same(self):
        definition = chart(show=[FARE], by=["region"], look=NAMES)
        with self.assertRaises(DefinitionProblem) as caught:
            change = {"edit": "name_value", "clause": "by", "value": "Inner Sound", "name": "The north"}
            apply_edit(definition, sailings(ROWS), change)
        self.assertIn("Another value is called The north", caught.exception.message)
        cleared = {"edit": "name_value", "clause": "by", "value": "North Reach", "name": ""}
        self.assertEqual(apply_edit(definition, sailings(ROWS), cleared).look.names, ())

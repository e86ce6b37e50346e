"""Crosstabs with several dimensions and measures on both sides, against plain loops."""

import datetime as dt
import itertools
import unittest

from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.chart.test_charts import MONTH, asked, chart
from tests.core.support import sailings
from veduta.core.chart.definition import list_sorted_columns, sort_of_column
from veduta.core.chart.edits import apply_edit
from veduta.core.number_format import EMPTY

FARE = {"field": "fare", "aggregate": "sum", "format": {"decimals": 0}}
PASSENGERS = {"field": "passengers", "aggregate": "sum"}
YEAR = {"field": "sailed", "grain": "year"}
SAILINGS = st.lists(
    st.fixed_dictionaries(
        {
            "region": st.sampled_from(["A", "B", None]),
            "route": st.sampled_from(["x", "y", "z"]),
            "sailed": st.sampled_from([dt.date(2025, 12, 31), dt.date(2026, 1, 1), dt.date(2026, 2, 28)]),
            "fare": st.integers(-50, 50),
            "passengers": st.integers(0, 9),
        }
    ),
    max_size=14,
)
WORDS = {None: "(empty)"}


def row(region, route, day, fare, passengers=1):
    return {"region": region, "route": route, "sailed": day, "fare": float(fare), "passengers": passengers}


ROWS = [
    row("A", "x", dt.date(2025, 3, 1), 10),
    row("A", "y", dt.date(2025, 3, 1), 5),
    row("A", "x", dt.date(2026, 3, 1), 1),
    row("A", "y", dt.date(2026, 4, 1), 30),
    row("B", "x", dt.date(2026, 3, 1), 7),
]


def table(rows=ROWS, **parts):
    return asked(chart(kind="crosstab", **{"show": [FARE], **parts}), rows).drawing.table


def texts(lines):
    return [[cell.text for cell in line] for line in lines]


def grid(lines):
    """The headings as they stand over the columns: each in all columns and rows that it spans."""
    found: list[dict[int, str]] = [{} for _ in lines]
    for at, line in enumerate(lines):
        column = 0
        for cell in line:
            while column in found[at]:
                column += 1
            for below in range(cell.rows):
                for beside in range(cell.span):
                    found[at + below][column + beside] = cell.text
            column += cell.span
    return [[line[i] for i in sorted(line)] for line in found]


class Laid(unittest.TestCase):
    def test_two_dimensions_across_with_subtotals_of_both_sides(self):
        shown = table(by=["region", "route", YEAR], split=MONTH, settings={"across": "2"}, totals="all")
        self.assertEqual(
            grid(shown.headings),
            [
                ["Region", "Route", "2025", "2025", "2026", "2026", "2026", "Total"],
                ["Region", "Route", "Mar 2025", "Total 2025", "Mar 2026", "Apr 2026", "Total 2026", "Total"],
            ],
        )
        self.assertEqual(
            texts(shown.rows),
            [
                ["A", "x", "10", "10", "1", EMPTY, "1", "11"],
                ["A", "y", "5", "5", EMPTY, "30", "30", "35"],
                ["Total A", "15", "15", "1", "30", "31", "46"],
                ["B", "x", EMPTY, EMPTY, "7", EMPTY, "7", "7"],
                ["Total B", EMPTY, EMPTY, "7", EMPTY, "7", "7"],
            ],
        )
        self.assertEqual(texts(shown.totals), [["Total", "15", "15", "8", "30", "38", "53"]])
        self.assertEqual(shown.depths, [0, 0, 1, 0, 1])

    def test_measures_stand_below_one_another(self):
        shown = table(by=["region"], split=YEAR, show=[FARE, PASSENGERS], settings={"measures": "down"})
        self.assertEqual(grid(shown.headings), [["Region", "", "2025", "2026", "Total"]])
        self.assertEqual(
            texts(shown.rows),
            [
                ["A", "Fare", "15", "31", "46"],
                ["", "Passengers", "2", "2", "4"],
                ["B", "Fare", EMPTY, "7", "7"],
                ["", "Passengers", EMPTY, "1", "1"],
            ],
        )
        self.assertEqual(texts(shown.totals), [["Total", "Fare", "15", "38", "53"], ["", "Passengers", "2", "3", "5"]])

    def test_totals_stand_where_they_are_asked_for(self):
        for sides, beside, below in (("both", 1, 1), ("right", 1, 0), ("below", 0, 1), ("none", 0, 0)):
            with self.subTest(sides=sides):
                shown = table(by=["region"], split=YEAR, settings={"totals": sides})
                self.assertEqual((len(shown.rows[0]), len(shown.totals)), (3 + beside, below))

    def test_subtotals_stand_above_and_what_is_repeated_is_marked(self):
        look = {"table": {"subtotals": "above", "blank": True}}
        for kind, split in (("crosstab", {"split": YEAR}), ("table", {})):
            with self.subTest(kind=kind):
                drawn = asked(
                    chart(kind=kind, show=[FARE], by=["region", "route"], totals="all", look=look, **split), ROWS
                )
                lines = drawn.drawing.table.lines
                self.assertEqual([line.headings[0].text for line in lines], ["Total A", "A", "A", "Total B", "B"])
                self.assertEqual([line.depth for line in lines], [1, 0, 0, 1, 0])
                self.assertEqual([line.headings[0].repeated for line in lines], [False, False, True, False, False])

    def test_the_rows_behind_totals_are_named_by_the_first_dimensions(self):
        shown = table(by=["region", "route"], split=YEAR, totals="all")
        self.assertEqual(shown.rows[0][2].point, ["A", "x", "2025-01-01"])
        self.assertEqual([shown.rows[0][-1].behind, shown.rows[2][-1].behind], [["A", "x"], ["A"]])
        self.assertEqual([shown.totals[0][1].behind, shown.totals[0][-1].behind], [None, []])


class Sorted(unittest.TestCase):
    def test_rows_go_by_the_values_of_one_column_on_each_level(self):
        sort = {"by": "measure", "measure": FARE, "descending": True, "at": ["2026-01-01"]}
        shown = table(by=["region", "route"], split=YEAR, sort=sort)
        self.assertEqual([line[:2] for line in texts(shown.rows)], [["A", "y"], ["A", "x"], ["B", "x"]])
        up = table(by=["region", "route"], split=YEAR, sort={**sort, "descending": False})
        self.assertEqual([line[:2] for line in texts(up.rows)], [["B", "x"], ["A", "x"], ["A", "y"]])
        before = table(by=["region", "route"], split=YEAR, sort={**sort, "at": ["2025-01-01"]})
        self.assertEqual([line[:2] for line in texts(before.rows)], [["A", "x"], ["A", "y"], ["B", "x"]])

    def test_a_heading_sorts_by_its_column_and_says_so(self):
        definition = chart(kind="crosstab", show=[FARE], by=["region"], split=YEAR)
        model_sorted = apply_edit(
            definition,
            None,
            {"edit": "sort_by_column", "column": table(by=["region"], split=YEAR).headings[0][2].sorts},
        )
        self.assertEqual((model_sorted.sort.at, model_sorted.sort.descending), (("2026-01-01",), True))
        answered = asked(model_sorted, ROWS)
        self.assertIn("sorted by fare of 2026, highest first", answered.sentence)
        shown = answered.drawing.table
        self.assertEqual([cell.sorted for cell in shown.headings[0]], ["", "", "descending", ""])
        self.assertEqual(sort_of_column(definition, shown.headings[0][2].sorts).descending, False)
        self.assertEqual(list_sorted_columns(model_sorted, model_sorted.sort), {'m0@["2026-01-01"]': True})

    def test_a_place_goes_with_its_dimension_and_one_that_cannot_be_is_left_alone(self):
        sort = {"by": "measure", "measure": FARE, "at": ["2026-01-01"]}
        definition = chart(kind="crosstab", show=[FARE], by=["region"], split=YEAR, sort=sort)
        other = {"edit": "set_group", "clause": "split", "index": 0, "field": "route"}
        changed = apply_edit(definition, sailings(ROWS), other)
        self.assertEqual((changed.split.field, changed.sort.by, changed.sort.at), ("route", "measure", ()))
        strange = definition.model_copy(update={"sort": definition.sort.model_copy(update={"at": ("soon",)})})
        self.assertEqual(len(asked(strange, ROWS).drawing.table.rows), 2)

    def test_a_place_that_is_gone_leaves_the_order(self):
        sort = {"by": "measure", "measure": FARE, "descending": True, "at": ["1999-01-01"]}
        self.assertEqual([line[0] for line in texts(table(by=["region"], split=YEAR, sort=sort).rows)], ["A", "B"])

    def test_strange_columns_sort_nothing(self):
        definition = chart(show=[FARE], by=["region"], split=YEAR)
        for column in ("m0@", "m0@nonsense", 'm0@{"a": 1}', "m0@[[1]]", "m9@[]", "x"):
            with self.subTest(column=column):
                self.assertIn(sort_of_column(definition, column), (None, sort_of_column(definition, "m0")))


class AgainstLoops(unittest.TestCase):
    @examples(80)
    @given(SAILINGS, st.sampled_from(["1", "2"]), st.booleans(), st.sampled_from([None, True, False]))
    def test_every_cell_is_the_sum_of_its_rows(self, rows, across, subtotals, descending):
        rows = [each | {"fare": float(each["fare"])} for each in rows]
        sort = None if descending is None else {"by": "measure", "measure": FARE, "descending": descending}
        parts = {"by": ["region", "route"], "split": YEAR, "settings": {"across": across}}
        shown = table(rows, show=[FARE, PASSENGERS], totals="all" if subtotals else "", sort=sort, **parts)
        if not rows:
            self.assertEqual(shown.rows, [])
            return
        depth = 3 - int(across)
        said = [
            (WORDS.get(each["region"], each["region"]), each["route"], str(each["sailed"].year), each) for each in rows
        ]
        columns = [line[depth:] for line in grid(shown.headings)]
        headings = list(zip(*columns, strict=True))
        for line in [*shown.rows, *shown.totals]:
            words = [cell.text for cell in line]
            values = words[len(words) - len(headings) :]
            outer = words[: len(words) - len(headings)]
            down = [name.removeprefix("Total ") for name in outer if name not in ("", "Total")]
            for value, heading in zip(values, headings, strict=True):
                *places, measure = heading
                over = list(dict.fromkeys(name.removeprefix("Total ") for name in places if name != "Total"))
                field = "fare" if measure == "Fare" else "passengers"
                mine = [
                    each[field]
                    for *key, each in said
                    if key[: len(down)] == down and key[depth : depth + len(over)] == over
                ]
                self.assertEqual(value, f"{sum(mine):,.0f}".replace("-", "−") if mine else EMPTY, (line, heading))

    @examples(60)
    @given(SAILINGS, st.booleans())
    def test_rows_are_in_the_order_of_their_totals(self, rows, descending):
        rows = [each | {"fare": float(each["fare"])} for each in rows]
        sort = {"by": "measure", "measure": FARE, "descending": descending}
        shown = table(rows, by=["region", "route"], split=YEAR, sort=sort)
        keys = [tuple(cell.text for cell in line[:2]) for line in shown.rows]

        def total(*key):
            named = [(WORDS.get(each["region"], each["region"]), each["route"], each["fare"]) for each in rows]
            return sum(fare for *own, fare in named if tuple(own[: len(key)]) == key)

        for before, after in itertools.pairwise(keys):
            level = 1 if before[0] != after[0] else 2
            if level == 1 and "(empty)" in (before[0], after[0]):
                self.assertEqual(after[0], "(empty)")
            else:
                a, b = total(*before[:level]), total(*after[:level])
                self.assertTrue(a >= b if descending else a <= b, keys)

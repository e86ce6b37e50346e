"""What of a chart is other in one block only."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from tests.core.support import one_page
from veduta.core.chart.definition import ChartDefinition, load_definition
from veduta.core.chart.look import Look
from veduta.core.chart.merging import LOOK, PARTS
from veduta.core.dashboard.changes import list_changes
from veduta.core.dashboard.chart_overrides import (
    apply_overrides,
    find_overrides,
    list_overridden_texts,
    make_block_chart,
    make_chart_to_change,
)
from veduta.core.dashboard.definition import DashboardBlock, load_dashboard
from veduta.core.dashboard.edits import apply_edit
from veduta.core.errors import DefinitionProblem

NORTH = {"kind": "list", "field": "c3", "values": ["North Reach"]}
CHART = load_definition(
    {"dataset": "d", "title": "Fares", "show": [{"field": "c1", "aggregate": "sum"}], "by": [{"field": "c2"}]}
)
BLOCK = DashboardBlock(id="fares", kind="chart", chart="1")
SOME_PARTS = {
    "kind": "line",
    "only": [NORTH],
    "keep": {"count": 3, "by": {"field": "c1", "aggregate": "sum"}},
    "totals": "all",
    "own_colours": True,
    "look.legend": {"place": "bottom"},
    "look.labels": {"says": "both"},
}


def changed(chart: ChartDefinition, **parts) -> ChartDefinition:
    return load_definition(chart.model_dump(mode="json") | parts)


class Own(unittest.TestCase):
    def test_every_part_of_a_chart_but_its_data_and_texts_can_be_other(self):
        texts = {"title", "note", "foot"}
        self.assertEqual(
            set(PARTS),
            set(ChartDefinition.model_fields) - {"version", "dataset", "look"} - texts
            | {f"{LOOK}{part}" for part in Look.model_fields},
        )

    def test_only_what_differs_is_kept(self):
        here = changed(CHART, kind="line", only=[NORTH], look={"legend": {"place": "bottom"}})
        own = find_overrides(CHART, here)
        self.assertEqual(list(own), ["kind", "only", "look.legend"])
        self.assertEqual(apply_overrides(CHART, own), here)
        self.assertEqual(find_overrides(CHART, CHART), {})

    @given(st.sets(st.sampled_from(sorted(SOME_PARTS))), st.sets(st.sampled_from(sorted(SOME_PARTS))))
    def test_what_is_kept_gives_the_same_chart_and_the_rest_comes_along(self, here_only: set[str], later: set[str]):
        here = apply_overrides(CHART, {part: SOME_PARTS[part] for part in here_only})
        own = find_overrides(CHART, here)
        self.assertEqual(set(own), here_only)
        self.assertEqual(apply_overrides(CHART, own), here)
        chart = apply_overrides(CHART, {part: SOME_PARTS[part] for part in later})
        self.assertEqual(
            set(find_overrides(CHART, apply_overrides(chart, own))),
            here_only | later,
            "later changes of the chart come along",
        )

    def test_texts_are_the_blocks_own(self):
        here = changed(CHART, title="Fares of the north", note="By port", only=[NORTH])
        self.assertEqual(
            list_overridden_texts(CHART, here), {"title": "Fares of the north", "subtitle": "By port", "note": ""}
        )
        edit = {
            "edit": "set_own",
            "block": "fares",
            "own": find_overrides(CHART, here),
            **list_overridden_texts(CHART, here),
        }
        definition = apply_edit(load_dashboard(one_page({"id": "fares", "kind": "chart", "chart": "1"})), edit)
        block = definition.find_block("fares")
        self.assertEqual(make_chart_to_change(CHART, block), here)
        self.assertEqual(make_block_chart(CHART, block), here)

    def test_what_does_not_fit_any_more_says_where_to_take_it_away(self):
        with self.assertRaisesRegex(DefinitionProblem, "does not fit this chart any more") as caught:
            apply_overrides(CHART, {"only": [{"kind": "no such filter"}]})
        self.assertIn("Change it here only", caught.exception.hint)

    def test_a_chart_of_other_data_is_refused(self):
        with self.assertRaisesRegex(DefinitionProblem, "other data"):
            find_overrides(CHART, changed(CHART, dataset="e"))

    def test_unknown_parts_and_blocks_without_a_chart_are_refused(self):
        definition = load_dashboard(
            one_page(
                {"id": "fares", "kind": "chart", "chart": "1"}, {"id": "said", "kind": "text", "text": "x", "y": 4}
            )
        )
        for edit, words in (
            ({"edit": "set_own", "block": "fares", "own": {"dataset": "e"}}, "no part “dataset”"),
            ({"edit": "set_own", "block": "said", "own": {}}, "no chart"),
            ({"edit": "drop_own", "block": "said"}, "no chart"),
            ({"edit": "drop_own", "block": "gone"}, "not there any more"),
        ):
            with self.subTest(edit), self.assertRaisesRegex(DefinitionProblem, words):
                apply_edit(definition, edit)

    def test_publishing_says_that_the_chart_changes(self):
        before = load_dashboard(one_page({"id": "fares", "kind": "chart", "chart": "1"}))
        after = apply_edit(before, {"edit": "set_own", "block": "fares", "own": {"kind": "line"}})
        self.assertEqual(
            [each.words for each in list_changes(before, after, lambda block: "Fares")], ["its chart changes"]
        )

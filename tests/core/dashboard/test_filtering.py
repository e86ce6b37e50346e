"""What narrows which blocks: scopes, filters of the dashboard, fields of other data, and what a click reaches."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from tests.core.support import SAILING_FIELDS, field
from veduta.core.chart.definition import load_definition
from veduta.core.dashboard.block_filters import BlockFilters, collect_block_filters, collect_parameter_values
from veduta.core.dashboard.definition import DashboardDefinition, Selection, ViewState, load_dashboard
from veduta.core.dashboard.edits import apply_edit
from veduta.core.dashboard.edits.filtering import make_scope
from veduta.core.dashboard.scope import BlockScope
from veduta.core.data.fields import DataType, Schema
from veduta.core.errors import VedutaError
from veduta.core.query.filters import ListFilter, PointsFilter

SAILINGS = Schema(SAILING_FIELDS)
PORTS = Schema([field("Port", DataType.TEXT), field("Sea area", DataType.TEXT)])
SCHEMAS = {"sailings": SAILINGS, "ports": PORTS}
BY_ROUTE, BY_PORT = ({"dataset": name, "by": [by]} for name, by in (("sailings", "route"), ("ports", "port")))
NORTH = {"kind": "list", "field": "region", "values": ["North Reach"]}
FARES = {"kind": "measure", "measure": {"field": "fare", "aggregate": "sum"}, "low": 100}
LATE = {
    "id": "late", "kind": "parameter", "dataset": "sailings", "field": "late_after", "field_kind": "whole",
    "name": "Late after", "parameter": {"set": [5]},
}  # fmt: skip
REGION = {
    "id": "region", "kind": "list", "dataset": "sailings", "field": "region", "field_kind": "text", "name": "Region",
    "list": {"values": ["North Reach"]},
}  # fmt: skip


def dashboard(**parts) -> DashboardDefinition:
    """Blocks a and b on the first page, c and one of other data (p) on the second."""

    def block(name: str, y: int) -> dict:
        return {"id": name, "kind": "chart", "chart": name, "y": y}

    pages = [
        {"id": "one", "name": "One", "blocks": [block("a", 0), block("b", 4)]},
        {"id": "two", "name": "Two", "blocks": [block("c", 0), block("p", 4)]},
    ]
    return load_dashboard({"version": 2, "pages": pages, **parts})


def of_schema(dataset: str) -> Schema:
    if dataset not in SCHEMAS:
        raise VedutaError("That dataset does not exist any more.")
    return SCHEMAS[dataset]


def following(definition: DashboardDefinition, block: str, state: ViewState | None = None) -> BlockFilters:
    charts = {name: load_definition(BY_PORT if name == "p" else BY_ROUTE) for name in "abcp"}
    schema = SCHEMAS[charts[block].dataset]
    source = {name: (chart, SCHEMAS[chart.dataset]) for name, chart in charts.items()}

    def source_of(selection: Selection):
        return source.get(selection.block)

    return collect_block_filters(block, charts[block], schema, definition, state or ViewState(), source_of, of_schema)


def narrowed(definition: DashboardDefinition, state: ViewState | None = None) -> str:
    """The blocks that something narrows."""
    return "".join(name for name in "abcp" if following(definition, name, state).filters)


class Scopes(unittest.TestCase):
    def test_what_narrows_the_dashboard_reaches_into_a_question_that_follows_it(self):
        top = {"kind": "member", "field": "route", "keep": {"count": 5, "by": {"field": "fare", "aggregate": "sum"}}}
        for follows in (True, False):
            fixed = {"id": "top", "dataset": "sailings", "filter": top | {"follows": follows}}
            asked, region = following(dashboard(filters=[fixed], controls=[REGION]), "a").filters
            self.assertEqual(asked.filters, (region,) if follows else ())
            self.assertFalse(asked.follows, "what the chart narrows itself does not reach into it")

    def test_a_control_and_a_filter_reach_what_they_are_set_to(self):
        for scope, reached in (
            ({}, "abc"),
            ({"of": "pages", "names": ["two"]}, "c"),
            ({"of": "blocks", "names": ["a", "c"]}, "ac"),
            ({"of": "but", "names": ["a"]}, "bc"),
            ({"of": "none"}, ""),
        ):
            with self.subTest(scope):
                self.assertEqual(narrowed(dashboard(controls=[{**REGION, "scope": scope}])), reached)
                fixed = {"id": "f", "dataset": "sailings", "filter": NORTH, "scope": scope}
                self.assertEqual(narrowed(dashboard(filters=[fixed])), reached)

    def test_a_block_that_is_not_reached_says_so_and_does_not_lack_the_field(self):
        found = following(dashboard(controls=[{**REGION, "scope": {"of": "none"}}]), "a")
        (said,) = found.narrowings
        self.assertEqual((said.name, said.words, said.why_not), ("Region", "North Reach", "it is set not to"))
        self.assertEqual(found.not_followed, [])

    def test_other_data_says_whether_it_has_no_such_field_or_is_set_not_to_follow(self):
        for fields, why in (({}, "its data has no field like “Region”"), ({"ports": ""}, "its data is set not to")):
            for part in (
                {"controls": [{**REGION, "name": "Region", "fields": fields}]},
                {"filters": [{"id": "f", "dataset": "sailings", "filter": NORTH, "fields": fields}]},
            ):
                with self.subTest(**part):
                    (said,) = following(dashboard(**part), "p").narrowings
                    self.assertEqual((said.why_not, said.lacks), (why, True))

    def test_parameters_are_set_where_their_control_reaches(self):
        definition = dashboard(controls=[{**LATE, "scope": {"of": "pages", "names": ["two"]}}])
        self.assertEqual(collect_parameter_values(definition, ViewState(), "sailings", "c"), {"late_after": [5]})
        self.assertEqual(collect_parameter_values(definition, ViewState(), "sailings", "a"), {})

    @given(st.sets(st.sampled_from("abcp")), st.lists(st.tuples(st.sampled_from("abcp"), st.booleans()), max_size=6))
    def test_ticking_blocks_one_by_one_gives_the_scope_of_those_that_are_ticked(self, first: set[str], ticks):
        there = set("abcp")
        definition = dashboard(controls=[REGION])
        edit = {"edit": "set_scope", "narrows": "region", "scope": make_scope(first, there).model_dump()}
        definition, wanted = apply_edit(definition, edit), set(first)
        for block, follows in ticks:
            edit = {"edit": "set_follows", "narrows": "region", "block": block, "follows": follows}
            definition = apply_edit(definition, edit)
            wanted = wanted | {block} if follows else wanted - {block}
        scope = definition.controls[0].scope
        found = {each.id for page in definition.pages for each in page.blocks if scope.has(page.id, each.id)}
        self.assertEqual(found, wanted)
        self.assertEqual(
            scope.has("new", "later"), len(there - wanted) <= len(wanted) and bool(wanted), "as most blocks are"
        )


class OfTheDashboard(unittest.TestCase):
    def test_a_filter_is_a_charts_own_whatever_its_kind(self):
        definition = dashboard(filters=[{"id": "f", "dataset": "sailings", "filter": FARES}])
        (made,) = following(definition, "a").filters
        self.assertEqual((made.kind, made.low), ("measure", 100))
        (said,) = following(definition, "p").narrowings
        self.assertEqual(said.why_not, "it is about measures of other data")

    def test_other_data_follow_by_the_field_that_is_set(self):
        for parts, kept in (
            ({}, []),
            ({"fields": {"ports": "sea_area"}}, ["sea_area"]),
            ({"fields": {"ports": ""}}, []),
        ):
            for narrows in (
                {"controls": [{**REGION, **parts}]},
                {"filters": [{"id": "f", "dataset": "sailings", "filter": NORTH, **parts}]},
            ):
                with self.subTest(narrows):
                    found = following(dashboard(**narrows), "p")
                    self.assertEqual([each.field for each in found.filters], kept)
                    self.assertEqual(found.not_followed != [], not kept)

    def test_one_whose_data_or_field_is_gone_narrows_nothing(self):
        gone = {"kind": "list", "field": "tide", "values": ["High"]}
        for dataset, filter_ in (("moons", NORTH), ("sailings", gone)):
            definition = dashboard(filters=[{"id": "f", "dataset": dataset, "filter": filter_}])
            self.assertEqual(narrowed(definition), "")


class Clicks(unittest.TestCase):
    CLICKED = ViewState(selections=(Selection(block="a", points=(("Merrin–Outer Light",),)),))

    def test_a_click_reaches_what_its_block_is_set_to_reach(self):
        self.assertEqual(narrowed(dashboard(), self.CLICKED), "bc")
        edit = {"edit": "set_reach", "block": "a", "reaches": {"of": "but", "names": ["b"]}}
        definition = apply_edit(dashboard(), edit)
        self.assertEqual(narrowed(definition, self.CLICKED), "c")
        (said,) = following(definition, "b", self.CLICKED).narrowings
        self.assertEqual(said.why_not, "a click there is set not to reach it")

    def test_where_it_only_highlights_nothing_is_left_out(self):
        definition = apply_edit(dashboard(), {"edit": "set_reach", "block": "a", "highlights": ["b"]})
        found = following(definition, "b", self.CLICKED)
        self.assertEqual(found.filters, [])
        (made,) = found.highlights
        self.assertIsInstance(made, PointsFilter)
        self.assertEqual(narrowed(definition, self.CLICKED), "c")

    def test_a_control_holds_where_a_click_only_highlights(self):
        definition = apply_edit(dashboard(controls=[REGION]), {"edit": "set_reach", "block": "a", "highlights": ["b"]})
        found = following(definition, "b", self.CLICKED)
        self.assertEqual(found.filters, [ListFilter(field="region", values=("North Reach",))])
        self.assertEqual(len(found.highlights), 1)


class ScopesByThemselves(unittest.TestCase):
    def test_what_comes_later_is_reached_where_most_are(self):
        self.assertTrue(make_scope({"a", "b"}, {"a", "b", "c"}).has("one", "new"))
        self.assertFalse(make_scope({"a"}, {"a", "b", "c"}).has("one", "new"))
        self.assertEqual(make_scope({"a"}, {"a"}), BlockScope())

"""Blocks that are drilled as they are read, and charts as they are made."""

from __future__ import annotations

import json
import re

from tests.web.dashboard_support import DashboardTest
from veduta.web.modelling.changes import change_model
from veduta.web.modelling.services import load_model_for


class Drilling(DashboardTest):
    def setUp(self):
        super().setUp()
        path = {"name": "Where", "fields": [self.ids["region"], self.ids["route"]]}
        self.dataset = change_model(self.analyst, self.dataset, "save_path", path, self.dataset.model_revision)
        self.free = {"controls": {"date": None}}
        self.down = {"to": {"field": self.ids["route"]}}
        self.into = {**self.down, "into": ["North Reach"]}

    def drilled(self, *steps, **more):
        return {**self.free, "drills": {"bars": list(steps)}, **more}

    def data(self, state, block="bars", **query):
        return self.block(block, state=state, **query).json()

    def routes(self, region: str) -> set[str]:
        return {route for each, route in self.sailed() if each == region}

    def sailed(self) -> list[tuple[str, str]]:
        """The region and the route of every sailing."""
        fields = [self.ids["region"], self.ids["route"]]
        return load_model_for(self.dataset, self.analyst).scan(fields).select(fields).collect().rows()


class Reading(Drilling):
    def test_a_block_says_where_it_leads(self):
        data = self.data(self.free)["drill"]
        self.assertEqual([(way["from"], way["to"], way["down"]) for way in data["ways"]], [("Region", "route", True)])
        self.assertEqual((data["steps"], data["crumbs"]), ([], ""))

    def test_down_into_a_value_its_parts_are_shown(self):
        data = self.data(self.drilled(self.into))
        self.assertEqual({row["name"] for row in data["rows"]}, self.routes("North Reach"))
        self.assertIn("North Reach", data["drill"]["crumbs"])
        self.assertEqual(
            data["drill"]["within"],
            [[{"field": self.ids["region"]}, "North Reach"]],
        )
        self.assertEqual(self.data(self.drilled(self.into), "count"), self.data(self.free, "count"), "others stay")

    def test_the_block_that_is_drilled_can_be_asked_for_alone(self):
        state = json.dumps(self.drilled(self.into))
        answer = self.look("dashboard-blocks", self.dashboard.pk, v=state, only="bars")
        lines = [json.loads(line) for line in b"".join(answer.streaming_content).split(b"\n") if line.strip()]
        self.assertIn("North Reach by route", lines[0]["trail"])
        (block,) = [line["block"] for line in lines if "block" in line]
        self.assertEqual((block, [list(line) for line in lines if "control" in line]), ("bars", []))

    def test_the_trail_says_it_and_it_leads_back(self):
        page = self.look("dashboard", self.dashboard.pk, v=json.dumps(self.drilled(self.into)))
        self.assertContains(page, "North Reach by route")
        self.assertContains(page, 'data-undrill="bars"')
        self.assertContains(page, "As published")
        for_all = self.look("dashboard", self.dashboard.pk, v=json.dumps(self.drilled(self.down)))
        self.assertContains(for_all, "<strong>by route</strong>")

    def test_rows_behind_are_those_of_the_mark_at_its_level(self):
        route = sorted(self.routes("North Reach"))[0]
        query = {"v": json.dumps(self.drilled(self.into)), "points": json.dumps([[route]])}
        rows = self.look("dashboard-rows", self.dashboard.pk, "bars", **query)
        self.assertContains(rows, f"{self.sailed().count(('North Reach', route)):,} of ")

    def test_what_is_selected_at_a_level_narrows_the_others_to_it(self):
        route = sorted(self.routes("North Reach"))[0]
        by = [{"field": self.ids["route"]}, {"field": self.ids["region"]}]
        selection = {"block": "bars", "by": by, "points": [[route, "North Reach"]]}
        state = self.drilled(self.into, selections=[selection])
        page = self.look("dashboard", self.dashboard.pk, v=json.dumps(state))
        self.assertContains(page, f"Route is {route} and Region is North Reach")
        count = self.data(state, "count")["html"]
        self.assertNotEqual(count, self.data(self.free, "count")["html"])
        marks = {row["name"]: row["on"] for row in self.data(state)["rows"]}
        self.assertEqual({name for name, on in marks.items() if on}, {route})

    def test_what_was_selected_before_is_set_off_in_the_drilled_block(self):
        selection = {"block": "bars", "by": [{"field": self.ids["region"]}], "points": [["North Reach"]]}
        marks = self.data(self.drilled(self.down, selections=[selection]))["rows"]
        self.assertEqual({row["name"] for row in marks if row["on"]}, self.routes("North Reach"))
        self.assertGreater(len(marks), len(self.routes("North Reach")))

    def test_the_values_beside_one_stand_in_the_order_of_the_chart(self):
        query = {"v": json.dumps(self.drilled(self.into)), "step": 0}
        found = self.look("dashboard-drill-members", self.dashboard.pk, "bars", **query).json()
        names = [row["name"] for row in self.data(self.free)["rows"]]
        at = names.index("North Reach")
        self.assertEqual([found["before"], found["after"]], [names[max(at - 1, 0) : at], names[at + 1 : at + 2]])
        self.assertEqual(re.findall('data-words="([^"]+)"', found["html"]), names)
        gone = self.look("dashboard-drill-members", self.dashboard.pk, "bars", v=json.dumps(self.free), step=0)
        self.assertEqual(gone.status_code, 422)

    def test_what_is_offered_for_a_mark(self):
        offered = self.look("dashboard-drill", self.dashboard.pk, "bars", point=json.dumps(["North Reach"]))
        self.assertContains(offered, "North Reach, by route")
        self.assertContains(offered, "North Reach, broken down by")
        of_all = self.look("dashboard-drill", self.dashboard.pk, "bars")
        self.assertContains(of_all, "Down, all of them")
        self.assertNotContains(of_all, "Into this one")

    def test_steps_that_lead_nowhere_any_more_are_left_out_and_said(self):
        gone = {"to": {"field": "gone"}}
        data = self.data(self.drilled(self.into, gone))
        self.assertEqual({row["name"] for row in data["rows"]}, self.routes("North Reach"))
        self.assertIn("not drilled as far as it was", " ".join(data["notes"]))
        self.assertEqual(self.data(self.drilled(gone))["rows"], self.data(self.free)["rows"])

    def test_a_chart_that_is_not_to_be_drilled_is_not(self):
        publication = self.dashboard.published
        publication.definition["pages"][0]["blocks"][0]["definition"]["drill"] = {"off": True}
        publication.save()
        data = self.data(self.drilled(self.into))
        self.assertEqual(data["rows"], self.data(self.free)["rows"])
        self.assertEqual((data["drill"]["ways"], data["drill"]["others"]), ([], False))
        self.assertContains(self.look("dashboard-drill", self.dashboard.pk, "bars"), "This leads nowhere")


class Making(Drilling):
    def test_a_drill_in_the_workbench_changes_the_sentence(self):
        chart = self.make_chart()
        step = {"edit": "drill", "step": {**self.into, "position": 0}}
        answer = self.ask("chart-answer", chart.pk, data={"definition": chart.definition, "edits": [step]}).json()
        self.assertIn("North Reach", answer["sentence"])
        self.assertEqual({row["name"] for row in answer["chart"]["rows"]}, self.routes("North Reach"))

    def test_what_is_offered_there(self):
        chart = self.make_chart()
        closed = {**chart.definition, "drill": {"off": True}}
        asked = {"definition": closed, "point": ["North Reach"]}
        self.assertContains(self.ask("chart-leads", chart.pk, data=asked), "North Reach, by route")
        popover = self.ask("chart-clause", chart.pk, data={"definition": chart.definition, "clause": "drill"})
        self.assertContains(popover, "Where: Region, Route")

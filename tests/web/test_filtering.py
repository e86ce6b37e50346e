"""What narrows a dashboard: filters of its own, and what they, controls and clicks reach."""

from __future__ import annotations

import json

from django.urls import reverse

from tests.web.dashboard_support import DashboardTest
from tests.web.support import import_now
from veduta.core.chart.definition import load_definition
from veduta.web.charts import services as charts
from veduta.web.dashboards import publishing, services


class Narrowing(DashboardTest):
    def setUp(self):
        super().setUp()
        self.north = {"kind": "list", "field": self.ids["region"], "values": ["North Reach"]}
        self.free = {"controls": {"date": None}}

    def add(self, filter_=None, **more):
        self.edited(edit="add_filter", id="north", dataset=str(self.dataset.pk), filter=filter_ or self.north, **more)

    def regions(self):
        return set(self.values(state=self.free, draft="1"))

    def said(self, block="bars", **query):
        query = {"v": json.dumps(self.free), "draft": "1"} | query
        return self.look("dashboard-narrowings", self.dashboard.pk, block, **query).content.decode()

    def ask_of(self, view, **data):
        return self.ask(view, self.dashboard.pk, data={"definition": self.dashboard.draft, **data})


class Explained(Narrowing):
    def test_a_block_says_how_its_numbers_come_about_as_it_is_read(self):
        state = {**self.free, "controls": {"date": None, "region": {"values": ["North Reach"]}}}
        shown = self.look("dashboard-explained", self.dashboard.pk, "bars", v=json.dumps(state))
        self.assertContains(shown, "only region is North Reach")
        self.assertContains(shown, "with data to")
        self.assertContains(shown, "Grouped by region: 1 group")
        self.assertEqual(self.look("dashboard-explained", self.dashboard.pk, "words").status_code, 404)


class Filters(Narrowing):
    def test_one_narrows_every_block_and_the_trail_says_so(self):
        self.add()
        self.assertEqual(self.regions(), {"North Reach"})
        page = self.look("dashboard", self.dashboard.pk, draft="1")
        self.assertContains(page, "Region is North Reach")
        self.assertNotContains(self.look("dashboard", self.dashboard.pk), "Region is North Reach")
        publishing.publish(self.analyst, self.dashboard)
        self.assertEqual(set(self.values(state=self.free)), {"North Reach"})

    def test_one_that_the_trail_does_not_say_is_said_at_each_block(self):
        self.add(in_trail=False)
        self.assertNotContains(self.look("dashboard", self.dashboard.pk, draft="1"), "Region is North Reach")
        self.assertIn("Region is North Reach", self.said())

    def test_a_question_narrows_all_blocks_to_its_answer(self):
        fares = {"field": self.ids["fare"], "aggregate": "sum"}
        best = {"kind": "member", "field": self.ids["region"], "keep": {"count": 1, "by": fares}}
        everything = self.values(state=self.free, draft="1")
        self.add(best)
        highest = max(everything, key=everything.get)
        self.assertEqual(self.values(state=self.free, draft="1"), {highest: everything[highest]})

    def test_it_is_made_as_a_filter_of_a_chart_is(self):
        where = {"dataset": str(self.dataset.pk), "clause": "only"}
        fields = self.ask_of("dashboard-filter-clause", **where, index=0).content.decode()
        self.assertIn("Only rows where", fields)
        form = self.ask_of("dashboard-filter-clause", **where, index=0, field=self.ids["region"]).content.decode()
        self.assertIn("North Reach", form)
        edit = {"edit": "set_filter", "index": 0, "filter": self.north}
        made = self.ask_of("dashboard-filter-made", dataset=where["dataset"], index=0, edit=edit).json()["filter"]
        self.assertEqual((made["field"], made["values"]), (self.ids["region"], ["North Reach"]))

    def test_what_does_not_fit_is_told(self):
        edit = {"edit": "set_filter", "index": 0, "filter": {"kind": "tide"}}
        answer = self.ask_of("dashboard-filter-made", dataset=str(self.dataset.pk), index=0, edit=edit)
        self.assertEqual(answer.status_code, 422)
        gone = {"edit": "remove", "clause": "only", "index": 0}
        self.add()
        answer = self.ask_of("dashboard-filter-made", dataset=str(self.dataset.pk), index=0, edit=gone)
        self.assertEqual(answer.status_code, 422)
        answer = self.ask_of("dashboard-filter-clause", dataset="gone", clause="only")
        self.assertEqual(answer.status_code, 422)
        self.assertIn("does not exist any more", answer.json()["message"])


class Scopes(Narrowing):
    def test_a_block_that_is_not_reached_shows_all_and_says_why(self):
        self.add()
        self.edited(edit="set_follows", narrows="north", block="bars", follows=False)
        self.assertGreater(len(self.regions()), 1)
        self.assertIn("it is set not to", self.said())

    def test_the_form_has_the_blocks_that_are_reached_ticked(self):
        self.add()
        self.edited(edit="set_scope", narrows="north", ticked=["count"])
        form = self.ask_of("dashboard-scope", narrows="north").content.decode()
        ticked = form.split('value="count"')[1].split(">")[0]
        self.assertIn("checked", ticked)
        self.assertNotIn("checked", form.split('value="bars"')[1].split(">")[0])

    def test_other_data_follow_by_the_field_that_is_chosen(self):
        ports = import_now(self.analyst, "sea area,berths\nNorth Reach,3\nSouth Banks,2\n", "ports.csv")
        chart = charts.create_chart(self.analyst, ports)
        charts.save_chart(self.analyst, chart, chart.load(), 0)
        services.place_chart(self.analyst, self.dashboard, chart)
        self.dashboard.refresh_from_db()
        added = self.dashboard.load_draft().blocks[-1].id
        self.add()
        self.assertIn("its data has no field like “Region”", self.said(added))
        form = self.ask_of("dashboard-scope", narrows="north").content.decode()
        self.assertIn("Blocks of Ports follow by", form)
        (area,) = (field.id for field in ports.schema if field.name == "Sea area")
        self.edited(edit="set_scope", narrows="north", fields={str(ports.pk): area})
        self.assertIn(
            "<strong>Sea area is North Reach</strong>", " ".join(self.said(added).split()).replace("> <", "><")
        )

    def test_other_data_follow_what_a_question_names_in_its_own(self):
        ports = import_now(self.analyst, "region,berths\nNorth Reach,3\nSouth Banks,2\nElsewhere,9\n", "ports.csv")
        chart = charts.create_chart(self.analyst, ports)
        by_region = chart.load().model_dump(mode="json") | {"by": [{"field": ports.schema.fields[0].id}]}
        charts.save_chart(self.analyst, chart, load_definition(by_region), 0)
        services.place_chart(self.analyst, self.dashboard, chart)
        self.dashboard.refresh_from_db()
        added = self.dashboard.load_draft().blocks[-1].id
        fares = {"field": self.ids["fare"], "aggregate": "sum"}
        everything = self.values(state=self.free, draft="1")
        best = {"kind": "member", "field": self.ids["region"], "keep": {"count": 1, "by": fares}}
        self.add(best)
        highest = max(everything, key=everything.get)
        shown = self.values(added, state=self.free, draft="1")
        self.assertEqual(set(shown), {highest} & {"North Reach", "South Banks"})
        self.edited(edit="set_filter", filter_id="north", filter=best | {"exclude": True})
        self.assertNotIn(highest, self.values(added, state=self.free, draft="1"))

    def test_in_the_editor_each_block_has_its_ticks(self):
        self.add()
        form = self.ask_of("dashboard-follows", block="bars").content.decode()
        self.assertIn('data-follows="north" checked', " ".join(form.split()))
        self.assertIn('data-click-on="count"', form)
        self.edited(edit="group_blocks", id="both", blocks=["bars", "count"])
        inner = self.ask_of("dashboard-follows", block="bars").content.decode()
        self.assertIn('aria-label="What a click does to Sailings"', inner)
        self.assertEqual(self.ask_of("dashboard-follows", block="words").status_code, 422)


class Clicks(Narrowing):
    def selected(self, block="bars", **query):
        state = {"controls": {"date": None}, "selections": [{"block": block, "points": [["North Reach"]]}]}
        return self.block(state=state, draft="1", **query)

    def add_second(self):
        """A second block of bars, which the first may narrow or set off."""
        block = self.dashboard.load_draft().find_block("bars")
        self.edited(edit="add_block", id="more", kind="chart", chart=block.chart)

    def marks(self):
        rows = (
            self.selected(block="bars").json()
            and self.look(
                "dashboard-block",
                self.dashboard.pk,
                "more",
                draft="1",
                v=json.dumps(
                    {"controls": {"date": None}, "selections": [{"block": "bars", "points": [["North Reach"]]}]}
                ),
            ).json()["rows"]
        )
        return {row["name"]: row.get("on", 1) for row in rows}

    def test_a_click_narrows_sets_off_or_leaves_alone(self):
        self.add_second()
        self.assertEqual(set(self.marks()), {"North Reach"})
        self.edited(edit="set_click", block="bars", other="more", does="highlight")
        marks = self.marks()
        self.assertGreater(len(marks), 1)
        self.assertEqual({name for name, on in marks.items() if on}, {"North Reach"})
        self.edited(edit="set_click", block="bars", other="more", does="nothing")
        self.assertEqual(set(self.marks().values()), {1})


class Access(Narrowing):
    def test_readers_may_ask_what_narrows_and_set_nothing(self):
        self.add()
        publishing.publish(self.analyst, self.dashboard)
        self.grant("view")
        self.as_(self.explorer)
        self.assertIn("Region is North Reach", self.said(draft=""))
        for view, data in (("dashboard-scope", {"narrows": "north"}), ("dashboard-follows", {"block": "bars"})):
            self.assertEqual(self.ask_of(view, **data).status_code, 404)
        self.assertEqual(self.client.get(reverse("dashboard-edit", args=[self.dashboard.pk])).status_code, 404)

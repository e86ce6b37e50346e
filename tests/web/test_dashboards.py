from __future__ import annotations

import datetime as dt
import json
import re
from unittest import mock

from django.core.exceptions import PermissionDenied
from django.db import connection
from django.test.utils import CaptureQueriesContext
from django.urls import reverse
from django.utils import timezone

from tests.core.support import one_page
from tests.web.support import WebTest, import_now, spaced_alike
from veduta.core.dashboard.definition import load_dashboard
from veduta.core.dashboard.edits import apply_edit
from veduta.core.errors import VedutaError
from veduta.web.catalogue.services import update_field
from veduta.web.charts import services as charts
from veduta.web.charts.models import Chart
from veduta.web.dashboards import publishing, services
from veduta.web.dashboards.miniatures import made
from veduta.web.dashboards.models import Dashboard, Publication, Seen, publications
from veduta.web.datasets.models import Dataset, Refresh
from veduta.web.pictures.services import delete, receive

PNG = b"\x89PNG\r\n\x1a\n and what is on it"


class DashboardTest(WebTest):
    def setUp(self):
        super().setUp()
        self.make_dashboard()
        self.as_(self.analyst)

    def block(self, block="bars", state=None, **query):
        if state is not None:
            query["v"] = json.dumps(state)
        return self.look("dashboard-block", self.dashboard.pk, block, **query)

    def values(self, *args, **kwargs):
        return {row["name"]: row["value"] for row in self.block(*args, **kwargs).json()["rows"]}


class Reading(DashboardTest):
    def test_the_page_holds_the_blocks_and_the_trail(self):
        page = self.client.get(reverse("dashboard", args=[self.dashboard.pk]))
        self.assertContains(page, 'data-block="bars"')
        self.assertContains(page, "<strong>Fares</strong>")
        self.assertNotContains(page, "<script>alert")
        self.assertContains(page, "Sailed: <strong>the last 12 months</strong>")
        self.assertContains(page, "Region: all")
        self.assertContains(page, "data to 14 Feb 2026")

    def test_a_control_filters_every_block_that_has_its_field(self):
        state = {"controls": {"region": {"values": ["North Reach"]}}}
        self.assertEqual(self.values(state=state), {"North Reach": 180.5})
        self.assertIn(">3<", spaced_alike(self.block("count", state).json()["html"]))
        dates = {"controls": {"date": {"kind": "dates", "start": "2026-02-01", "end": "2026-02-28"}}}
        self.assertIn(">3<", spaced_alike(self.block("count", dates).json()["html"]))

    def test_a_control_of_moments_takes_times_and_says_them(self):
        rows = "at,fare\n2026-01-05 06:30,1\n2026-01-05 22:10,2\n2026-01-06 05:00,4\n"
        dataset = import_now(self.analyst, rows.encode(), "Gangway")
        at, fare = (field.id for field in dataset.schema)
        chart = self.make_chart("Taken", dataset=str(dataset.pk), show=[{"field": fare, "aggregate": "sum"}], by=[])
        control = services.control_for(dataset, at).model_copy(update={"id": "at"})
        block = {"id": "count", "kind": "chart", "chart": str(chart.pk)}
        definition = load_dashboard(one_page(block, controls=[control.model_dump(mode="json")]))
        self.dashboard = services.create_dashboard(self.analyst, "Gangway")
        services.save_draft(self.analyst, self.dashboard, definition, "Gangway", 0)
        publishing.publish(self.analyst, self.dashboard)
        self.assertContains(self.look("dashboard-control", self.dashboard.pk, "at"), 'name="choice.start_time"')
        night = {"start": "2026-01-05", "start_time": "22:00", "end": "2026-01-06", "end_time": "05:00"}
        state = {"controls": {"at": {"kind": "dates", **night}}}
        self.assertIn(">6<", spaced_alike(self.block("count", state).json()["html"]))
        page = self.client.get(reverse("dashboard", args=[self.dashboard.pk]), {"v": json.dumps(state)})
        self.assertContains(page, "5 Jan 2026 22:00 to 6 Jan 2026 05:00")

    def test_a_selection_narrows_the_others_and_marks_its_own(self):
        for mode, count, on in (
            ("focus", ">1<", {"South Banks"}),
            ("leave_out", ">4<", {"North Reach", "Inner Sound"}),
        ):
            state = {"selections": [{"block": "bars", "mode": mode, "points": [["South Banks"]]}]}
            self.assertIn(count, spaced_alike(self.block("count", state).json()["html"]))
            rows = self.block("bars", state).json()["rows"]
            self.assertEqual({row["name"] for row in rows if row["on"]}, on)
            self.assertEqual(len(rows), 3)

    def test_the_trail_says_what_narrows_the_view_and_how_many_follow(self):
        state = {
            "controls": {"region": {"values": ["A"], "exclude": True}},
            "selections": [{"block": "bars", "points": [["South Banks"]]}],
        }
        trail = spaced_alike(self.lines(v=json.dumps(state))[0]["trail"])
        for words in (
            "Region: <strong>all but A</strong>",
            "Region is South Banks",
            "1 other block follows this selection",
            "rows behind",
        ):
            self.assertIn(words, trail)

    def test_the_ways_back_are_offered_where_they_lead_elsewhere(self):
        def ways(state: dict) -> set[str]:
            trail = self.lines(v=json.dumps(state))[0]["trail"]
            return {words for words in ("As published", "Show all") if words in trail}

        selected = {"selections": [{"block": "bars", "points": [["South Banks"]]}]}
        self.assertEqual(ways({}), {"Show all"})  # the date is set at first
        self.assertEqual(ways(selected), {"As published", "Show all"})
        self.assertEqual(ways({"controls": {"date": None}}), {"As published"})
        self.assertEqual(ways({"sorts": {"bars": "m0"}}), {"As published", "Show all"})

    def lines(self, **query):
        answer = self.look("dashboard-blocks", self.dashboard.pk, **query)
        return [json.loads(line) for line in b"".join(answer.streaming_content).splitlines()]

    def test_all_blocks_come_in_one_answer_in_reading_order(self):
        _, bars, count = self.lines()
        self.assertEqual((bars["block"], count["block"]), ("bars", "count"))
        self.assertEqual(bars["data"], self.block("bars").json())

    def test_a_fault_in_one_block_is_said_in_its_line_only(self):
        with (
            mock.patch("veduta.web.dashboards.reading.rows_table"),
            mock.patch(
                "veduta.web.dashboards.reading.chart_data",
                side_effect=[RuntimeError("secret"), {"title_look": {"hidden": False}}],
            ),
        ):
            _, bars, count = self.lines()
        self.assertEqual(bars["problem"], "This block could not be worked out because of a fault on our side.")
        self.assertIn("data", count)

    def test_a_block_without_the_field_says_that_it_does_not_follow(self):
        ports = import_now(self.analyst, "port,berths\nTern,3\nQuay,2\n", "ports.csv")
        chart = charts.create_chart(self.analyst, ports)
        services.place_chart(self.analyst, self.dashboard, chart)
        publishing.publish(self.analyst, self.dashboard)
        added = Dashboard.objects.get().load_draft().blocks[-1].id
        state = {"selections": [{"block": "bars", "points": [["South Banks"]]}]}
        self.assertEqual(self.block(added, state).json()["not_followed"], ["Sailed", "Region"])

    def test_damaged_states_open_the_dashboard_all_the_same(self):
        page = self.client.get(reverse("dashboard", args=[self.dashboard.pk]), {"v": "{oops"})
        self.assertContains(page, "The dashboard is shown without them.")
        for state in ('{"controls":{"region":{"values":[{}]}}}', "[]", '{"controls":{"date":{"values":["x"]}}}'):
            with self.subTest(state=state):
                answer = self.look("dashboard-block", self.dashboard.pk, "bars", v=state)
                self.assertEqual(answer.status_code, 422)
                self.assertIn("plain address", answer.json()["hint"])

    def test_a_filter_value_that_no_longer_exists_is_said(self):
        data = self.block(state={"controls": {"region": {"values": ["Old Bay"]}}}).json()
        self.assertIn("No rows pass the filters", data["html"])
        self.assertIn("Nothing matches: no row has Region is Old Bay.", data["notes"])

    def test_more_blocks_do_not_ask_the_database_more_often(self):
        def asked() -> int:
            address = reverse("dashboard-blocks", args=[self.dashboard.pk])
            with CaptureQueriesContext(connection) as queries:
                lines = b"".join(self.client.get(address).streaming_content).splitlines()
            self.assertGreaterEqual(len(lines), len(publication.definition["pages"][0]["blocks"]) - 2)
            return len(queries)

        publication = self.dashboard.published
        asked()
        few = asked()
        bars = next(block for block in publication.definition["pages"][0]["blocks"] if block["id"] == "bars")
        publication.definition["pages"][0]["blocks"] += [{**bars, "id": f"more{i}", "y": 20 + i} for i in range(6)]
        publication.save()
        publications.clear()  # no other publication ever changes
        self.assertEqual(asked(), few + 1)  # its definition is loaded anew

    def test_one_failing_block_leaves_the_others_alone(self):
        publication = self.dashboard.published
        publication.definition["pages"][0]["blocks"][0]["definition"]["version"] = 9
        publication.save()
        self.assertEqual(self.client.get(reverse("dashboard", args=[self.dashboard.pk])).status_code, 200)
        self.assertIn("newer version", self.block("bars").json()["message"])
        self.assertIn("newer version", self.lines()[1]["problem"])
        self.assertEqual(self.block("count").status_code, 200)

    def test_a_block_whose_dataset_was_deleted_says_so(self):
        Dataset.objects.update(deleted_at="2026-01-01T00:00Z")
        self.assertIn("was deleted", self.block("bars").json()["message"])
        self.assertEqual(self.client.get(reverse("dashboard", args=[self.dashboard.pk])).status_code, 200)

    def test_blocks_and_controls_that_are_not_there(self):
        for name, part in (
            ("dashboard-block", "nope"),
            ("dashboard-block", "words"),
            ("dashboard-control", "nope"),
            ("dashboard-rows", "nope"),
        ):
            self.assertEqual(self.look(name, self.dashboard.pk, part).status_code, 404)

    def test_controls_offer_what_is_in_the_data(self):
        self.assertContains(self.look("dashboard-control", self.dashboard.pk, "region", find="NORTH"), "North Reach")
        self.assertNotContains(self.look("dashboard-control", self.dashboard.pk, "region", find="NORTH"), "South Banks")
        self.assertContains(self.look("dashboard-control", self.dashboard.pk, "date"), "the latest date (14 Feb 2026)")

    def test_rows_behind_and_their_file(self):
        state = json.dumps({"controls": {"date": None}})
        query = {"v": state, "points": '[["North Reach"]]'}
        self.assertContains(self.look("dashboard-rows", self.dashboard.pk, "bars", **query), "3 of 5 rows match")
        answer = self.look("dashboard-rows-file", self.dashboard.pk, "bars", **query)
        self.assertEqual(len(b"".join(answer.streaming_content).splitlines()), 4)
        self.assertEqual(self.look("dashboard-rows", self.dashboard.pk, "bars", points="{").status_code, 422)

    def test_a_state_too_long_for_an_address_is_kept_under_a_key(self):
        many = [f"Port {number}" for number in range(4_990)]
        state = {"controls": {"region": {"values": ["South Banks", *many]}}}
        key = self.ask("dashboard-keep-view", self.dashboard.pk, data={"state": state}).json()["key"]
        self.assertEqual(self.ask("dashboard-keep-view", self.dashboard.pk, data={"state": state}).json()["key"], key)
        answer = self.look("dashboard-block", self.dashboard.pk, "count", k=key)
        self.assertIn(">1<", spaced_alike(answer.json()["html"]))
        page = self.client.get(reverse("dashboard", args=[self.dashboard.pk]), {"k": key})
        self.assertContains(page, f'"key": "{key}"')
        gone = self.client.get(reverse("dashboard", args=[self.dashboard.pk]), {"k": "nothing"})
        self.assertContains(gone, "The dashboard is shown without them.")
        for wrong in (None, {"controls": {"region": {"values": [{}]}}}, {"controls": {"region": {"values": many * 2}}}):
            answer = self.ask("dashboard-keep-view", self.dashboard.pk, data={"state": wrong})
            self.assertEqual(answer.status_code, 422)
        with mock.patch.object(services, "VIEWS_KEPT", 1):
            other = self.ask("dashboard-keep-view", self.dashboard.pk, data={"state": {"controls": {}}}).json()["key"]
        self.assertEqual([kept.key for kept in self.dashboard.kept_views.all()], [other])

    def test_the_rows_behind_a_selection(self):
        state = {"selections": [{"block": "bars", "points": [["North Reach"]]}]}
        rows = self.look("dashboard-rows", self.dashboard.pk, "bars", v=json.dumps(state), selection=0)
        self.assertContains(rows, "3 of 5 rows match")

    def test_a_block_as_a_table_for_those_who_read_tables(self):
        self.assertIn("<table", self.block(table="1").json()["table"])

    def test_a_reader_sorts_a_block_by_a_column(self):
        def sorted_by(column: str):
            return self.block(state={"sorts": {"bars": column}}, table="1").json()

        self.assertEqual([row["value"] for row in sorted_by("-m0")["rows"]], [180.5, 80.0, -15.25])
        self.assertEqual([row["value"] for row in sorted_by("m0")["rows"]], [-15.25, 80.0, 180.5])
        self.assertIn('aria-sort="ascending"', sorted_by("m0")["table"])
        for gone in ("m7", "d4", "-", "x"):
            self.assertEqual(sorted_by(gone), self.block(table="1").json())


class Editing(DashboardTest):
    def save(self, user, revision, **more):
        self.as_(user)
        self.dashboard.refresh_from_db()
        data = {"definition": self.dashboard.draft, "name": f"By {user.username}", "revision": revision, **more}
        return self.ask("dashboard-draft", self.dashboard.pk, data=data)

    def test_edits_stay_a_draft_until_published(self):
        empty = load_dashboard({}).model_dump(mode="json")
        self.ask("dashboard-draft", self.dashboard.pk, data={"definition": empty, "name": "Season", "revision": 1})
        self.assertContains(self.client.get(reverse("dashboard", args=[self.dashboard.pk])), 'data-block="bars"')

    def test_published_charts_stay_as_they_were(self):
        chart = self.dataset.charts.get(name="Fares")
        changed = chart.load().model_copy(update={"title": "Changed"})
        charts.save_chart(self.analyst, chart, changed, 1)
        self.assertEqual(self.block().json()["title"], "Fares")
        self.assertEqual(self.block(draft="1").json()["title"], "Changed")

    def test_an_empty_dashboard_is_not_published(self):
        new = services.create_dashboard(self.analyst)
        answer = self.ask("dashboard-publish", new.pk)
        self.assertEqual(answer.status_code, 422)
        self.assertIn("nothing on this dashboard", answer.json()["message"])

    def test_earlier_versions_are_seen_and_brought_back(self):
        self.ask(
            "dashboard-draft",
            self.dashboard.pk,
            data={
                "definition": one_page({"id": "t", "kind": "text", "text": "Short"}),
                "name": "Season",
                "revision": 1,
            },
        )
        self.ask("dashboard-publish", self.dashboard.pk)
        address = reverse("dashboard", args=[self.dashboard.pk])
        self.assertContains(self.client.get(address), "Short")
        self.assertContains(self.client.get(address, {"version": "1"}), "Version 1, not the published one")
        self.client.post(reverse("dashboard-bring-back", args=[self.dashboard.pk, 1]), {"what": "published"})
        self.assertContains(self.client.get(address), 'data-block="bars"')
        self.client.post(reverse("dashboard-bring-back", args=[self.dashboard.pk, 1]), {"what": "draft"})
        self.dashboard.refresh_from_db()
        self.assertEqual(len(self.dashboard.load_draft().blocks), 4)
        self.assertTrue(Publication.objects.get(number=3).set_aside)
        self.assertEqual(self.look("dashboard", self.dashboard.pk, version="99").status_code, 404)

    def test_two_people_editing_are_told_and_nothing_is_lost(self):
        self.assertEqual(self.save(self.steward, 1).json()["revision"], 2)
        conflict = self.save(self.analyst, 1)
        self.assertEqual(conflict.status_code, 409)
        self.assertIn("Steward changed this dashboard meanwhile.", conflict.json()["conflict"])
        self.assertEqual(self.save(self.analyst, 1, overwrite=True).status_code, 200)
        self.assertEqual(Publication.objects.filter(set_aside=True).count(), 1)
        copied = self.ask(
            "dashboard-draft-copy", self.dashboard.pk, data={"definition": self.dashboard.draft, "name": "Mine"}
        )
        self.assertEqual(self.client.get(copied.json()["address"]).status_code, 200)

    def test_forged_definitions_are_refused(self):
        for definition in (
            one_page({"id": "a", "kind": "chart", "chart": "7c9e6679-7425-40de-944b-e07fc1f90ae7"}),
            one_page({"id": "a", "kind": "chart", "chart": "'; drop table"}),
            one_page({"id": "<script>", "kind": "text"}),
            {"pages": "all"},
            None,
        ):
            with self.subTest(definition=definition):
                answer = self.ask("dashboard-draft", self.dashboard.pk, data={"definition": definition, "revision": 1})
                self.assertEqual(answer.status_code, 422)

    def test_charts_are_placed_from_the_workbench(self):
        chart = self.make_chart("Another")
        answer = self.ask("dashboard-place", self.dashboard.pk, data={"chart": str(chart.pk)})
        self.assertEqual(answer.json()["address"], reverse("dashboard-edit", args=[self.dashboard.pk]))
        placed = Dashboard.objects.get().load_draft().blocks[-1]
        self.assertEqual((placed.chart, placed.y), (str(chart.pk), 12))
        self.assertEqual(self.ask("dashboard-place", self.dashboard.pk, data={"chart": "x"}).status_code, 422)
        self.assertContains(self.client.get(reverse("dashboard-choices")), "Season")

    def test_controls_suit_their_field(self):
        for source, kind in (("sailed", "dates"), ("region", "list"), ("cancelled", "list")):
            answer = self.ask(
                "dashboard-new-control",
                self.dashboard.pk,
                data={"dataset": str(self.dataset.pk), "field": self.ids[source]},
            )
            self.assertEqual(answer.json()["kind"], kind)
        for data in ({"dataset": "x"}, {"dataset": str(self.dataset.pk), "field": "zz"}):
            self.assertEqual(self.ask("dashboard-new-control", self.dashboard.pk, data=data).status_code, 422)

    def test_text_is_shown_without_anything_that_runs(self):
        html = self.ask(
            "dashboard-text", data={"text": "**a** [x](javascript:alert(1)) <img src=x onerror=alert(1)>"}
        ).json()["html"]
        self.assertIn("<strong>a</strong>", html)
        self.assertNotIn("href=", html)
        self.assertNotIn("<img src=x onerror", html)

    def test_duplicate_delete_and_undo(self):
        self.client.post(reverse("dashboard-duplicate", args=[self.dashboard.pk]))
        self.assertEqual(Dashboard.objects.count(), 2)
        answer = self.ask("dashboard-delete", self.dashboard.pk).json()
        self.assertEqual(self.look("dashboard", self.dashboard.pk).status_code, 404)
        self.client.post(answer["undo"], headers={"X-Veduta": "1"})
        self.assertEqual(self.look("dashboard", self.dashboard.pk).status_code, 200)

    def test_an_edit_answers_with_the_definition_and_keeps_nothing(self):
        self.as_(self.analyst)
        draft = self.dashboard.draft
        change = {"edit": "add_block", "id": "said", "kind": "text", "text": "Hello"}
        answer = self.ask("dashboard-change", self.dashboard.pk, data={"definition": draft, "change": change})
        self.assertEqual([each["id"] for each in answer.json()["definition"]["pages"][0]["blocks"]][-1], "said")
        self.dashboard.refresh_from_db()
        self.assertEqual(self.dashboard.draft, draft)
        for wrong in ({"edit": "turn_over"}, {"edit": "move_block", "block": "gone", "x": 0, "y": 0}, {}):
            refused = self.ask("dashboard-change", self.dashboard.pk, data={"definition": draft, "change": wrong})
            self.assertEqual(refused.status_code, 422)
        self.as_(self.explorer)
        sent = {"definition": draft, "change": change}
        self.assertEqual(self.ask("dashboard-change", self.dashboard.pk, data=sent).status_code, 404)

    def test_an_unpublished_dashboard_opens_in_the_editor(self):
        new = services.create_dashboard(self.analyst)
        self.assertRedirects(
            self.client.get(reverse("dashboard", args=[new.pk])), reverse("dashboard-edit", args=[new.pk])
        )


class Sharing(DashboardTest):
    def open_as_explorer(self):
        self.as_(self.explorer)
        return self.look("dashboard", self.dashboard.pk).status_code

    def test_an_explorer_sees_what_was_granted_and_nothing_else(self):
        self.assertEqual(self.open_as_explorer(), 404)
        self.grant()
        self.assertEqual(self.open_as_explorer(), 200)
        self.assertEqual(self.block().status_code, 200)
        for name in ("dashboard-edit", "dashboard-share"):
            self.assertEqual(self.look(name, self.dashboard.pk).status_code, 404)
        for query in ({"draft": "1"}, {"version": "1"}):
            self.assertEqual(self.block(**query).status_code, 404)

    def test_a_grant_can_be_taken_away(self):
        self.grant()
        self.grant(level="")
        self.assertEqual(self.open_as_explorer(), 404)

    def test_rows_need_their_own_leave(self):
        self.grant(download=False)
        self.assertEqual(self.open_as_explorer(), 200)
        for name in ("dashboard-rows", "dashboard-rows-file"):
            self.assertEqual(self.look(name, self.dashboard.pk, "bars").status_code, 404)
        self.grant(download=True)
        self.assertEqual(self.look("dashboard-rows", self.dashboard.pk, "bars").status_code, 200)

    def test_an_unpublished_dashboard_stays_unseen(self):
        self.grant()
        Dashboard.objects.update(published=None)
        self.assertEqual(self.open_as_explorer(), 404)
        self.assertNotContains(self.client.get(reverse("dashboards")), "Season")

    def test_another_analyst_needs_a_grant_to_edit(self):
        other = type(self.analyst).objects.create_user("other", password="x", role="analyst")
        self.as_(other)
        self.assertEqual(self.look("dashboard-edit", self.dashboard.pk).status_code, 404)
        services.grant(self.analyst, self.dashboard, f"person-{other.pk}", "edit", True)
        self.assertEqual(self.client.get(reverse("dashboard-edit", args=[self.dashboard.pk])).status_code, 200)

    def test_grants_are_made_on_the_page(self):
        address = reverse("dashboard-share", args=[self.dashboard.pk])
        self.client.post(address, {"who": f"person-{self.explorer.pk}", "level": "view", "download": "on"})
        self.assertContains(self.client.get(address), "Explorer")
        self.assertEqual(self.open_as_explorer(), 200)

    def test_forged_grants_are_refused(self):
        for who, level in (
            ("person-99", "view"),
            ("robot-1", "view"),
            (f"person-{self.explorer.pk}", "own"),
            ("", "view"),
        ):
            with self.subTest(who=who), self.assertRaises(VedutaError):
                services.grant(self.analyst, self.dashboard, who, level, True)

    def test_hidden_fields_are_not_given_away_with_the_rows(self):
        self.grant()

        update_field(self.analyst, self.dataset, self.ids["passengers"], {"hidden": True})
        self.as_(self.explorer)
        self.assertNotContains(self.look("dashboard-rows", self.dashboard.pk, "bars"), "Passengers")

    def test_services_check_who_asks(self):
        definition = self.dashboard.load_draft()
        for action in (
            lambda: services.create_dashboard(self.explorer),
            lambda: services.save_draft(self.explorer, self.dashboard, definition, "x", 1),
            lambda: publishing.publish(self.explorer, self.dashboard),
            lambda: publishing.bring_back(self.explorer, self.dashboard, 1, "draft"),
            lambda: services.place_chart(self.explorer, self.dashboard, None),
            lambda: services.duplicate_dashboard(self.explorer, self.dashboard),
            lambda: services.copy_draft(self.explorer, self.dashboard, definition, "x"),
            lambda: services.delete_dashboard(self.explorer, self.dashboard),
            lambda: services.restore_dashboard(self.explorer, self.dashboard),
            lambda: services.grant(self.explorer, self.dashboard, f"person-{self.explorer.pk}", "edit", True),
        ):
            with self.assertRaises(PermissionDenied):
                action()


class Looking(DashboardTest):
    """Blocks with texts, grounds and clicks of their own."""

    def change(self, **change):
        return self.ask(
            "dashboard-change", self.dashboard.pk, data={"definition": self.dashboard.draft, "change": change}
        )

    def dress(self, block="bars", title="", look=None, click=None):
        """Set a block's look in the draft, and publish it."""
        changed = self.change(edit="set_look", block=block, title=title, look=look or {}, click=click or {})
        self.dashboard.draft = changed.json()["definition"]
        self.dashboard.save()
        publishing.publish(self.analyst, self.dashboard)
        self.dashboard.refresh_from_db()

    def test_texts_have_values_and_formulas(self):
        look = {"subtitle": "{=sum(fare)} of {total}", "note": "{rows} sailings", "parts": ["title", "dates"]}
        self.dress(title="Fares, {dates}", look=look)
        stored = self.dashboard.load_draft().block("bars").look.subtitle
        self.assertIn(f"#{self.ids['fare']}", stored)
        data = self.block(state={"controls": {"date": None}}).json()
        self.assertEqual(data["title"], "Fares, all up to 14 Feb 2026")
        self.assertEqual(data["note"].splitlines()[1], "all up to 14 Feb 2026")
        first, total = data["note"].splitlines()[0].split(" of ")
        self.assertEqual(first.replace("€", ""), total.replace("€", ""))
        self.assertEqual(data["foot"], "5 sailings")
        form = self.ask(
            "dashboard-look", self.dashboard.pk, data={"definition": self.dashboard.draft, "block": "bars"}
        ).content.decode()
        self.assertIn("{=sum(Fare)} of {total}", form.replace("&quot;", ""))

    def test_a_value_that_nobody_knows_is_told(self):
        answer = self.change(edit="set_look", block="bars", look={"note": "as {nothing}"})
        self.assertEqual(answer.status_code, 422)
        self.assertIn("{nothing}", answer.json()["message"])

    def test_grounds_and_borders_are_styles(self):
        self.dress(look={"ground": "#0B5D62", "border": "line"})
        page = self.client.get(reverse("dashboard", args=[self.dashboard.pk])).content.decode()
        self.assertRegex(page, r"#block-bars \{ background: light-dark\(#[0-9A-F]{6}, #[0-9A-F]{6}\)")
        self.assertIn("block-chart in-dark", " ".join(page.split()))

    def test_a_click_opens_an_address_of_the_clicked_values(self):
        self.dress(click={"does": "address", "address": "https://quay.example/{Region}"})
        points = json.dumps([["South Banks"]])
        shown = self.look("dashboard-address", self.dashboard.pk, "bars", points=points)
        self.assertContains(shown, 'href="https://quay.example/South%20Banks"')
        self.assertContains(self.look("dashboard-address", self.dashboard.pk, "bars", points="[[]]"), "leads nowhere")
        self.assertContains(self.look("dashboard-address", self.dashboard.pk, "count", points="[[]]"), "leads nowhere")

    def test_what_was_clicked_is_carried_to_another_dashboard(self):
        first = self.dashboard
        second = services.duplicate_dashboard(self.analyst, first)
        publishing.publish(self.analyst, second)
        self.dashboard = Dashboard.objects.get(pk=second.pk)
        carried = {"block": "bars", "dashboard": str(first.pk), "points": [["South Banks"]]}
        state = {"selections": [carried], "controls": {"date": None}}
        self.assertIn(">1<", spaced_alike(self.block("count", state).json()["html"]))
        rows = self.block("bars", state).json()["rows"]
        self.assertEqual([row["name"] for row in rows], ["South Banks"])
        page = self.client.get(reverse("dashboard", args=[second.pk]), {"v": json.dumps(state)})
        self.assertContains(page, "Region is South Banks")
        services.grant(self.analyst, self.dashboard, f"person-{self.explorer.pk}", "view", download=False)
        self.as_(self.explorer)  # who may not see the first one
        self.assertIn(">5<", spaced_alike(self.block("count", state).json()["html"]))

    def test_a_chart_that_was_deleted_is_told_to_who_makes_the_dashboard(self):
        data = {"definition": self.dashboard.draft, "blocks": ["bars"]}
        charts.delete_chart(self.analyst, Chart.objects.get(pk=self.dashboard.load_draft().block("bars").chart))
        face = self.ask("dashboard-faces", self.dashboard.pk, data=data).json()["faces"]["bars"]
        self.assertIn("Its chart was deleted.", face)
        self.assertEqual(self.block().status_code, 200)  # readers see what was published

    def test_a_click_that_leads_nowhere_is_told_at_once(self):
        def problem(click):
            self.dress(click=click)
            data = {"definition": self.dashboard.draft, "blocks": ["bars"]}
            return self.ask("dashboard-faces", self.dashboard.pk, data=data).json()["faces"]["bars"]

        self.assertIn("The page that a click opens is gone.", problem({"does": "page", "page": "gone"}))
        self.assertIn("there is none", problem({"does": "address"}))
        self.assertIn("is gone", problem({"does": "dashboard", "dashboard": "gone"}))
        other = services.duplicate_dashboard(self.analyst, self.dashboard)
        self.assertIn("not published yet", problem({"does": "dashboard", "dashboard": str(other.pk)}))
        publishing.publish(self.analyst, other)
        self.assertNotIn("notice-problem", problem({"does": "dashboard", "dashboard": str(other.pk)}))
        services.grant(self.analyst, self.dashboard, f"person-{self.explorer.pk}", "view", download=False)
        self.assertIn("may see this dashboard, but not", problem({"does": "dashboard", "dashboard": str(other.pk)}))


class Paging(DashboardTest):
    def setUp(self):
        super().setUp()
        for change in (
            {"edit": "add_page", "id": "p2", "name": "Quays"},
            {"edit": "move_to_page", "blocks": ["bars"], "page": "p2"},
            {"edit": "add_page", "id": "p3", "name": "Behind"},
            {"edit": "set_page", "page": "p3", "hidden": True},
            {"edit": "add_block", "id": "trail", "kind": "control", "control": "region", "page": "p3"},
            {"edit": "add_block", "id": "later", "kind": "place", "text": "Winter", "page": "p2"},
        ):
            data = {"definition": self.dashboard.draft, "change": change}
            self.dashboard.draft = self.ask("dashboard-change", self.dashboard.pk, data=data).json()["definition"]
        self.dashboard.save()
        publishing.publish(self.analyst, self.dashboard)

    def page(self, **query):
        return self.client.get(reverse("dashboard", args=[self.dashboard.pk]), query)

    def lines(self, **query):
        answer = self.client.get(reverse("dashboard-blocks", args=[self.dashboard.pk]), query)
        return [json.loads(line) for line in b"".join(answer.streaming_content).splitlines()]

    def test_each_page_shows_and_asks_for_its_own_blocks(self):
        first, second = self.page(), self.page(page="p2")
        self.assertContains(first, 'data-block="count"')
        self.assertNotContains(first, 'data-block="bars"')
        self.assertContains(second, 'data-block="bars"')
        self.assertEqual([line.get("block") for line in self.lines(page="p2")], [None, "bars"])
        self.assertNotContains(second, "Winter")  # nothing stands there yet

    def test_a_hidden_page_has_a_tab_only_while_it_is_read(self):
        self.assertNotContains(self.page(), "Behind")
        self.assertContains(self.page(page="p3"), "Behind")

    def test_controls_on_a_page_say_what_they_are_set_to(self):
        self.assertContains(self.page(page="p3"), 'data-control="region"', 2)
        state = json.dumps({"controls": {"region": {"values": ["South Banks"]}}})
        control = next(line for line in self.lines(page="p3", v=state) if "control" in line)
        self.assertIn("South Banks", control["html"])

    def test_a_page_that_is_gone_says_so_and_shows_the_first(self):
        gone = self.page(page="p9")
        self.assertContains(gone, "That page is not there any more.")
        self.assertContains(gone, 'data-block="count"')


class Numbers(DashboardTest):
    """Numbers in texts."""

    def made(self, **more):
        data = {"dataset": str(self.dataset.pk), "measure": {"field": self.ids["fare"], "aggregate": "sum"}, **more}
        return self.ask("dashboard-number-made", self.dashboard.pk, data=data)

    def put(self, text, *numbers):
        change = {"edit": "set_block", "block": "words", "text": text, "numbers": numbers}
        data = {"definition": self.dashboard.draft, "change": change}
        self.dashboard.draft = self.ask("dashboard-change", self.dashboard.pk, data=data).json()["definition"]
        self.dashboard.save()
        publishing.publish(self.analyst, self.dashboard)

    def said(self, state=None):
        query = {"v": json.dumps(state)} if state else {}
        answer = self.client.get(reverse("dashboard-blocks", args=[self.dashboard.pk]), query)
        lines = [json.loads(line) for line in b"".join(answer.streaming_content).splitlines()]
        return next(line["numbers"] for line in lines if line.get("text") == "words")

    def test_they_are_worked_out_under_the_filters_and_open_their_rows(self):
        everywhere = self.made().json()["number"]
        banks = self.made(field=self.ids["region"], value="south banks").json()["number"]
        self.assertEqual((everywhere["name"], banks["name"]), ("Fare", "Fare, South Banks"))
        self.put("{Fare} in all, {fare, south banks} there, {Berths} nowhere.", everywhere, banks)
        page = self.client.get(reverse("dashboard", args=[self.dashboard.pk]))
        self.assertContains(page, 'class="number" data-number="1"')
        self.assertContains(page, "{Berths} nowhere.")
        all_, there = self.said({"controls": {"date": None}})
        self.assertNotEqual(all_, there)
        self.assertEqual(self.said({"controls": {"region": {"values": ["South Banks"]}, "date": None}}), [there, there])
        rows = self.look("dashboard-rows", self.dashboard.pk, "words", number=1, v='{"controls": {"date": null}}')
        self.assertContains(rows, "South Banks")
        self.assertNotContains(rows, "North Reach")
        self.assertEqual(self.look("dashboard-rows", self.dashboard.pk, "words", number=9).status_code, 404)

    def test_whoever_may_not_see_rows_has_no_button(self):
        self.put("{Fare}", self.made().json()["number"])
        services.grant(self.analyst, self.dashboard, f"person-{self.explorer.pk}", "view", download=False)
        self.as_(self.explorer)
        page = self.client.get(reverse("dashboard", args=[self.dashboard.pk]))
        self.assertContains(page, '<span class="number"')
        self.assertEqual(self.look("dashboard-rows", self.dashboard.pk, "words", number=0).status_code, 404)

    def test_the_form_offers_measures_fields_and_values(self):
        form = self.look("dashboard-numbers", self.dashboard.pk, dataset=str(self.dataset.pk))
        self.assertContains(form, "Count of rows")
        self.assertContains(form, ">Region<")
        of_region = {"dataset": str(self.dataset.pk), "field": self.ids["region"]}
        values = self.look("dashboard-number-values", self.dashboard.pk, **of_region, find="south")
        self.assertContains(values, 'value="South Banks"')
        self.assertNotContains(values, "North Reach")
        refused = self.made(field=self.ids["region"], value="Atlantis")
        self.assertIn("No row has “Atlantis” in Region.", refused.json()["message"])
        self.assertEqual(self.made(dataset="gone").status_code, 422)
        self.assertEqual(self.made(measure={"field": "gone", "aggregate": "sum"}).status_code, 422)


class Pictures(DashboardTest):
    def setUp(self):
        super().setUp()
        self.picture = receive(self.analyst, "Quay.png", PNG)
        change = {"edit": "add_block", "id": "quay", "kind": "image", "picture": "quay", "text": "The quay at dawn"}
        definition = apply_edit(self.dashboard.load_draft(), change)
        services.save_draft(self.analyst, self.dashboard, definition, "Season", self.dashboard.revision)
        publishing.publish(self.analyst, self.dashboard)
        self.dashboard.refresh_from_db()

    def address(self, **query):
        page = self.look("dashboard", self.dashboard.pk, **query).content.decode()
        return re.search(r'class="block-picture"\s+src="([^"]+)"\s+alt="The quay at dawn"', page)[1]

    def test_what_is_published_stays_as_it_was(self):
        published = self.address()
        told = self.look("dashboard-before-publishing", self.dashboard.pk)
        self.assertContains(told, "Nothing: the draft is as they see it now.")
        receive(self.analyst, "Quay.png", PNG + b" anew")
        self.assertEqual(self.client.get(published).content, PNG)
        self.assertEqual(self.client.get(self.address(draft="1")).content, PNG + b" anew")
        told = self.look("dashboard-before-publishing", self.dashboard.pk)
        self.assertContains(told, "its picture changes")
        delete(self.analyst, self.picture)
        self.assertEqual(self.client.get(published).content, PNG)

    def test_in_the_editor_one_that_is_gone_is_told(self):
        delete(self.analyst, self.picture)
        data = {"definition": self.dashboard.draft, "blocks": ["quay"]}
        face = self.ask("dashboard-faces", self.dashboard.pk, data=data).json()["faces"]["quay"]
        self.assertIn("The picture “quay” is gone.", face)


class OnATelephone(DashboardTest):
    def change(self, **change):
        definition = apply_edit(self.dashboard.load_draft(), change)
        services.save_draft(self.analyst, self.dashboard, definition, "Season", self.dashboard.revision)
        self.dashboard.refresh_from_db()

    def test_blocks_have_an_order_heights_and_may_be_hidden(self):
        self.change(edit="move_on_narrow", block="title", to=0)
        self.change(edit="set_on_narrow", block="bars", height=300)
        self.change(edit="set_on_narrow", block="count", hidden=True)
        page = self.look("dashboard", self.dashboard.pk, draft="1").content.decode()
        self.assertIn("#block-title { order: 0 }", page)
        self.assertIn("#block-bars { order: 1; height: 300px; min-height: 0 }", page)
        self.assertIn("#block-count { display: none }", page)
        data = {"definition": self.dashboard.draft, "page": "p1"}
        listed = self.ask("dashboard-narrow", self.dashboard.pk, data=data).content.decode()
        names = re.findall(r'data-narrow-block="(\w+)"', listed)
        self.assertEqual(names, ["title", "bars", "count", "words"])

    def test_the_draft_is_framed_by_the_editor_only(self):
        answer = self.look("dashboard", self.dashboard.pk, draft="1")
        self.assertEqual(answer["X-Frame-Options"], "SAMEORIGIN")
        self.assertIn("frame-ancestors 'self'", answer["Content-Security-Policy"])
        self.assertContains(answer, "Draft")
        services.grant(self.analyst, self.dashboard, f"person-{self.explorer.pk}", "view", download=False)
        self.as_(self.explorer)
        self.assertEqual(self.look("dashboard", self.dashboard.pk, draft="1").status_code, 404)


class OnPaper(DashboardTest):
    def asked(self, **change):
        if change:
            definition = apply_edit(self.dashboard.load_draft(), change)
            services.save_draft(self.analyst, self.dashboard, definition, "Season", self.dashboard.revision)
            self.dashboard.refresh_from_db()
        data = {"definition": self.dashboard.draft, "page": "p1"}
        return self.ask("dashboard-paper", self.dashboard.pk, data=data).json()

    def test_what_a_sheet_would_cut_has_ways_out(self):
        answer = self.asked(edit="size_block", block="count", w=6, h=15)
        self.assertEqual(answer["begins"], [14])
        self.assertIn("Begin a new sheet before it", answer["html"])
        self.assertIn('data-h="14"', answer["html"])
        answer = self.asked(edit="set_on_paper", block="count", goes_on=True)
        self.assertNotIn("would be cut", answer["html"])
        self.assertIn("Set by hand: Sailings", " ".join(answer["html"].split()))

    def test_readers_print_on_that_paper(self):
        paper = {"size": "A3", "direction": "lying", "header": 'Season, {page} "<b>\\', "footer": "Data to {date}"}
        self.asked(edit="set_paper", paper=paper)
        self.asked(edit="set_on_paper", block="words", breaks=True)
        page = self.look("dashboard", self.dashboard.pk, draft="1").content.decode()
        self.assertIn("@page { size: 420mm 297mm; margin: 14mm;", page)
        self.assertIn("#block-words { break-before: page }", page)
        self.assertIn('content: "Season\\00002c\\000020Page', page)
        self.assertIn("14\\000020Feb\\0000202026", page)
        self.assertNotIn("<b>", page.split("</style>")[0])

    def test_no_name_gets_into_the_styles(self):
        draft = self.dashboard.draft
        draft["pages"][0]["breaks"] = ["x } </style><script>alert(1)</script>"]
        draft["pages"][0]["narrow"]["order"] = ["y } </style><script>alert(2)</script>"]
        data = {"definition": draft, "name": "Season", "revision": self.dashboard.revision}
        self.ask("dashboard-draft", self.dashboard.pk, data=data)
        page = self.look("dashboard", self.dashboard.pk, draft="1").content.decode()
        self.assertNotIn("<script>alert", page)


class Publishing(DashboardTest):
    """What changes for readers, from when on, and what is taken back."""

    def change(self, **change):
        definition = apply_edit(self.dashboard.load_draft(), change)
        services.save_draft(self.analyst, self.dashboard, definition, "Season", self.dashboard.revision)
        self.dashboard.refresh_from_db()

    def before(self):
        return self.look("dashboard-before-publishing", self.dashboard.pk)

    def publish(self, **more):
        return self.ask("dashboard-publish", self.dashboard.pk, data=more)

    def seen(self):
        """The version that readers see."""
        self.dashboard.refresh_from_db()
        return self.dashboard.published and self.dashboard.published.number

    def test_what_changes_is_told_before(self):
        self.assertContains(self.before(), "Nothing: the draft is as they see it now.")
        self.change(edit="set_look", block="bars", title="Takings", look={})
        self.change(edit="size_block", block="count", w=3, h=2)
        self.change(edit="add_block", id="later", kind="place", text="Winter")
        told = self.before()
        self.assertContains(told, "Takings</strong>its title changes")
        self.assertContains(told, "Sailings</strong>its place changes")
        self.assertContains(told, 'data-now="bars"')
        self.assertContains(told, "1 empty place is not shown")
        self.assertContains(told, "mini-chart")

    def test_a_chart_that_was_saved_anew_changes_its_blocks(self):
        chart = self.dashboard.load_draft().block("bars").chart
        chart = Chart.objects.get(pk=chart)
        charts.save_chart(self.analyst, chart, chart.load().model_copy(update={"title": "New"}), chart.revision)
        self.assertContains(self.before(), "its chart changes")

    def test_a_version_is_published_at_its_time(self):
        tomorrow = timezone.localdate() + dt.timedelta(days=1)
        self.assertEqual(self.publish(note="Winter", day=tomorrow.isoformat(), time="06:00").status_code, 200)
        self.assertEqual(self.seen(), 1)
        version = Publication.objects.get(number=2)
        self.assertEqual((version.note, timezone.localtime(version.due_at).hour), ("Winter", 6))
        self.assertContains(self.before(), "Version 2 waits for")
        self.assertEqual(publishing.publish_due(), 0)
        self.assertEqual(publishing.publish_due(version.due_at), 1)
        self.assertEqual(publishing.publish_due(version.due_at), 0)
        self.assertEqual(self.seen(), 2)

    def test_one_waits_at_most_and_can_be_stopped(self):
        day = (timezone.localdate() + dt.timedelta(days=2)).isoformat()
        self.publish(day=day)
        self.publish(day=day)
        self.assertEqual(list(Publication.objects.filter(due_at__isnull=False).values_list("number", flat=True)), [3])
        self.client.post(reverse("dashboard-not-later", args=[self.dashboard.pk, 3]))
        self.assertFalse(Publication.objects.filter(due_at__isnull=False).exists())

    def test_times_that_cannot_be_are_told(self):
        self.assertIn("That time has passed.", self.publish(day="2020-01-01").json()["message"])
        self.assertIn("A time has no day.", self.publish(time="06:00").json()["message"])
        self.assertEqual(self.publish(day="soon").status_code, 422)

    def test_it_is_taken_back_and_annotated(self):
        self.client.post(reverse("dashboard-annotate", args=[self.dashboard.pk, 1]), {"note": "The first"})
        self.assertEqual(Publication.objects.get(number=1).note, "The first")
        self.client.post(reverse("dashboard-take-back", args=[self.dashboard.pk]))
        self.assertIsNone(self.seen())
        services.grant(self.analyst, self.dashboard, f"person-{self.explorer.pk}", "view", download=False)
        self.as_(self.explorer)
        self.assertEqual(self.look("dashboard", self.dashboard.pk).status_code, 404)


class Favourites(DashboardTest):
    def home(self):
        return self.client.get(reverse("home"))

    def test_what_is_starred_stands_first_at_home_and_only_for_who_starred_it(self):
        self.assertNotContains(self.home(), "Starred")
        self.assertTrue(self.ask("dashboard-star", self.dashboard.pk).json()["starred"])
        self.assertContains(self.home(), "Starred")
        self.assertContains(self.look("dashboard", self.dashboard.pk), 'aria-pressed="true"')
        self.as_(self.steward)
        self.assertNotContains(self.home(), "Starred")
        self.as_(self.analyst)
        self.assertFalse(self.ask("dashboard-star", self.dashboard.pk).json()["starred"])
        self.assertNotContains(self.home(), "Starred")

    def test_what_was_seen_last_is_listed_while_it_may_be_seen(self):
        services.grant(self.analyst, self.dashboard, f"person-{self.explorer.pk}", "view", download=False)
        self.as_(self.explorer)
        self.look("dashboard", self.dashboard.pk)
        self.assertContains(self.home(), "Seen last")
        first = Seen.objects.get().at
        self.look("dashboard", self.dashboard.pk)
        self.assertEqual(Seen.objects.get().at, first)
        services.grant(self.analyst, self.dashboard, f"person-{self.explorer.pk}", "", download=False)
        self.assertNotContains(self.home(), "Season")
        self.assertEqual(self.ask("dashboard-star", self.dashboard.pk).status_code, 404)

    def test_pictures_show_what_draws_each_block(self):
        self.assertContains(self.home(), 'class="mini-glyph"', 2)
        self.dashboard.published.definition["pages"][0]["blocks"][0]["definition"]["version"] = 9
        self.dashboard.published.save()
        publications.clear()
        made.clear()
        self.assertContains(self.home(), 'class="mini-glyph"', 1)

    def test_data_that_failed_stands_first(self):
        other = import_now(self.analyst, "port,berths\nTern,3\n", "Ports.csv")
        Refresh.objects.filter(dataset=self.dataset).update(state=Refresh.State.FAILED)
        page = self.home().content.decode()
        self.assertLess(page.index(self.dataset.name), page.index(other.name))
        self.assertContains(self.home(), "failed")

"""Dashboards: read, edited, shared."""

from __future__ import annotations

import json
import threading
from unittest import mock

import polars as pl
from django.core.exceptions import PermissionDenied
from django.db import connection
from django.test.utils import CaptureQueriesContext
from django.urls import reverse

from tests.core.support import one_page
from tests.web.dashboard_support import DashboardTest
from tests.web.support import import_now, spaced_alike
from veduta.core.dashboard.definition import load_dashboard
from veduta.core.errors import VedutaError
from veduta.web.catalogue.services import update_field
from veduta.web.charts import services as charts
from veduta.web.dashboards import publishing, services
from veduta.web.dashboards.models import Dashboard, Publication, publications
from veduta.web.datasets.models import Dataset


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
        control = services.make_control(dataset, at).model_copy(update={"id": "at"})
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
            "data-selection",
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

    def test_all_blocks_come_in_one_answer(self):
        trail, *blocks = self.lines()
        self.assertIn("trail", trail)
        self.assertEqual(
            {each["block"]: each["data"] for each in blocks},
            {name: self.block(name).json() for name in ("bars", "count")},
        )

    def test_what_is_ready_is_sent_before_a_slow_block_is(self):
        held = threading.Event()
        self.addCleanup(held.set)

        def slowly(lazily: pl.LazyFrame, **more) -> pl.DataFrame:
            # The bars are the only ones that form groups.
            if "AGGREGATE" in lazily.explain():
                held.wait(20)
            return collect(lazily, **more)

        collect = pl.LazyFrame.collect
        with mock.patch.object(pl.LazyFrame, "collect", slowly):
            pieces = iter(self.look("dashboard-blocks", self.dashboard.pk).streaming_content)
            came = (json.loads(piece) for piece in pieces if piece)
            self.assertEqual([next(came).get("block", "trail"), next(came)["block"]], ["trail", "count"])
            self.assertEqual(next(pieces), b"", "what came is sent now")
            held.set()
            self.assertEqual([each["block"] for each in came], ["bars"])

    def test_a_fault_in_one_block_is_said_in_its_line_only(self):
        with (
            mock.patch("veduta.web.dashboards.session.render_rows"),
            mock.patch(
                "veduta.web.charts.drawn.make_chart_data",
                side_effect=[RuntimeError("secret"), {"title_look": {"hidden": False}, "notes": []}],
            ),
        ):
            _, first, second = self.lines()
        self.assertEqual(first["problem"], "This block could not be worked out because of a fault on our side.")
        self.assertIn("data", second)

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
        key = self.ask("dashboard-long-state", self.dashboard.pk, data={"state": state}).json()["key"]
        self.assertEqual(self.ask("dashboard-long-state", self.dashboard.pk, data={"state": state}).json()["key"], key)
        answer = self.look("dashboard-block", self.dashboard.pk, "count", k=key)
        self.assertIn(">1<", spaced_alike(answer.json()["html"]))
        page = self.client.get(reverse("dashboard", args=[self.dashboard.pk]), {"k": key})
        self.assertContains(page, f'"key": "{key}"')
        gone = self.client.get(reverse("dashboard", args=[self.dashboard.pk]), {"k": "nothing"})
        self.assertContains(gone, "The dashboard is shown without them.")
        for wrong in (None, {"controls": {"region": {"values": [{}]}}}, {"controls": {"region": {"values": many * 2}}}):
            answer = self.ask("dashboard-long-state", self.dashboard.pk, data={"state": wrong})
            self.assertEqual(answer.status_code, 422)
        with mock.patch.object(services, "VIEWS_KEPT", 1):
            other = self.ask("dashboard-long-state", self.dashboard.pk, data={"state": {"controls": {}}}).json()["key"]
        self.assertEqual([kept.key for kept in self.dashboard.long_states.all()], [other])

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
        self.assertIn("Steward changed this dashboard meanwhile.", conflict.json()["message"])

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
        self.assertEqual((placed.chart, placed.x, placed.y), (str(chart.pk), 6, 4))
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
        state = services.SavedState(definition, "x")
        for action in (
            lambda: services.create_dashboard(self.explorer),
            lambda: services.save_draft(self.explorer, self.dashboard, definition, "x", 1),
            lambda: publishing.publish(self.explorer, self.dashboard),
            lambda: publishing.bring_back(self.explorer, self.dashboard, 1, "draft"),
            lambda: services.edit_draft(self.explorer, self.dashboard, {"edit": "set_own"}),
            lambda: services.duplicate_dashboard(self.explorer, self.dashboard),
            lambda: services.merge_draft(self.explorer, self.dashboard, state, 1, [state]),
            lambda: services.delete_dashboard(self.explorer, self.dashboard),
            lambda: services.restore_dashboard(self.explorer, self.dashboard),
            lambda: services.grant(self.explorer, self.dashboard, f"person-{self.explorer.pk}", "edit", True),
        ):
            with self.assertRaises(PermissionDenied):
                action()

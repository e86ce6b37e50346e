"""Empty places that are given to colleagues, and the inbox in which they find them."""

from __future__ import annotations

import datetime as dt

from django.urls import reverse

from tests.web.support import WebTest
from veduta.core.dashboard.edits import apply_edit
from veduta.web.accounts.models import User
from veduta.web.dashboards import services
from veduta.web.dashboards.models import Task


class Tasks(WebTest):
    @classmethod
    def setUpTestData(cls):
        super().setUpTestData()
        cls.make_dashboard()

    def setUp(self):
        super().setUp()
        self.change(edit="add_block", id="winter", kind="place", text="The winter by month")
        self.colleague = User.objects.create_user("quay", password="x", role=User.Role.ANALYST, first_name="Mara")
        self.as_(self.analyst)

    def change(self, **change):
        definition = apply_edit(self.dashboard.load_draft(), change)
        services.save_draft(self.analyst, self.dashboard, definition, "Season", self.dashboard.revision)
        self.dashboard.refresh_from_db()

    def give(self, block="winter", colleague=None, **more):
        data = {"block": block, "colleague": (colleague or self.colleague).pk, **more}
        return self.ask("dashboard-give", self.dashboard.pk, data=data)

    def face(self, block="winter"):
        data = {"definition": self.dashboard.draft, "blocks": [block]}
        faces = self.ask("dashboard-faces", self.dashboard.pk, data=data).json()["faces"]
        return " ".join(faces[block].split())

    def inbox(self):
        return self.client.get(reverse("inbox"))

    def test_a_colleague_finds_it_fills_the_place_and_both_see_it(self):
        answer = self.give(words="Winter fares", due="2026-12-04")
        self.assertIn("Mara is asked for “Winter fares”.", answer.json()["message"])
        self.assertIn("by 4 Dec 2026", self.face())
        self.assertContains(self.inbox(), "Winter fares")
        chart = self.make_chart("Winter")
        self.as_(self.colleague)
        self.assertContains(self.inbox(), 'class="count">1<')
        placed = self.ask("dashboard-place", self.dashboard.pk, data={"chart": str(chart.pk), "place": "winter"})
        self.assertEqual(placed.json()["address"], reverse("inbox"))
        self.assertContains(self.inbox(), "Nobody waits for you.")
        self.dashboard.refresh_from_db()
        block = self.dashboard.load_draft().find_block("winter")
        self.assertEqual((block.kind, block.chart), ("chart", str(chart.pk)))
        self.as_(self.analyst)
        self.assertContains(self.inbox(), "done")

    def test_whoever_was_not_asked_may_not_fill_it(self):
        chart = self.make_chart("Winter")
        data = {"chart": str(chart.pk), "place": "winter"}
        self.as_(self.colleague)
        self.assertEqual(self.ask("dashboard-place", self.dashboard.pk, data=data).status_code, 404)
        self.as_(self.analyst)
        self.give()
        self.as_(self.colleague)
        other = data | {"place": "bars"}
        self.assertEqual(self.ask("dashboard-place", self.dashboard.pk, data=other).status_code, 404)

    def test_it_is_handed_back_with_words_and_given_anew(self):
        self.give()
        self.assertEqual(Task.objects.get().words, "The winter by month")
        self.assertIn("Mara has this place already.", self.give(colleague=self.steward).json()["message"])
        self.as_(self.colleague)
        task = Task.objects.get()
        self.client.post(reverse("task-hand-back", args=[task.pk]), {"answer": "No data yet"})
        self.as_(self.analyst)
        self.assertIn("Mara handed it back: “No data yet”", self.face())
        self.assertEqual(self.give(colleague=self.steward).status_code, 200)
        again = self.client.post(reverse("task-withdraw", args=[task.pk]))
        self.assertEqual(again.status_code, 422)

    def test_only_who_asked_and_who_is_asked_end_it(self):
        self.give()
        task = Task.objects.get()
        self.assertEqual(self.client.post(reverse("task-hand-back", args=[task.pk])).status_code, 403)
        self.as_(self.colleague)
        self.assertEqual(self.client.post(reverse("task-withdraw", args=[task.pk])).status_code, 403)
        self.as_(self.analyst)
        self.client.post(reverse("task-withdraw", args=[task.pk]))
        self.assertEqual(Task.objects.get().state, "withdrawn")

    def test_what_cannot_be_given_is_told(self):
        for given, words in (
            ({"block": "bars"}, "no empty place"),
            ({"block": "gone"}, "no empty place"),
            ({"colleague": self.explorer}, "cannot make charts"),
            ({"colleague": self.analyst}, "cannot make charts"),
        ):
            with self.subTest(given):
                answer = self.give(**given)
                self.assertEqual(answer.status_code, 422)
                self.assertIn(words, answer.json()["message"])
        self.change(edit="set_block", block="winter", text="")
        self.assertIn("not said what is wanted", self.give().json()["message"])

    def test_what_the_editor_does_with_the_place_ends_the_task(self):
        for change, state in (
            ({"edit": "fill_place", "block": "winter", "kind": "text", "text": "Soon"}, "done"),
            ({"edit": "remove_blocks", "blocks": ["winter"]}, "withdrawn"),
        ):
            with self.subTest(change):
                Task.objects.all().delete()
                before = self.dashboard.load_draft()
                self.give()
                self.change(**change)
                self.assertEqual(Task.objects.get().state, state)
                services.save_draft(self.analyst, self.dashboard, before, "Season", self.dashboard.revision)
                self.dashboard.refresh_from_db()

    def test_what_is_late_is_said(self):
        self.give(due=(dt.date.today() - dt.timedelta(days=3)).isoformat())
        self.assertIn("which was due", self.face())


class Beginning(WebTest):
    def test_the_editor_offers_arrangements_and_those_of_pages_there_are(self):
        self.make_dashboard()
        self.as_(self.analyst)
        page = self.client.get(reverse("dashboard-edit", args=[self.dashboard.pk]))
        self.assertContains(page, 'data-start="executive"', 2)  # on an empty page, and in a dialog
        self.assertContains(page, "As a page you have is arranged", 2)
        self.assertContains(page, "mini-place")

    def test_the_editors_lists_come_when_they_are_opened(self):
        self.make_dashboard()
        self.as_(self.analyst)
        charts = self.look("dashboard-charts-to-add", self.dashboard.pk)
        self.assertContains(charts, 'class="kind-glyph', 2)
        fields = self.look("dashboard-control-fields", self.dashboard.pk)
        self.assertContains(fields, f'data-close="{self.dataset.pk} {self.ids["region"]}"')

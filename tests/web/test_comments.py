"""What people say of dashboards, and whom it concerns."""

from __future__ import annotations

from django.urls import reverse

from tests.web.dashboard_support import DashboardTest
from veduta.web.dashboards.models import Comment, publications
from veduta.web.modelling.changes import change_model


class Comments(DashboardTest):
    @classmethod
    def setUpTestData(cls):
        super().setUpTestData()
        cls.grant()

    def say(self, text, **more):
        return self.ask("dashboard-comment-say", self.dashboard.pk, data={"text": text, **more})

    def said(self, text, **more) -> Comment:
        self.assertEqual(self.say(text, **more).status_code, 200)
        return Comment.objects.get(text=text)

    def listed(self):
        return self.look("dashboard-comments", self.dashboard.pk)

    def change(self, comment, what="change", **changes):
        return self.ask(f"dashboard-comment-{what}", self.dashboard.pk, comment.pk, data=changes)

    def inbox(self):
        return self.client.get(reverse("inbox"))


class Talking(Comments):
    def test_a_thread_is_begun_answered_and_settled(self):
        begun = self.said("Why so low?", block="bars")
        self.as_(self.explorer)
        self.said("A storm.", thread=str(begun.pk))
        page = self.listed()
        self.assertContains(page, "Why so low?")
        self.assertContains(page, "A storm.")
        self.assertRegex(self.look("dashboard", self.dashboard.pk).content.decode(), r'"commentCount"\s*>1<')
        self.change(begun, resolved=True)
        self.assertContains(self.listed(), "1 thread is settled")
        self.said("Not quite.", thread=str(begun.pk))
        self.assertNotContains(self.listed(), "is settled")

    def test_only_who_wrote_one_changes_it_and_it_comes_back(self):
        comment = self.said("First")
        self.change(comment, text="Second")
        self.assertContains(self.listed(), "edited")
        self.as_(self.explorer)
        self.assertEqual(self.change(comment, text="Third").status_code, 403)
        self.assertEqual(self.change(comment, "delete").status_code, 403)
        self.as_(self.analyst)
        self.client.post(self.change(comment, "delete").json()["undo"])
        self.assertContains(self.listed(), "Second")
        self.change(comment, "delete")
        self.assertNotContains(self.listed(), "Second")

    def test_what_cannot_be_said_is_refused(self):
        self.assertIn("is empty", self.say("  ").json()["message"])
        self.assertIn("more than 4,000", self.say("a" * 4_001).json()["message"])
        self.assertEqual(self.say("Here", mark={"block": "bars"}).status_code, 422)
        self.explorer.groups.clear()
        self.as_(self.explorer)
        self.assertEqual(self.say("Mine").status_code, 404)

    def test_markup_is_shown_as_it_was_typed(self):
        self.say("<script>alert(1)</script>")
        self.assertContains(self.listed(), "&lt;script&gt;")


class Concerning(Comments):
    def test_who_is_mentioned_or_takes_part_finds_it_in_the_inbox(self):
        begun = self.said(f"@{self.explorer.label} what do you think?")
        self.as_(self.explorer)
        self.assertContains(self.inbox(), "mentions you")
        self.assertContains(self.inbox(), 'class="count">1<')
        answer = self.said("A storm.", thread=str(begun.pk))
        page = self.client.get(reverse("dashboard-comment", args=[self.dashboard.pk, begun.pk]), follow=True)
        self.assertEqual(page.status_code, 200)
        self.assertNotContains(self.inbox(), 'class="count">')
        self.as_(self.analyst)
        self.assertContains(self.inbox(), "answers")
        self.change(answer, "delete")
        self.as_(self.explorer)
        self.change(answer, "delete")
        self.as_(self.analyst)
        self.assertNotContains(self.inbox(), "answers")

    def test_who_may_not_see_the_dashboard_is_not_told(self):
        self.explorer.groups.clear()
        self.said(f"@{self.explorer.label} look")
        self.as_(self.explorer)
        self.assertNotContains(self.inbox(), "mentions you")

    def test_it_is_seen_as_it_was(self):
        state = {"controls": {"date": None, "region": {"values": ["North Reach"]}}}
        comment = self.said("Here", block="bars", state=state, page="p1")
        self.assertContains(self.listed(), "As it was seen")
        opened = self.client.get(reverse("dashboard-comment", args=[self.dashboard.pk, comment.pk]), follow=True)
        self.assertContains(opened, "<strong>North Reach</strong>")


class Marks(Comments):
    def setUp(self):
        super().setUp()
        mark = {"block": "bars", "by": [{"field": self.ids["region"]}], "points": [["North Reach"]]}
        self.comment = self.said("This one", block="bars", mark=mark)

    def test_it_says_which_mark_it_is_about(self):
        self.assertContains(self.listed(), "Region is North Reach")
        self.assertContains(self.listed(), "data-points")

    def test_not_to_those_who_may_not_see_its_rows(self):
        rule = {"name": "South", "text": "Region = 'South Banks'", "groups": ["Harbour office"]}
        self.dataset = change_model(self.analyst, self.dataset, "save_rule", rule, self.dataset.model_revision)
        self.as_(self.explorer)
        page = self.listed()
        self.assertContains(page, "a mark that you do not see")
        self.assertNotContains(page, "data-points")
        self.assertNotContains(page, "North Reach")

    def test_nor_are_values_told_that_they_may_not_see(self):
        region, route = self.ids["region"], self.ids["route"]
        state = {
            "controls": {"date": None, "region": {"values": ["North Reach", "South Banks"]}},
            "selections": [{"block": "bars", "by": [{"field": region}], "points": [["North Reach"], ["South Banks"]]}],
            "drills": {"bars": [{"to": {"field": route}, "into": ["North Reach"]}]},
        }
        marks = {"block": "bars", "by": [{"field": region}], "points": [["North Reach"], ["South Banks"]]}
        comment = self.said("Both", block="bars", mark=marks, state=state, page="p1")
        view = self.ask(
            "dashboard-keep", self.dashboard.pk, data={"name": "Both", "state": state, "page": "p1"}
        ).json()["key"]
        self.ask("dashboard-kept-give", self.dashboard.pk, view, data={"people": [self.explorer.pk]})
        rule = {"name": "South", "text": "Region = 'South Banks'", "groups": ["Harbour office"]}
        both = {"values": ["North Reach", "South Banks"]}
        publication = self.dashboard.published
        publication.definition["controls"][1]["list"] = both
        publication.definition["filters"] = [
            {"id": "f1", "dataset": str(self.dataset.pk), "filter": {"kind": "list", "field": region, **both}}
        ]
        publication.save()
        publications.clear()  # no other publication ever changes
        opened = ("dashboard-comment", comment.pk), ("dashboard-kept-open", view)
        pages = [self.client.get(reverse(name, args=[self.dashboard.pk, key]), follow=True) for name, key in opened]
        for page in (self.listed(), *pages):
            self.assertContains(page, "North Reach")
        self.dataset = change_model(self.analyst, self.dataset, "save_rule", rule, self.dataset.model_revision)
        self.as_(self.explorer)
        pages = [self.client.get(reverse(name, args=[self.dashboard.pk, key]), follow=True) for name, key in opened]
        for page in (self.listed(), *pages):
            self.assertContains(page, "South Banks")
            self.assertContains(page, "a value that you may not see")
            self.assertNotContains(page, "North Reach")

    def test_one_that_is_gone_is_said(self):
        for gone in ({"block": "gone"}, {"block": "gone", "dashboard": str(self.dashboard.pk)}, {"block": "words"}):
            Comment.objects.update(mark={**gone, "points": [["North Reach"]]})
            self.assertContains(self.listed(), "a mark that is not there any more")
        Comment.objects.update(block="gone")
        self.assertContains(self.listed(), "a block that is not there any more")

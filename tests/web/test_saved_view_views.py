"""Views of a dashboard that readers keep by a name."""

from __future__ import annotations

from django.urls import reverse

from tests.web.dashboard_support import DashboardTest
from veduta.web.dashboards.models import SavedView, publications


class KeptViews(DashboardTest):
    def setUp(self):
        super().setUp()
        self.state = {"controls": {"date": None, "region": {"values": ["North Reach"]}}}

    def keep(self, name="North", state=None, **more):
        sent = {"name": name, "state": state or self.state, **more}
        return self.ask("dashboard-keep", self.dashboard.pk, data=sent)

    def kept(self, name="North", **more) -> str:
        return self.keep(name, **more).json()["key"]

    def change(self, key, what="change", **changes):
        return self.ask(f"dashboard-kept-{what}", self.dashboard.pk, key, data=changes)

    def listed(self):
        return self.look("dashboard-kept", self.dashboard.pk)

    def opened(self, key):
        address = reverse("dashboard-kept-open", args=[self.dashboard.pk, key])
        return self.client.get(address, follow=True)


class Keeping(KeptViews):
    def test_a_view_is_kept_and_opened_by_its_short_link(self):
        kept = self.keep().json()
        page = self.client.get(kept["link"], follow=True)
        self.assertContains(page, "<strong>North Reach</strong>")
        self.assertContains(self.listed(), "North")
        self.assertEqual(set(self.values(kept=kept["key"])), {"North Reach"}, "its blocks are asked for by its key")

    def test_names_are_there_and_differ(self):
        self.keep()
        for name, words in (("  ", "no name"), ("North", "called “North”")):
            answer = self.keep(name)
            self.assertEqual(answer.status_code, 422)
            self.assertIn(words, answer.json()["message"])
        self.assertEqual(SavedView.objects.count(), 1)

    def test_it_is_renamed_and_kept_as_it_is_now(self):
        key = self.kept()
        self.change(key, name="Far north")
        self.change(key, state={"controls": {"date": None, "region": {"values": ["South Banks"]}}})
        self.assertContains(self.listed(), "Far north")
        self.assertEqual(set(self.values(kept=key)), {"South Banks"})

    def test_the_usual_one_is_shown_where_none_is_asked_for(self):
        address = reverse("dashboard", args=[self.dashboard.pk])
        first, second = self.kept(), self.kept("Other")
        self.change(first, usual=True)
        self.change(second, usual=True)
        self.assertIn(f"kept={second}", self.client.get(address, follow=True).request["QUERY_STRING"])
        self.assertEqual(self.client.get(address, {"v": "{}"}).status_code, 200)
        self.change(second, usual=False)
        self.assertEqual(self.client.get(address).status_code, 200)

    def test_one_that_was_deleted_is_not_the_usual_one_not_even_when_it_comes_back(self):
        address, key = reverse("dashboard", args=[self.dashboard.pk]), self.kept()
        self.change(key, usual=True)
        self.change(key, "delete")
        self.assertEqual(self.client.get(address).status_code, 200, "the plain dashboard is shown")
        self.change(key, "restore")
        self.assertEqual(self.client.get(address).status_code, 200)

    def test_one_that_was_deleted_comes_back(self):
        key = self.kept()
        answer = self.change(key, "delete").json()
        self.assertEqual(self.opened(key).status_code, 404)
        self.kept("North")
        self.assertEqual(self.client.post(answer["undo"]).status_code, 422, "its name is another's by now")
        self.change(self.kept("Third"), "delete")
        other = SavedView.objects.get(name="Third")
        self.change(other.key, "restore")
        self.assertContains(self.listed(), "Third")

    def test_what_is_gone_is_said_and_left_out(self):
        selection = {"block": "bars", "by": [{"field": self.ids["region"]}], "points": [["North Reach"]]}
        key = self.kept(state={**self.state, "selections": [selection]})
        publication = self.dashboard.published
        publication.definition["controls"] = publication.definition["controls"][:1]
        publication.definition["pages"][0]["blocks"] = publication.definition["pages"][0]["blocks"][1:]
        publication.save()
        publications.clear()  # no other publication ever changes
        page = self.opened(key)
        self.assertContains(page, "is shown without it: Region: North Reach; Region is North Reach.")


class Giving(KeptViews):
    def setUp(self):
        super().setUp()
        self.key = self.kept()
        self.grant()

    def give(self, *people, everybody=False):
        return self.change(self.key, "give", people=[each.pk for each in people], for_everybody=everybody)

    def test_it_is_private_at_first(self):
        self.as_(self.explorer)
        self.assertEqual(self.opened(self.key).status_code, 404)
        self.assertNotContains(self.listed(), "Given to you")

    def test_it_is_given_to_people_who_may_see_the_dashboard(self):
        self.assertContains(self.look("dashboard-kept-people", self.dashboard.pk, self.key), self.explorer.label)
        self.give(self.explorer)
        self.as_(self.explorer)
        self.assertContains(self.opened(self.key), "<strong>North Reach</strong>")
        self.assertContains(self.listed(), "Given to you")
        self.assertEqual(self.change(self.key, name="Mine").status_code, 404, "others do not change it")

    def test_whom_it_is_given_to_finds_it_in_the_inbox_until_it_is_opened(self):
        self.give(self.explorer)
        self.as_(self.explorer)
        page = self.client.get(reverse("inbox"))
        self.assertContains(page, "Analyst gives you the view “North” of Season")
        self.assertContains(page, 'font-semibold"')
        self.opened(self.key)
        self.assertNotContains(self.client.get(reverse("inbox")), 'font-semibold"')
        self.as_(self.analyst)
        self.give()
        self.as_(self.explorer)
        self.assertNotContains(self.client.get(reverse("inbox")), "gives you the view")

    def test_it_is_given_to_everybody(self):
        self.give(everybody=True)
        self.as_(self.explorer)
        self.assertEqual(self.opened(self.key).status_code, 200)

    def test_it_is_not_given_to_those_who_may_not_see_the_dashboard(self):
        self.explorer.groups.clear()
        self.give(self.explorer)
        self.assertEqual(list(SavedView.objects.get().given_to.all()), [])
        self.as_(self.explorer)
        self.assertEqual(self.opened(self.key).status_code, 404)

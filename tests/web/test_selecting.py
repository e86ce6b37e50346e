"""What readers have selected: what can be done with it, and its values put together."""

from __future__ import annotations

import json

from django.urls import reverse

from tests.web.dashboard_support import DashboardTest


class Selecting(DashboardTest):
    def setUp(self):
        super().setUp()
        self.region = {"field": self.ids["region"]}

    def state(self, *regions, **more):
        chosen = {"block": "bars", "by": [self.region], "points": [[region] for region in regions], **more}
        return {"controls": {"date": None}, "selections": [chosen]}

    def opened(self, state, number=0, view="dashboard-selection", **query):
        address = reverse(view, args=[self.dashboard.pk, number])
        return self.client.get(address, {"v": json.dumps(state), **query})

    def test_its_values_and_what_can_be_done_with_them(self):
        shown = self.opened(self.state("North Reach", "South Banks", mode="leave_out"))
        self.assertContains(shown, "North Reach")
        self.assertContains(shown, 'data-without="1"')
        self.assertContains(shown, "Put together")
        self.assertContains(shown, "Rows behind")
        one = self.opened(self.state("North Reach"))
        self.assertNotContains(one, "data-without")
        self.assertNotContains(one, "Put together")

    def test_values_are_put_together_in_their_block(self):
        state = self.state("North Reach", "South Banks")
        step = self.opened(state, view="dashboard-together", name="Coast").json()
        self.assertEqual(step["block"], "bars")
        before = self.values(state={"controls": {"date": None}})
        after = self.values(state={"controls": {"date": None}, "drills": {"bars": [step["step"]]}})
        self.assertAlmostEqual(after.pop("Coast"), before.pop("North Reach") + before.pop("South Banks"))
        self.assertEqual(after, before)

    def test_what_is_set_off_narrows_nothing(self):
        plain = self.block("count", state={"controls": {"date": None}}).json()["html"]
        state = self.state("North Reach", mode="highlight")
        self.assertEqual(self.block("count", state=state).json()["html"], plain)
        page = self.look("dashboard", self.dashboard.pk, v=json.dumps(state))
        self.assertContains(page, "set off")
        self.assertEqual({row["name"] for row in self.block(state=state).json()["rows"] if row["on"]}, {"North Reach"})

    def test_one_that_is_not_there_is_not_found(self):
        self.assertEqual(self.opened(self.state("North Reach"), number=1).status_code, 404)
        gone = self.state("North Reach", block="gone")
        self.assertEqual(self.opened(gone).status_code, 404)
        self.assertEqual(self.opened(gone, view="dashboard-together").status_code, 404)

    def test_marks_of_a_column_are_selected_by_its_values_alone(self):
        publication = self.dashboard.published
        definition = publication.definition["pages"][0]["blocks"][0]["definition"]
        definition |= {"kind": "crosstab", "split": {"field": self.ids["route"]}}
        publication.save()
        html = self.block(state={"controls": {"date": None}}).json()["html"]
        self.assertIn('data-across="{&quot;from&quot;: 1, &quot;point&quot;:', html)
        self.assertIn('data-point="[&quot;North Reach&quot;]"', html)

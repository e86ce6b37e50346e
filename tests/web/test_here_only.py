"""A chart that is changed in one block of a dashboard only."""

from __future__ import annotations

from django.urls import reverse

from tests.web.dashboard_support import DashboardTest
from veduta.web.charts import services as charts
from veduta.web.charts.models import Chart
from veduta.web.dashboards import publishing


class HereOnly(DashboardTest):
    def setUp(self):
        super().setUp()
        self.chart = Chart.objects.get(pk=self.dashboard.load_draft().find_block("bars").chart)
        north = {"kind": "list", "field": self.ids["region"], "values": ["North Reach"]}
        self.north = {"only": [north]}

    def keep(self, block="bars", **parts):
        definition = self.chart.load().model_dump(mode="json") | parts
        return self.ask("dashboard-here-keep", self.dashboard.pk, block, data={"definition": definition})

    def kept(self, **parts):
        answer = self.keep(**parts)
        self.assertEqual(answer.status_code, 200, answer.content)
        self.dashboard.refresh_from_db()
        return answer.json()

    def listed(self, block="bars"):
        data = {"definition": self.dashboard.draft, "block": block}
        return self.ask("dashboard-others-here", self.dashboard.pk, data=data)

    def all_of(self, **query):
        return self.values(state={"controls": {"date": None}}, **query)

    def test_it_holds_in_its_block_and_leaves_the_chart_as_it_is(self):
        address = self.kept(**self.north)["address"]
        self.assertEqual(address, f"{reverse('dashboard-edit', args=[self.dashboard.pk])}#block-bars")
        self.assertEqual(set(self.all_of(draft="1")), {"North Reach"})
        self.assertEqual(self.chart.load().only, ())
        self.assertGreater(len(self.all_of()), 1, "readers see it once it is published")
        publishing.publish(self.analyst, self.dashboard)
        self.assertEqual(set(self.all_of()), {"North Reach"})

    def test_later_changes_of_the_chart_come_along(self):
        self.kept(**self.north)
        changed = self.chart.load().model_copy(update={"note": "From the tills"})
        charts.save_chart(self.analyst, self.chart, changed, self.chart.revision)
        data = self.block(draft="1", state={"controls": {"date": None}}).json()
        self.assertEqual((data["note"], [row["name"] for row in data["rows"]]), ("From the tills", ["North Reach"]))

    def test_the_workbench_opens_with_it_and_offers_the_way_back(self):
        self.kept(title="Fares up north", **self.north)
        page = self.look("dashboard-here", self.dashboard.pk, "bars")
        self.assertContains(page, "Keep it here only")
        self.assertContains(page, f"{reverse('dashboard-edit', args=[self.dashboard.pk])}#block-bars")
        self.assertContains(page, "Fares up north")
        self.assertContains(page, "North Reach")
        self.assertEqual(self.dashboard.load_draft().find_block("bars").title, "Fares up north")

    def test_what_differs_is_listed_in_words_and_taken_away(self):
        self.assertContains(self.listed(), "as it is saved")
        self.kept(kind="line", **self.north)
        self.assertContains(self.listed(), "Its filters")
        self.assertContains(self.listed(), "region is North Reach")
        self.assertContains(self.listed(), 'data-drop-own="kind"')
        face = self.ask(
            "dashboard-faces", self.dashboard.pk, data={"definition": self.dashboard.draft, "blocks": ["bars"]}
        )
        self.assertIn("2 changes here only", face.json()["faces"]["bars"])
        self.edited(edit="drop_own", block="bars")
        self.assertContains(self.listed(), "as it is saved")

    def test_what_does_not_fit_any_more_says_so_and_can_be_taken_away(self):
        self.kept(**self.north)
        self.dashboard.draft["pages"][0]["blocks"][0]["own"] = {"only": [{"kind": "tide"}]}
        self.dashboard.save()
        problem = self.block(draft="1")
        self.assertEqual(problem.status_code, 422)
        self.assertIn("does not fit this chart any more", problem.json()["message"])
        self.assertContains(self.listed(), 'data-drop-own="only"')

    def test_a_block_that_is_gone_or_has_no_chart_is_not_found(self):
        for block in ("gone", "words"):
            self.assertEqual(self.keep(block).status_code, 404)
            self.assertEqual(self.look("dashboard-here", self.dashboard.pk, block).status_code, 404)

    def test_only_who_may_edit_the_dashboard_does_it(self):
        self.grant("view")
        self.as_(self.explorer)
        self.assertEqual(self.keep(**self.north).status_code, 404)
        self.dashboard.refresh_from_db()
        self.assertEqual(self.dashboard.load_draft().find_block("bars").own, {})

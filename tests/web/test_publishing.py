"""What publishing changes for readers, and what they find at home."""

from __future__ import annotations

import datetime as dt

from django.urls import reverse
from django.utils import timezone

from tests.web.dashboard_support import DashboardTest
from tests.web.support import import_now
from veduta.web.charts import services as charts
from veduta.web.charts.models import Chart
from veduta.web.dashboards import publishing, services
from veduta.web.dashboards.miniatures import made
from veduta.web.dashboards.models import LastVisit, Publication, publications
from veduta.web.datasets.models import Refresh


class Publishing(DashboardTest):
    """What changes for readers, from when on, and what is taken back."""

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
        self.edited(edit="set_look", block="bars", title="Takings", look={})
        self.edited(edit="size_block", block="count", w=3, h=2)
        self.edited(edit="add_block", id="later", kind="place", text="Winter")
        told = self.before()
        self.assertContains(told, "Takings</strong>its title changes")
        self.assertContains(told, "Sailings</strong>its place changes")
        self.assertContains(told, 'data-now="bars"')
        self.assertContains(told, "1 empty place is not shown")
        self.assertContains(told, "mini-chart")

    def test_a_chart_that_was_saved_anew_changes_its_blocks(self):
        chart = self.dashboard.load_draft().find_block("bars").chart
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
        first = LastVisit.objects.get().at
        self.look("dashboard", self.dashboard.pk)
        self.assertEqual(LastVisit.objects.get().at, first)
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

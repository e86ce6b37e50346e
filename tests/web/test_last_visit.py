"""What has changed since somebody last looked."""

from __future__ import annotations

import datetime as dt
import json

from django.urls import reverse

from tests.web.dashboard_support import DashboardTest
from veduta.web.dashboards.models import SeenFigures


class Since(DashboardTest):
    def since(self, **query) -> str:
        address = reverse("dashboard-blocks", args=[self.dashboard.pk])
        lines = b"".join(self.client.get(address, query).streaming_content).splitlines()
        return next((each["since"] for each in map(json.loads, filter(None, lines)) if "since" in each), "")

    def earlier(self, hours: int, value: float | None = None) -> None:
        """As if the last look was so many hours ago, at another value."""
        for looked in SeenFigures.objects.all():
            looked.now_at -= dt.timedelta(hours=hours)
            if value is not None:
                looked.now = {
                    place: {**each, "value": value, "text": f"{value:g}"} for place, each in looked.now.items()
                }
            looked.save()

    def test_what_is_other_than_at_the_last_look_is_said(self):
        self.assertEqual(self.since(), "", "nobody has looked before")
        self.earlier(30, value=-7)
        said = self.since()
        self.assertIn("Sailings", said)
        self.assertIn("was -7", said)
        self.assertEqual(self.since(), said, "and for as long as one looks")

    def test_nothing_is_said_where_nothing_has_changed(self):
        self.since()
        self.earlier(30)
        self.assertEqual(self.since(), "")

    def test_what_is_close_together_is_one_look(self):
        self.since()
        self.earlier(0, value=-7)
        self.assertEqual(self.since(), "")

    def test_each_view_is_looked_at_by_itself_and_what_is_narrowed_besides_is_not_kept(self):
        self.since(v='{"controls": {"date": null}}')
        self.assertEqual(SeenFigures.objects.count(), 0)
        kept = self.ask(
            "dashboard-keep", self.dashboard.pk, data={"name": "All", "state": {"controls": {"date": None}}}
        )
        self.since(kept=kept.json()["key"])
        self.since()
        self.assertEqual(SeenFigures.objects.count(), 2)

    def test_everybody_has_their_own(self):
        self.grant()
        self.since()
        self.earlier(30, value=-7)
        self.as_(self.explorer)
        self.assertEqual(self.since(), "")

from __future__ import annotations

import re

from django.urls import reverse

from tests.web.support import FERRIES, WebTest, import_now, page_of
from veduta.web.charts.models import Chart
from veduta.web.dashboards.services import create_dashboard


class Lists(WebTest):
    def setUp(self):
        super().setUp()
        self.as_(self.analyst)

    def listed(self, name: str, **query) -> list[str]:
        """What the list shows, from the top."""
        page = page_of(self.client.get(reverse(name), query))
        return re.findall(r'aria-label="Choose (?!all)([^"]*)"', page)

    def test_data_sorts_by_any_heading_without_regard_to_capitals(self):
        import_now(self.analyst, "port\nTern\nQuay\n", "boats.csv")
        import_now(self.analyst, FERRIES, "Anchors.csv")
        import_now(self.analyst, "port,fare,day\nTern,1,2026-01-01\n", "crew.csv")
        for sort, rising in (
            ("name", ["Anchors", "Boats", "Crew"]),
            ("rows", ["Crew", "Boats", "Anchors"]),
            ("columns", ["Boats", "Crew", "Anchors"]),
            ("from", ["Anchors", "Boats", "Crew"]),
        ):
            with self.subTest(sort):
                self.assertEqual(self.listed("data", sort=sort), rising)
                self.assertEqual(self.listed("data", sort=sort, descending=1), rising[::-1])
        self.assertEqual(self.listed("data", sort="name", find="r"), ["Anchors", "Crew"])
        self.assertEqual(len(self.listed("data", sort="nothing")), 3)

    def test_charts_sort_and_keep_what_is_searched_for(self):
        for name in ("fares", "Berths", "crew"):
            self.make_chart(name)
        self.assertEqual(self.listed("charts", sort="name"), ["Berths", "crew", "fares"])
        Chart.objects.filter(name="crew").update(updated_by=None)
        self.assertEqual(self.listed("charts", sort="by", descending=1)[-1], "crew")
        self.make_chart("Bed & board")
        page = page_of(self.client.get(reverse("charts"), {"sort": "name", "find": "d & b"}))
        self.assertIn("?sort=name&amp;descending=1&amp;find=d+%26+b", page)
        self.assertIn('aria-sort="ascending"', page)

    def test_dashboards_sort_those_never_published_last(self):
        self.make_dashboard()
        create_dashboard(self.analyst, "a draft")
        self.assertEqual(self.listed("dashboards", sort="name")[0], "a draft")
        for descending in ("", "1"):
            self.assertEqual(self.listed("dashboards", sort="published", descending=descending)[-1], "a draft")

    def test_readers_choose_nothing_to_delete(self):
        self.make_dashboard()
        self.as_(self.explorer)
        self.assertNotContains(self.client.get(reverse("dashboards")), "data-choose")

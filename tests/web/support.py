"""What web tests share: a workspace with people of every role, a small dataset, charts and a published dashboard."""

from __future__ import annotations

import io
import json
import re
import shutil
import tempfile
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import Any

from django.contrib.auth.models import Group
from django.test import TestCase, override_settings
from django.urls import URLPattern, URLResolver, get_resolver, reverse

from veduta.core.cache import clear_caches
from veduta.core.chart.definition import load_definition
from veduta.core.dashboard.definition import load_dashboard
from veduta.demo.islands import generate_sea_areas
from veduta.web.accounts.models import User
from veduta.web.charts import services as charts
from veduta.web.dashboards import publishing
from veduta.web.dashboards import services as dashboards
from veduta.web.datasets.models import Dataset, ShapeSet, Upload
from veduta.web.imports import services as intake
from veduta.web.map_shapes.services import receive_shapes

PASSWORD = "long-enough-word"
FERRIES = """sailing_id,sailed,region,route,fare,passengers,cancelled
1,2026-01-05,North Reach,Harrow–Tern,120.5,40,no
2,2026-01-20,Inner Sound,Stack Point–Quay,80,31,no
3,2026-02-03,North Reach,Harrow–Tern,,0,yes
4,2026-02-14,South Banks,Sallow Ness–Quay,-15.25,12,no
5,2026-02-14,North Reach,Tern–Gull Bank,60,22,no
"""


def list_patterns(patterns: Any = None) -> Iterator[URLPattern]:
    """All addresses of the application."""
    for pattern in patterns or get_resolver().url_patterns:
        if isinstance(pattern, URLResolver):
            yield from list_patterns(pattern.url_patterns)
        else:
            yield pattern


def make_user(username: str, role: str) -> User:
    return User.objects.create_user(username, password=PASSWORD, role=role, first_name=username.capitalize())


def receive(user: User, content: str | bytes, name: str = "ferries.csv", dataset: Dataset | None = None) -> Upload:
    data = content if isinstance(content, bytes) else content.encode()
    return intake.receive(user, io.BytesIO(data), len(data), name, dataset)


def import_now(user: User, content: str | bytes, name: str = "ferries.csv", dataset: Dataset | None = None) -> Dataset:
    upload = receive(user, content, name, dataset)
    intake.start_import(user, upload)
    upload.refresh_from_db()
    assert upload.state == Upload.State.DONE, upload.message
    return Dataset.objects.select_related("current").get(pk=upload.dataset_id)


def page_of(response) -> str:
    """What a page sends, with single spaces, and none at the ends of a tag or of what it holds."""
    content = b"".join(response.streaming_content) if response.streaming else response.content
    return spaced_alike(content.decode(errors="replace"))


def spaced_alike(html: str) -> str:
    text = " ".join(html.split())
    return re.sub(r" ?(/?>|</[a-z0-9]+>) ?", r"\1", re.sub(r"(<[^>]*>) ", r"\1", text))


class Fixture:
    """A method that makes something for all tests of a class (in setUpTestData), or for one of them.

    What it sets stays where it was called on: with the class, or with the one test."""

    def __init__(self, make: Callable[..., Any]) -> None:
        self.make = make

    def __get__(self, test: WebTest | None, owner: type[WebTest]) -> Callable[..., Any]:
        return partial(self.make, owner if test is None else test)


class WebTest(TestCase):
    """Signed in as nobody at first; `as_(user)` changes that. Requests made with `ask` speak JSON as the pages do.

    `setUpTestData` makes rows and files once for all tests of a class; each test gets a copy of the files, so that none
    sees what another one did to them."""

    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.folder = Path(folder.name)
        clear_caches()
        cls.enterClassContext(override_settings(UPLOAD_DIR=cls.folder))
        super().setUpClass()

    @classmethod
    def setUpTestData(cls) -> None:
        cls.steward = make_user("steward", "steward")
        cls.analyst = make_user("analyst", "analyst")
        cls.explorer = make_user("explorer", "explorer")

    def setUp(self) -> None:
        clear_caches()
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        shutil.copytree(self.folder, folder.name, dirs_exist_ok=True)
        self.enterContext(self.settings(UPLOAD_DIR=Path(folder.name)))

    def as_(self, user: User) -> None:
        self.client.force_login(user, backend="django.contrib.auth.backends.ModelBackend")

    def ask(self, name: str, *args: Any, data: Any = None, **query: Any):
        address = reverse(name, args=args)
        if query:
            address += "?" + "&".join(f"{key}={value}" for key, value in query.items())
        return self.client.post(
            address, json.dumps(data or {}), content_type="application/json", headers={"X-Veduta": "1"}
        )

    def look(self, name: str, *args: Any, **query: Any):
        return self.client.get(reverse(name, args=args), query, headers={"X-Veduta": "1"})

    def assertContains(self, response, text, count=None, status_code=200):
        """The page says this, whatever the breaks of its lines and the spaces between and inside its tags."""
        self.assertEqual(response.status_code, status_code)
        found = page_of(response).count(" ".join(str(text).split()))
        if count is None:
            self.assertTrue(found, f"“{text}” is not on the page.")
        else:
            self.assertEqual(found, count, f"“{text}”")

    def assertNotContains(self, response, text, status_code=200):
        self.assertContains(response, text, 0, status_code)

    @Fixture
    def make_dataset(self) -> Dataset:
        self.dataset = import_now(self.analyst, FERRIES)
        self.ids = {field.source: field.id for field in self.dataset.all_fields}
        return self.dataset

    @Fixture
    def make_chart(self, name: str = "Fares", **parts: Any):
        if not hasattr(self, "dataset"):
            self.make_dataset()
        parts = parts or {"show": [{"field": self.ids["fare"], "aggregate": "sum"}], "by": [self.ids["region"]]}
        definition = load_definition({"dataset": str(self.dataset.pk), **parts})
        chart = charts.create_chart(self.analyst, self.dataset, definition, name)
        return charts.save_chart(self.analyst, chart, chart.load(), 0)

    @Fixture
    def make_dashboard(self, published: bool = True):
        """Blocks "bars" (by region) and "count" (a figure), controls "date" (the last 12 months) and "region"."""
        bars, figure = self.make_chart(), self.make_chart("Sailings", show=[{}])
        definition = load_dashboard(
            {
                "pages": [
                    {
                        "id": "p1",
                        "name": "Page 1",
                        "blocks": [
                            {"id": "bars", "kind": "chart", "chart": str(bars.pk)},
                            {"id": "count", "kind": "chart", "chart": str(figure.pk), "x": 6},
                            {"id": "words", "kind": "text", "text": "**Fares** <script>alert(1)</script>", "y": 4},
                            {"id": "title", "kind": "heading", "text": "The season", "y": 8},
                        ],
                    }
                ],
                "controls": [
                    dashboards.make_control(self.dataset, self.ids[source]).model_dump(mode="json") | more
                    for source, more in (("sailed", {"id": "date", "dates": {}}), ("region", {"id": "region"}))
                ],
            }
        )
        dashboard = dashboards.create_dashboard(self.analyst, "Season")
        dashboard = dashboards.save_draft(self.analyst, dashboard, definition, "Season", 0)
        if published:
            publishing.publish(self.analyst, dashboard)
            dashboard.refresh_from_db()
        self.dashboard = dashboard
        return dashboard

    @Fixture
    def make_shapes(self) -> ShapeSet:
        """The sea areas of the demo, named by region."""
        data = json.dumps(generate_sea_areas()).encode()
        return receive_shapes(self.analyst, io.BytesIO(data), len(data), "sea_areas.geojson")

    @Fixture
    def grant(self, level: str = "view", download: bool = True) -> None:
        group, _ = Group.objects.get_or_create(name="Harbour office")
        self.explorer.groups.add(group)
        dashboards.grant(self.analyst, self.dashboard, f"group-{group.pk}", level, download)

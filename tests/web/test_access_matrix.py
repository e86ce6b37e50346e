"""Who may use which address: access_matrix.txt says it in a table that a person can read, and every address obeys it.

The addresses are those of the resolver, so a new one without a row fails. VEDUTA_WRITE_MATRIX=1 writes the table anew;
read what has changed in it before it is committed."""

from __future__ import annotations

import base64
import json
import os
from pathlib import Path

from django.db import transaction
from django.test import Client, tag
from django.urls import URLPattern, reverse

from tests.web.support import WebTest, list_patterns, make_user, receive
from veduta.core.cache import clear_caches
from veduta.core.chart.templates import make_template
from veduta.core.dashboard.definition import ViewState
from veduta.web.catalogue.services import delete_dataset
from veduta.web.chart_templates import services as chart_templates
from veduta.web.charts.services import delete_chart
from veduta.web.dashboards import comments, saved_views
from veduta.web.dashboards import services as dashboards
from veduta.web.dashboards.models import Dashboard, Task
from veduta.web.datasets.models import Connection
from veduta.web.images import services as images
from veduta.web.modelling.changes import change_model
from veduta.web.modelling.services import load_whole_model
from veduta.web.palettes.models import CompanyLook, Palette, ValueColour

TABLE = Path(__file__).parent / "access_matrix.txt"
WRITING = os.environ.get("VEDUTA_WRITE_MATRIX") == "1"
PEOPLE = {
    "nobody": "who is not signed in",
    "stranger": "a reader to whom nothing was granted",
    "reader": "a reader to whom the dashboard was granted",
    "taker": "a reader to whom it was granted with its rows",
    "colleague": "an analyst to whom nothing was granted",
    "editor": "an analyst who may edit the dashboard",
    "maker": "the analyst who made everything but what the taker saved and said",
    "steward": "a steward",
}
SECTIONS = {
    "there": "Everything is there, and the dashboard is published",
    "draft": "The dashboard is not published",
    "deleted": "Everything that can be deleted is deleted",
}
LEGEND = {"yes": "may", "-": "is not found, or not allowed", "in": "is asked to sign in"}
OF_SELECTIONS = ("dashboard-selection", "dashboard-together")
FORMS = ("chart-new",)
PICTURE = b"\x89PNG\r\n\x1a\n"


def read_table() -> dict[str, dict[tuple[str, str], str]]:
    """For each section the rows by address and method, as they stand in the table."""
    found: dict[str, dict[tuple[str, str], str]] = {name: {} for name in SECTIONS}
    section = ""
    for line in TABLE.read_text().splitlines() if TABLE.exists() else ():
        if line.startswith("## "):
            section = next(name for name, title in SECTIONS.items() if title == line[3:])
        elif section and line.strip() and not line.startswith("address"):
            address, method, *cells = line.split()
            found[section][address, method] = " ".join(cells)
    return found


def write_table(rows: dict[str, dict[tuple[str, str], str]]) -> None:
    people = [f"{name:<10} {what}" for name, what in PEOPLE.items()]
    legend = [f"{mark:<10} {what}" for mark, what in LEGEND.items()]
    lines = ["Who may use which address.", "", *people, "", *legend]
    for section, title in SECTIONS.items():
        lines += ["", f"## {title}", "", f"{'address':<28}{'method':<8}" + "".join(f"{name:<11}" for name in PEOPLE)]
        for (address, method), cells in rows[section].items():
            lines.append(f"{address:<28}{method:<8}" + "".join(f"{cell:<11}" for cell in cells.split()))
    TABLE.write_text("\n".join(line.rstrip() for line in lines) + "\n")


class Matrix(WebTest):
    """One of everything that an address can name."""

    section: str
    maxDiff = None

    @classmethod
    def setUpTestData(cls) -> None:
        super().setUpTestData()
        cls.make_dashboard()
        maker = cls.analyst
        stranger, reader = cls.explorer, make_user("reader", "explorer")
        taker = make_user("taker", "explorer")
        colleague, editor = make_user("colleague", "analyst"), make_user("editor", "analyst")
        for person, level, rows in ((reader, "view", False), (taker, "view", True), (editor, "edit", True)):
            dashboards.grant(maker, cls.dashboard, f"person-{person.pk}", level, rows)
        cls.people = dict(
            zip(PEOPLE, (None, stranger, reader, taker, colleague, editor, maker, cls.steward), strict=True)
        )
        cls.dashboard, cls.region = Dashboard.objects.get(pk=cls.dashboard.pk), cls.ids["region"]
        dataset = change_model(maker, cls.dataset, "save_formula", {"name": "Twice", "text": "sum(fare) * 2"}, 0)
        chart, upload = dataset.charts.first(), receive(maker, "port,fare\nQuay,7\n", "fares.csv")
        connection = Connection.objects.create(
            name="Feeds", kind="feed", address="http://feeds.skerry-sound.example", created_by=maker
        )
        template = make_template(chart.load(), load_whole_model(dataset), "Ranking").template
        drawn = template.model_copy(update={"picture": base64.b64encode(PICTURE).decode()})
        task = Task.objects.create(
            dashboard=cls.dashboard, block="winter", words="Winter", asked_by=maker, asked_of=editor
        )
        CompanyLook.objects.create(logo=PICTURE, logo_type="image/png")
        view = saved_views.keep(taker, cls.dashboard, "Mine", ViewState(), "", {})
        comment = comments.say(taker, cls.dashboard, "A good season")
        cls.ids = {
            "dashboard": cls.dashboard.pk,
            "dataset": dataset.pk,
            "chart": chart.pk,
            "upload": upload.pk,
            "atlas": cls.make_shapes().pk,
            "template": chart_templates.keep(maker, drawn).pk,
            "task": task.pk,
            "picture": images.receive(maker, "Gannet.png", PICTURE).pk,
            "person": reader.pk,
            "connection": connection.pk,
            "refresh": dataset.refreshes.get().pk,
            "palettes": Palette.objects.create(kind="series", name="Company", colours=["#112233", "#AA5500"]).pk,
            "colours": ValueColour.objects.create(key="quay", fields=["Quay"], values='["Stack Point"]', given="1").pk,
            "key": view.key,
            "comment": comment.pk,
            "digest": images.keep_content("Gannet"),
        }
        cls.ids |= dict.fromkeys(("version", "field", "shape", "model"), dataset.pk)
        cls.enter_state(maker, chart, dataset, view, comment)

    @classmethod
    def enter_state(cls, maker, chart, dataset, view, comment) -> None:
        """Nothing for a section in which all is there."""

    def make_address(self, pattern: URLPattern) -> str:
        start = pattern.name.split("-")[0]
        values = {
            "number": 1 if "pk" in pattern.pattern.converters else self.ids.get(start, 1),
            **({"number": 0} if pattern.name in OF_SELECTIONS else {}),
            "kind": "feed",
            "field_id": "c1",
            "formula_id": "twice",
            "block_id": "bars",
            "control_id": "region",
            "slug": "first-steps",
            "target": self.ids["dashboard"],
            **{name: self.ids[name] for name in ("key", "comment", "digest", "chart")},
        }
        if "pk" in pattern.pattern.converters:
            values["pk"] = self.ids["dataset" if pattern.name == "refresh-start" else start]
        return reverse(pattern.name, kwargs={key: values[key] for key in pattern.pattern.converters})

    def ask_as(self, client: Client, method: str, address: str, name: str) -> int:
        """The status of an answer; whatever it has changed is taken back."""
        with transaction.atomic():
            if method == "GET" or name in FORMS:
                ask = client.get if method == "GET" else client.post
                answer = ask(address, self.make_query(name), headers={"X-Veduta": "1"})
            else:
                body = json.dumps(self.make_query(name))
                answer = client.post(address, body, content_type="application/json", headers={"X-Veduta": "1"})
            answer.close()
            transaction.set_rollback(True)
        clear_caches()
        return answer.status_code

    def make_query(self, name: str) -> dict[str, str]:
        """What an address needs to find what it is about."""
        if name in OF_SELECTIONS:
            selection = {"block": "bars", "by": [{"field": self.region}], "points": [["North Reach"]]}
            return {"v": json.dumps({"selections": [selection]})}
        if name in ("chart-new", "template-use"):
            return {"dataset" if name == "chart-new" else "source": str(self.ids["dataset"])}
        return {}

    def read_rows(self) -> dict[tuple[str, str], str]:
        """The rows of this section, as the addresses answer now."""
        clients = {name: Client(raise_request_exception=True) for name in PEOPLE}
        for name, person in self.people.items():
            if person:
                clients[name].force_login(person, backend="django.contrib.auth.backends.ModelBackend")
        rows = {}
        for pattern in sorted(set(list_patterns()), key=lambda each: each.name):
            if pattern.name in ("sign-in", "sign-out") or not self.is_about(pattern):
                continue
            address = self.make_address(pattern)
            for method in ("GET", "POST"):
                statuses = {name: self.ask_as(clients[name], method, address, pattern.name) for name in PEOPLE}
                if set(statuses.values()) != {405}:
                    rows[pattern.name, method] = " ".join(map(_mark, statuses.values()))
        return rows

    def is_about(self, pattern: URLPattern) -> bool:
        return True

    def check(self) -> None:
        rows = self.read_rows()
        if WRITING:
            write_table(read_table() | {self.section: rows})
        self.assertEqual(rows, read_table()[self.section])


def _mark(status: int) -> str:
    """What stands in the table for the status of an answer; what is sent wrongly is answered to whoever may send it."""
    return {401: "in", 403: "-", 404: "-"}.get(status, "yes")


@tag("long")
class Published(Matrix):
    section = "there"

    def test_every_address(self):
        self.check()


@tag("long")
class Unpublished(Matrix):
    section = "draft"

    @classmethod
    def enter_state(cls, maker, chart, dataset, view, comment) -> None:
        Dashboard.objects.update(published=None)

    def is_about(self, pattern: URLPattern) -> bool:
        return pattern.name.startswith("dashboard-") or pattern.name == "dashboard"

    def test_every_address_of_a_dashboard(self):
        self.check()


@tag("long")
class Deleted(Matrix):
    section = "deleted"

    @classmethod
    def enter_state(cls, maker, chart, dataset, view, comment) -> None:
        saved_views.delete(view.owner, view)
        comments.delete(comment.author, comment)
        dashboards.delete_dashboard(maker, Dashboard.objects.get(pk=cls.ids["dashboard"]))
        delete_chart(maker, chart)
        delete_dataset(maker, dataset)
        images.delete(maker, images.KeptPicture.objects.get(pk=cls.ids["picture"]))
        chart_templates.delete(maker, chart_templates.ChartTemplate.objects.get(pk=cls.ids["template"]))
        Palette.objects.update(deleted_at="2026-11-01T00:00:00Z")

    def is_about(self, pattern: URLPattern) -> bool:
        return bool(pattern.pattern.converters)

    def test_every_address_of_something(self):
        self.check()

"""Fill an empty workspace with the ferry company's people, data, charts and a published dashboard."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

import polars as pl
from django.contrib.auth.models import Group

from veduta.core.chart.definition import ChartDefinition, load_definition
from veduta.core.dashboard.controls import DatesChoice
from veduta.core.data.fields import NumberFormat
from veduta.core.shaping.shaping import load_shaping
from veduta.demo import PASSWORD, generate
from veduta.demo.boards import GROUP, publish_board
from veduta.demo.busiest import load_busiest
from veduta.demo.flags import load_flags
from veduta.demo.generate import write_sailings
from veduta.demo.maps import load_maps
from veduta.demo.model import load_model, save_new
from veduta.demo.overview import load_overview
from veduta.demo.pictures import EVENTS, load_pictures
from veduta.demo.standin import TOKEN, write_operations
from veduta.demo.templates import load_templates
from veduta.web.accounts.models import User
from veduta.web.catalogue import services as catalogue
from veduta.web.charts.models import Chart
from veduta.web.dashboards import services as dashboards
from veduta.web.dashboards.models import Dashboard
from veduta.web.datasets.models import Connection, Dataset, Refresh, Upload
from veduta.web.imports import services as intake
from veduta.web.jobs import queue
from veduta.web.sources.services import save_connection

PEOPLE = (
    ("steward", "Ailsa", "Marr", User.Role.STEWARD),
    ("analyst", "Jonas", "Tern", User.Role.ANALYST),
    ("explorer", "Runa", "Fennick", User.Role.EXPLORER),
)
DAILY_COUNTS = "Daily harbour counts"
DESCRIPTIONS = {
    "Sailing date": "The day of departure by the timetable.",
    "Fare revenue": "Paid by passengers and vehicles, without what is bought on board.",
    "Minutes late": "At arrival; empty for cancelled sailings.",
    "Capacity": "Seats of the vessel.",
}
MONEY = ("Fare revenue", "Onboard sales", "Fuel cost", "Crew cost")


def load_people() -> dict[str, User]:
    """The three people of the demo, made if they are missing."""
    group, _ = Group.objects.get_or_create(name=GROUP)
    people = {}
    for username, first, last, role in PEOPLE:
        user, new = User.objects.get_or_create(
            username=username, defaults={"first_name": first, "last_name": last, "role": role}
        )
        if new:
            user.set_password(PASSWORD)
            user.save()
        people[username] = user
    people["explorer"].groups.add(group)
    return people


def import_file(user: User, path: Path, name: str) -> Dataset:
    """Bring a file in the way people do, without waiting for the worker."""
    with path.open("rb") as stream:
        upload = intake.receive(user, stream, path.stat().st_size, path.name)
    upload.dataset = Dataset.objects.create(name=name, created_by=user)
    upload.state = Upload.State.QUEUED
    upload.save()
    Refresh.objects.create(dataset=upload.dataset, cause=Refresh.Cause.FILE, upload=upload, started_by=user)
    queue.work_off()
    upload.refresh_from_db()
    if upload.state != Upload.State.DONE:
        raise RuntimeError(upload.message)
    return Dataset.objects.select_related("current").get(pk=upload.dataset_id)


def load_demo(folder: Path, rows: int = 60_000, say: Callable[[str], None] = lambda text: None) -> Dashboard:
    """Everything, unless it is there already. Returns the published dashboard."""
    people = load_people()
    load_connections(people["analyst"], folder)
    there = Dashboard.objects.filter(name="Season at a glance").first()
    analyst = people["analyst"]
    if there:
        load_tables(analyst, folder, rows, say)
        load_model(analyst, folder)
        load_maps(analyst)
        load_pictures(analyst)
        load_overview(analyst)
        load_busiest(analyst)
        load_templates(analyst)
        load_flags(analyst)
        return there
    say(f"Making {rows:,} sailings of Skerry & Sound …")
    path = write_sailings(folder / "sailings.csv", rows)
    say("Reading them into a dataset …")
    dataset = import_file(analyst, path, "Sailings")
    path.unlink()
    describe(analyst, dataset)
    dataset.refresh_from_db()
    load_tables(analyst, folder, rows, say)
    say("Making charts and a dashboard …")
    charts = {name: save_new(analyst, dataset, name, definition) for name, definition in demo_charts(dataset).items()}
    made = _dashboard(analyst, dataset, charts)
    say("Joining the tables in a model and working out its formulas …")
    load_model(analyst, folder)
    say("Drawing the season in pictures …")
    load_maps(analyst)
    load_pictures(analyst)
    load_overview(analyst)
    load_busiest(analyst)
    load_templates(analyst)
    load_flags(analyst)
    return made


def load_tables(user: User, folder: Path, rows: int, say: Callable[[str], None]) -> None:
    """The company's other tables and what is made of them, as far as a workspace does not have them yet."""
    if Dataset.objects.filter(name=DAILY_COUNTS).exists() and Dataset.objects.filter(name=EVENTS).exists():
        return
    say("Reading the company's other tables …")
    for name, frame in other_tables(rows).items():
        if not Dataset.objects.filter(name=name).exists():
            path = folder / f"{name}.csv"
            frame.write_csv(path)
            import_file(user, path, name)
            path.unlink()
    if not Dataset.objects.filter(name=DAILY_COUNTS).exists():
        say("Shaping the harbour counts …")
        daily_counts(user)


def load_connections(user: User, folder: Path) -> None:
    """The stand-in's feed and database, at the addresses they have now."""
    database = folder / "operations.sqlite"
    if not database.exists():
        write_operations(database)
    port = int(os.environ.get("PORT", "8000")) + 1
    feed = {
        "address": f"http://127.0.0.1:{port}",
        "as": "header",
        "sent_name": "Authorization",
        "before": "Bearer",
        "secret": TOKEN,
    }
    for name, kind, data in (
        ("Skerry & Sound systems", Connection.Kind.FEED, feed),
        ("Operations database", Connection.Kind.DATABASE, {"address": f"sqlite:///{database}"}),
    ):
        connection = Connection.objects.filter(name=name).first() or Connection(kind=kind)
        save_connection(user, connection, {"name": name, **data})


def daily_counts(user: User) -> Dataset:
    """The wide, cumulative harbour counts as one row a port and day, with the increase and the region of the port."""
    counts, ports = (Dataset.objects.get(name=name) for name in ("Harbour counts", "Ports"))
    port = counts.all_taken_fields[0].id
    there = {field.name: field.id for field in ports.all_fields}
    spelt = [
        {"find": spelling.strip(), "put": name} for name, spelling in generate.SPELT.items() if spelling.strip() != name
    ]
    steps: tuple[dict[str, Any], ...] = (
        {"do": "wide_to_long", "rule": "dates", "names_to": "Day", "values_to": "Count so far"},
        {"do": "map", "field": port, "pairs": spelt},
        {
            "do": "formula",
            "name": "Passengers counted",
            "formula": 'difference("Count so far") along (day) restart (port)',
        },
        {
            "do": "join",
            "dataset": str(ports.pk),
            "keys": [{"own": port, "other": there["Port"]}],
            "bring": [{"field": there["Region"]}],
        },
    )
    shaping = load_shaping({"steps": [{"id": f"s{i}", **step} for i, step in enumerate(steps, 1)]})
    dataset = Dataset.objects.create(
        name=DAILY_COUNTS,
        created_by=user,
        steps=shaping.model_dump(mode="json"),
        description="Passengers through the gates, one row a port and day, from the harbour office's wide table.",
        source={"kind": "dataset", "dataset": str(counts.pk), "stage": "result"},
    )
    Refresh.objects.create(dataset=dataset, cause=Refresh.Cause.STEPS, started_by=user)
    queue.work_off()
    dataset.refresh_from_db()
    return dataset


def other_tables(rows: int) -> dict[str, pl.DataFrame]:
    """The company's other tables by the names of their datasets, the larger ones in proportion to the sailings."""
    share = rows / 60_000
    return {
        "Routes": generate.generate_routes(),
        "Ports": generate.generate_ports(),
        "Vessels": generate.generate_vessels(),
        "Harbour counts": generate.generate_harbour_counts(),
        "Pass holders": generate.pass_holders(max(200, min(9_000, int(9_000 * share)))),
        "Bookings": generate.generate_bookings(max(1_000, min(150_000, int(150_000 * share)))),
        "Targets": generate.generate_targets(generate.generate_sailings(rows)),
        EVENTS: generate.generate_events(),
    }


def describe(user: User, dataset: Dataset) -> None:
    catalogue.update_dataset(
        user, dataset, dataset.name, "Every sailing since January 2023, one a row, from the timetable and the tills."
    )
    for field in dataset.all_fields:
        changes: dict = {}
        if field.name in DESCRIPTIONS:
            changes["description"] = DESCRIPTIONS[field.name]
        if field.name in MONEY:
            changes["format"] = NumberFormat(style="currency", currency="EUR").model_dump()
        if changes:
            catalogue.update_field(user, dataset, field.id, changes)


def demo_charts(dataset: Dataset) -> dict[str, ChartDefinition]:
    """The charts of the demo by their names."""
    ids = {field.name: field.id for field in dataset.all_fields}
    revenue = {"field": ids["Fare revenue"], "aggregate": "sum"}
    passengers = {"field": ids["Passengers"], "aggregate": "sum"}
    late = {"field": ids["Minutes late"], "aggregate": "mean", "name": "Mean minutes late", "format": {"decimals": 1}}
    sailings: dict = {"name": "Sailings"}
    month = {"field": ids["Sailing date"], "grain": "month"}

    def chart(**parts) -> ChartDefinition:
        return load_definition({"dataset": str(dataset.pk), **parts})

    short = {"style": "currency", "currency": "EUR", "shorten": True, "decimals": 2}
    cancelled = {"kind": "list", "field": ids["Cancelled"], "values": [True]}
    return {
        "Fare revenue": chart(show=[revenue | {"format": short}]),
        "Passengers": chart(show=[passengers]),
        "Mean minutes late": chart(show=[late]),
        "Fare revenue by route": chart(
            show=[revenue],
            by=[ids["Route"]],
            keep={"count": 8, "by": revenue},
            title="Fare revenue by route, highest first",
        ),
        "Fares by region": chart(
            show=[revenue], by=[month], split=ids["Region"], title="Fare revenue by month and region"
        ),
        "Passengers by weekday": chart(
            show=[passengers], by=[{"field": ids["Sailing date"], "grain": "weekday"}], title="Passengers by weekday"
        ),
        "Cancelled sailings": chart(
            show=[sailings],
            by=[month],
            split=ids["Cancel reason"],
            only=[cancelled],
            kind="bar",
            title="Cancelled sailings by month and reason",
        ),
        "Vessels": chart(
            show=[sailings, passengers, revenue, late],
            by=[ids["Vessel"]],
            kind="table",
            sort={"by": "measure", "measure": revenue, "descending": True},
            title="What each vessel carried",
        ),
        "Regions by year": chart(
            show=[revenue], by=[ids["Region"]], split={"field": ids["Sailing date"], "grain": "year"}, kind="crosstab"
        ),
    }


PLACES = (
    ("Fare revenue", 0, 0, 4, 2),
    ("Passengers", 4, 0, 4, 2),
    ("Mean minutes late", 8, 0, 4, 2),
    ("Fare revenue by route", 0, 2, 5, 5),
    ("Fares by region", 5, 2, 7, 5),
    ("Passengers by weekday", 0, 7, 5, 5),
    ("Cancelled sailings", 5, 7, 7, 5),
    ("Vessels", 0, 12, 12, 6),
)


def _dashboard(user: User, dataset: Dataset, charts: dict[str, Chart]) -> Dashboard:
    ids = {field.name: field.id for field in dataset.all_fields}
    controls = [
        dashboards.make_control(dataset, ids[name]).model_copy(update={"id": key})
        for key, name in (("date", "Sailing date"), ("region", "Region"), ("vessel", "Vessel"))
    ]
    controls[0] = controls[0].model_copy(update={"dates": DatesChoice(unit="month", count=12)})
    return publish_board(user, "Season at a glance", charts, PLACES, controls)

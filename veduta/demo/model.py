"""The demo's model: sailings joined with the company's other tables.

With formulas, parameters, and a chart of each thing that can be calculated."""

from __future__ import annotations

import sqlite3
from pathlib import Path
from typing import Any

import polars as pl

from veduta.core.chart.definition import ChartDefinition, load_definition
from veduta.core.chart.value_colours import load_colour_lists
from veduta.core.formula.measures import replace_names_with_ids
from veduta.core.model.model import Model
from veduta.core.shaping.shaping import load_shaping
from veduta.demo.boards import publish_board
from veduta.web.accounts.models import User
from veduta.web.catalogue.services import update_field
from veduta.web.charts.models import Chart
from veduta.web.charts.services import create_chart, save_chart
from veduta.web.dashboards import services as dashboards
from veduta.web.dashboards.models import Dashboard
from veduta.web.datasets.models import Dataset, Refresh
from veduta.web.jobs import queue
from veduta.web.modelling.changes import change_model
from veduta.web.modelling.services import load_whole_model
from veduta.web.palettes.services import set_colours

NAME = "Calculated"
JOINS = (
    ("Routes", "", (("Route", "Route", ""),)),
    ("Ports", "Routes", (("From port", "Port", ""),)),
    ("Vessels", "", (("Vessel", "Vessel", ""),)),
    ("Targets", "", (("Route", "Route", ""), ("Sailing date", "Month", "month"))),
    ("Bookings", "", (("Route", "Route", ""), ("Sailing date", "Travel date", "day"))),
    ("Pass holders by customer", "Bookings", (("Customer", "Customer", ""),)),
    ("Service requests", "", (("Route", "Route", ""), ("Sailing date", "Opened", "day"))),
)
PARAMETERS = (
    {"name": "Top n", "kind": "whole", "default": ["5"], "low": 1, "high": 22, "step": 1},
    {
        "name": "Late after",
        "kind": "whole",
        "default": ["10"],
        "required": True,
        "choices": [
            {"value": "5", "label": "five minutes"},
            {"value": "10", "label": "ten minutes"},
            {"value": "30", "label": "half an hour"},
        ],
    },
    {"name": "Monthly goal", "kind": "decimal", "default": ["900000"], "required": True},
)
MONEY, PERCENT = {"style": "currency", "currency": "EUR"}, {"style": "percent", "decimals": 1}
REVENUE = 'sum("Fare revenue")'
FORMULAS: tuple[tuple[str, str, str, dict[str, Any]], ...] = (
    ("Net revenue", f'{REVENUE} + sum("Onboard sales") - sum("Fuel cost") - sum("Crew cost")', "Results", MONEY),
    ("Revenue per passenger", f"{REVENUE} / sum(Passengers)", "Results", MONEY | {"decimals": 2}),
    ("Load factor", "sum(Passengers) / sum(Capacity where not Cancelled)", "Operations", PERCENT),
    ("Cancelled share", "count_rows(where Cancelled) / count_rows()", "Operations", PERCENT),
    (
        "Punctual share",
        'count_rows(where "Minutes late" <= :late_after) / count("Minutes late")',
        "Operations",
        PERCENT,
    ),
    ("Lateness", "if(Cancelled, 'cancelled', \"Minutes late\" <= :late_after, 'punctual', 'late')", "Operations", {}),
    ("Revenue a year before", f"shift({REVENUE}, -1, 'year')", "Time", MONEY),
    ("Revenue growth", f"growth({REVENUE}, 'year')", "Time", PERCENT),
    ("Revenue, year to date", f"to_date({REVENUE}, 'year')", "Time", MONEY),
    ("Share of revenue", f"share({REVENUE})", "Results", PERCENT),
    ("Mean daily revenue", f'mean({REVENUE} per (shown, "Sailing date"))', "Results", MONEY),
    ("Target revenue", "sum(Targets.Revenue)", "Targets", MONEY),
    ("Against target", f"{REVENUE} / sum(Targets.Revenue) - 1", "Targets", PERCENT),
    ("Paid for bookings", "sum(Bookings.Paid)", "Bookings", MONEY),
    ("Customers", "count_distinct(Bookings.Customer)", "Bookings", {"decimals": 0}),
    ("Open requests", "count_rows(where \"Service requests\".Status = 'Open')", "Operations", {"decimals": 0}),
)


def load_model(user: User, folder: Path) -> None:
    """The model of the sailings with its charts and their dashboard, unless they are there."""
    if Dashboard.objects.filter(name=NAME).exists():
        return
    sailings = Dataset.objects.select_related("current").get(name="Sailings")
    _by_customer(user)
    _service_requests(user, folder)
    for name, left, keys in JOINS:
        sailings = _join(user, sailings, name, left, keys)
    for parameter in PARAMETERS:
        sailings = change_model(user, sailings, "save_parameter", parameter, sailings.model_revision)
    for name, text, folder_name, number_format in FORMULAS:
        sent = {"name": name, "text": text, "folder": folder_name, "format": number_format}
        sailings = change_model(user, sailings, "save_formula", sent, sailings.model_revision)
    own = {field.name: field.id for field in load_whole_model(sailings).schema if not field.table}
    path = {"name": "Where", "fields": [own["Region"], own["Route"], own["Vessel"]]}
    sailings = change_model(user, sailings, "save_path", path, sailings.model_revision)
    _stock(user)
    model = load_whole_model(sailings)
    charts = {
        name: save_new(user, sailings, name, definition) for name, definition in charts_of(sailings, model).items()
    }
    charts["Passengers counted so far"] = _counted(user)
    charts["Service requests"] = _requests(user)
    _dashboard(user, sailings, charts)


def _join(user: User, sailings: Dataset, name: str, left: str, keys: tuple) -> Dataset:
    """Join a dataset to a table of the model by fields named as people see them."""
    definition = sailings.model_definition
    if name not in {table.name for table in definition.tables}:
        sent = {"dataset": str(Dataset.objects.get(name=name).pk), "name": name.replace(" by customer", "")}
        sailings = change_model(user, sailings, "add_table", sent, sailings.model_revision)
    new = sailings.model_definition.tables[-1].id
    left_id = next((t.id for t in sailings.model_definition.tables if t.name == left), "")
    schema = load_whole_model(sailings).schema

    def plain(table: str, field: str) -> str:
        return next(f.id for f in schema if f.table == table and f.name == field and not f.formula).rpartition(".")[2]

    pairs = [{"left": plain(left_id, a), "right": plain(new, b), "grain": grain} for a, b, grain in keys]
    ends = {"left": left_id, "right": new, "keys": pairs}
    return change_model(user, sailings, "set_join", ends, sailings.model_revision)


def _by_customer(user: User) -> None:
    """The pass holders with their customer number spelt as bookings spell it."""
    name = "Pass holders by customer"
    if Dataset.objects.filter(name=name).exists():
        return
    holders = Dataset.objects.get(name="Pass holders")
    steps = [
        {"id": "s1", "do": "formula", "name": "Customer", "formula": "replace(\"Customer no\", '-', '')"},
    ]
    made = Dataset.objects.create(
        name=name,
        created_by=user,
        steps=load_shaping({"steps": steps}).model_dump(mode="json"),
        description="Pass holders, with the customer number as bookings write it.",
        source={"kind": "dataset", "dataset": str(holders.pk), "stage": "result"},
    )
    Refresh.objects.create(dataset=made, cause=Refresh.Cause.STEPS, started_by=user)
    queue.work_off()


def _service_requests(user: User, folder: Path) -> None:
    from veduta.demo.load import import_file

    if Dataset.objects.filter(name="Service requests").exists():
        return
    with sqlite3.connect(folder / "operations.sqlite") as database:
        frame = pl.read_database("select * from service_requests", database)
    path = folder / "Service requests.csv"
    frame.write_csv(path)
    import_file(user, path, "Service requests")
    path.unlink()


def _stock(user: User) -> None:
    """The harbour's counts so far are never added over days."""
    counts = Dataset.objects.get(name="Daily harbour counts")
    field = next(f for f in counts.all_fields if f.name == "Count so far")
    update_field(user, counts, field.id, {"over_dates": "last", "role": "measure"})


def charts_of(sailings: Dataset, model: Model) -> dict[str, ChartDefinition]:
    """A chart of each capability, by its name."""
    ids = {field.name: field.id for field in model.schema if not field.table}
    named = {field.name: field.id for field in model.schema if field.table == "formula"}
    revenue = {"field": ids["Fare revenue"], "aggregate": "sum"}
    passengers = {"field": ids["Passengers"], "aggregate": "sum"}
    date = ids["Sailing date"]
    month = {"field": date, "grain": "month"}
    region = next(field.id for field in model.schema if field.table == "routes" and field.name == "Region")

    def formula(name: str) -> dict:
        return {"field": named[name], "aggregate": "own"}

    def own(text: str, name: str, **more) -> dict:
        return {"formula": replace_names_with_ids(text, model.schema), "name": name, **more}

    def year(number: int) -> dict:
        return {"kind": "dates", "field": date, "start": f"{number}-01-01", "end": f"{number}-12-31"}

    so_far = {"kind": "dates", "field": date, "start": "2026-01-01", "end": "2026-10-31"}

    def chart(**parts) -> ChartDefinition:
        return load_definition({"dataset": str(sailings.pk), **parts})

    recent = {"kind": "relative", "field": date, "unit": "month", "count": 12}
    top = {"kind": "member", "field": ids["Route"], "keep": {"parameter": "top_n", "by": passengers}}
    return {
        "Revenue and target": chart(
            show=[revenue, formula("Target revenue")],
            by=[month],
            only=[year(2026)],
            title="Fare revenue and its target, 2026",
        ),
        "This year against last": chart(
            show=[revenue, formula("Revenue a year before")],
            by=[month],
            only=[year(2026)],
            title="Fare revenue by month, this year and last",
        ),
        "Growth by region": chart(
            show=[formula("Revenue growth")], by=[region], only=[recent], title="Growth of fare revenue, last 12 months"
        ),
        "Year to date": chart(
            show=[formula("Revenue, year to date")], by=[month], title="Fare revenue so far in each year"
        ),
        "Top routes and the others": chart(
            show=[revenue, formula("Share of revenue")],
            by=[ids["Route"]],
            kind="table",
            keep={"parameter": "top_n", "by": revenue, "rest": True},
            title="The routes that earn most, and the others as one",
        ),
        "Passengers of the top routes": chart(
            show=[passengers],
            by=[{"field": date, "grain": "quarter"}],
            split=ids["Route"],
            only=[top],
            title="Passengers by quarter on the busiest routes",
        ),
        "Punctual sailings": chart(
            show=[formula("Punctual share")],
            by=[ids["Vessel"]],
            kind="bar",
            references=[{"of": "rows"}],
            title="Share of punctual sailings by vessel",
        ),
        "Regions and vessels": chart(
            show=[revenue, formula("Net revenue"), formula("Load factor")],
            by=[region, ids["Vessel"]],
            kind="table",
            totals="all",
            only=[so_far],
            title="Regions and vessels in 2026, with subtotals",
        ),
        "Costs and lateness": chart(
            show=[
                own('sum("Fuel cost") + sum("Crew cost")', "Costs"),
                (covered := own('sum("Fare revenue") - 10 * sum("Crew cost")', "Fares less ten times the crew's cost")),
                {"field": ids["Minutes late"], "aggregate": "mean", "name": "Minutes late", "format": {"decimals": 1}},
            ],
            by=[ids["Vessel"]],
            kind="table",
            only=[so_far],
            look={
                "columns": [
                    {"measure": 0, "draws": "bar", "trend": month},
                    {"measure": 1, "draws": "bar"},
                    {"measure": 2, "draws": "shade"},
                ],
                "whole": {"lists_conditions": True},
                "values": [{"field": ids["Vessel"], "pictures": "beside"}],
            },
            conditional=[
                {
                    "measure": covered,
                    "test": "below",
                    "value": 0,
                    "colour": "worse",
                    "strong": True,
                    "sign": "alert",
                    "said": "the crew takes more than a tenth of the fares",
                }
            ],
            title="Costs and lateness by vessel",
        ),
        "Side by side": chart(
            show=[
                revenue,
                formula("Target revenue"),
                formula("Against target"),
                formula("Paid for bookings"),
                formula("Open requests"),
            ],
            by=[region],
            kind="table",
            only=[so_far],
            title="Four tables side by side, by region, January to October 2026",
        ),
        "Routes from their start": chart(
            show=[own("running(sum(Passengers))", "Passengers so far")],
            by=[month],
            split=ids["Route"],
            kind="line",
            aligned=replace_names_with_ids("running(sum(Passengers)) >= 20000", model.schema),
            only=[top],
            title="Passengers so far, from the month in which a route passed 20,000",
        ),
        "Months since a thousand": chart(
            show=[passengers, own("since(sum(Passengers) >= 1000)", "Months since the first with 1,000 passengers")],
            by=[ids["Route"], month],
            kind="table",
            only=[recent],
            keep={"count": 3, "by": passengers, "of": "by"},
            title="Since when a route carries a thousand a month",
        ),
    }


def save_new(user: User, dataset: Dataset, name: str, definition: ChartDefinition) -> Chart:
    """A new chart, saved for everybody; its name is its title if it has none."""
    chart = create_chart(user, dataset, definition, definition.title or name)
    return save_chart(user, chart, chart.load(), 0)


def _counted(user: User):
    """A stock: what had been counted by the end of each month, added over ports but not over days."""
    counts = Dataset.objects.select_related("current").get(name="Daily harbour counts")
    ids = {field.name: field.id for field in counts.all_fields}
    definition = load_definition(
        {
            "dataset": str(counts.pk),
            "show": [{"field": ids["Count so far"], "aggregate": "sum"}],
            "by": [{"field": ids["Day"], "grain": "month"}],
            "split": ids["Region"],
            "kind": "crosstab",
            "title": "Counted so far, as it stood at the end of each month",
        }
    )
    return save_new(user, counts, "Passengers counted so far", definition)


SEVERITIES = {"Low": "#659494", "Medium": "#C9850F", "High": "#B8433A", "Critical": "#6B1420"}
"""The colours of severities, of which the last has not occurred yet."""


def _requests(user: User):
    """Requests by topic and severity, in the colours that severities have in the workspace."""
    rows = [("Severity", severity, colour) for severity, colour in SEVERITIES.items()]
    for each in load_colour_lists(rows):
        set_colours(user, each)
    requests = Dataset.objects.select_related("current").get(name="Service requests")
    ids = {field.source.casefold(): field.id for field in requests.all_fields}
    definition = load_definition(
        {
            "dataset": str(requests.pk),
            "by": [ids["topic"]],
            "split": ids["severity"],
            "series_order": ["High", "Medium", "Low"],
            "kind": "lying",
            "title": "{highest} come up most: {total} service requests in all",
            "note": "Severities have the same colours everywhere.",
        }
    )
    return save_new(user, requests, "Service requests", definition)


PLACES = (
    ("This year against last", 0, 0, 6, 5),
    ("Revenue and target", 6, 0, 6, 5),
    ("Top routes and the others", 0, 5, 5, 5),
    ("Passengers of the top routes", 5, 5, 7, 5),
    ("Growth by region", 0, 10, 4, 4),
    ("Punctual sailings", 4, 10, 8, 4),
    ("Side by side", 0, 14, 12, 4),
    ("Service requests", 0, 18, 6, 5),
)


def _dashboard(user: User, sailings: Dataset, charts: dict) -> None:
    own = next(field.id for field in sailings.all_fields if field.name == "Region")
    region = dashboards.make_control(sailings, own).model_copy(update={"id": "region"})
    controls = [region] + [
        dashboards.make_control(sailings, "", name).model_copy(update={"id": name.replace("_", "")})
        for name in ("top_n", "late_after")
    ]
    publish_board(user, NAME, charts, PLACES, controls)

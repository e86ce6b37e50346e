"""A chart of each kind of drawing, doing what the kind is good for, and the dashboard “Season in pictures”."""

from __future__ import annotations

from typing import Any

from veduta.core.chart.definition import ChartDefinition, load_definition
from veduta.core.formula.measures import replace_names_with_ids
from veduta.core.model.model import Model
from veduta.demo.boards import publish_board
from veduta.demo.model import save_new
from veduta.web.accounts.models import User
from veduta.web.dashboards.models import Dashboard
from veduta.web.datasets.models import Dataset
from veduta.web.modelling.services import load_whole_model

NAME = "Season in pictures"
EVENTS = "Season events"


class DemoParts:
    """What the charts are made of, by the names that people see."""

    def __init__(self, sailings: Dataset, model: Model) -> None:
        self.dataset, self.model = str(sailings.pk), model
        self.ids = {field.name: field.id for field in model.schema if not field.table}
        self.named = {field.name: field.id for field in model.schema if field.table == "formula"}
        self.joined = {field.name: field.id for field in model.schema if field.table not in ("", "formula")}
        self.date = self.ids["Sailing date"]

    def chart(self, **parts: Any) -> ChartDefinition:
        return load_definition({"dataset": self.dataset, **parts})

    def sum_of(self, name: str) -> dict[str, Any]:
        return {"field": self.ids[name], "aggregate": "sum"}

    def formula(self, name: str) -> dict[str, Any]:
        return {"field": self.named[name], "aggregate": "own"}

    def stored(self, text: str) -> str:
        return replace_names_with_ids(text, self.model.schema)

    def own(self, text: str, name: str, **more: Any) -> dict[str, Any]:
        return {"formula": self.stored(text), "name": name, **more}

    def by(self, grain: str) -> dict[str, Any]:
        return {"field": self.date, "grain": grain}

    def events(self) -> dict[str, Any]:
        """What happened in the seasons, to compare with."""
        dataset = Dataset.objects.get(name=EVENTS)
        ids = {field.name: field.id for field in dataset.schema}
        fields = {"dataset": str(dataset.pk), "start": ids["From day"], "end": ids["To day"], "words": ids["Event"]}
        return {"of": "events", "events": fields, "said": "season events"}

    def within(self, start: str, end: str) -> dict[str, Any]:
        return {"kind": "dates", "field": self.date, "start": start, "end": end}


def make_picture_charts(sailings: Dataset, model: Model) -> dict[str, ChartDefinition]:
    """The charts by the kinds that draw them."""
    p = DemoParts(sailings, model)
    revenue, passengers, ids = p.sum_of("Fare revenue"), p.sum_of("Passengers"), p.ids
    late = {"field": ids["Minutes late"], "aggregate": "mean", "name": "Mean minutes late", "format": {"decimals": 1}}
    sailings_: dict[str, Any] = {"name": "Sailings"}
    this_year = p.within("2026-01-01", "2026-10-31")
    route, region, vessel = ids["Route"], ids["Region"], ids["Vessel"]
    return {
        "trend": p.chart(
            kind="trend",
            show=[revenue, passengers],
            by=[p.by("month")],
            settings={"better": "higher"},
            title="The latest month",
        ),
        "target": p.chart(
            kind="target",
            show=[revenue, p.formula("Target revenue")],
            by=[p.by("month")],
            only=[p.within("2026-01-01", "2026-12-31")],
            settings={"expected": "year_before"},
            title="Fare revenue of 2026 and its target",
        ),
        "lollipop": p.chart(
            kind="lollipop", show=[late], by=[vessel], title="Mean minutes late by vessel", only=[this_year]
        ),
        "dumbbell": p.chart(
            kind="dumbbell",
            show=[revenue, p.formula("Target revenue")],
            by=[route],
            only=[this_year],
            keep={"count": 12, "by": revenue},
            title="Fare revenue and target of the largest routes in 2026",
        ),
        "layers": p.chart(
            kind="layers",
            show=[revenue, p.formula("Target revenue")],
            by=[route],
            only=[this_year],
            keep={"count": 12, "by": revenue},
            settings={"direction": "lying"},
            layers=[
                {"measures": [1, 0], "how": "link", "dash": "dotted", "width": 2},
                {"measures": [1], "how": "dot", "colour": "quiet", "size": 11},
                {
                    "measures": [0],
                    "how": "dot",
                    "size": 11,
                    "test": p.stored('sum("Fare revenue") >= "Target revenue"'),
                    "said": "Fare revenue, target passed",
                    "other_said": "Fare revenue, target missed",
                },
            ],
            title="Which routes passed their target in 2026",
        ),
        "strip": p.chart(
            kind="strip", show=[passengers], by=[region], split=vessel, title="Passengers of each vessel by region"
        ),
        "range": p.chart(
            kind="range",
            show=[
                p.own("percentile(Passengers, 10)", "Passengers, tenth percentile"),
                p.own("percentile(Passengers, 90)", "Passengers, ninetieth percentile"),
            ],
            by=[vessel],
            title="Passengers of four in five sailings by vessel",
        ),
        "band": p.chart(
            kind="band",
            show=[
                p.own('percentile("Minutes late", 25)', "Minutes late, first quartile"),
                p.own('percentile("Minutes late", 75)', "Minutes late, third quartile"),
                p.own('median("Minutes late")', "Minutes late, median"),
            ],
            by=[p.by("month")],
            title="Minutes late of the middle half of sailings",
        ),
        "slope": p.chart(
            kind="slope",
            show=[revenue],
            by=[p.by("year")],
            split=region,
            only=[p.within("2023-01-01", "2025-12-31")],
            title="Fare revenue by region, 2023 and 2025",
        ),
        "waterfall": p.chart(
            kind="waterfall",
            show=[p.own("shift(sum(\"Fare revenue\"), -1, 'year')", "Revenue a year before"), revenue],
            by=[region],
            only=[this_year],
            title="From last year's fare revenue to this year's, by region",
        ),
        "scatter": p.chart(
            kind="scatter",
            show=[late, revenue, passengers],
            by=[route],
            only=[this_year],
            settings={"fit": "linear"},
            title="Do routes that are late earn less?",
        ),
        "pie": p.chart(
            kind="pie",
            show=[passengers, p.own('sum("Fare revenue") / sum(Passengers)', "Fare revenue per passenger")],
            by=[region],
            only=[this_year],
            title="Passengers by region, and what each of them paid",
        ),
        "ring": p.chart(
            kind="ring",
            show=[sailings_],
            by=[ids["Cancel reason"]],
            only=[{"kind": "list", "field": ids["Cancelled"], "values": [True]}],
            title="Why sailings were cancelled",
        ),
        "heat": p.chart(
            kind="heat",
            show=[passengers],
            by=[route],
            split=p.by("month_of_year"),
            keep={"count": 12, "by": passengers},
            title="Passengers of the busiest routes by month of the year",
        ),
        "calendar": p.chart(
            kind="calendar",
            show=[passengers],
            by=[p.by("day")],
            only=[p.within("2025-01-01", "2026-10-31")],
            title="Passengers on each day since January 2025",
        ),
        "box": p.chart(
            kind="box",
            show=[{"field": ids["Passengers"], "aggregate": "median"}],
            by=[vessel],
            title="Passengers of a sailing by vessel",
        ),
        "cumulative": p.chart(
            kind="cumulative",
            show=[revenue],
            by=[route],
            only=[this_year],
            title="How few routes make most of the fare revenue",
        ),
        "nested": p.chart(
            kind="nested",
            show=[passengers],
            by=[region],
            split=vessel,
            only=[this_year],
            title="Passengers by region and vessel in 2026",
        ),
        "words": p.chart(kind="words", show=[passengers], by=[route], title="Routes by their passengers"),
        "line": p.chart(
            kind="line",
            show=[passengers],
            by=[p.by("month")],
            split=region,
            settings={"scale": "logarithmic"},
            references=[p.events()],
            title="Passengers by month and region, on a logarithmic axis",
        ),
        "points": p.chart(
            kind="points",
            show=[passengers, p.own('sum("Fare revenue") / sum(Passengers)', "Fare revenue per passenger")],
            by=[p.joined["From port"]],
            only=[this_year],
            title="Where passengers go aboard, and what they pay",
        ),
        "areas": p.chart(
            kind="areas", show=[revenue], by=[region], only=[this_year], title="Fare revenue by sea area in 2026"
        ),
        "histogram": p.chart(
            kind="histogram",
            show=[sailings_],
            by=[{"field": ids["Passengers"], "width": 20}],
            title="How many passengers a sailing has",
        ),
        "panels": p.chart(
            kind="area",
            show=[passengers],
            by=[p.by("month")],
            panels={"by": [vessel]},
            only=[p.within("2024-01-01", "2026-10-31")],
            title="Passengers of each vessel by month",
        ),
        "area": p.chart(
            kind="area",
            show=[revenue],
            by=[p.by("quarter")],
            split=region,
            settings={"stacking": "full"},
            title="Each region's part of the fare revenue by quarter",
        ),
    }


PLACES = (
    ("trend", 0, 0, 7, 4),
    ("target", 7, 0, 5, 4),
    ("points", 0, 4, 6, 8),
    ("panels", 6, 4, 6, 8),
    ("scatter", 0, 12, 6, 6),
    ("line", 6, 12, 6, 6),
    ("layers", 0, 18, 6, 6),
    ("heat", 6, 18, 6, 6),
    ("pie", 0, 24, 4, 5),
    ("waterfall", 4, 24, 8, 5),
    ("calendar", 0, 29, 12, 5),
    ("nested", 0, 34, 7, 6),
    ("band", 7, 34, 5, 6),
)


def load_pictures(user: User) -> None:
    """The charts, and the dashboard of some of them, unless it is there."""
    if Dashboard.objects.filter(name=NAME).exists():
        return
    sailings = Dataset.objects.select_related("current").get(name="Sailings")
    made = make_picture_charts(sailings, load_whole_model(sailings))
    charts = {kind: save_new(user, sailings, kind, definition) for kind, definition in made.items()}
    publish_board(user, NAME, charts, PLACES)

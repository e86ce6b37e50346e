"""The executive page “How we stand”: three measures, each a column with its target, a ranking and two years."""

from __future__ import annotations

from typing import Any

from veduta.core.dashboard.definition import FIRST, DashboardBlock, DashboardDefinition
from veduta.demo.boards import share_with_harbour_office
from veduta.demo.model import MONEY, save_new
from veduta.demo.pictures import DemoParts
from veduta.web.accounts.models import User
from veduta.web.dashboards import publishing
from veduta.web.dashboards import services as dashboards
from veduta.web.dashboards.models import Dashboard
from veduta.web.datasets.models import Dataset
from veduta.web.modelling.services import load_whole_model

NAME = "How we stand"
NET_OF_TARGET = 0.8
"""The share of the revenue aimed for that is to be left of it."""
RANKED_BY = {"Passengers": "Vessel", "Fare revenue": "Route", "Net revenue": "Region"}
TITLES = ("2026, of its target", "", "By month, this year and last")
ROWS_OF = (4, 5, 5)
"""The titles of the target, the ranking and the two years of a measure, and how high they are."""


def load_overview(user: User) -> None:
    """The charts of the page and the dashboard, unless it is there."""
    if Dashboard.objects.filter(name=NAME).exists():
        return
    sailings = Dataset.objects.select_related("current").get(name="Sailings")
    parts = DemoParts(sailings, load_whole_model(sailings))
    blocks: list[DashboardBlock] = [
        DashboardBlock(id="head", kind="heading", text="2026 against its targets", w=12, h=1)
    ]
    for place, (name, definitions) in enumerate(_columns(parts).items()):
        group = f"column{place + 1}"
        blocks.append(DashboardBlock(id=group, kind="group", title=name, x=4 * place, y=1, w=4, h=1 + sum(ROWS_OF)))
        y = 0
        for number, (definition, h) in enumerate(zip(definitions, ROWS_OF, strict=True), 1):
            chart = save_new(user, sailings, definition["title"], parts.chart(**definition))
            place_in_group = {"group": group, "y": y, "w": 12, "h": h}
            title = TITLES[number - 1] or f"By {RANKED_BY[name].lower()}"
            made = DashboardBlock(
                id=f"{group}b{number}", kind="chart", chart=str(chart.pk), title=title, **place_in_group
            )
            blocks.append(made)
            y += h
    controls = [dashboards.make_control(sailings, parts.ids[field]) for field in ("Region", "Vessel")]
    dashboard = dashboards.create_dashboard(user, NAME)
    page = FIRST.model_copy(update={"name": "Overview", "blocks": tuple(blocks)})
    draft = DashboardDefinition(pages=(page,), controls=tuple(controls))
    dashboard = dashboards.save_draft(user, dashboard, draft, NAME, 0)
    publishing.publish(user, dashboard, note="Targets of 2026")
    share_with_harbour_office(user, dashboard)


def _columns(p: DemoParts) -> dict[str, list[dict[str, Any]]]:
    """By the names of the measures: the share of the target, a ranking and two years by month."""
    measures = {
        "Passengers": (p.sum_of("Passengers"), p.own("sum(Targets.Passengers)", "Target")),
        "Fare revenue": (p.sum_of("Fare revenue"), p.formula("Target revenue")),
        "Net revenue": (
            p.formula("Net revenue"),
            p.own(f"{NET_OF_TARGET} * sum(Targets.Revenue)", "Target", format=MONEY),
        ),
    }
    return {name: _column(p, name, *both) for name, both in measures.items()}


def _column(p: DemoParts, name: str, measure: dict[str, Any], target: dict[str, Any]) -> list[dict[str, Any]]:
    this_year = p.within("2026-01-01", "2026-12-31")
    return [
        {
            "kind": "target",
            "show": [measure, target],
            "by": [p.by("month")],
            "only": [this_year],
            "settings": {"expected": "year_before"},
            "title": f"{name} of 2026 and target",
        },
        {
            "show": [measure],
            "by": [p.ids[RANKED_BY[name]]],
            "only": [this_year],
            "keep": {"count": 6, "by": measure},
            "sort": {"by": "measure", "measure": measure, "descending": True},
            "title": f"{name} of 2026 by {RANKED_BY[name].lower()}",
        },
        {
            "kind": "line",
            "show": [measure],
            "by": [p.by("month_of_year")],
            "split": p.by("year"),
            "only": [p.within("2025-01-01", "2026-10-31")],
            "title": f"{name} by month, this year and last",
        },
    ]

"""The dashboard “Busiest routes”.

One number filters every block to the top routes, and a click on a route opens a page of its own."""

from __future__ import annotations

from typing import Any

from veduta.core.dashboard.clicks import Click
from veduta.core.dashboard.controls import Control
from veduta.core.dashboard.definition import FIRST, DashboardBlock, DashboardDefinition, Page
from veduta.core.dashboard.filters import DashboardFilter
from veduta.core.dashboard.scope import BlockScope
from veduta.core.query.filters import MembershipFilter
from veduta.demo.boards import share_with_harbour_office
from veduta.demo.model import save_new
from veduta.demo.pictures import DemoParts
from veduta.web.accounts.models import User
from veduta.web.dashboards import publishing
from veduta.web.dashboards import services as dashboards
from veduta.web.dashboards.models import Dashboard
from veduta.web.datasets.models import Dataset
from veduta.web.modelling.services import load_whole_model

NAME = "Busiest routes"
OVERVIEW, ONE_ROUTE = "p1", "route"
Spot = tuple[str, str, int, int, int, int, dict[str, Any]]
"""The id of a block, its page, where it begins, its width and height, and its chart."""


def load_busiest(user: User) -> None:
    """The charts and the dashboard, unless it is there."""
    if Dashboard.objects.filter(name=NAME).exists():
        return
    sailings = Dataset.objects.select_related("current").get(name="Sailings")
    parts = DemoParts(sailings, load_whole_model(sailings))
    blocks: dict[str, list[DashboardBlock]] = {OVERVIEW: [], ONE_ROUTE: []}
    for name, page, x, y, w, h, chart in _spots(parts):
        saved = save_new(user, sailings, chart["title"], parts.chart(**chart))
        click = Click(does="page", page=ONE_ROUTE) if name == "routes" else Click()
        place = {"x": x, "y": y, "w": w, "h": h}
        blocks[page].append(DashboardBlock(id=name, kind="chart", chart=str(saved.pk), click=click, **place))
    words = "Click a route to see it on a page of its own, or break a bar down from its menu."
    blocks[OVERVIEW].append(DashboardBlock(id="how", kind="text", text=words, x=0, y=12, w=12, h=1))
    pages = (
        FIRST.model_copy(update={"name": "Overview", "blocks": tuple(blocks[OVERVIEW])}),
        Page(id=ONE_ROUTE, name="One route", hidden=True, blocks=tuple(blocks[ONE_ROUTE])),
    )
    dashboard = dashboards.create_dashboard(user, NAME)
    draft = DashboardDefinition(pages=pages, controls=_controls(sailings, parts), filters=(_busiest(parts),))
    dashboard = dashboards.save_draft(user, dashboard, draft, NAME, 0)
    publishing.publish(user, dashboard, note="By fare revenue")
    share_with_harbour_office(user, dashboard)


def _busiest(p: DemoParts) -> DashboardFilter:
    """The routes that are among the top so many by fare revenue, in what else is chosen."""
    keep = {"parameter": "top_n", "by": p.sum_of("Fare revenue")}
    asked = {"filters": [p.within("2026-01-01", "2026-12-31")], "follows": True}
    filter_ = MembershipFilter.model_validate({"field": p.ids["Route"], "keep": keep, **asked})
    scope = BlockScope(of="pages", names=(OVERVIEW,))
    return DashboardFilter(id="busiest", dataset=p.dataset, filter=filter_, scope=scope)


def _controls(sailings: Dataset, p: DemoParts) -> tuple[Control, ...]:
    def control(id_: str, field: str, parameter: str = "", **more: Any) -> Control:
        made = dashboards.make_control(sailings, p.ids.get(field, ""), parameter)
        return made.model_copy(update={"id": id_, **more})

    def chooser(id_: str, of: str, name: str, options: list[dict[str, Any]]) -> Control:
        said = {"kind": "chooser", "field": of, "field_kind": "text", "buttons": True, "required": True}
        said |= {"chooser": {"option": 0}, "scope": {"of": "blocks", "names": ["routes", "months", "course"]}}
        return Control.model_validate({"id": id_, "dataset": p.dataset, "name": name, "options": options, **said})

    counts = Control.model_validate(
        control("top", "", "top_n").model_dump()
        | {"name": "Routes", "buttons": True}
        | {"choices": [{"value": "5", "label": "top 5"}, {"value": "10", "label": "top 10"}]}
    )
    measures = [{"name": name, "measure": p.sum_of(name)} for name in ("Fare revenue", "Passengers", "Vehicles")]
    periods = [{"name": f"{each}s", "grain": each.lower()} for each in ("Month", "Quarter", "Year")]
    return (
        counts,
        chooser("measure", "measure", "Measure", measures),
        chooser("periods", "grain", "Periods", periods),
        control("region", "Region"),
        control("route", "Route", depends=True),
    )


def _spots(p: DemoParts) -> list[Spot]:
    revenue, passengers, per_passenger = (
        p.sum_of("Fare revenue"),
        p.sum_of("Passengers"),
        p.formula("Revenue per passenger"),
    )
    route, this_year = p.ids["Route"], p.within("2026-01-01", "2026-12-31")
    highest = {"by": "measure", "measure": revenue, "descending": True}
    mean = {"of": "groups", "statistic": "mean"}
    routes = {"kind": "bar", "show": [revenue], "by": [route], "sort": highest, "references": [mean]}
    by_month = {"kind": "line", "show": [revenue], "by": [p.by("month")]}
    vessels = {"kind": "table", "show": [revenue, passengers, per_passenger], "by": [p.ids["Vessel"]], "sort": highest}
    cancelled = {"kind": "bar", "show": [p.formula("Cancelled share")], "by": [p.by("month_of_year")]}
    return [
        ("revenue", OVERVIEW, 0, 0, 4, 2, {"show": [revenue], "only": [this_year], "title": "Fare revenue of 2026"}),
        ("people", OVERVIEW, 4, 0, 4, 2, {"show": [passengers], "only": [this_year], "title": "Passengers of 2026"}),
        (
            "ratio",
            OVERVIEW,
            8,
            0,
            4,
            2,
            {"show": [per_passenger], "only": [this_year], "title": "Revenue per passenger"},
        ),
        ("routes", OVERVIEW, 0, 2, 6, 6, routes | {"only": [this_year], "title": "The busiest routes of 2026"}),
        ("months", OVERVIEW, 6, 2, 6, 6, by_month | {"split": route, "title": "How the busiest routes went"}),
        ("vessels", OVERVIEW, 0, 8, 12, 4, vessels | {"only": [this_year], "title": "Their vessels in 2026"}),
        ("course", ONE_ROUTE, 0, 0, 12, 5, by_month | {"title": "The route by month"}),
        ("fleet", ONE_ROUTE, 0, 5, 7, 5, vessels | {"title": "Vessels of the route"}),
        ("storms", ONE_ROUTE, 7, 5, 5, 5, cancelled | {"title": "Share of cancelled sailings by month"}),
    ]

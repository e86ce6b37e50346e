"""Dashboards of the demo: charts at their places, published for the harbour office."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from django.contrib.auth.models import Group

from veduta.core.dashboard.controls import Control
from veduta.core.dashboard.definition import FIRST, DashboardBlock, DashboardDefinition
from veduta.web.accounts.models import User
from veduta.web.charts.models import Chart
from veduta.web.dashboards import publishing
from veduta.web.dashboards import services as dashboards
from veduta.web.dashboards.models import Dashboard

GROUP = "Harbour office"
Place = tuple[str, int, int, int, int]
"""A chart's name, where its block begins, across and down, and its width and height, in steps of the grid."""


def publish_board(
    user: User, name: str, charts: Mapping[str, Chart], places: Iterable[Place], controls: Iterable[Control] = ()
) -> Dashboard:
    """A dashboard that the harbour office may look at, with its rows."""
    dashboard = dashboards.create_dashboard(user, name)
    blocks = tuple(
        DashboardBlock(id=f"b{number}", kind="chart", chart=str(charts[chart].pk), x=x, y=y, w=w, h=h)
        for number, (chart, x, y, w, h) in enumerate(places, 1)
    )
    definition = DashboardDefinition(pages=(FIRST.model_copy(update={"blocks": blocks}),), controls=tuple(controls))
    dashboard = dashboards.save_draft(user, dashboard, definition, dashboard.name, 0)
    publishing.publish(user, dashboard)
    share_with_harbour_office(user, dashboard)
    dashboard.refresh_from_db()
    return dashboard


def share_with_harbour_office(user: User, dashboard: Dashboard) -> None:
    """Let the harbour office look at a dashboard, with its rows."""
    group = Group.objects.get(name=GROUP)
    dashboards.grant(user, dashboard, f"group-{group.pk}", "view", download=True)

"""How a dashboard is asked for, and as what it is read then."""

from __future__ import annotations

import re
import uuid

from django.shortcuts import get_object_or_404

from veduta.core.dashboard.definition import ViewState, load_state
from veduta.web.accounts.access import Request
from veduta.web.common.requests import Flag, Line, RequestModel, Text, parse_query
from veduta.web.dashboards import saved_views, services
from veduta.web.dashboards.access import find_dashboard
from veduta.web.dashboards.models import Dashboard, DraftState, Publication
from veduta.web.dashboards.publishing import freeze_charts
from veduta.web.dashboards.session import DashboardSession


class ViewRequest(RequestModel):
    """How a dashboard is requested.

    Published, an earlier `version` of it, its draft or an earlier one (the version "draft-" and its revision), under a
    state (`v`, the key `k` of one that is too long, or that of a `kept` view), at one of its pages."""

    v: Text = ""
    k: Line = ""
    kept: Line = ""
    page: Line = ""
    version: Line = ""
    draft: Flag = False


def load_requested_state(request: Request, dashboard: Dashboard, view: ViewRequest) -> ViewState:
    """The state that a request names."""
    if view.kept:
        return load_state(saved_views.find(request.user, dashboard, view.kept).state)
    return services.load_long_state(dashboard, view.k) if view.k else load_state(view.v)


def open_session(request: Request, pk: uuid.UUID) -> DashboardSession:
    """The dashboard as the request asks for it."""
    view = parse_query(request, ViewRequest)
    dashboard = find_dashboard(request.user, pk, edit=bool(view.draft or view.version))
    state = load_requested_state(request, dashboard, view)
    if asked_state := re.fullmatch("draft-([0-9]{1,9})", view.version):
        kept_state = get_object_or_404(DraftState, dashboard=dashboard, number=int(asked_state[1]))
        return DashboardSession(dashboard, freeze_charts(kept_state.load()), state, request.user)
    if view.version:
        number = int(view.version) if re.fullmatch("[0-9]{1,9}", view.version) else -1
        publication = get_object_or_404(Publication, dashboard=dashboard, number=number)
        return DashboardSession(dashboard, publication.load(), state, request.user)
    return DashboardSession.open(dashboard, state, request.user, draft=view.draft)

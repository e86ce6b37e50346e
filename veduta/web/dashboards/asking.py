"""How a dashboard is asked for, and as what it is read then."""

from __future__ import annotations

import re
import uuid

from django.shortcuts import get_object_or_404

from veduta.core.dashboard.definition import ViewState, load_state
from veduta.web.accounts.access import Request
from veduta.web.common.requests import Flag, Line, Sent, Text, asked
from veduta.web.dashboards import kept, services
from veduta.web.dashboards.access import find_dashboard
from veduta.web.dashboards.models import Dashboard, DraftState, Publication
from veduta.web.dashboards.publishing import frozen
from veduta.web.dashboards.reading import Reading


class View(Sent):
    """How a dashboard is asked for: published, an earlier `version` of it, its draft or an earlier one (the version
    "draft-" and its revision), under a state (`v`, the key `k` of one that is too long, or that of a `kept` view), at
    one of its pages."""

    v: Text = ""
    k: Line = ""
    kept: Line = ""
    page: Line = ""
    version: Line = ""
    draft: Flag = False


def state_asked(request: Request, dashboard: Dashboard, view: View) -> ViewState:
    """The state that a request names."""
    if view.kept:
        return load_state(kept.find(request.user, dashboard, view.kept).state)
    return services.long_state(dashboard, view.k) if view.k else load_state(view.v)


def reading_for(request: Request, pk: uuid.UUID) -> Reading:
    """The dashboard as the request asks for it."""
    view = asked(request, View)
    dashboard = find_dashboard(request.user, pk, edit=bool(view.draft or view.version))
    state = state_asked(request, dashboard, view)
    if asked_state := re.fullmatch("draft-([0-9]{1,9})", view.version):
        kept_state = get_object_or_404(DraftState, dashboard=dashboard, number=int(asked_state[1]))
        return Reading(dashboard, frozen(kept_state.load()), state, request.user)
    if view.version:
        number = int(view.version) if re.fullmatch("[0-9]{1,9}", view.version) else -1
        publication = get_object_or_404(Publication, dashboard=dashboard, number=number)
        return Reading(dashboard, publication.load(), state, request.user)
    return Reading.of(dashboard, state, request.user, draft=view.draft)

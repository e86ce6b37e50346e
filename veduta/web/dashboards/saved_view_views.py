"""The list of kept views of a dashboard, and what is done with them."""

from __future__ import annotations

import uuid
from typing import Annotated

from django.http import HttpResponse, JsonResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST
from pydantic import Field

from veduta.core.dashboard.definition import load_state
from veduta.core.dashboard.stale_state import drop_stale_state, list_state_parts
from veduta.web.accounts.access import Request, require_sign_in
from veduta.web.common.requests import Flag, Line, Object, RequestModel, parse_json, parse_query
from veduta.web.dashboards import saved_views
from veduta.web.dashboards.access import find_dashboard, list_viewers
from veduta.web.dashboards.filter_bar import list_filter_bar
from veduta.web.dashboards.models import SavedView
from veduta.web.dashboards.row_access import has_row_filter
from veduta.web.dashboards.session import DashboardSession
from veduta.web.dashboards.view_requests import ViewRequest, open_session


class ViewSent(RequestModel):
    """A state at a page, and how it is called."""

    name: Line = ""
    state: Object = {}
    page: Line = ""


class ViewChanges(RequestModel):
    """What of a kept view is to be other: what is not sent stays."""

    name: Line | None = None
    usual: Flag | None = None
    state: Object | None = None
    page: Line = ""


class ViewGiven(RequestModel):
    people: Annotated[list[int], Field(max_length=500)] = []
    for_everybody: Flag = False


@require_GET
@require_sign_in
def list_saved_views(request: Request, pk: uuid.UUID) -> HttpResponse:
    """The views of a dashboard that somebody has, and those they were given."""
    reading, view = open_session(request, pk), parse_query(request, ViewRequest)
    views = list(saved_views.list_views(request.user, reading.dashboard))
    context = {
        "dashboard": reading.dashboard,
        "own": [each for each in views if each.owner_id == request.user.pk],
        "given": [each for each in views if each.owner_id != request.user.pk],
        "open": view.kept,
        "is_plain": reading.is_as_published,
    }
    return render(request, "dashboards/kept.html", context)


def _describe_filters(reading: DashboardSession) -> dict[str, str]:
    """What the parts of a state are, in words, by the names that the core gives them."""
    names = {block.id: reading.name_of(block) for block in reading.definition.charts}
    words = {}
    for item in list_filter_bar(reading):
        if item.mode in ("control", "drill"):
            words[f"{item.mode} {item.key}"] = f"{item.name}: {item.words}"
        elif item.mode != "fixed":
            words[f"selection {reading.state.selections[int(item.key)].block}"] = item.words
    words |= {f"sort {block}": f"the order of {names[block]}" for block in reading.state.sorts if block in names}
    return {part: words[part] for part in list_state_parts(reading.state) if part in words}


@require_POST
@require_sign_in
def keep(request: Request, pk: uuid.UUID) -> JsonResponse:
    """Keep a state by a name."""
    dashboard, wanted = find_dashboard(request.user, pk), parse_json(request, ViewSent)
    state = load_state(wanted.state)
    reading = DashboardSession.open(dashboard, state, request.user)
    view = saved_views.keep(request.user, dashboard, wanted.name, state, wanted.page, _describe_filters(reading))
    return _answer(view, f"“{view.name}” is kept.")


def _answer(view: SavedView, message: str) -> JsonResponse:
    link = reverse("dashboard-kept-open", args=[view.dashboard_id, view.key])
    return JsonResponse({"key": view.key, "name": view.name, "link": link, "message": message})


@require_POST
@require_sign_in
def change(request: Request, pk: uuid.UUID, key: str) -> JsonResponse:
    """Rename one's view, have it as the usual one, or keep another state by it."""
    dashboard, changes = find_dashboard(request.user, pk), parse_json(request, ViewChanges)
    view = saved_views.get_own(request.user, dashboard, key)
    message = ""
    if changes.name is not None:
        saved_views.set_name(request.user, view, changes.name)
        message = f"It is called “{view.name}” now."
    if changes.usual is not None:
        saved_views.set_usual(request.user, view, changes.usual)
        message = f"“{view.name}” is {'what you see first' if changes.usual else 'not what you see first any more'}."
    if changes.state is not None:
        state = load_state(changes.state)
        words = _describe_filters(DashboardSession.open(dashboard, state, request.user))
        saved_views.set_state(request.user, view, state, changes.page, words)
        message = f"“{view.name}” is kept as it is now."
    return _answer(view, message)


@require_GET
@require_sign_in
def open_view(request: Request, pk: uuid.UUID, key: str) -> HttpResponse:
    """The short link of a view."""
    view = saved_views.find(request.user, find_dashboard(request.user, pk), key)
    saved_views.mark_read(request.user, view)
    page = f"&page={view.page}" if view.page else ""
    return redirect(f"{reverse('dashboard', args=[pk])}?kept={view.key}{page}")


@require_GET
@require_sign_in
def show_people(request: Request, pk: uuid.UUID, key: str) -> HttpResponse:
    """Those to whom one's view can be given."""
    dashboard = find_dashboard(request.user, pk)
    view = saved_views.get_own(request.user, dashboard, key)
    has = set(view.given_to.values_list("pk", flat=True))
    others = [(person, person.pk in has) for person in list_viewers(dashboard) if person.pk != request.user.pk]
    return render(request, "dashboards/kept_give.html", {"view": view, "people": others})


@require_POST
@require_sign_in
def give(request: Request, pk: uuid.UUID, key: str) -> JsonResponse:
    dashboard, given = find_dashboard(request.user, pk), parse_json(request, ViewGiven)
    view = saved_views.get_own(request.user, dashboard, key)
    saved_views.give_to(request.user, view, given.people, given.for_everybody)
    return _answer(view, f"“{view.name}” is given to those you chose.")


@require_POST
@require_sign_in
def delete(request: Request, pk: uuid.UUID, key: str) -> JsonResponse:
    view = saved_views.get_own(request.user, find_dashboard(request.user, pk), key)
    saved_views.delete(request.user, view)
    undo = reverse("dashboard-kept-restore", args=[pk, key])
    return JsonResponse({"message": f"“{view.name}” is deleted.", "undo": undo})


@require_POST
@require_sign_in
def restore(request: Request, pk: uuid.UUID, key: str) -> JsonResponse:
    view = saved_views.get_own(request.user, find_dashboard(request.user, pk), key, deleted=True)
    saved_views.restore(request.user, view)
    return JsonResponse({"message": f"“{view.name}” is back."})


def describe_left_out(reading: DashboardSession, view: ViewRequest) -> str:
    """What of the state that was asked for is not on the dashboard any more, in words; "" for nothing."""
    gone = drop_stale_state(reading.definition, reading.state)[1]
    if not gone:
        return ""
    is_said = bool(view.kept) and not has_row_filter(reading)  # whoever kept it may see more
    words = saved_views.find(reading.reader, reading.dashboard, view.kept).words if is_said else {}
    said = [words.get(part, "") or GONE[part.partition(" ")[0]] for part in gone]
    return f"This view names what is not on the dashboard any more, and is shown without it: {'; '.join(said)}."


GONE = {
    "control": "what a control was set to",
    "selection": "what was selected in a block",
    "drill": "how a block was drilled",
    "sort": "the order of a block",
}

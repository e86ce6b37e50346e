"""The comments of a dashboard beside it, and what is done with them."""

from __future__ import annotations

import json
import uuid
from typing import Any

from django.http import Http404, HttpResponse, JsonResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST
from pydantic import ValidationError

from veduta.core.dashboard.definition import Selection, load_state
from veduta.core.errors import DefinitionProblem, VedutaError
from veduta.web.accounts.access import Request, require_sign_in
from veduta.web.accounts.models import User
from veduta.web.common.requests import Flag, Line, Maybe, Object, RequestModel, Text, parse_json
from veduta.web.dashboards import comments
from veduta.web.dashboards.access import find_dashboard, list_viewers
from veduta.web.dashboards.comments import Thread
from veduta.web.dashboards.models import Comment, Dashboard
from veduta.web.dashboards.row_access import filter_selection
from veduta.web.dashboards.session import DashboardSession
from veduta.web.dashboards.view_requests import open_session
from veduta.web.modelling.rows import count_rows

THREADS = 200
"""How many are listed, those that are open first."""
Points = tuple[tuple[Any, ...], ...]


class CommentSent(RequestModel):
    """A comment: of a block or of marks in it, under a state at a page, or in a thread."""

    text: Text = ""
    block: Line = ""
    mark: Object = {}
    state: Object = {}
    page: Line = ""
    thread: Maybe = None


class CommentChanged(RequestModel):
    text: Text | None = None
    resolved: Flag | None = None


@require_GET
@require_sign_in
def list_comments(request: Request, pk: uuid.UUID) -> HttpResponse:
    """The threads of a dashboard. What of them concerns the reader is read by that."""
    reading = open_session(request, pk)
    found = comments.list_threads(request.user, reading.dashboard)
    names = {block.id: reading.name_of(block) for block in reading.definition.charts}
    shown = [_make_thread_context(thread, reading, names) for thread in found[:THREADS]]
    comments.mark_read(request.user, [comment for thread in found for comment in thread.said])
    people = [person.label for person in list_viewers(reading.dashboard) if person.pk != request.user.pk]
    context = {
        "open": [each for each in shown if not each["thread"].begun.resolved_at],
        "resolved": [each for each in shown if each["thread"].begun.resolved_at],
        "people": people,
        "not_shown": max(len(found) - THREADS, 0),
        "dashboard": reading.dashboard,
    }
    return render(request, "dashboards/comments.html", context)


def _make_thread_context(thread: Thread, reading: DashboardSession, names: dict[str, str]) -> dict[str, Any]:
    words, points = _describe_subject(thread.begun, reading, names)
    link = _link(reading.dashboard, thread.begun, reading.reader)
    return {"thread": thread, "about": words, "points": points, "link": link}


def _describe_subject(thread: Comment, reading: DashboardSession, names: dict[str, str]) -> tuple[str, Points]:
    """What a thread is about, in words, and the points of its marks.

    Of marks whose rows the reader may not see is not said which they are."""
    if not thread.block:
        return "", ()
    name = names.get(thread.block, "a block that is not there any more")
    if not thread.mark or thread.block not in names:
        return name, ()
    words, points = _mark(thread, reading)
    return f"{name}: {words}", points


def _mark(thread: Comment, reading: DashboardSession) -> tuple[str, Points]:
    try:
        selection = filter_selection(reading, Selection.model_validate(thread.mark))
        source = reading.find_selection_source(selection) if selection else None
        made = selection.filter(source[0]) if selection and source else None
        if selection is None or source is None or made is None:
            return "a mark that is not there any more", ()
        block = reading.get_block(selection.block)
        dataset, filters, home, values = reading.find_underlying_rows(block, source[0], [made])
        if not count_rows(dataset, filters, reading.reader, home, values):
            return "a mark that you do not see", ()
        return made.describe(source[1]), selection.points
    except (Http404, VedutaError, ValidationError):
        return "a mark that is not there any more", ()


def _link(dashboard: Dashboard, thread: Comment, reader: User) -> str:
    """A dashboard as it was when a thread began, as far as somebody may see it."""
    page = f"&page={thread.page}" if thread.page else ""
    block = f"#block-{thread.block}" if thread.block else ""
    state = json.dumps(_filter_seen_state(dashboard, thread, reader))
    return f"{reverse('dashboard', args=[dashboard.pk])}?v={state}{page}{block}"


def _filter_seen_state(dashboard: Dashboard, thread: Comment, reader: User) -> dict[str, Any]:
    """The state in which a thread began, as far as somebody may see it; the plain one where it is not readable."""
    if not thread.state:
        return {}
    try:
        state = load_state(thread.state)
    except DefinitionProblem:
        return {}
    seen = DashboardSession.open(dashboard, state, reader, draft=dashboard.published is None).state
    return seen.model_dump(mode="json", exclude_defaults=True)


@require_POST
@require_sign_in
def say(request: Request, pk: uuid.UUID) -> JsonResponse:
    """Begin a thread, or go on with one."""
    dashboard, said = find_dashboard(request.user, pk), parse_json(request, CommentSent)
    thread = comments.find(request.user, dashboard, said.thread) if said.thread else None
    try:
        mark = Selection.model_validate(said.mark) if said.mark else None
    except ValidationError:
        raise DefinitionProblem("That mark is not readable.", hint="Choose it again.") from None
    state = load_state(said.state)
    comments.say(request.user, dashboard, said.text, said.block[:40], mark, state, said.page[:40], thread)
    return JsonResponse({"message": "It is said."})


@require_POST
@require_sign_in
def change(request: Request, pk: uuid.UUID, comment: uuid.UUID) -> JsonResponse:
    """Say something else, or settle a thread."""
    found, changed = (
        comments.find(request.user, find_dashboard(request.user, pk), comment),
        parse_json(request, CommentChanged),
    )
    if changed.text is not None:
        comments.edit(request.user, found, changed.text)
    if changed.resolved is not None:
        comments.resolve(request.user, found.thread or found, changed.resolved)
    return JsonResponse({"message": "It is changed."})


@require_POST
@require_sign_in
def delete(request: Request, pk: uuid.UUID, comment: uuid.UUID) -> JsonResponse:
    comments.delete(request.user, comments.find(request.user, find_dashboard(request.user, pk), comment))
    undo = reverse("dashboard-comment-restore", args=[pk, comment])
    return JsonResponse({"message": "The comment is deleted.", "undo": undo})


@require_POST
@require_sign_in
def restore(request: Request, pk: uuid.UUID, comment: uuid.UUID) -> JsonResponse:
    comments.restore(request.user, comments.find(request.user, find_dashboard(request.user, pk), comment))
    return JsonResponse({"message": "The comment is back."})


@require_GET
@require_sign_in
def open_comment(request: Request, pk: uuid.UUID, comment: uuid.UUID) -> HttpResponse:
    """The link in an inbox: the dashboard as it was seen, with its comments beside it."""
    dashboard = find_dashboard(request.user, pk)
    found = comments.find(request.user, dashboard, comment)
    comments.mark_read(request.user, [found])
    address, _, block = _link(dashboard, found.thread or found, request.user).partition("#")
    return redirect(f"{address}&comments=1#{block}" if block else f"{address}&comments=1")

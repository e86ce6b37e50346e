"""The inbox: what somebody was asked for, and what they have asked others for."""

from __future__ import annotations

import datetime as dt
import uuid
from typing import Annotated

from django.contrib import messages
from django.http import HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils import timezone
from django.views.decorators.http import require_GET, require_POST
from pydantic import Field

from veduta.core.errors import VedutaError
from veduta.web.accounts.access import Request, require_builder, require_sign_in
from veduta.web.accounts.models import User
from veduta.web.common.requests import Flag, Line, RequestModel, parse_form, parse_json
from veduta.web.dashboards import drafts, services, tasks
from veduta.web.dashboards.access import find_dashboard
from veduta.web.dashboards.models import Task
from veduta.web.dashboards.notices import describe_state, list_notices
from veduta.web.datasets.models import Dataset

NOTICES_SHOWN = 50
SHOWN_BEFORE = 20
"""How many tasks that have ended are listed."""


class TaskGiven(RequestModel):
    """A place given to a colleague."""

    block: Line = ""
    colleague: Annotated[int | None, Field(ge=0)] = None
    words: Line = ""
    due: dt.date | None = None


class TaskAnswered(RequestModel):
    answer: Line = ""


class TaskDecided(RequestModel):
    leave: Flag = False


@require_GET
@require_sign_in
def show_inbox(request: Request) -> HttpResponse:
    asked = tasks.list_given_tasks(request.user)
    told = list(list_notices(request.user)[:NOTICES_SHOWN])
    context = {
        "notices": [(each, describe_state(each.state, request.user) if each.state else "") for each in told],
        "tasks": tasks.list_tasks(request.user),
        "asked": asked.filter(state=Task.State.OPEN),
        "ended": asked.exclude(state=Task.State.OPEN)[:SHOWN_BEFORE],
        "datasets": Dataset.objects.filter(deleted_at=None, current__isnull=False).order_by("name"),
    }
    return render(request, "dashboards/inbox.html", context)


@require_POST
@require_builder
def give(request: Request, pk: uuid.UUID) -> JsonResponse:
    """Give an empty place of a draft to a colleague."""
    dashboard, given = find_dashboard(request.user, pk, edit=True), parse_json(request, TaskGiven)
    colleague = User.objects.filter(pk=given.colleague).first()
    if colleague is None:
        raise VedutaError("That person does not exist.", hint="Choose one from the list.")
    task = tasks.give(request.user, dashboard, given.block, colleague, given.words, given.due)
    return JsonResponse({"message": f"{colleague.label} is asked for “{task.words}”."})


def _get_task(pk: uuid.UUID) -> Task:
    return get_object_or_404(Task.objects.select_related("dashboard"), pk=pk, dashboard__deleted_at=None)


@require_POST
@require_builder
def return_task(request: Request, pk: uuid.UUID) -> HttpResponse:
    tasks.return_task(request.user, _get_task(pk), parse_form(request, TaskAnswered).answer)
    messages.success(request, "It is handed back.")
    return redirect("inbox")


@require_POST
@require_builder
def bring_back(request: Request, pk: uuid.UUID, number: int) -> HttpResponse:
    """Have what was set over somebody's settings as they had it, unless they leave it as it is."""
    dashboard = find_dashboard(request.user, pk, edit=True)
    state = drafts.get_state(dashboard, number)
    state.notices.filter(user=request.user).update(read_at=timezone.now())
    if parse_form(request, TaskDecided).leave:
        return redirect("inbox")
    services.bring_back(request.user, dashboard, state)
    messages.success(request, "It is as you had it. The log has how it was before that.")
    return redirect("dashboard-edit", pk)


@require_POST
@require_builder
def withdraw(request: Request, pk: uuid.UUID) -> HttpResponse:
    task = _get_task(pk)
    tasks.withdraw(request.user, task)
    messages.success(request, f"{task.asked_of.label} is not asked for “{task.words}” any more.")
    return redirect("inbox")

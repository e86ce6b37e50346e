"""Refreshes on screen: one while it runs, a dataset's history, schedules and versions."""

from __future__ import annotations

import uuid

from django.contrib import messages
from django.http import HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST

from veduta.core.schedule import DAYS, OFTEN_WORDS, schedule_from
from veduta.web.accounts.access import Request, require_builder
from veduta.web.common.requests import Line, Lines, RequestModel, Whole, parse_form, parse_query
from veduta.web.datasets import upstream
from veduta.web.datasets.models import TAKING_WORDS, Dataset, Refresh, Upload, Version
from veduta.web.datasets.refreshes import ask_for, stop
from veduta.web.datasets.requests import get_dataset
from veduta.web.datasets.row_access import is_bound
from veduta.web.refreshing import schedules
from veduta.web.refreshing import services as refreshing
from veduta.web.refreshing.comparing import compare


class Compared(RequestModel):
    """The numbers of two versions."""

    before: Whole = 0
    after: Whole = 0


class ScheduleForm(RequestModel):
    """How often; "" ends a schedule."""

    often: Line = ""
    clock: Line = ""
    zone: Line = ""
    days: Lines = []
    month_day: Whole = 1


class TakingForm(RequestModel):
    how: Line = "full"
    key: Lines = []
    since: Line = ""


def _get_refresh(number: int) -> Refresh:
    """Raises Http404 for one that is not there, or of a dataset that was deleted."""
    refreshes = Refresh.objects.filter(dataset__deleted_at=None).select_related("dataset", "upload")
    return get_object_or_404(refreshes, pk=number)


@require_GET
@require_builder
def refresh(request: Request, number: int) -> HttpResponse:
    """One refresh: while it runs, or what became of it."""
    refresh = _get_refresh(number)
    if refresh.state == Refresh.State.DONE:
        return redirect("dataset", refresh.dataset_id)
    if refresh.state == Refresh.State.FAILED and refresh.upload and refresh.upload.state == Upload.State.FAILED:
        return redirect("upload", refresh.upload_id)  # where what was wrong is said and can be put right
    return render(request, "datasets/refresh.html", {"refresh": refresh, "dataset": refresh.dataset})


@require_GET
@require_builder
def refresh_state(request: Request, number: int) -> JsonResponse:
    refresh = _get_refresh(number)
    return JsonResponse(
        {
            "state": "done" if refresh.state == Refresh.State.DONE else "open" if refresh.is_open else "failed",
            "words": refresh.doing or refresh.get_state_display(),
            "share": refresh.share,
            "rows": None if is_bound(refresh.dataset, request.user) else refresh.rows,
            "message": refresh.message,
            "dataset": reverse("dataset", args=[refresh.dataset_id]),
        }
    )


@require_POST
@require_builder
def refresh_stop(request: Request, number: int) -> JsonResponse:
    stop(request.user, _get_refresh(number))
    return JsonResponse({"message": "It is being stopped. The dataset stays as it is."})


@require_POST
@require_builder
def refresh_start(request: Request, pk: uuid.UUID) -> HttpResponse:
    """Bring a dataset up to date now."""
    refresh = ask_for(request.user, get_dataset(pk), Refresh.Cause.HAND)
    return redirect("refresh", refresh.pk)


@require_GET
@require_builder
def show_refreshes(request: Request, pk: uuid.UUID) -> HttpResponse:
    """A dataset's schedule, the history of its refreshes, and its versions compared."""
    dataset = get_dataset(pk)
    versions = list(dataset.versions.filter(state=Version.State.READY).exclude(number=None))
    schedule = schedules.schedule_of(dataset)
    context = {
        "dataset": dataset,
        "schedule": schedule,
        "schedules": OFTEN_WORDS.items(),
        "days": DAYS.items(),
        "versions": versions,
        "refreshes": dataset.refreshes.select_related("started_by", "version", "root__dataset")[:50],
        "sources": Dataset.objects.filter(pk__in=upstream.list_sources(dataset)),
        "followers": Dataset.objects.filter(pk__in=upstream.list_followers(dataset)),
        "chosen_days": schedule.parts.get("BYDAY", "").split(",") if schedule else [],
        "month_day": schedule.parts.get("BYMONTHDAY", "1") if schedule else "1",
        "refreshable": dataset.is_refreshable,
        "taken": [] if dataset.source_id else dataset.all_taken_fields,
        "takings": TAKING_WORDS.items(),
        "taking": dataset.taking.get("how", "full"),
        "keys": dataset.taking.get("key", []),
        "since": dataset.taking.get("since", ""),
    }
    wanted = parse_query(request, Compared)
    context["bound"] = is_bound(dataset, request.user)
    if len(versions) > 1 and not context["bound"]:
        first, second = (
            number or version.number or 0
            for number, version in ((wanted.before, versions[1]), (wanted.after, versions[0]))
        )
        context["compared"] = compare(dataset, first, second)
    return render(request, "datasets/refreshes.html", context)


@require_POST
@require_builder
def schedule_set(request: Request, pk: uuid.UUID) -> HttpResponse:
    """Set or end a dataset's schedule from its form."""
    dataset, form = get_dataset(pk), parse_form(request, ScheduleForm)
    schedule = None
    if form.often:
        schedule = schedule_from(form.often, form.clock or "06:00", form.zone or "UTC", form.days, form.month_day)
    schedules.set_schedule(request.user, dataset, schedule)
    messages.success(
        request, f"It is refreshed {schedule.words}." if schedule else "It is no longer refreshed on schedule."
    )
    return redirect("dataset-refreshes", pk)


@require_POST
@require_builder
def set_taking(request: Request, pk: uuid.UUID) -> HttpResponse:
    """Set how newer rows come in."""
    form = parse_form(request, TakingForm)
    refreshing.set_taking(request.user, get_dataset(pk), form.how, form.key, form.since)
    messages.success(request, "It is kept, and holds from the next refresh on.")
    return redirect("dataset-refreshes", pk)

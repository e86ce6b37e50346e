"""Refreshes on screen: one while it runs, a dataset's history, schedules and versions; what is made from what."""

from __future__ import annotations

import uuid

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST

from veduta.web.accounts.access import builders_only
from veduta.web.datasets import refreshing
from veduta.web.datasets.models import Refresh
from veduta.web.datasets.views import _dataset


@require_GET
@builders_only
def refresh(request: HttpRequest, number: int) -> HttpResponse:
    """One refresh: while it runs, or what became of it."""
    found = get_object_or_404(Refresh.objects.select_related("dataset", "upload"), pk=number)
    if found.state == Refresh.State.DONE:
        return redirect("dataset", found.dataset_id)
    return render(request, "datasets/refresh.html", {"refresh": found, "dataset": found.dataset})


@require_GET
@builders_only
def refresh_state(request: HttpRequest, number: int) -> JsonResponse:
    found = get_object_or_404(Refresh, pk=number)
    return JsonResponse(
        {
            "state": "done" if found.state == Refresh.State.DONE else "open" if found.is_open else "failed",
            "words": found.doing or found.get_state_display(),
            "share": found.share,
            "rows": found.rows,
            "message": found.message,
            "dataset": reverse("dataset", args=[found.dataset_id]),
        }
    )


@require_POST
@builders_only
def refresh_stop(request: HttpRequest, number: int) -> JsonResponse:
    refreshing.stop(request.user, get_object_or_404(Refresh, pk=number))
    return JsonResponse({"message": "It is being stopped. The dataset stays as it is."})


@require_POST
@builders_only
def refresh_start(request: HttpRequest, pk: uuid.UUID) -> HttpResponse:
    """Bring a dataset up to date now."""
    found = refreshing.ask_for(request.user, _dataset(pk), Refresh.Cause.HAND)
    return redirect("refresh", found.pk)

"""Publishing on screen: what it changes for readers, now or later, and the versions there are."""

from __future__ import annotations

import datetime as dt
import uuid
from typing import Any

from django.contrib import messages
from django.http import HttpResponse, JsonResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.utils import timezone
from django.views.decorators.http import require_GET, require_POST

from veduta.core.dashboard.changes import Change, changes
from veduta.core.dashboard.definition import DashboardDefinition, Page, ViewState
from veduta.core.errors import VedutaError
from veduta.web.accounts.access import Request, builders_only
from veduta.web.common.requests import Line, Sent, filled_in, sent
from veduta.web.dashboards import publishing
from veduta.web.dashboards.access import find_dashboard
from veduta.web.dashboards.block_names import namer
from veduta.web.dashboards.miniatures import miniature
from veduta.web.dashboards.models import Dashboard
from veduta.web.dashboards.reading import Reading
from veduta.web.pictures.services import content_named

COMPARED = 8
"""How many blocks that change are drawn as they were and as they will be."""


class PublishSent(Sent):
    """A word about it, and from when on readers see it; at once without a day."""

    note: Line = ""
    day: dt.date | None = None
    time: dt.time | None = None


class BroughtBack(Sent):
    what: Line = "draft"


class Noted(Sent):
    note: Line = ""


@require_GET
@builders_only
def before_publishing(request: Request, pk: uuid.UUID) -> HttpResponse:
    """What publishing the draft changes for readers."""
    dashboard = find_dashboard(request.user, pk, edit=True)
    draft = Reading.of(dashboard, ViewState(), request.user, draft=True)
    now = dashboard.published.load() if dashboard.published else None
    then = publishing.with_pictures(draft.definition, lambda name: content_named(name)[0])
    found = changes(now, then, namer([now, then])) if now else []
    drawn = [change for change in found if change.block and _is_chart(change, draft.definition)]
    context = {
        "dashboard": dashboard,
        "changes": found,
        "drawn": drawn[:COMPARED],
        "pages": _pages_beside_each_other(now, draft.definition) if now else [],
        "blocks": len(draft.definition.blocks),
        "waiting": dashboard.publications.filter(due_at__isnull=False).first(),
        "problems": _empty_places(draft.definition),
    }
    return render(request, "dashboards/publish.html", context)


def _is_chart(change: Change, definition: DashboardDefinition) -> bool:
    block = definition.block(change.block)
    return block is not None and block.kind == "chart"


def _pages_beside_each_other(before: DashboardDefinition, after: DashboardDefinition) -> list[dict[str, Any]]:
    """The pages on which blocks stand otherwise, in small, as they are and as they will be."""
    pages = []
    for page in after.pages:
        old = before.page(page.id)
        if old and page.kind == old.kind == "flowing" and _places(old) != _places(page):
            pages.append({"name": page.name, "before": miniature(old.blocks), "after": miniature(page.blocks)})
    return pages


def _places(page: Page) -> set[tuple[Any, ...]]:
    return {(block.kind, block.x, block.y, block.w, block.h, block.group) for block in page.blocks}


def _empty_places(definition: DashboardDefinition) -> int:
    return sum(block.kind == "place" for block in definition.blocks)


@require_POST
@builders_only
def publish(request: Request, pk: uuid.UUID) -> JsonResponse:
    """Publish the draft, now or at a time of a day (midnight, if none is said)."""
    dashboard, wanted = find_dashboard(request.user, pk, edit=True), sent(request, PublishSent)
    due_at = _moment(wanted)
    version = publishing.publish(request.user, dashboard, wanted.note, due_at)
    if due_at:
        when = f"{timezone.localtime(due_at):%-d %b %Y, %H:%M}"
        messages.success(request, f"Version {version.number} will be published on {when}.")
        return JsonResponse({"address": reverse("dashboard-edit", args=[pk])})
    messages.success(request, f"Version {version.number} is published.")
    return JsonResponse({"address": reverse("dashboard", args=[pk])})


def _moment(wanted: PublishSent) -> dt.datetime | None:
    if wanted.day is None:
        if wanted.time is not None:
            raise VedutaError("A time has no day.", hint="Say the day as well, or clear the time to publish now.")
        return None
    return timezone.make_aware(dt.datetime.combine(wanted.day, wanted.time or dt.time.min))


def _back_to(dashboard: Dashboard) -> HttpResponse:
    return redirect("dashboard-edit", dashboard.pk)


@require_POST
@builders_only
def bring_back(request: Request, pk: uuid.UUID, number: int) -> HttpResponse:
    dashboard = find_dashboard(request.user, pk, edit=True)
    what = filled_in(request, BroughtBack).what
    publishing.bring_back(request.user, dashboard, number, what)
    messages.success(request, f"Version {number} is {'published again' if what == 'published' else 'the draft now'}.")
    return redirect("dashboard" if what == "published" else "dashboard-edit", pk)


@require_POST
@builders_only
def take_back(request: Request, pk: uuid.UUID) -> HttpResponse:
    dashboard = find_dashboard(request.user, pk, edit=True)
    publishing.take_back(request.user, dashboard)
    messages.success(request, "Readers do not see this dashboard any more.")
    return _back_to(dashboard)


@require_POST
@builders_only
def not_later(request: Request, pk: uuid.UUID, number: int) -> HttpResponse:
    dashboard = find_dashboard(request.user, pk, edit=True)
    publishing.not_later(request.user, dashboard, number)
    messages.success(request, f"Version {number} will not be published.")
    return _back_to(dashboard)


@require_POST
@builders_only
def annotate(request: Request, pk: uuid.UUID, number: int) -> HttpResponse:
    dashboard = find_dashboard(request.user, pk, edit=True)
    publishing.annotate(request.user, dashboard, number, filled_in(request, Noted).note)
    return _back_to(dashboard)

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

from veduta.core.dashboard.changes import DashboardChange, list_changes
from veduta.core.dashboard.definition import DashboardDefinition, Page, ViewState
from veduta.core.errors import VedutaError
from veduta.web.accounts.access import Request, require_builder
from veduta.web.common.requests import Line, RequestModel, parse_form, parse_json
from veduta.web.dashboards import publishing
from veduta.web.dashboards.access import find_dashboard
from veduta.web.dashboards.block_names import make_namer
from veduta.web.dashboards.miniatures import make_miniature
from veduta.web.dashboards.models import Dashboard
from veduta.web.dashboards.session import DashboardSession
from veduta.web.images.services import load_content

COMPARED = 8
"""How many blocks that change are drawn as they were and as they will be."""


class PublishSent(RequestModel):
    """A word about it, and from when on readers see it; at once without a day."""

    note: Line = ""
    day: dt.date | None = None
    time: dt.time | None = None


class VersionRestored(RequestModel):
    what: Line = "draft"


class NoteSent(RequestModel):
    note: Line = ""


@require_GET
@require_builder
def preview_publishing(request: Request, pk: uuid.UUID) -> HttpResponse:
    """What publishing the draft changes for readers."""
    dashboard = find_dashboard(request.user, pk, edit=True)
    draft = DashboardSession.open(dashboard, ViewState(), request.user, draft=True)
    now = dashboard.published.load() if dashboard.published else None
    then = publishing.freeze_pictures(draft.definition, lambda name: load_content(name)[0])
    found = list_changes(now, then, make_namer([now, then])) if now else []
    drawn = [change for change in found if change.block and _is_chart(change, draft.definition)]
    context = {
        "dashboard": dashboard,
        "changes": found,
        "drawn": drawn[:COMPARED],
        "pages": _pair_pages(now, draft.definition) if now else [],
        "blocks": len(draft.definition.blocks),
        "waiting": dashboard.publications.filter(due_at__isnull=False).first(),
        "problems": _empty_places(draft.definition),
    }
    return render(request, "dashboards/publish.html", context)


def _is_chart(change: DashboardChange, definition: DashboardDefinition) -> bool:
    block = definition.find_block(change.block)
    return block is not None and block.kind == "chart"


def _pair_pages(before: DashboardDefinition, after: DashboardDefinition) -> list[dict[str, Any]]:
    """The pages on which blocks stand otherwise, in small, as they are and as they will be."""
    pages = []
    for page in after.pages:
        old = before.find_page(page.id)
        if old and page.kind == old.kind == "flowing" and _list_positions(old) != _list_positions(page):
            pages.append(
                {"name": page.name, "before": make_miniature(old.blocks), "after": make_miniature(page.blocks)}
            )
    return pages


def _list_positions(page: Page) -> set[tuple[Any, ...]]:
    return {(block.kind, block.x, block.y, block.w, block.h, block.group) for block in page.blocks}


def _empty_places(definition: DashboardDefinition) -> int:
    return sum(block.kind == "place" for block in definition.blocks)


@require_POST
@require_builder
def publish(request: Request, pk: uuid.UUID) -> JsonResponse:
    """Publish the draft, now or at a time of a day (midnight, if none is said)."""
    dashboard, wanted = find_dashboard(request.user, pk, edit=True), parse_json(request, PublishSent)
    due_at = _parse_moment(wanted)
    version = publishing.publish(request.user, dashboard, wanted.note, due_at)
    if due_at:
        when = f"{timezone.localtime(due_at):%-d %b %Y, %H:%M}"
        messages.success(request, f"Version {version.number} will be published on {when}.")
        return JsonResponse({"address": reverse("dashboard-edit", args=[pk])})
    messages.success(request, f"Version {version.number} is published.")
    return JsonResponse({"address": reverse("dashboard", args=[pk])})


def _parse_moment(wanted: PublishSent) -> dt.datetime | None:
    if wanted.day is None:
        if wanted.time is not None:
            raise VedutaError("A time has no day.", hint="Say the day as well, or clear the time to publish now.")
        return None
    return timezone.make_aware(dt.datetime.combine(wanted.day, wanted.time or dt.time.min))


def _back_to(dashboard: Dashboard) -> HttpResponse:
    return redirect("dashboard-edit", dashboard.pk)


@require_POST
@require_builder
def bring_back(request: Request, pk: uuid.UUID, number: int) -> HttpResponse:
    dashboard = find_dashboard(request.user, pk, edit=True)
    what = parse_form(request, VersionRestored).what
    publishing.bring_back(request.user, dashboard, number, what)
    messages.success(request, f"Version {number} is {'published again' if what == 'published' else 'the draft now'}.")
    return redirect("dashboard" if what == "published" else "dashboard-edit", pk)


@require_POST
@require_builder
def take_back(request: Request, pk: uuid.UUID) -> HttpResponse:
    dashboard = find_dashboard(request.user, pk, edit=True)
    publishing.take_back(request.user, dashboard)
    messages.success(request, "Readers do not see this dashboard any more.")
    return _back_to(dashboard)


@require_POST
@require_builder
def cancel_scheduled(request: Request, pk: uuid.UUID, number: int) -> HttpResponse:
    dashboard = find_dashboard(request.user, pk, edit=True)
    publishing.cancel_scheduled(request.user, dashboard, number)
    messages.success(request, f"Version {number} will not be published.")
    return _back_to(dashboard)


@require_POST
@require_builder
def annotate(request: Request, pk: uuid.UUID, number: int) -> HttpResponse:
    dashboard = find_dashboard(request.user, pk, edit=True)
    publishing.annotate(request.user, dashboard, number, parse_form(request, NoteSent).note)
    return _back_to(dashboard)

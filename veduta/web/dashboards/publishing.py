"""Versions of a dashboard: published now or later, brought back, taken back, and drafts that were set aside."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from typing import TypeVar

from django.db import transaction
from django.db.models import F
from django.utils import timezone

from veduta.core.dashboard.backgrounds import PageGround
from veduta.core.dashboard.definition import DashboardBlock, DashboardDefinition, Page
from veduta.core.errors import VedutaError
from veduta.web.accounts.models import User
from veduta.web.charts.models import Chart
from veduta.web.common.revisions import find_next_number, get_numbered
from veduta.web.dashboards import drafts
from veduta.web.dashboards.access import must_edit
from veduta.web.dashboards.models import Dashboard, Publication
from veduta.web.images.services import keep_content
from veduta.web.jobs import queue
from veduta.web.palettes.models import load_palettes

Shows = TypeVar("Shows", DashboardBlock, PageGround)
"""What shows a picture."""


def freeze_charts(definition: DashboardDefinition) -> DashboardDefinition:
    """The definition with each chart's definition as it is saved now, and pictures and palettes as they are."""
    charts = {str(c.pk): c for c in Chart.objects.filter(pk__in=[block.chart for block in definition.charts])}

    def with_chart(block: DashboardBlock) -> DashboardBlock:
        if block.chart not in charts:
            return block
        return block.model_copy(update={"definition": charts[block.chart].definition})

    now = freeze_pictures(definition, lambda name: "")
    pages = [page.model_copy(update={"blocks": tuple(map(with_chart, page.blocks))}) for page in now.pages]
    return now.model_copy(update={"pages": tuple(pages), "palettes_kept": load_palettes(definition.palettes)})


def freeze_pictures(definition: DashboardDefinition, digest_of: Callable[[str], str]) -> DashboardDefinition:
    """The definition with the digests of its pictures, by their names ("" for a picture as it is now)."""

    def kept(shows: Shows) -> Shows:
        return shows.model_copy(update={"picture_kept": digest_of(shows.picture)}) if shows.picture else shows

    def of_page(page: Page) -> Page:
        narrow = page.narrow.model_copy(update={"ground": page.narrow.ground and kept(page.narrow.ground)})
        blocks = tuple(map(kept, page.blocks))
        return page.model_copy(update={"blocks": blocks, "ground": kept(page.ground), "narrow": narrow})

    return definition.model_copy(update={"pages": tuple(map(of_page, definition.pages))})


def keep_version(
    user: User, dashboard: Dashboard, definition: DashboardDefinition, set_aside: bool = False, note: str = ""
) -> Publication:
    """Keep a definition among the versions of its dashboard, complete in itself."""
    return Publication.objects.create(
        dashboard=dashboard,
        number=find_next_number(dashboard.publications.all()),
        name=dashboard.name,
        definition=freeze_pictures(freeze_charts(definition), keep_content).model_dump(mode="json"),
        set_aside=set_aside,
        note=note.strip()[:500],
        published_by=user,
    )


def publish(user: User, dashboard: Dashboard, note: str = "", due_at: dt.datetime | None = None) -> Publication:
    """Make the draft as it is now what readers see, at once or from a time on.

    Raises VedutaError for an empty draft or a time that has passed."""
    must_edit(user, dashboard)
    if due_at and due_at <= timezone.now():
        raise VedutaError("That time has passed.", hint="Choose a later one, or publish now.")
    with transaction.atomic():
        dashboard = Dashboard.objects.select_for_update().get(pk=dashboard.pk)
        definition = dashboard.load_draft()
        if not definition.blocks:
            raise VedutaError("There is nothing on this dashboard yet.", hint="Add a chart or a text, then publish.")
        version = keep_version(user, dashboard, definition, note=note)
        dashboard.publications.filter(due_at__isnull=False).update(due_at=None)
        if due_at:
            version.due_at = due_at
            version.save()
        else:
            dashboard.published = version
            dashboard.save()
    return version


def publish_due(now: dt.datetime | None = None) -> int:
    """Make versions whose time has come what readers see. Returns how many those are."""
    due = Publication.objects.filter(due_at__lte=now or timezone.now(), dashboard__deleted_at=None)
    count = 0
    for version in due.order_by("due_at"):
        with transaction.atomic():
            # Of several workers one does it.
            if Publication.objects.filter(pk=version.pk, due_at=version.due_at).update(due_at=None):
                Dashboard.objects.filter(pk=version.dashboard_id).update(published=version, updated_at=F("updated_at"))
                count += 1
    return count


queue.duties.append(publish_due)


def bring_back(user: User, dashboard: Dashboard, number: int, what: str) -> None:
    """Make an earlier version what explorers see ("published"), or the draft ("draft").

    The draft that is replaced is set aside among the versions. A published version keeps the charts as they were.
    """
    must_edit(user, dashboard)
    with transaction.atomic():
        dashboard = Dashboard.objects.select_for_update().get(pk=dashboard.pk)
        version = get_numbered(dashboard.publications.all(), number, "this dashboard")
        if what == "published":
            dashboard.published = version
        else:
            keep_version(user, dashboard, dashboard.load_draft(), set_aside=True)
            drafts.keep(user, dashboard, version.definition)
        dashboard.updated_by = user
        dashboard.save()


def take_back(user: User, dashboard: Dashboard) -> None:
    """Show the dashboard to readers no longer; its versions stay, and none waits to be published."""
    must_edit(user, dashboard)
    with transaction.atomic():
        dashboard.publications.filter(due_at__isnull=False).update(due_at=None)
        Dashboard.objects.filter(pk=dashboard.pk).update(published=None)


def cancel_scheduled(user: User, dashboard: Dashboard, number: int) -> None:
    """Not publish a version that waits for its time."""
    must_edit(user, dashboard)
    version = get_numbered(dashboard.publications.all(), number, "this dashboard")
    Publication.objects.filter(pk=version.pk).update(due_at=None)


def annotate(user: User, dashboard: Dashboard, number: int, note: str) -> None:
    """Say something about a version."""
    must_edit(user, dashboard)
    version = get_numbered(dashboard.publications.all(), number, "this dashboard")
    Publication.objects.filter(pk=version.pk).update(note=note.strip()[:500])

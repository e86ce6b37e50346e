"""What somebody has starred, and looked at last."""

from __future__ import annotations

import datetime as dt
from typing import Any

from django.utils import timezone

from veduta.web.accounts.models import User
from veduta.web.common.best_effort import note
from veduta.web.dashboards.access import list_dashboards, must_view
from veduta.web.dashboards.models import Dashboard, LastVisit

APART = dt.timedelta(minutes=10)
"""Two looks that are closer than that are one: reading does not write each time."""


def note_seen(user: User, dashboard: Dashboard) -> None:
    """Keep that somebody looks at a dashboard now."""
    must_view(user, dashboard)
    now = timezone.now()
    last = LastVisit.objects.filter(user=user, dashboard=dashboard).values_list("at", flat=True).first()
    if last is None or now - last > APART:
        note(lambda: LastVisit.objects.update_or_create(user=user, dashboard=dashboard, defaults={"at": now}))


def note_set(user: User, dashboard: Dashboard, controls: dict[str, Any]) -> None:
    """Keep what somebody has set these controls to, for the next time."""
    must_view(user, dashboard)
    seen = LastVisit.objects.filter(user=user, dashboard=dashboard)
    if controls and not seen.filter(controls=controls).exists():
        note(lambda: seen.update(controls=controls))


def set_last(user: User, dashboard: Dashboard) -> dict[str, Any]:
    """What somebody had the controls of a dashboard set to the last time, as far as that was kept."""
    kept: dict[str, Any] | None = (
        LastVisit.objects.filter(user=user, dashboard=dashboard).values_list("controls", flat=True).first()
    )
    return kept or {}


def list_recently_viewed(user: User, most: int) -> list[Dashboard]:
    """What somebody may still see, the last seen first."""
    seen = LastVisit.objects.filter(user=user, dashboard__in=list_dashboards(user)).select_related(
        "dashboard__published"
    )
    return [each.dashboard for each in seen[:most]]


def list_starred(user: User) -> list[Dashboard]:
    """What somebody has starred and may still see, by name."""
    return list(list_dashboards(user).filter(starred_by=user))


def toggle_star(user: User, dashboard: Dashboard) -> bool:
    """Star a dashboard, or no longer. Returns whether it is starred now."""
    must_view(user, dashboard)
    if dashboard.starred_by.filter(pk=user.pk).exists():
        dashboard.starred_by.remove(user)
        return False
    dashboard.starred_by.add(user)
    return True

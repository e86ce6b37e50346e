"""What has changed in the figures of a dashboard since somebody last looked at it, or at a view of it."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from typing import Any

from django.utils import timezone

from veduta.core.dashboard.visit_changes import Difference, Summary, list_differences
from veduta.web.accounts.models import User
from veduta.web.common.best_effort import note
from veduta.web.dashboards.access import must_view
from veduta.web.dashboards.models import Dashboard, SeenFigures

ONE_LOOK = dt.timedelta(hours=1)
"""What is closer together is one look."""
WRITTEN = dt.timedelta(minutes=10)
"""How often a look that goes on is written."""


@dataclass(frozen=True)
class ChangesSinceVisit:
    at: dt.datetime
    differences: list[Difference]


def look(user: User, dashboard: Dashboard, view: str, figures: dict[str, Summary]) -> ChangesSinceVisit | None:
    """Keep what somebody sees now.

    Returns how it differs from the look before; None if there was none, or nothing has changed."""
    must_view(user, dashboard)
    if not figures:
        return None
    now, kept = timezone.now(), {place: each.model_dump(mode="json") for place, each in figures.items()}
    looked = SeenFigures.objects.filter(user=user, dashboard=dashboard, view=view).first()
    if looked is None:
        first = {"now": kept, "now_at": now}
        note(lambda: SeenFigures.objects.get_or_create(user=user, dashboard=dashboard, view=view, defaults=first))
        return None
    if now - looked.now_at > ONE_LOOK:
        looked.before, looked.before_at = looked.now, looked.now_at
    if looked.before_at and now - looked.now_at > WRITTEN:
        # A page has a part of the figures, and the others stay as they were.
        looked.now, looked.now_at = looked.now | kept, now
        note(looked.save)
    return _compare_figures(looked, figures)


def _compare_figures(looked: SeenFigures, figures: dict[str, Summary]) -> ChangesSinceVisit | None:
    before: dict[str, Any] = looked.before
    changed = list_differences({place: Summary.model_validate(each) for place, each in before.items()}, figures)
    return ChangesSinceVisit(looked.before_at, changed) if changed and looked.before_at else None

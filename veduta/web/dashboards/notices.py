"""What concerns somebody: comments that mention or answer them, and views they were given."""

from __future__ import annotations

from django.db.models import Q, QuerySet

from veduta.web.accounts.models import User
from veduta.web.dashboards.access import dashboards_for
from veduta.web.dashboards.models import Notice


def notices_of(user: User) -> QuerySet[Notice]:
    """What concerns somebody on dashboards that they may see, the newest first."""
    may_see = dashboards_for(user)
    said = Q(comment__deleted_at=None, comment__dashboard__in=may_see)
    given = Q(view__deleted_at=None, view__dashboard__in=may_see, view__given_to=user)
    there = Notice.objects.filter(said & Q(comment__isnull=False) | given & Q(view__isnull=False), user=user)
    return there.select_related("comment__author", "comment__dashboard", "view__owner", "view__dashboard").distinct()

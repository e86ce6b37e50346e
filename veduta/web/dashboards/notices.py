"""What concerns somebody.

Comments that mention or answer them, views they were given, and what others set over theirs while they were away."""

from __future__ import annotations

from django.db.models import Q, QuerySet

from veduta.core.dashboard.changes import describe_conflict
from veduta.core.dashboard.merging import MergeConflict
from veduta.core.phrases import join_names
from veduta.web.accounts.models import User
from veduta.web.collaboration.live import find_who_has_open
from veduta.web.dashboards.access import list_dashboards
from veduta.web.dashboards.block_names import make_namer
from veduta.web.dashboards.models import DraftState, Notice


def tell_who_is_away(state: DraftState) -> None:
    """Tell those over whose settings a state went and who do not see it happen."""
    away = {who for who, *_ in state.over} - find_who_has_open(str(state.dashboard_id))
    there = User.objects.filter(pk__in=away, is_active=True)
    Notice.objects.bulk_create(Notice(state=state, user=user) for user in there)


def describe_state(state: DraftState, user: User) -> str:
    """The settings of somebody over which a state went, in words."""
    definition = state.load()
    name = make_namer([definition])
    lost = [MergeConflict(*setting) for who, *setting in state.over if who == user.pk]
    return join_names(list(dict.fromkeys(describe_conflict(each, definition, name) for each in lost)))


def list_notices(user: User) -> QuerySet[Notice]:
    """What concerns somebody on dashboards that they may see, the newest first."""
    may_see = list_dashboards(user)
    said = Q(comment__deleted_at=None, comment__dashboard__in=may_see)
    given = Q(view__deleted_at=None, view__dashboard__in=may_see, view__given_to=user)
    lost = Q(state__isnull=False, state__dashboard__in=may_see)
    there = Notice.objects.filter(said & Q(comment__isnull=False) | given & Q(view__isnull=False) | lost, user=user)
    return there.select_related(
        "comment__author",
        "comment__dashboard",
        "view__owner",
        "view__dashboard",
        "state__saved_by",
        "state__dashboard",
    ).distinct()

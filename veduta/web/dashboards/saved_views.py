"""Views of dashboards that readers keep by a name, for themselves or for others."""

from __future__ import annotations

import json
from collections.abc import Iterable

from django.core.exceptions import PermissionDenied
from django.db import transaction
from django.db.models import Q, QuerySet
from django.http import Http404
from django.utils import timezone

from veduta.core.dashboard.definition import ViewState
from veduta.core.errors import VedutaError
from veduta.web.accounts.models import User
from veduta.web.common.best_effort import note
from veduta.web.dashboards.access import list_viewers, may_view, must_view
from veduta.web.dashboards.models import Dashboard, Notice, SavedView

MOST_VIEWS = 100
"""Of one person, of one dashboard."""


def list_views(user: User, dashboard: Dashboard) -> QuerySet[SavedView]:
    """The views of a dashboard that somebody has kept or was given, their own first."""
    must_view(user, dashboard)
    theirs = Q(owner=user) | Q(for_everybody=True) | Q(given_to=user)
    views = SavedView.objects.filter(theirs, dashboard=dashboard, deleted_at=None)
    return views.select_related("owner").prefetch_related("given_to").distinct()


def find(user: User, dashboard: Dashboard, key: str) -> SavedView:
    """Raises Http404 for a view that is not there, or not for this person."""
    view = list_views(user, dashboard).filter(key=key).first()
    if view is None:
        raise Http404
    return view


def get_own(user: User, dashboard: Dashboard, key: str, deleted: bool = False) -> SavedView:
    """A view that somebody may change. Raises Http404 for any other."""
    if not may_view(user, dashboard):
        raise Http404
    view = SavedView.objects.filter(dashboard=dashboard, owner=user, key=key, deleted_at__isnull=not deleted).first()
    if view is None:
        raise Http404
    return view


def find_usual(user: User, dashboard: Dashboard) -> SavedView | None:
    """The view that somebody has as their usual one."""
    return SavedView.objects.filter(dashboard=dashboard, owner=user, usual=True, deleted_at=None).first()


def keep(user: User, dashboard: Dashboard, name: str, state: ViewState, page: str, words: dict[str, str]) -> SavedView:
    """Keep a state by a name. Raises VedutaError for a name that is taken."""
    must_view(user, dashboard)
    own_ones = SavedView.objects.filter(dashboard=dashboard, owner=user, deleted_at=None)
    if own_ones.count() >= MOST_VIEWS:
        raise VedutaError(f"You have {MOST_VIEWS} views of this dashboard.", hint="Delete one of them first.")
    view = SavedView(dashboard=dashboard, owner=user)
    set_name(user, view, name)
    set_state(user, view, state, page, words)
    return view


def _must_own(user: User, view: SavedView) -> None:
    must_view(user, view.dashboard)
    if view.owner_id != user.pk:
        raise PermissionDenied("Only who saved a view can change it.")


def set_name(user: User, view: SavedView, name: str) -> None:
    """Raises VedutaError for a name that is empty, or taken."""
    _must_own(user, view)
    name = " ".join(name.split())[:100]
    if not name:
        raise VedutaError("The view has no name.", hint="Write a few words by which you know it again.")
    others = SavedView.objects.filter(dashboard=view.dashboard, owner=view.owner, name=name, deleted_at=None)
    if others.exclude(pk=view.pk).exists():
        raise VedutaError(
            f"You have a view called “{name}”.", hint="Choose another name, or open that one and keep it as it is now."
        )
    view.name = name
    view.save()


def set_state(user: User, view: SavedView, state: ViewState, page: str, words: dict[str, str]) -> None:
    _must_own(user, view)
    view.state, view.page, view.words = json.loads(state.model_dump_json(exclude_defaults=True)), page, words
    view.save()


def set_usual(user: User, view: SavedView, usual: bool) -> None:
    """Have a view as the usual one instead of any other, or no longer."""
    _must_own(user, view)
    with transaction.atomic():
        SavedView.objects.filter(dashboard=view.dashboard, owner=view.owner, usual=True).update(usual=False)
        view.usual = usual
        view.save()


def give_to(user: User, view: SavedView, people: Iterable[int], for_everybody: bool) -> None:
    """Give a view to some of those who may see its dashboard, who find it in their inbox, or to all of them."""
    _must_own(user, view)
    with transaction.atomic():
        view.for_everybody = for_everybody
        view.save()
        given = list_viewers(view.dashboard).filter(pk__in=list(people)).exclude(pk=view.owner_id)
        view.given_to.set(given)
        for person in given:
            Notice.objects.get_or_create(view=view, user=person)


def mark_read(user: User, view: SavedView) -> None:
    unread = view.notices.filter(user=user, read_at=None)
    if unread.exists():
        note(lambda: unread.update(read_at=timezone.now()))


def delete(user: User, view: SavedView) -> None:
    _must_own(user, view)
    view.deleted_at, view.usual = timezone.now(), False
    view.save()


def restore(user: User, view: SavedView) -> None:
    """Bring back a view that was deleted. Raises VedutaError if another has its name by now."""
    _must_own(user, view)
    view.deleted_at = None
    set_name(user, view, view.name)

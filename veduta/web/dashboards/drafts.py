"""The states that the shared draft of a dashboard was in: each that was saved in the last days is kept."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable
from typing import Any

from django.db.models import QuerySet
from django.utils import timezone

from veduta.core.dashboard.definition import DashboardDefinition
from veduta.core.dashboard.log import Save, Sitting, group_sittings
from veduta.core.dashboard.merging import MergeConflict, get_setting, list_changed_settings
from veduta.web.accounts.models import User
from veduta.web.common.revisions import get_numbered
from veduta.web.dashboards.models import Dashboard, DraftState
from veduta.web.jobs import queue

KEPT_FOR = dt.timedelta(days=7)
A_MOMENT = dt.timedelta(seconds=2)
"""Who sets something so shortly after somebody else may have written it at the same time."""


def keep(
    user: User, dashboard: Dashboard, definition: DashboardDefinition | dict[str, Any], name: str = ""
) -> DraftState:
    """Make a definition the draft of a dashboard, of which the caller has the lock."""
    if not dashboard.draft_states.exists():
        _keep_state(dashboard, dashboard.updated_by, dashboard.updated_at)  # to which one may want to go back
    dashboard.draft = definition if isinstance(definition, dict) else definition.model_dump(mode="json")
    dashboard.name = name.strip()[:200] or dashboard.name
    dashboard.revision += 1
    dashboard.updated_by = user
    dashboard.save()
    return _keep_state(dashboard, user, timezone.now())


def _keep_state(dashboard: Dashboard, user: User | None, at: dt.datetime) -> DraftState:
    return DraftState.objects.create(
        dashboard=dashboard,
        number=dashboard.revision,
        name=dashboard.name,
        definition=dashboard.draft,
        saved_by=user,
        saved_at=at,
    )


def note_over(
    state: DraftState, over: Iterable[tuple[User | None, MergeConflict]], otherwise: DashboardDefinition
) -> None:
    """Note over whose settings a state went, and how the draft would be if it had not."""
    noted = [(who.pk, both.kind, both.id, both.setting) for who, both in over if who and who != state.saved_by]
    if noted:
        state.over, state.otherwise = noted, otherwise.model_dump(mode="json")
        state.save()


def forget() -> int:
    """Keep no states of longer ago. Returns how many those were."""
    return DraftState.objects.filter(saved_at__lt=timezone.now() - KEPT_FOR).delete()[0]


queue.duties.append(forget)


def list_states_since(dashboard: Dashboard, revision: int) -> QuerySet[DraftState]:
    """The states after a revision, the oldest first."""
    return dashboard.draft_states.filter(number__gt=revision).select_related("saved_by").order_by("number")


def find_author(both: MergeConflict, base: DashboardDefinition, states: Iterable[DraftState]) -> User | None:
    """Who changed a setting last, of the states that followed a definition; None if nobody did."""
    who, value = None, get_setting(base, both)
    for state in states:
        now = get_setting(state.load(), both)
        if now != value:
            who, value = state.saved_by, now
    return who


def set_just_before(
    user: User, dashboard: Dashboard, before: DashboardDefinition, after: DashboardDefinition
) -> list[tuple[User, MergeConflict]]:
    """The settings that others set a moment ago, with who did, and that somebody now sets otherwise."""
    recent = list(dashboard.draft_states.filter(saved_at__gt=timezone.now() - A_MOMENT).order_by("number"))
    if all(state.saved_by_id == user.pk for state in recent):
        return []
    first = dashboard.draft_states.filter(number__lt=recent[0].number).order_by("number").last() or recent[0]
    found = ((find_author(both, first.load(), recent), both) for both in list_changed_settings(before, after))
    return [(who, both) for who, both in found if who and who != user]


def list_sittings(dashboard: Dashboard) -> list[Sitting]:
    """The sittings in which the draft was worked on in the last days, the newest first."""
    saves = dashboard.draft_states.order_by("number").values_list("number", "saved_by", "saved_at")
    return group_sittings(Save(*each) for each in saves)


def get_state(dashboard: Dashboard, number: int) -> DraftState:
    """Raises VedutaError if it is not kept (any more)."""
    return get_numbered(dashboard.draft_states.all(), number, "the draft")

"""Who may see, edit and download from a dashboard."""

from __future__ import annotations

import uuid
from typing import Any, cast

from django.contrib.auth.models import Group
from django.core.exceptions import PermissionDenied
from django.db.models import Q, QuerySet
from django.http import Http404
from guardian.core import ObjectPermissionChecker
from guardian.shortcuts import (
    assign_perm,
    get_groups_with_perms,
    get_objects_for_user,
    get_users_with_perms,
    remove_perm,
)

from veduta.web.accounts.models import User
from veduta.web.dashboards.models import Dashboard

LEVELS = {"view": "View", "edit": "Edit"}
PERMISSIONS = {"view": "view_dashboard", "edit": "change_dashboard", "download": "download_rows"}


def list_dashboards(user: User) -> QuerySet[Dashboard]:
    """The dashboards somebody may open: for explorers the published ones that were granted to them."""
    everything = Dashboard.objects.filter(deleted_at=None).select_related("published", "created_by")
    if user.is_steward:
        return everything
    granted = get_objects_for_user(
        user, [PERMISSIONS["view"], PERMISSIONS["edit"]], klass=Dashboard, any_perm=True, accept_global_perms=False
    )
    visible = everything.filter(Q(pk__in=granted.values("pk")) | Q(created_by=user))
    return visible if user.builds else visible.filter(published__isnull=False)


def may_view(user: User, dashboard: Dashboard) -> bool:
    """The rule of `list_dashboards`, for one dashboard."""
    if not user.builds and dashboard.published_id is None:
        return False
    return may_edit(user, dashboard) or _is_granted(user, "view", dashboard)


def _is_granted(user: User, what: str, dashboard: Dashboard) -> bool:
    """Whether this was granted to the person or one of their groups.

    The database is asked once for each request's user."""
    checker = user.__dict__.setdefault("_granted", ObjectPermissionChecker(user))
    return checker.has_perm(PERMISSIONS[what], dashboard)


def list_viewers(dashboard: Dashboard) -> QuerySet[User]:
    """The people who may see a dashboard."""
    granted = get_users_with_perms(dashboard, only_with_perms_in=[PERMISSIONS["view"], PERMISSIONS["edit"]])
    pks = [person.pk for person in cast(QuerySet[User], granted)]
    everybody = Q(role=User.Role.STEWARD) | Q(pk=dashboard.created_by_id) | Q(pk__in=pks)
    people = User.objects.filter(everybody, is_active=True).order_by("first_name", "username")
    return people if dashboard.published_id else people.exclude(role=User.Role.EXPLORER)


def may_edit(user: User, dashboard: Dashboard) -> bool:
    if not user.builds:
        return False
    return user.is_steward or dashboard.created_by_id == user.pk or _is_granted(user, "edit", dashboard)


def may_download(user: User, dashboard: Dashboard) -> bool:
    return may_edit(user, dashboard) or _is_granted(user, "download", dashboard)


def find_dashboard(user: User, pk: uuid.UUID, edit: bool = False) -> Dashboard:
    """The dashboard, or Http404 for one that is not there or not for this person."""
    dashboards = Dashboard.objects.filter(pk=pk, deleted_at=None).select_related("published")
    dashboard = (dashboards if edit else dashboards.defer("draft", "published__definition")).first()
    if dashboard is None or not (may_edit(user, dashboard) if edit else may_view(user, dashboard)):
        raise Http404
    return dashboard


def must_view(user: User, dashboard: Dashboard) -> None:
    if not may_view(user, dashboard):
        raise PermissionDenied("You may not see this dashboard.")


def must_edit(user: User, dashboard: Dashboard) -> None:
    if not may_edit(user, dashboard):
        raise PermissionDenied("You may not edit this dashboard.")


def set_grant(who: User | Group, dashboard: Dashboard, level: str, download: bool) -> None:
    """Give a person or group a level ("view", "edit" or "" for none) and whether rows may be seen and downloaded."""
    wanted = {"view": {"view"}, "edit": {"view", "edit"}}.get(level, set()) | (
        {"download"} if level and download else set()
    )
    for name, permission in PERMISSIONS.items():
        change = assign_perm if name in wanted else remove_perm
        change(permission, who, dashboard)


def list_grants(dashboard: Dashboard) -> list[dict]:
    """Everybody the dashboard is granted to: people and groups with their level and whether they may download."""
    granted: list[tuple[Any, Any]] = [
        *cast(dict[Any, Any], get_groups_with_perms(dashboard, attach_perms=True)).items(),
        *cast(dict[Any, Any], get_users_with_perms(dashboard, attach_perms=True, with_group_users=False)).items(),
    ]
    return [
        {
            "who": who,
            "key": f"{'person' if isinstance(who, User) else 'group'}-{who.pk}",
            "is_group": isinstance(who, Group),
            "name": who.label if isinstance(who, User) else who.name,
            "level": "edit" if PERMISSIONS["edit"] in permissions else "view",
            "download": PERMISSIONS["download"] in permissions,
        }
        for who, permissions in granted
        if permissions
    ]

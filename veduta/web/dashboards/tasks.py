"""Empty places that are given to colleagues: asked for, filled, handed back and withdrawn."""

from __future__ import annotations

import datetime as dt

from django.core.exceptions import PermissionDenied
from django.db import transaction
from django.db.models import QuerySet
from django.utils import timezone

from veduta.core.dashboard.edits import apply_edit
from veduta.core.errors import VedutaError
from veduta.web.accounts.access import must_build
from veduta.web.accounts.models import User
from veduta.web.charts.models import Chart
from veduta.web.dashboards import drafts
from veduta.web.dashboards.access import may_edit, must_edit
from veduta.web.dashboards.models import Dashboard, Task


def list_colleagues(user: User) -> QuerySet[User]:
    """Those whom somebody can ask: all others who build."""
    builders = [role for role in User.Role if User(role=role).builds]
    return User.objects.filter(is_active=True, role__in=builders).exclude(pk=user.pk).order_by("first_name", "username")


def list_tasks(user: User) -> QuerySet[Task]:
    """The open tasks of somebody, those that are due first before the others."""
    tasks = Task.objects.filter(asked_of=user, state=Task.State.OPEN, dashboard__deleted_at=None)
    return tasks.select_related("dashboard", "asked_by")


def list_given_tasks(user: User) -> QuerySet[Task]:
    """What somebody has asked others for, the newest first."""
    tasks = Task.objects.filter(asked_by=user, dashboard__deleted_at=None)
    return tasks.select_related("dashboard", "asked_of").order_by("-created_at")


def index_by_placeholder(dashboard: Dashboard) -> dict[str, Task]:
    """The newest task of each place of a dashboard that was not withdrawn."""
    tasks = dashboard.tasks.exclude(state=Task.State.WITHDRAWN).select_related("asked_of").order_by("created_at")
    return {task.block: task for task in tasks}


def give(user: User, dashboard: Dashboard, block_id: str, colleague: User, words: str, due: dt.date | None) -> Task:
    """Ask a colleague to fill an empty place.

    Raises VedutaError for what is no empty place of the draft, or somebody else's already."""
    must_edit(user, dashboard)
    block = dashboard.load_draft().find_block(block_id)
    if block is None or block.kind != "place":
        raise VedutaError("There is no empty place there any more.", hint="Load the page again.")
    if not list_colleagues(user).filter(pk=colleague.pk).exists():
        raise VedutaError(f"{colleague.label} cannot make charts.", hint="Choose somebody from the list.")
    words = words.strip()[:500] or block.text
    if not words:
        raise VedutaError("It is not said what is wanted.", hint="Say it in a few words.")
    with transaction.atomic():
        if other := dashboard.tasks.filter(block=block_id, state=Task.State.OPEN).select_related("asked_of").first():
            raise VedutaError(f"{other.asked_of.label} has this place already.", hint="Withdraw it first.")
        return Task.objects.create(
            dashboard=dashboard, block=block_id, words=words, due=due, asked_by=user, asked_of=colleague
        )


def may_fill(user: User, dashboard: Dashboard, block_id: str) -> bool:
    """Whether somebody may fill an empty place: who may edit the dashboard, or was asked to."""
    if may_edit(user, dashboard):
        return True
    return user.builds and dashboard.tasks.filter(block=block_id, asked_of=user, state=Task.State.OPEN).exists()


def fill(user: User, dashboard: Dashboard, chart: Chart, block_id: str) -> None:
    """Have a chart stand in an empty place of the draft; whoever was asked for it has done it.

    Raises VedutaError if the place is filled or gone."""
    must_build(user)
    if not may_fill(user, dashboard, block_id):
        raise PermissionDenied("You may not edit this dashboard.")
    with transaction.atomic():
        dashboard = Dashboard.objects.select_for_update().get(pk=dashboard.pk)
        definition = dashboard.load_draft()
        block = definition.find_block(block_id)
        if block is None or block.kind != "place":
            raise VedutaError("There is no empty place there any more.", hint="The chart is kept: place it elsewhere.")
        change = {"edit": "fill_place", "block": block_id, "kind": "chart", "chart": str(chart.pk)}
        drafts.keep(user, dashboard, apply_edit(definition, change))
        dashboard.tasks.filter(block=block_id, state=Task.State.OPEN).update(
            state=Task.State.DONE, ended_at=timezone.now()
        )


def settle(dashboard: Dashboard) -> None:
    """End the tasks whose places somebody has filled or removed in the editor."""
    blocks = {block.id: block for block in dashboard.load_draft().blocks}
    for task in dashboard.tasks.filter(state=Task.State.OPEN):
        block = blocks.get(task.block)
        if block is None or block.kind != "place":
            _end(task, Task.State.WITHDRAWN if block is None else Task.State.DONE)


def return_task(user: User, task: Task, answer: str) -> None:
    """Say that one does not do it, and why."""
    if task.asked_of_id != user.pk:
        raise PermissionDenied
    _must_be_open(task)
    task.answer = answer.strip()[:500]
    _end(task, Task.State.HANDED_BACK)


def withdraw(user: User, task: Task) -> None:
    """Not ask for it any more."""
    if task.asked_by_id != user.pk:
        must_edit(user, task.dashboard)
    _must_be_open(task)
    _end(task, Task.State.WITHDRAWN)


def _must_be_open(task: Task) -> None:
    if not task.is_open:
        raise VedutaError(f"This is {task.state} already.", hint="Load the page again.")


def _end(task: Task, state: Task.State) -> None:
    task.state, task.ended_at = state, timezone.now()
    task.save()

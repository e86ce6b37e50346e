"""Refreshing on schedule: setting it, and starting what is due."""

from __future__ import annotations

import datetime as dt

from django.utils import timezone

from veduta.core.errors import DefinitionProblem
from veduta.core.schedule import Schedule
from veduta.web.accounts.access import must_build
from veduta.web.accounts.models import User
from veduta.web.datasets.models import Dataset, Refresh
from veduta.web.datasets.refreshes import ask_for
from veduta.web.jobs import queue


def schedule_of(dataset: Dataset) -> Schedule | None:
    return Schedule.model_validate(dataset.schedule) if dataset.schedule else None


def set_schedule(user: User, dataset: Dataset, schedule: Schedule | None) -> None:
    """Refresh a dataset on schedule, or no longer. Raises DefinitionProblem if it never comes."""
    must_build(user)
    following = schedule.find_next(timezone.now()) if schedule else None
    if schedule and following is None:
        raise DefinitionProblem("That schedule never comes.", hint="Choose another one.")
    Dataset.objects.filter(pk=dataset.pk).update(
        schedule=schedule.model_dump(mode="json") if schedule else {}, next_run=following
    )


def start_due(now: dt.datetime | None = None) -> int:
    """Ask for the refreshes whose time has come; what was missed while nothing ran is done once. Returns how many."""
    now = now or timezone.now()
    started = 0
    for dataset in Dataset.objects.filter(next_run__lte=now, deleted_at=None):
        schedule = schedule_of(dataset)
        following = schedule.find_next(now) if schedule else None
        if not Dataset.objects.filter(pk=dataset.pk, next_run=dataset.next_run).update(next_run=following):
            continue  # another worker was faster
        if not dataset.refreshes.filter(state=Refresh.State.QUEUED, cause=Refresh.Cause.SCHEDULE).exists():
            ask_for(None, dataset, Refresh.Cause.SCHEDULE)
            started += 1
    return started


queue.duties.append(start_due)

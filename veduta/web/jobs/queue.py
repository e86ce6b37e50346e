"""The queue of what is done in the background, for any number of kinds of jobs and of workers on one database.

A worker takes a job by a lease, which it renews while it lives; what a worker that died held is taken back. Of the
kinds that have something to do, the one with the fewest jobs under way is served next: none holds up the others.
"""

from __future__ import annotations

import datetime as dt
import logging
import os
import socket
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from django.conf import settings
from django.db import close_old_connections, transaction
from django.db.models import Q, QuerySet
from django.utils import timezone

from veduta.core.errors import Stopped
from veduta.web.jobs.models import Job

logger = logging.getLogger("veduta.jobs")
LEASE = dt.timedelta(seconds=20)
LOOK_EVERY = 0.2  # seconds, for something to do
TRIES = 3
State = Job.State


@dataclass(frozen=True)
class Kind:
    """A kind of job.

    `jobs` are all of it; `may_start` says of one that waits whether its turn can come; `run` does one that was taken,
    and says in its record what became of it; `cut_off` puts right what one left behind whose worker died. So many
    workers as `leaves` says stay free for other kinds, where there are more than one."""

    name: str
    jobs: Callable[[], QuerySet[Any]]
    run: Callable[[Any], None]
    cut_off: Callable[[Any], None]
    may_start: Callable[[Any], bool] = lambda job: True
    leaves: int = 0

    def under_way(self) -> int:
        return self.jobs().filter(state=State.RUNNING).count()

    def has_room(self) -> bool:
        return self.under_way() < max(1, settings.WORKERS - self.leaves)

    def ready(self) -> QuerySet[Any]:
        """What waits and whose time has come, longest first."""
        due = Q(not_before=None) | Q(not_before__lte=timezone.now())
        return self.jobs().filter(due, state=State.QUEUED).order_by("pk")


kinds: list[Kind] = []
duties: list[Callable[[], int]] = []
"""What workers look after every few seconds besides; each may be called by several workers at once."""


def this_worker() -> str:
    return f"{socket.gethostname()[:60]}:{os.getpid()}"


def wake() -> None:
    """Something waits. Workers find it within moments; where there are none, it is done at once."""
    if not settings.WORKERS:
        work_off()


def work_off() -> int:
    """Do what waits until nothing is left that may start. Returns how many jobs it did."""
    done = 0
    while taken := take():
        kind, job = taken
        kind.run(job)
        done += 1
    return done


def take() -> tuple[Kind, Job] | None:
    """The next job, which from now on this worker holds; None if there is nothing to do."""
    if not any(kind.ready().exists() for kind in kinds):
        return None
    with transaction.atomic():  # which is one worker at a time: transactions of this database begin by writing
        for kind in sorted(kinds, key=Kind.under_way):
            job = next(filter(kind.may_start, kind.ready()), None) if kind.has_room() else None
            if job is not None:
                job.state, job.message, job.started_at = State.RUNNING, "", timezone.now()
                job.held_by, job.held_until = this_worker(), timezone.now() + LEASE
                job.save(update_fields=["state", "message", "started_at", "held_by", "held_until"])
                return kind, job
    return None


def holds(job: Job) -> bool:
    """Whether whoever took this job still holds it, and nobody asked for it to stop."""
    jobs = type(job)._default_manager
    return jobs.filter(pk=job.pk, state=State.RUNNING, held_by=job.held_by, stop=False).exists()


def tell(job: Job, doing: str, share: float, **more: Any) -> None:
    """Say how far a job is. Raises Stopped if it is to stop, or is not ours any more."""
    type(job)._default_manager.filter(pk=job.pk, held_by=job.held_by).update(doing=doing, share=share, **more)
    must_hold(job)


def must_hold(job: Job) -> None:
    if not holds(job):
        raise Stopped("Stopped. Everything is as it was before.")


def finish(job: Job, state: str, message: str, **more: Any) -> bool:
    """Note what became of a job. Returns False, and notes nothing, if it was taken back meanwhile."""
    mine = type(job)._default_manager.filter(pk=job.pk, state=State.RUNNING, held_by=job.held_by)
    return bool(mine.update(state=state, message=message, doing="", finished_at=timezone.now(), **more))


def renew() -> int:
    """Hold what this worker holds for longer. Returns how many jobs that are."""
    mine = [kind.jobs().filter(state=State.RUNNING, held_by=this_worker()) for kind in kinds]
    return sum(jobs.update(held_until=timezone.now() + LEASE) for jobs in mine)


def let_go() -> None:
    """Leave what this worker holds to others, at once."""
    for kind in kinds:
        kind.jobs().filter(state=State.RUNNING, held_by=this_worker()).update(held_until=timezone.now())


def take_back(now: dt.datetime | None = None) -> int:
    """Put right what is held by workers that have died. Returns how many jobs were cut off."""
    lost = Q(held_until=None) | Q(held_until__lt=now or timezone.now())
    count = 0
    for kind in kinds:
        for job in kind.jobs().filter(lost, state=State.RUNNING).order_by("pk"):
            with transaction.atomic():
                if finish(job, State.INTERRUPTED, "It was cut off when the server stopped."):
                    kind.cut_off(job)
                    count += 1
    return count


def keep_alive(stop: threading.Event) -> None:
    """A worker's second thread: renews what it holds, takes back what others lost, sees to the duties."""
    while not stop.wait(LEASE.total_seconds() / 4):
        for duty in (renew, take_back, *duties):
            try:
                duty()
            except Exception:
                logger.exception("A worker could not do %s; it is tried again.", duty)
        close_old_connections()


def keep_working() -> None:
    """A worker: does what comes, without end."""
    while True:
        try:
            if work_off():
                continue
        except Exception:
            logger.exception("A worker failed at a job; it goes on.")
        close_old_connections()
        time.sleep(LOOK_EVERY)

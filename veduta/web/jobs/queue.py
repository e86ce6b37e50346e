"""The queue of what is done in the background, for any number of kinds of jobs and of workers on one database.

A worker that takes a job counts its heartbeat on while it lives; what a worker that died held is taken back. Of the
kinds that have something to do, the one with the fewest jobs under way is served next: none holds up the others.
"""

from __future__ import annotations

import logging
import os
import secrets
import socket
import threading
import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any

from django.conf import settings
from django.db import close_old_connections, connection, transaction
from django.db.models import F, Q, QuerySet
from django.utils import timezone

from veduta.core.errors import QueryCancelled
from veduta.web.jobs.models import Job

logger = logging.getLogger("veduta.jobs")
PATIENCE = 20.0
"""Seconds without a heartbeat after which a worker counts as dead, by the clock of whoever watches."""
LOOK_EVERY = 0.2  # seconds, whether anybody has written to the database
DUE_EVERY = 5.0  # seconds, for what waits until some time
TRIES = 3
CUT_OFF = "It was cut off when the server stopped."
State = Job.State


@dataclass(frozen=True)
class JobType:
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

    def count_under_way(self) -> int:
        return self.jobs().filter(state=State.RUNNING).count()

    def has_room(self) -> bool:
        return self.count_under_way() < max(1, settings.WORKERS - self.leaves)

    def list_ready(self) -> QuerySet[Any]:
        """What waits and whose time has come, longest first."""
        due = Q(not_before=None) | Q(not_before__lte=timezone.now())
        return self.jobs().filter(due, state=State.QUEUED).order_by("pk")


kinds: list[JobType] = []
duties: list[Callable[[], int]] = []
"""What workers look after every few seconds besides; each may be called by several workers at once."""


_names: dict[int, str] = {}


def get_worker_name() -> str:
    """The name of this process, which none before it had: the number of a process comes back."""
    pid = os.getpid()
    if pid not in _names:
        _names[pid] = f"{socket.gethostname()[:60]}:{pid}:{secrets.token_hex(6)}"
    return _names[pid]


def is_gone(worker: str) -> bool:
    """Whether a worker is known to have ended: it ran on this machine, which has no such process any more."""
    host, _, rest = worker.partition(":")
    pid = rest.partition(":")[0]
    if host != socket.gethostname()[:60] or not pid.isdecimal():
        return False
    try:
        os.kill(int(pid), 0)
    except ProcessLookupError:
        return True
    except OSError:
        return False  # it is somebody else's, and runs
    return False


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


def take() -> tuple[JobType, Job] | None:
    """The next job, which from now on this worker holds; None if there is nothing to do."""
    if not any(kind.list_ready().exists() for kind in kinds):
        return None
    with transaction.atomic():  # which is one worker at a time: transactions of this database begin by writing
        for kind in sorted(kinds, key=JobType.count_under_way):
            job = next(filter(kind.may_start, kind.list_ready()), None) if kind.has_room() else None
            if job is not None:
                job.state, job.message, job.started_at = State.RUNNING, "", timezone.now()
                job.held_by, job.beat = get_worker_name(), job.beat + 1
                job.save(update_fields=["state", "message", "started_at", "held_by", "beat"])
                return kind, job
    return None


def holds(job: Job) -> bool:
    """Whether whoever took this job still holds it, and nobody asked for it to stop."""
    jobs = type(job)._default_manager
    return jobs.filter(pk=job.pk, state=State.RUNNING, held_by=job.held_by, stop=False).exists()


def tell(job: Job, doing: str, share: float, **more: Any) -> None:
    """Say how far a job is. Raises QueryCancelled if it is to stop, or is not ours any more."""
    type(job)._default_manager.filter(pk=job.pk, held_by=job.held_by).update(doing=doing, share=share, **more)
    must_hold(job)


def must_hold(job: Job) -> None:
    if not holds(job):
        raise QueryCancelled("Stopped. Everything is as it was before.")


def finish(job: Job, state: str, message: str, **more: Any) -> bool:
    """Note what became of a job. Returns False, and notes nothing, if it was taken back meanwhile."""
    mine = type(job)._default_manager.filter(pk=job.pk, state=State.RUNNING, held_by=job.held_by)
    return bool(mine.update(state=state, message=message, doing="", finished_at=timezone.now(), **more))


def renew_leases() -> int:
    """Count the heartbeat of what this worker holds on. Returns how many jobs that are."""
    mine = [kind.jobs().filter(state=State.RUNNING, held_by=get_worker_name()) for kind in kinds]
    return sum(jobs.update(beat=F("beat") + 1) for jobs in mine)


def let_go() -> None:
    """Leave what this worker holds to others, at once."""
    for kind in kinds:
        kind.jobs().filter(state=State.RUNNING, held_by=get_worker_name()).update(held_by="")


class LeaseWatch:
    """What this process has seen of the heartbeats of jobs, and when by a clock that never goes back."""

    def __init__(self) -> None:
        self.seen: dict[tuple[str, int], tuple[str, int, float]] = {}
        self.lock = threading.Lock()

    def is_lost(self, job: Job, patience: float) -> bool:
        """Whether nobody holds a job any more: its worker has ended, or its heart has not beaten for so long."""
        if not job.held_by or is_gone(job.held_by):
            return True
        # A heartbeat is a count, not a time, as clocks of machines differ and jump: a job whose count has stayed 7 for
        # `patience` seconds of this process's own clock has lost its worker.
        key, now = (job._meta.label, job.pk), time.monotonic()
        with self.lock:
            held_by, beat, since = self.seen.get(key, ("", -1, now))
            if (held_by, beat) != (job.held_by, job.beat):
                since = now
            self.seen[key] = (job.held_by, job.beat, since)
        return now - since >= patience

    def keep_only(self, jobs: Iterable[Job]) -> None:
        """Forget jobs that have ended."""
        there = {(job._meta.label, job.pk) for job in jobs}
        with self.lock:
            self.seen = {key: each for key, each in self.seen.items() if key in there}


watch = LeaseWatch()


def take_back(patience: float = PATIENCE) -> int:
    """Put right what is held by workers that have died; what was to stop has stopped.

    Returns how many jobs were cut off."""
    count, running = 0, []
    for kind in kinds:
        jobs = list(kind.jobs().filter(state=State.RUNNING).order_by("pk"))
        running += jobs
        for job in (job for job in jobs if watch.is_lost(job, patience)):
            with transaction.atomic():
                state, why = (State.CANCELLED, "Stopped.") if job.stop else (State.INTERRUPTED, CUT_OFF)
                if finish(job, state, why):
                    kind.cut_off(job)
                    count += 1
    watch.keep_only(running)
    return count


def keep_alive(stop: threading.Event) -> None:
    """A worker's second thread: renews what it holds, takes back what others lost, sees to the duties."""
    while not stop.wait(PATIENCE / 4):
        for duty in (renew_leases, take_back, *duties):
            try:
                duty()
            except Exception:
                logger.exception("A worker could not do %s; it is tried again.", duty)
                close_old_connections()


def keep_working() -> None:
    """A worker: does what comes, without end.

    Waiting costs next to nothing: the jobs are looked at when somebody has written to the database, and every few
    seconds for those whose time has come."""
    seen, due_at = None, 0.0
    while True:
        try:
            version = read_data_version()
            if version != seen or time.monotonic() >= due_at:
                seen, due_at = version, time.monotonic() + DUE_EVERY
                work_off()
        except Exception:
            logger.exception("A worker failed at a job; it goes on.")
            seen = None
            close_old_connections()
        time.sleep(LOOK_EVERY)


def read_data_version() -> int:
    """A number that is another one whenever other connections than this thread's have written to the database."""
    connection.ensure_connection()
    (version,) = connection.connection.execute("PRAGMA data_version").fetchone()  # without what a cursor costs
    return int(version)

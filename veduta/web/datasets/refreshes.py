"""Refreshes asked for, stopped, followed by those of what is made from a dataset; what became of their uploads."""

from __future__ import annotations

import time
from typing import Any

from django.db import DatabaseError, connection
from django.utils import timezone

from veduta.web.accounts.access import must_build
from veduta.web.accounts.models import User
from veduta.web.datasets.models import Dataset, Refresh, Upload
from veduta.web.datasets.upstream import list_followers
from veduta.web.jobs import queue


def ask_for(user: User | None, dataset: Dataset, cause: str, **more: Any) -> Refresh:
    """Have a dataset brought up to date in the background. `user` is None for what Veduta does by itself."""
    if user is not None:
        must_build(user)
    refresh = Refresh.objects.create(dataset=dataset, cause=cause, started_by=user, **more)
    queue.wake()
    return refresh


def stop(user: User, refresh: Refresh) -> None:
    """Stop a refresh: at once if it waits or its worker has died, else at its next stage."""
    must_build(user)
    waiting = Refresh.objects.filter(pk=refresh.pk, state=Refresh.State.QUEUED)
    if waiting.update(state=Refresh.State.CANCELLED, finished_at=timezone.now(), message="Stopped before it began."):
        tell_upload(refresh, Upload.State.CHECKING, "")
    else:
        Refresh.objects.filter(pk=refresh.pk, state=Refresh.State.RUNNING).update(stop=True)
        queue.take_back()


def ask_again(refresh: Refresh, **more: Any) -> Refresh:
    """The same once more, as a record of its own; the workers find it."""
    return Refresh.objects.create(
        dataset=refresh.dataset,
        cause=Refresh.Cause.AGAIN,
        started_by=refresh.started_by,
        upload=refresh.upload,
        root=refresh.root,
        follows=refresh.follows,
        tries=refresh.tries + 1,
        **more,
    )


def refresh_followers(dataset: Dataset, root: Refresh | None = None) -> None:
    """Everything made from this dataset, once, in order; what already waited for an earlier change waits no more."""
    for dataset_id in list_followers(dataset):
        follower = Dataset.objects.get(pk=dataset_id)
        follower.refreshes.filter(state=Refresh.State.QUEUED, cause=Refresh.Cause.SOURCE).delete()
        ask_for(None, follower, Refresh.Cause.SOURCE, root=root, follows=True)


def tell_upload(refresh: Refresh, state: str, message: str) -> None:
    if refresh.upload:
        done = {"bytes_read": refresh.upload.size} if state == Upload.State.DONE else {"bytes_read": 0}
        Upload.objects.filter(pk=refresh.upload.pk).update(state=state, message=message, **done)


class Progress:
    """Tells how far a refresh is, and stops it where somebody asked for that."""

    LOOK_EVERY = 2.0  # seconds

    def __init__(self, refresh: Refresh) -> None:
        self.refresh = refresh
        self._look_at = time.monotonic() + self.LOOK_EVERY

    def is_wanted(self) -> bool:
        """Whether the refresh is to go on, for threads that wait beside it; looks only every few seconds."""
        if time.monotonic() < self._look_at:
            return True
        self._look_at = time.monotonic() + self.LOOK_EVERY
        try:
            return queue.holds(self.refresh)
        except DatabaseError:
            return True  # it is busy; the next look will tell
        finally:
            connection.close()  # this thread's own

    def tick(self, doing: str, share: float, rows: int = 0, bytes_read: int = 0) -> None:
        """Raises QueryCancelled if the refresh is to stop."""
        if self.refresh.upload_id and rows:
            Upload.objects.filter(pk=self.refresh.upload_id).update(rows_read=rows, bytes_read=bytes_read)
        queue.tell(self.refresh, doing, share, **({"rows": rows} if rows else {}))

"""What is to be done in the background, asked for and stopped; what a crash cut off."""

from __future__ import annotations

from typing import Any

from django.db import transaction
from django.utils import timezone

from veduta.core.errors import Stopped
from veduta.web.accounts.access import must_build
from veduta.web.accounts.models import User
from veduta.web.datasets.made_from import followers_in_order
from veduta.web.datasets.models import Dataset, Refresh, Upload, Version
from veduta.web.jobs.tasks import work_off

TRIES = 3
CUT_OFF = "It was cut off when the server stopped. The dataset is as it was before."


def ask_for(user: User | None, dataset: Dataset, cause: str, **more: Any) -> Refresh:
    """Have a dataset brought up to date in the background. `user` is None for what Veduta does by itself."""
    if user is not None:
        must_build(user)
    refresh = Refresh.objects.create(dataset=dataset, cause=cause, started_by=user, **more)
    work_off.enqueue()
    return refresh


def stop(user: User, refresh: Refresh) -> None:
    """Stop a refresh: at once if it waits, else at its next stage."""
    must_build(user)
    waiting = Refresh.objects.filter(pk=refresh.pk, state=Refresh.State.QUEUED)
    if waiting.update(state=Refresh.State.CANCELLED, finished_at=timezone.now(), message="Stopped before it began."):
        tell_upload(refresh, Upload.State.CHECKING, "")
    else:
        Refresh.objects.filter(pk=refresh.pk, state=Refresh.State.RUNNING).update(stop=True)


def tell_upload(refresh: Refresh, state: str, message: str) -> None:
    if refresh.upload_id:
        done = {"bytes_read": refresh.upload.size} if state == Upload.State.DONE else {"bytes_read": 0}
        Upload.objects.filter(pk=refresh.upload_id).update(state=state, message=message, **done)


def refresh_followers(dataset: Dataset, root: Refresh | None = None) -> None:
    """Everything made from this dataset, once, in order; what already waited for an earlier change waits no more."""
    for dataset_id in followers_in_order(dataset):
        follower = Dataset.objects.get(pk=dataset_id)
        follower.refreshes.filter(state=Refresh.State.QUEUED, cause=Refresh.Cause.SOURCE).delete()
        ask_for(None, follower, Refresh.Cause.SOURCE, root=root, follows=True)


class Progress:
    """Tells how far a refresh is, and stops it where somebody asked for that."""

    def __init__(self, refresh: Refresh) -> None:
        self.refresh = refresh

    def tick(self, doing: str, share: float, rows: int = 0, bytes_read: int = 0) -> None:
        """Raises Stopped if the refresh is to stop."""
        values: dict[str, Any] = {"doing": doing, "share": share}
        if rows:
            values["rows"] = rows
        Refresh.objects.filter(pk=self.refresh.pk).update(**values)
        if self.refresh.upload_id and rows:
            Upload.objects.filter(pk=self.refresh.upload_id).update(rows_read=rows, bytes_read=bytes_read)
        if Refresh.objects.filter(pk=self.refresh.pk, stop=True).exists():
            raise Stopped("Stopped. The dataset is as it was before.")


def recover() -> int:
    """After a crash: mark what was cut off, take half versions away, and have it done again. Returns how many."""
    Version.objects.filter(state=Version.State.LOADING).delete()
    Version.objects.filter(number=None, shaped=None).delete()
    broken = list(Refresh.objects.filter(state=Refresh.State.RUNNING).order_by("pk"))
    for refresh in broken:
        with transaction.atomic():
            Refresh.objects.filter(pk=refresh.pk).update(
                state=Refresh.State.INTERRUPTED, message=CUT_OFF, doing="", finished_at=timezone.now()
            )
            if refresh.tries >= TRIES:
                tell_upload(
                    refresh, Upload.State.FAILED, f"{CUT_OFF} It was tried {TRIES} times; start it again by hand."
                )
                continue
            tell_upload(refresh, Upload.State.QUEUED, "")
            Refresh.objects.create(
                dataset=refresh.dataset,
                cause=Refresh.Cause.AGAIN,
                started_by=refresh.started_by,
                upload=refresh.upload,
                root=refresh.root,
                follows=refresh.follows,
                tries=refresh.tries + 1,
            )
    return len(broken)

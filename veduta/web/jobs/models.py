"""Work done in the background, as a record. A kind of job is a model made from `Job`."""

from __future__ import annotations

from django.db import models
from django.utils import timezone


class Job(models.Model):
    """Something to be done in the background, from waiting to its end; kept as its history.

    The worker that has it counts its `beat` on for as long as it lives. Others watch that with clocks of their own, as
    the time of the day may be set back; one that has nobody in `held_by` is nobody's."""

    class State(models.TextChoices):
        QUEUED = "queued", "Waiting for its turn"
        RUNNING = "running", "Under way"
        DONE = "done", "Done"
        FAILED = "failed", "Did not work"
        CANCELLED = "cancelled", "Stopped"
        INTERRUPTED = "interrupted", "Cut off"

    state = models.CharField(max_length=12, choices=State, default=State.QUEUED)
    tries = models.PositiveSmallIntegerField(default=1)
    stop = models.BooleanField(default=False)
    doing = models.CharField(max_length=200, blank=True)
    share = models.FloatField(default=0)
    message = models.TextField(blank=True)
    queued_at = models.DateTimeField(auto_now_add=True)
    not_before = models.DateTimeField(null=True)
    started_at = models.DateTimeField(null=True)
    finished_at = models.DateTimeField(null=True)
    held_by = models.CharField(max_length=100, blank=True)
    beat = models.PositiveBigIntegerField(default=0)

    class Meta:
        abstract = True

    @property
    def is_open(self) -> bool:
        return self.state in (self.State.QUEUED, self.State.RUNNING)

    @property
    def seconds(self) -> float | None:
        """How long it took, or has taken so far; None before it started."""
        if not self.started_at:
            return None
        return ((self.finished_at or timezone.now()) - self.started_at).total_seconds()

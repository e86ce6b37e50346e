"""Charts, each person's draft of one, and every saved revision."""

from __future__ import annotations

import uuid

from django.conf import settings
from django.db import models

from veduta.core.chart.definition import ChartDefinition, load_definition
from veduta.web.datasets.models import Dataset


class Chart(models.Model):
    """`revision` 0 has never been saved: it is only a draft."""

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    dataset = models.ForeignKey(Dataset, on_delete=models.PROTECT, related_name="charts")
    name = models.CharField(max_length=300, blank=True)
    definition = models.JSONField()
    revision = models.PositiveIntegerField(default=0)
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    updated_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)
    updated_at = models.DateTimeField(auto_now=True)
    deleted_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["-updated_at"]

    def __str__(self) -> str:
        return self.name or "Unnamed chart"

    def load(self) -> ChartDefinition:
        return load_definition(self.definition)

    @property
    def events_from(self) -> set[str]:
        """The datasets whose events the chart is held against."""
        events = [reference.get("events") for reference in self.definition.get("references", ())]
        return {each["dataset"] for each in events if each}


class Draft(models.Model):
    """One person's unsaved changes to a chart, begun from `base_revision`."""

    chart = models.ForeignKey(Chart, on_delete=models.CASCADE, related_name="drafts")
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="+")
    name = models.CharField(max_length=300, blank=True)
    definition = models.JSONField()
    base_revision = models.PositiveIntegerField()
    updated_at = models.DateTimeField(auto_now=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["chart", "user"], name="one_draft_each")]


class Revision(models.Model):
    """A chart as it was saved once."""

    chart = models.ForeignKey(Chart, on_delete=models.CASCADE, related_name="revisions")
    number = models.PositiveIntegerField()
    name = models.CharField(max_length=300, blank=True)
    definition = models.JSONField()
    saved_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    saved_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-number"]
        constraints = [models.UniqueConstraint(fields=["chart", "number"], name="revision_number")]

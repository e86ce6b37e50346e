"""Dashboards and what was published of them."""

from __future__ import annotations

import uuid

from django.conf import settings
from django.db import models

from veduta.core.cache import Cache
from veduta.core.dashboard.definition import DashboardDefinition, load_dashboard
from veduta.core.errors import DefinitionProblem

publications: Cache[DashboardDefinition] = Cache(200)


class Dashboard(models.Model):
    """`draft` is what analysts edit; explorers see `published`."""

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    name = models.CharField(max_length=200)
    draft = models.JSONField(default=dict)
    revision = models.PositiveIntegerField(default=0)
    published = models.ForeignKey("Publication", null=True, on_delete=models.SET_NULL, related_name="+")
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    updated_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)
    updated_at = models.DateTimeField(auto_now=True)
    deleted_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["name", "created_at"]
        permissions = [("download_rows", "Can see and download the rows behind")]

    def __str__(self) -> str:
        return self.name

    @property
    def charts_of_draft(self) -> set[str]:
        """The ids of the charts on the draft; none of one that cannot be read."""
        try:
            return {block.chart for block in self.load_draft().charts}
        except DefinitionProblem:
            return set()

    def load_draft(self) -> DashboardDefinition:
        return load_dashboard(self.draft)


class Publication(models.Model):
    """A read-only version, or a draft that was set aside when somebody else's was kept."""

    dashboard = models.ForeignKey(Dashboard, on_delete=models.CASCADE, related_name="publications")
    number = models.PositiveIntegerField()
    name = models.CharField(max_length=200)
    definition = models.JSONField()
    set_aside = models.BooleanField(default=False)
    published_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    published_at = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-number"]
        constraints = [models.UniqueConstraint(fields=["dashboard", "number"], name="publication_number")]

    def load(self) -> DashboardDefinition:
        """A publication never changes."""
        return publications.get(self.pk, lambda: load_dashboard(self.definition))


class KeptView(models.Model):
    """A state of a dashboard that is too long for an address, which has its key instead."""

    dashboard = models.ForeignKey(Dashboard, on_delete=models.CASCADE, related_name="kept_views")
    key = models.CharField(max_length=32)
    state = models.JSONField()
    used_at = models.DateTimeField(auto_now=True)

    class Meta:
        constraints = [models.UniqueConstraint(fields=["dashboard", "key"], name="kept_view_key")]

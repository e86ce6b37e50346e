"""The chart templates of the workspace."""

from __future__ import annotations

import uuid

from django.conf import settings
from django.db import models

from veduta.core.chart.templates import Template, load_template
from veduta.web.charts.models import Chart
from veduta.web.datasets.models import Dataset


class ChartTemplate(models.Model):
    """A chart template as its file has it, with its picture apart.

    The picture is a PNG of the dataset that it was `drawn_from`. `made` are the charts that were made with it."""

    id = models.UUIDField(primary_key=True, default=uuid.uuid4, editable=False)
    name = models.CharField(max_length=200)
    content = models.JSONField()
    picture = models.BinaryField(blank=True, default=bytes)
    drawn_from = models.ForeignKey(Dataset, null=True, on_delete=models.SET_NULL, related_name="+")
    made = models.ManyToManyField(Chart, related_name="+")
    created_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    created_at = models.DateTimeField(auto_now_add=True)
    updated_at = models.DateTimeField(auto_now=True)
    deleted_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["-updated_at"]

    def __str__(self) -> str:
        return self.name

    def load(self) -> Template:
        return load_template(self.content)

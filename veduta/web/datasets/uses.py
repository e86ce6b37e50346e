"""What uses the fields of a dataset."""

from __future__ import annotations

from typing import Any

from veduta.core.errors import VedutaError
from veduta.web.datasets.models import Dataset


def charts_using(dataset: Dataset, field_id: str) -> list[Any]:
    """The charts of a dataset that use a field; unreadable definitions are passed over."""
    charts = []
    for chart in dataset.charts.filter(deleted_at=None):
        try:
            if field_id in chart.load().fields():
                charts.append(chart)
        except VedutaError:
            continue
    return charts

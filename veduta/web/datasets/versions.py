"""The versions of a dataset that are kept."""

from __future__ import annotations

from django.conf import settings

from veduta.web.datasets.models import Dataset, Version


def drop_old_versions(dataset: Dataset) -> None:
    """Keep the newest versions, the current one among them, and the rows they were shaped from."""
    ready = dataset.versions.filter(state=Version.State.READY).exclude(number=None)
    for version in ready.exclude(pk=dataset.current_id).order_by("-number")[settings.VERSIONS_KEPT - 1 :]:
        if version.shaped.exclude(number=None).exists():
            version.number = None
            version.save(update_fields=["number"])
        else:
            version.delete()
    dataset.versions.filter(number=None, state=Version.State.READY, shaped=None).exclude(pk=dataset.current_id).delete()

"""What requests about datasets ask for."""

from __future__ import annotations

import uuid

from django.http import Http404
from django.shortcuts import get_object_or_404

from veduta.core.errors import DefinitionProblem
from veduta.web.datasets.models import Dataset


def dataset_at(pk: uuid.UUID, deleted: bool = False) -> Dataset:
    return get_object_or_404(
        Dataset.objects.select_related("current", "created_by"), pk=pk, deleted_at__isnull=not deleted
    )


def as_uuid_or_404(text: str) -> uuid.UUID:
    try:
        return uuid.UUID(text)
    except ValueError:
        raise Http404 from None


FIELD_CHANGES = {
    "name",
    "description",
    "hidden",
    "kind",
    "role",
    "aggregate",
    "format",
    "order",
    "decimal",
    "empty_words",
    "folder",
    "total",
    "over_dates",
    "synonyms",
    "place",
    "sort_by",
}


def allowed_changes(changes: dict) -> dict:
    if not changes or changes.keys() - FIELD_CHANGES:
        raise DefinitionProblem("That setting does not exist.", hint="Load the page again.")
    return changes

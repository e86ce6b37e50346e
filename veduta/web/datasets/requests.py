"""What requests about datasets ask for."""

from __future__ import annotations

import uuid
from typing import Any

from django.http import Http404, HttpRequest
from django.shortcuts import get_object_or_404
from pydantic import ConfigDict

from veduta.core.errors import DefinitionProblem
from veduta.web.common.requests import Flag, Line, Lines, Object, RequestModel, read, read_json_body
from veduta.web.datasets.models import Dataset


def get_dataset(pk: uuid.UUID, deleted: bool = False) -> Dataset:
    return get_object_or_404(
        Dataset.objects.select_related("current", "created_by"), pk=pk, deleted_at__isnull=not deleted
    )


def parse_uuid_or_404(text: str) -> uuid.UUID:
    try:
        return uuid.UUID(text)
    except ValueError:
        raise Http404 from None


class FieldChanges(RequestModel):
    """What can be changed of a field, or of a column before its import."""

    model_config = ConfigDict(extra="forbid")

    name: Line = ""
    description: Line = ""
    hidden: Flag = False
    kind: Line = ""
    role: Line = ""
    aggregate: Line = ""
    format: Object = {}
    order: Line = ""
    decimal: Line = ""
    empty_words: Lines = []
    left_out: Lines = []
    folder: Line = ""
    total: Line = ""
    over_dates: Line = ""
    synonyms: Line = ""
    place: Line = ""
    shapes: Line = ""
    sort_by: Line = ""


def read_field_changes(request: HttpRequest) -> dict[str, Any]:
    """Raises DefinitionProblem for changes that cannot be made."""
    data = read_json_body(request)
    if not data or data.keys() - FieldChanges.model_fields:
        raise DefinitionProblem("That setting does not exist.", hint="Load the page again.")
    return read(data, FieldChanges).told

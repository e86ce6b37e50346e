"""Datasets as they are read to answer questions: kept in memory, each until it changes."""

from __future__ import annotations

import uuid
from collections.abc import Iterable

from veduta.core.cache import Cache
from veduta.web.datasets.models import Dataset

datasets: Cache[Dataset] = Cache(500)


def get_datasets(keys: Iterable[uuid.UUID | str]) -> dict[str, Dataset]:
    """The datasets of these keys that are there, by key as text; deleted ones too.

    They are shared by all who read: nobody changes them. One is loaded anew when it was changed, which whatever changes
    its rows, fields, model, steps or release notes in `updated_at`."""
    stamps = Dataset.objects.filter(pk__in=filter(is_key, map(str, keys))).order_by()
    there = {}
    for stamp in stamps.values_list("pk", "updated_at", "current_id", "deleted_at", "released"):
        there[str(stamp[0])] = datasets.get(stamp, lambda pk=stamp[0]: _load(pk))
    return there


def _load(pk: uuid.UUID) -> Dataset:
    rows = Dataset.objects.select_related("current")
    return rows.defer("draft", "current__profiles", "current__failures").get(pk=pk)


def is_key(text: str) -> bool:
    try:
        return str(uuid.UUID(text)) == text
    except ValueError:
        return False

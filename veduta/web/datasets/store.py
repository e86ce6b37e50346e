"""Stored versions as tables that the core can question: columns are loaded when needed and kept within a bound."""

from __future__ import annotations

import threading
from collections import OrderedDict
from functools import lru_cache

import polars as pl
from django.conf import settings

from veduta.core.data.profile import Profile
from veduta.core.data.stored import decode
from veduta.core.query.query import ColumnFacts, facts_from
from veduta.web.datasets.models import Chunk, Version


class ColumnCache:
    """Loaded columns by (version, column), the least recently used leaving first. Safe under threads."""

    def __init__(self, most_bytes: int) -> None:
        self._most, self._size = most_bytes, 0
        self._columns: OrderedDict[tuple[int, str], pl.Series] = OrderedDict()
        self._lock = threading.Lock()
        self._loading: dict[tuple[int, str], threading.Lock] = {}

    def get(self, version: int, column: str) -> pl.Series:
        key = (version, column)
        with self._lock:
            if key in self._columns:
                self._columns.move_to_end(key)
                return self._columns[key]
            loading = self._loading.setdefault(key, threading.Lock())
        with loading:
            with self._lock:
                if key in self._columns:
                    return self._columns[key]
            series = load_column(version, column)
            with self._lock:
                self._columns[key] = series
                self._size += series.estimated_size()
                self._loading.pop(key, None)
                while self._size > self._most and len(self._columns) > 1:
                    self._size -= self._columns.popitem(last=False)[1].estimated_size()
            return series

    def clear(self) -> None:
        with self._lock:
            self._columns.clear()
            self._size = 0


def load_column(version: int, column: str) -> pl.Series:
    blobs = Chunk.objects.filter(version_id=version, column=column).order_by("position").values_list("data", flat=True)
    parts = [decode(bytes(blob)) for blob in blobs.iterator()]
    return pl.concat(parts, rechunk=True) if parts else pl.Series(column, [])


columns = ColumnCache(settings.MEMORY_FOR_COLUMNS)


class StoredTable:
    """A ready version's rows, as the core's `Table`."""

    def __init__(self, version: int, rows: int, profiles: dict[str, dict]) -> None:
        self.version, self.rows = version, rows
        self._profiles = {name: Profile.model_validate(profile) for name, profile in profiles.items()}
        self._facts = {name: facts_from(profile) for name, profile in self._profiles.items()}

    def scan(self, names: list[str]) -> pl.LazyFrame:
        if not names:
            return pl.DataFrame({"row": pl.repeat(True, self.rows, eager=True)}).lazy()
        return pl.DataFrame([columns.get(self.version, name) for name in names]).lazy()

    def profile(self, column: str) -> Profile:
        return self._profiles[column]

    def facts(self, column: str) -> ColumnFacts:
        return self._facts[column]


@lru_cache(maxsize=256)
def _table(version: int) -> StoredTable:
    found = Version.objects.get(pk=version, state=Version.State.READY)
    return StoredTable(version, found.rows, found.profiles)


def table_of(version: int) -> StoredTable:
    """The table of a ready version; versions never change, so tables are kept."""
    return _table(version)


def forget() -> None:
    """Drop everything kept in memory (for tests, whose version numbers start anew)."""
    _table.cache_clear()
    columns.clear()

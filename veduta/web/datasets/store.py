"""Stored versions: writing their rows, and reading them as tables that the core can question.

Columns are loaded when needed and kept within a bound."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import asdict

import polars as pl
from django.conf import settings
from django.db import transaction

from veduta.core.cache import Cache
from veduta.core.data.fields import DataField
from veduta.core.data.importing import Import
from veduta.core.data.landing import Landing
from veduta.core.data.profile import Profile, profile_column
from veduta.core.data.stored import decode, encode
from veduta.core.errors import FileProblem, VedutaError
from veduta.core.model.tables import ColumnFacts, load_facts
from veduta.web.datasets.models import Chunk, Dataset, Upload, Version

CHUNK_ROWS = 250_000
Tick = Callable[..., None]


def load_column(version: int, column: str) -> pl.Series:
    """A column of a version from its chunks. Raises DamagedRows where one is missing or cannot be read."""
    blobs = Chunk.objects.filter(version_id=version, column=column).order_by("position").values_list("data", flat=True)
    stored = Version.objects.select_related("dataset").get(pk=version)
    try:
        parts = [decode(bytes(blob)) for blob in blobs.iterator()]
        values = pl.concat(parts, rechunk=True) if parts else pl.Series(column, [])
    except (pl.exceptions.PolarsError, ValueError, OSError) as error:
        raise DamagedRows(stored.dataset, column) from error
    if len(values) != stored.rows:
        raise DamagedRows(stored.dataset, column)
    return values


class DamagedRows(VedutaError):
    """Rows of a dataset are not there, or cannot be read."""

    code = "damaged"

    def __init__(self, dataset: Dataset, column: str) -> None:
        name = next((field.name for field in dataset.all_fields if field.id == column), column)
        super().__init__(
            f"“{name}” of the dataset “{dataset.name}” cannot be read: its stored rows are missing or damaged.",
            where=dataset.name,
            hint="Refresh the dataset, bring in its file again, or bring back an earlier version.",
        )


class StoredTable:
    """A ready version's rows, as the core's `Table`."""

    def __init__(self, version: int, rows: int, profiles: dict[str, dict]) -> None:
        self.version, self.rows = version, rows
        self._profiles = {name: Profile.model_validate(profile) for name, profile in profiles.items()}
        self._facts = {name: load_facts(profile) for name, profile in self._profiles.items()}

    def scan(self, names: list[str]) -> pl.LazyFrame:
        if not names:
            return pl.DataFrame({"row": pl.repeat(True, self.rows, eager=True)}).lazy()
        return pl.DataFrame([read_column(self.version, name) for name in names]).lazy()

    def profile(self, column: str) -> Profile:
        return self._profiles[column]

    def get_facts(self, column: str) -> ColumnFacts:
        return self._facts[column]


columns: Cache[pl.Series] = Cache(settings.MEMORY_FOR_COLUMNS, lambda column: column.estimated_size())
tables: Cache[StoredTable] = Cache(256)


def read_column(version: int, column: str) -> pl.Series:
    """A column of a version, loaded if it is not kept."""
    return columns.get((version, column), lambda: load_column(version, column))


def get_table(version: int) -> StoredTable:
    """The table of a ready version; versions never change, so tables are kept."""
    return tables.get(version, lambda: _load_table(version))


def _load_table(version: int) -> StoredTable:
    stored = Version.objects.get(pk=version, state=Version.State.READY)
    return StoredTable(version, stored.rows, stored.profiles)


def read_upload(version: Version, upload: Upload, tick: Tick) -> list[DataField]:
    """Read a file into a version's chunks, which is ready then but nobody's yet. Returns its fields."""
    fields = upload.all_fields
    reading = Import(upload.rows_path, upload.file_options, fields, upload.positions, upload.width)
    parts: dict[str, list[pl.Series]] = {field.id: [] for field in fields}
    rows, total = 0, upload.size if upload.is_text else Landing.open(upload.rows_path).rows
    for position, chunk in enumerate(reading.iterate_chunks()):
        rows += chunk.rows
        with transaction.atomic():
            _store(version, position, chunk.columns)
            tick("Reading the rows", 0.6 * min(1, chunk.bytes_read / max(1, total)), rows, chunk.bytes_read)
        for values, _ in chunk.columns:
            parts[values.name].append(values)
    if not reading.rows:
        raise FileProblem("The file has no rows.", hint="Choose another header row or another file.")
    version.failures = {name: asdict(failed) for name, failed in reading.failures.items() if failed.count}
    version.ragged = asdict(reading.ragged)
    _describe(version, fields, lambda field: pl.concat(parts.pop(field.id)), reading.rows)
    return fields


def write_rows(version: Version, frame: pl.DataFrame, fields: list[DataField]) -> None:
    """Store a frame whose columns are named by field ids as a version's rows."""
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        for position, start in enumerate(range(0, frame.height, CHUNK_ROWS)):
            piece = frame.slice(start, CHUNK_ROWS)
            blobs = pool.map(encode, piece.get_columns())
            with transaction.atomic():
                _store(version, position, zip(piece.get_columns(), blobs, strict=True))
    _describe(version, fields, lambda field: frame[field.id], frame.height)


def _store(version: Version, position: int, columns: Iterable[tuple[pl.Series, bytes]]) -> None:
    Chunk.objects.bulk_create(
        Chunk(version=version, column=values.name, position=position, data=blob) for values, blob in columns
    )


def _describe(version: Version, fields: list[DataField], column: Callable[[DataField], pl.Series], rows: int) -> None:
    """Keep what is known of a version's columns, and call it ready."""
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        described = pool.map(lambda field: profile_column(column(field), field.kind), fields)
        profiles = {field.id: each.model_dump(mode="json") for field, each in zip(fields, described, strict=True)}
    version.rows = rows
    version.kinds = {field.id: field.kind.value for field in fields}
    version.profiles = profiles
    version.state = Version.State.READY
    version.save()

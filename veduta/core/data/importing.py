"""Read a whole file into typed chunks: the one way in which a file becomes a version of a dataset."""

from __future__ import annotations

import dataclasses
import os
from collections.abc import Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TypeVar

import polars as pl

from veduta.core.data.blocks import BLOCK, Ragged, TextBlock, read_blocks
from veduta.core.data.convert import Failures, convert, is_plain_number
from veduta.core.data.fields import DataField
from veduta.core.data.landing import Landing
from veduta.core.data.options import FileOptions, LandedOptions, RecordsOptions, SheetOptions
from veduta.core.data.stored import encode

Item = TypeVar("Item")


@dataclass
class ImportedChunk:
    """Consecutive rows as typed columns named by field id, each with its stored form, and how far the file is read."""

    columns: list[tuple[pl.Series, bytes]]
    rows: int
    bytes_read: int


@dataclass
class Import:
    """A reading of one file, or of what has landed.

    Iterate `iterate_chunks()`; `rows`, `ragged` and `failures` are complete afterwards. `rows` are those taken in; what
    some fields' readings leave out is not."""

    path: Path
    options: FileOptions | SheetOptions | RecordsOptions | LandedOptions
    fields: list[DataField]
    positions: list[int]
    """The position in the file's lines of each field; `width` cells make a line."""
    width: int
    rows: int = 0
    ragged: Ragged = dataclasses.field(default_factory=Ragged)
    failures: dict[str, Failures] = dataclasses.field(default_factory=dict)
    _rows_read: int = 0

    def iterate_chunks(self, size: int = BLOCK) -> Iterator[ImportedChunk]:
        """The file's rows in order; while one chunk is used the next is converted, and the one after it read.

        Raises FileProblem where the file cannot be read."""
        return iterate_ahead(self._iterate_chunks(size))

    def _iterate_chunks(self, size: int) -> Iterator[ImportedChunk]:
        with ThreadPoolExecutor(os.cpu_count()) as pool:
            for block in iterate_ahead(self._iterate_blocks(size)):
                kept = find_kept_rows(block.frame, zip(self.fields, self.positions, strict=True))
                read = partial(self._convert_column, block.frame, kept)
                columns = list(pool.map(read, self.fields, self.positions))
                rows = block.frame.height if kept is None else int(kept.sum())
                self.rows += rows
                self._rows_read += block.frame.height
                yield ImportedChunk(columns, rows, block.bytes_read)

    def _iterate_blocks(self, size: int) -> Iterator[TextBlock]:
        if not isinstance(self.options, FileOptions):
            return Landing.open(self.path).iterate_blocks()
        pairs = zip(self.fields, self.positions, strict=True)
        numbers = {position: field.kind.dtype for field, position in pairs if is_plain_number(field)}
        return read_blocks(self.path, self.options, self.width, self.ragged, size, numbers)

    def _convert_column(
        self, texts: pl.DataFrame, kept: pl.Series | None, field: DataField, position: int
    ) -> tuple[pl.Series, bytes]:
        text = texts.get_column(str(position)).alias(field.id)
        failures = self.failures.setdefault(field.id, Failures())
        values = convert(text, field, self.options.empties, failures, self._rows_read + 1).alias(field.id)
        if kept is not None:
            values = values.filter(kept)
        return values, encode(values)


def find_kept_rows(texts: pl.DataFrame, columns: Iterable[tuple[DataField, int]]) -> pl.Series | None:
    """Which rows of a frame, whose columns are named by position, are taken in as fields are read; None for all."""
    conditions = [
        pl.col(str(position)).cast(pl.String).str.strip_chars().str.to_lowercase().is_in(field.reading.left_out)
        for field, position in columns
        if field.reading.left_out
    ]
    if not conditions:
        return None
    return texts.select(~pl.any_horizontal(conditions).fill_null(False).alias("kept")).to_series()


def iterate_ahead(items: Iterator[Item]) -> Iterator[Item]:
    """The items in order; while one is used the next is made in a thread of its own."""
    with ThreadPoolExecutor(1) as thread:
        coming = thread.submit(next, items, None)
        while (item := coming.result()) is not None:
            coming = thread.submit(next, items, None)
            yield item

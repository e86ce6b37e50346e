"""What core tests share: a table in memory, small builders and a temporary folder."""

from __future__ import annotations

import datetime as dt
import tempfile
import unittest
from pathlib import Path
from typing import Any

import polars as pl

from veduta.core.data.fields import Aggregate, DataField, DataType, FieldRole, Schema
from veduta.core.data.profile import profile_column
from veduta.core.model.model import Model
from veduta.core.model.tables import ColumnFacts, load_facts
from veduta.core.query.answer import make_context

TODAY = dt.date(2026, 11, 23)
FILES = Path(__file__).parents[1] / "files"


class MemoryTable:
    """Rows in memory as the core's `Table`."""

    def __init__(self, frame: pl.DataFrame, schema: Schema) -> None:
        self.frame, self.rows = frame, frame.height
        self._profiles = {field.id: profile_column(frame[field.id], field.kind) for field in schema}

    def scan(self, names: list[str]) -> pl.LazyFrame:
        if not names:
            return pl.DataFrame({"row": pl.repeat(True, self.rows, eager=True)}).lazy()
        return self.frame.lazy().select(names)

    def get_facts(self, column: str) -> ColumnFacts:
        return load_facts(self._profiles[column])


def field(name: str, kind: DataType, role: FieldRole | None = None, **more: Any) -> DataField:
    """A field whose id is its name in lower case; numbers are measures unless told otherwise."""
    role = role or (FieldRole.MEASURE if kind.is_number else FieldRole.DIMENSION)
    aggregate = Aggregate.SUM if role is FieldRole.MEASURE else Aggregate.COUNT
    return DataField(
        id=name.lower().replace(" ", "_"),
        source=name,
        name=name,
        kind=kind,
        role=role,
        **{"aggregate": aggregate, **more},
    )


SAILING_FIELDS = [
    field("Region", DataType.TEXT),
    field("Route", DataType.TEXT),
    field("Sailed", DataType.DATE),
    field("Departure", DataType.DATETIME),
    field("Fare", DataType.DECIMAL),
    field("Passengers", DataType.WHOLE),
    field("Cancelled", DataType.YES_NO),
]


def sailings_table(rows: list[dict[str, Any]]) -> MemoryTable:
    """A table of the given rows with all the sailing fields; what a row leaves out is empty."""
    columns = {f.id: pl.Series(f.id, [row.get(f.id) for row in rows], dtype=f.kind.dtype) for f in SAILING_FIELDS}
    return MemoryTable(pl.DataFrame(columns), Schema(SAILING_FIELDS))


def sailings(rows: list[dict[str, Any]], schema: Schema | None = None) -> Model:
    """A model of nothing but these sailings."""
    return Model.from_table(sailings_table(rows), schema or Schema(SAILING_FIELDS))


def context_of(model: Model):
    return make_context(model, TODAY)


class FolderTest(unittest.TestCase):
    """A test with a folder of its own."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def file(self, content: str | bytes, encoding: str = "utf-8", name: str = "file.csv") -> Path:
        path = self.folder / name
        path.write_bytes(content if isinstance(content, bytes) else content.encode(encoding))
        return path


def one_page(*blocks: dict[str, Any], **parts: Any) -> dict[str, Any]:
    """The data of a dashboard with these blocks on its only page."""
    return {"pages": [{"id": "p1", "name": "Page 1", "blocks": list(blocks)}], **parts}

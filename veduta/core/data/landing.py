"""Rows on their way in from anything but a text file: kept as Parquet parts in a folder until they are imported.

Spreadsheets, columnar files, JSON, web feeds and databases all land first; from there on they go the same way as
text files: a sample is recognised, settings are corrected, and the rows are read into typed columns.
"""

from __future__ import annotations

import json
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import polars as pl

from veduta.core.data.blocks import TextBlock
from veduta.core.data.convert import write_as_text
from veduta.core.data.fields import DataType
from veduta.core.data.options import MOST_COLUMNS, LandedOptions
from veduta.core.data.sniff import FileSample
from veduta.core.errors import FileProblem

PART_ROWS = 100_000
TYPED = (pl.Int64, pl.Float64, pl.Boolean, pl.Date, pl.Datetime("us"))
SAMPLE_ROWS = 4_000


class Landing:
    """A folder of parts. Columns are known by their headings, in the order in which they came."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.headings: list[str] = []
        self.dtypes: dict[str, str] = {}
        self.rows = 0
        self._parts = 0
        self._waiting: list[pl.DataFrame] = []

    @classmethod
    def begin(cls, folder: Path) -> Landing:
        """An empty landing; what was in the folder is gone."""
        shutil.rmtree(folder, ignore_errors=True)
        folder.mkdir(parents=True)
        return cls(folder)

    @classmethod
    def open(cls, folder: Path) -> Landing:
        """A finished landing. Raises FileProblem if it is gone."""
        try:
            about = json.loads((folder / "about.json").read_text())
        except (FileNotFoundError, ValueError):
            raise FileProblem("What was fetched is no longer there.", hint="Fetch it again.") from None
        landing = cls(folder)
        landing.headings, landing.dtypes = about["headings"], about["dtypes"]
        landing.rows, landing._parts = about["rows"], about["parts"]
        return landing

    def add(self, frame: pl.DataFrame) -> None:
        """Take rows in; columns may be new or missing from batch to batch. Raises FileProblem for too many columns."""
        if not frame.height:
            return
        frame = frame.select(simplify_column(frame[name]) for name in frame.columns)
        for name, dtype in frame.schema.items():
            if name not in self.dtypes:
                self.headings.append(name)
                self.dtypes[name] = _name_type(dtype)
            elif dtype != pl.Null:
                self.dtypes[name] = _find_joint_type(self.dtypes[name], _name_type(dtype))
        if len(self.headings) > MOST_COLUMNS:
            raise FileProblem(
                f"There are {len(self.headings):,} columns; Veduta reads at most {MOST_COLUMNS:,}.",
                hint="Leave out columns.",
            )
        self.rows += frame.height
        self._waiting.append(frame)
        if sum(each.height for each in self._waiting) >= PART_ROWS:
            self._write()

    def _write(self) -> None:
        if self._waiting:
            whole = pl.concat(self._waiting, how="diagonal_relaxed")
            whole.write_parquet(self.folder / f"{self._parts}.parquet", compression="zstd", compression_level=1)
            self._parts, self._waiting = self._parts + 1, []

    def finish(self) -> Landing:
        """Raises FileProblem if there are no rows."""
        self._write()
        if not self.rows:
            raise FileProblem(
                "There are no rows in it.", hint="Check what is chosen, or whether there is anything yet."
            )
        about = {"headings": self.headings, "dtypes": self.dtypes, "rows": self.rows, "parts": self._parts}
        (self.folder / "about.json").write_text(json.dumps(about))
        return self

    def iterate_blocks(self) -> Iterator[TextBlock]:
        """The rows as columns named by position, each of one kind throughout; with the rows so far as `bytes_read`."""
        read = 0
        for part in range(self._parts):
            frame = self._read_part(part)
            read += frame.height
            yield TextBlock(frame, read)

    def _read_part(self, part: int) -> pl.DataFrame:
        """The columns of a part that was landed, in the order of its rows."""
        try:
            frame = pl.read_parquet(self.folder / f"{part}.parquet")
        except (FileNotFoundError, pl.exceptions.PolarsError):
            raise FileProblem("What was fetched is no longer there.", hint="Fetch it again.") from None
        columns = []
        for i, heading in enumerate(self.headings):
            dtype = DataType(self.dtypes[heading]).dtype
            values = (
                frame[heading]
                if heading in frame.columns
                else pl.Series([None], dtype=dtype).new_from_index(0, frame.height)
            )
            columns.append(cast_to(values, dtype).alias(str(i)))
        return pl.DataFrame(columns)

    def sample(self) -> list[list[str]]:
        """The first rows and some of later parts, as text."""
        rows: list[list[str]] = []
        for part in sorted({0, self._parts // 2, self._parts - 1}):
            frame = self._read_part(part).head(SAMPLE_ROWS if part == 0 else SAMPLE_ROWS // 4)
            texts = frame.select(cast_to(frame[name], pl.String()).fill_null("") for name in frame.columns)
            rows += [list(row) for row in texts.iter_rows()]
        return rows


def _name_type(dtype: pl.DataType) -> str:
    return next((kind.value for kind in DataType if kind.dtype == dtype), DataType.TEXT.value)


def _find_joint_type(a: str, b: str) -> str:
    if a == b:
        return a
    return "decimal" if {a, b} == {"whole", "decimal"} else "datetime" if {a, b} == {"date", "datetime"} else "text"


def cast_to(values: pl.Series, dtype: pl.DataType) -> pl.Series:
    """A plain column as another plain type that holds it; numbers and dates as text where that is asked for."""
    if values.dtype == dtype:
        return values
    if dtype == pl.String:
        kind = next(kind for kind in DataType if kind.dtype == values.dtype)
        return values.alias("v").to_frame().select(write_as_text(pl.col("v"), kind)).to_series().alias(values.name)
    return values.cast(dtype, strict=False)


def simplify_column(values: pl.Series) -> pl.Series:
    """Any column as one of the plain types: text, whole, decimal, yes/no, date or date and time (as UTC)."""
    dtype = values.dtype
    if (dtype in TYPED and dtype != pl.Float64) or dtype == pl.String:
        return values
    if dtype.is_integer():
        largest: Any = values.abs().max() or 0
        small = dtype not in (pl.UInt64, pl.Int128, pl.UInt128) or largest < 2**63
        return values.cast(pl.Int64 if small else pl.Float64)
    if dtype.is_float() or dtype.is_decimal():
        decimals = values.cast(pl.Float64)
        frame = decimals.alias("v").to_frame()
        return frame.select(pl.when(pl.col("v").is_finite()).then(pl.col("v"))).to_series().alias(values.name)
    if isinstance(dtype, pl.Datetime):
        return (values.dt.convert_time_zone("UTC").dt.replace_time_zone(None) if dtype.time_zone else values).cast(
            pl.Datetime("us")
        )
    if dtype.is_nested():
        texts = [
            None if value is None else json.dumps(_to_jsonable(value), ensure_ascii=False, default=str)
            for value in values.to_list()
        ]
        return pl.Series(values.name, texts, dtype=pl.String)
    if dtype == pl.Binary:
        return pl.Series(values.name, [None if v is None else v.hex() for v in values], dtype=pl.String)
    return values.cast(pl.String, strict=False)


def _to_jsonable(value: object) -> object:
    return value.to_list() if isinstance(value, pl.Series) else value


def sample_landing(folder: Path, options: LandedOptions) -> FileSample:
    """The headings and some rows of what has landed. Raises FileProblem if it is gone."""
    landing = Landing.open(folder)
    return FileSample(options, landing.headings, landing.sample(), landing.rows)

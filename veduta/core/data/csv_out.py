"""Rows written as a CSV file, piece by piece."""

from __future__ import annotations

import io
from collections.abc import Iterator

import polars as pl

PIECE = 50_000
# What spreadsheets take for the beginning of a formula; a signed number is none.
_FORMULA, _NUMBER = r"^[=+\-@\t\r\n]", r"^[+-]?\d[\d .,]*%?\z"


def iterate_csv(rows: pl.LazyFrame, headings: list[str], *, guarded: bool = True) -> Iterator[bytes]:
    """The rows in UTF-8 with a byte order mark.

    `guarded` puts a ' before texts that a spreadsheet would take for a formula and work out, wherever they came from.
    """
    frame = rows.collect()
    first = pl.DataFrame([pl.Series(str(i), [heading], dtype=pl.String) for i, heading in enumerate(headings)])
    yield "\ufeff".encode() + _write_frame(first, guarded)
    for start in range(0, frame.height, PIECE):
        yield _write_frame(frame.slice(start, PIECE), guarded)


def _write_frame(frame: pl.DataFrame, guarded: bool) -> bytes:
    buffer = io.BytesIO()
    (frame.with_columns(_guard_formulas(pl.col(pl.String))) if guarded else frame).write_csv(
        buffer, include_header=False
    )
    return buffer.getvalue()


def _guard_formulas(text: pl.Expr) -> pl.Expr:
    is_formula = text.str.contains(_FORMULA) & ~text.str.contains(_NUMBER)
    return pl.when(is_formula).then("'" + text).otherwise(text).name.keep()

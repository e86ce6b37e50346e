"""Encode and decode a column's rows as they are stored: one Parquet blob for each column and chunk."""

from __future__ import annotations

import io

import polars as pl


def encode(column: pl.Series) -> bytes:
    buffer = io.BytesIO()
    column.to_frame().write_parquet(buffer, compression="zstd", compression_level=1, statistics=False)
    return buffer.getvalue()


def decode(blob: bytes) -> pl.Series:
    """The column that `encode` wrote, with its name."""
    return pl.read_parquet(io.BytesIO(blob), use_statistics=False).to_series()

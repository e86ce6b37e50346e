"""Newer rows of a dataset put together with those it has."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl


def append_rows(old: pl.LazyFrame, new: pl.LazyFrame) -> pl.LazyFrame:
    """All rows of both, the old ones first, in their order.

    A column that only one of them has is empty in the rows of the other."""
    return pl.concat([old, new], how="diagonal")


def replace_rows(old: pl.LazyFrame, new: pl.LazyFrame, keys: Sequence[str]) -> pl.LazyFrame:
    """The old rows whose key no new row has, in their order, then the new ones, with columns as `append_rows` has them.

    Of new rows with the same key the last one counts, as a later line of a file corrects an earlier one: of A 1, A 2
    only A 2 is left. Empty is a value of a key like others: a new row with an empty key replaces the old ones with it.
    """
    latest = new.unique(keys, keep="last", maintain_order=True)
    kept = old.join(latest.select(keys), on=keys, how="anti", nulls_equal=True, maintain_order="left")
    return append_rows(kept, latest)

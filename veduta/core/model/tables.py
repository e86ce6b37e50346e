"""The tables that a model is made of, and what is known of their columns."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Protocol

import polars as pl

from veduta.core.data.periods import Period, find_rhythm
from veduta.core.data.profile import Profile, simplify


@dataclass(frozen=True)
class ColumnFacts:
    """What is known of a stored column without reading it; bounds are None where it has no values.

    `values` holds all its values, without empties, where they are few. `rhythm` is the longest period that all its
    dates begin or end.
    """

    empties: int = 0
    distinct: int = 0
    lowest: Any = None
    highest: Any = None
    values: tuple[Any, ...] | None = None
    rhythm: Period = ""


def load_facts(profile: Profile) -> ColumnFacts:
    values = tuple(value for value, _ in profile.top) if profile.distinct == len(profile.top) else None
    return ColumnFacts(profile.empties, profile.distinct, profile.lowest, profile.highest, values, profile.rhythm)


def compute_facts(values: pl.Series) -> ColumnFacts:
    """The facts of a column that is read for them."""
    full = values.drop_nulls().unique()
    few = tuple(sorted(full.to_list())) if full.len() <= 50 else None
    low, high = (full.min(), full.max()) if len(full) and full.dtype != pl.String else (None, None)
    return ColumnFacts(
        empties=values.null_count(),
        distinct=full.len(),
        lowest=simplify(low),
        highest=simplify(high),
        values=few,
        rhythm=find_rhythm(full) if full.dtype.is_temporal() else "",
    )


class DatasetTable(Protocol):
    """A version of a dataset's rows, loaded column by column."""

    @property
    def rows(self) -> int: ...

    def scan(self, columns: list[str]) -> pl.LazyFrame: ...

    def get_facts(self, column: str) -> ColumnFacts: ...

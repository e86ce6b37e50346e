"""Totals hidden among rows, found by arithmetic.

A value of a column, such as “All ports”, may have numbers that are the sums of the other values' numbers, group for
group and period for period. Adding such rows up counts them twice."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

import polars as pl

from veduta.core.data.fields import DataField, DataType, FieldRole

TOTAL = re.compile(
    r"(?i)^(overall|sum|all|everything|world|gesamt|insgesamt|summe"
    r"|(grand |sub-?|over)?totals?|totals? .*|.* totals?|all .*)$"
)
"""What totals are often called: a hint, with which less arithmetic is needed, and never enough by itself."""
ENOUGH, ENOUGH_WITH_HINT = 3, 1
"""So many sums must agree that have nothing to do with each other."""
MOST_DIFFERENT = 0.1
"""The share of sums that may not agree: some rows may be missing, or wrong."""
EXACTNESS = 0.0005
"""How far a sum may be off, as a share of it: published numbers are rounded."""
FEWEST_OTHERS = 2
MOST_VALUES = 1_000
MOST_KEYS = 4


def find_hidden_totals(rows: pl.DataFrame, fields: Sequence[DataField]) -> dict[str, tuple[str, ...]]:
    """For each text column, by its field's id, the values that are totals of the others, in the order of the rows.

    `rows` have a column for each field, of its kind."""
    measures = [field.id for field in fields if field.role is FieldRole.MEASURE and field.kind.is_number]
    found: dict[str, tuple[str, ...]] = {}
    for field in fields:
        if field.kind is not DataType.TEXT or any(_is_named_by(rows, other, field.id) for other in found):
            continue
        if totals := _find_totals(rows, field.id, fields, measures):
            found[field.id] = totals
    return found


def _find_totals(rows: pl.DataFrame, column: str, fields: Sequence[DataField], measures: list[str]) -> tuple[str, ...]:
    values = rows[column].drop_nulls()
    if not FEWEST_OTHERS < values.n_unique() <= MOST_VALUES:
        return ()
    there = rows.filter(pl.col(column).is_not_null())
    for keys in _iterate_groupings(there, column, fields):
        for measure in measures:
            if totals := _find_agreeing(there, column, keys, measure):
                return tuple(value for value in values.unique(maintain_order=True) if value in totals)
    return ()


def _iterate_groupings(rows: pl.DataFrame, column: str, fields: Sequence[DataField]) -> Iterator[list[str]]:
    """By which other columns the values may be compared.

    All that are not another name of theirs, the dates alone, or none."""
    others = [field for field in fields if field.id != column and field.role is FieldRole.DIMENSION]
    kept = [field for field in others if not _is_named_by(rows, column, field.id)]
    dates = [field.id for field in kept if field.kind.is_date]
    ways = [[field.id for field in kept][:MOST_KEYS], dates, []]
    return (way for i, way in enumerate(ways) if way not in ways[:i])


def _is_named_by(rows: pl.DataFrame, column: str, other: str) -> bool:
    """Whether each value of a column has one of another, as a code has a name: that says nothing more."""
    return rows.select(column, other).n_unique() == rows[column].n_unique()


def _find_agreeing(rows: pl.DataFrame, column: str, keys: list[str], measure: str) -> set[str]:
    """The values whose numbers are the sums of the others' in nearly all groups that have them.

    Values that are called totals are no part of what they, or others, are the sums of."""
    hinted = pl.col(column).str.contains(TOTAL.pattern)
    number = pl.col(measure).cast(pl.Float64)
    cells = rows.lazy().group_by([*keys, column]).agg(number.sum().alias("own"), number.count().alias("there"))
    cells = cells.filter(pl.col("there") > 0).with_columns(hinted.alias("hinted"))
    plain = cells.filter(~pl.col("hinted"))
    sums = plain.group_by(keys or pl.lit(0).alias("all")).agg(
        pl.col("own").sum().alias("all_plain"), pl.len().alias("others")
    )
    joined = cells.join(sums, on=keys, nulls_equal=True) if keys else cells.join(sums, how="cross")
    own = pl.when("hinted").then(0.0).otherwise("own")
    joined = joined.with_columns(
        (pl.col("all_plain") - own).alias("sum"),
        (pl.col("others") - (~pl.col("hinted")).cast(pl.Int64)).alias("others"),
    ).filter(pl.col("others") >= FEWEST_OTHERS, (pl.col("own") != 0) | (pl.col("sum") != 0))
    agrees = (pl.col("own") - pl.col("sum")).abs() <= EXACTNESS * pl.col("sum").abs()
    counted = joined.group_by(column, "hinted").agg(agrees.sum().alias("agree"), pl.len().alias("groups"))
    enough = pl.when("hinted").then(ENOUGH_WITH_HINT).otherwise(ENOUGH)
    nearly = pl.col("agree") >= (1 - MOST_DIFFERENT) * pl.col("groups")
    return set(counted.filter(pl.col("agree") >= enough, nearly).collect()[column])

"""Lists besides answers: a dimension's values, and the records behind marks."""

from __future__ import annotations

from typing import Any

import polars as pl

from veduta.core.calendar import Grouping, group_expression
from veduta.core.data.fields import DataType
from veduta.core.model.model import Model
from veduta.core.model.rows import ROW
from veduta.core.number_format import label_value
from veduta.core.query.answer import resolve_filters
from veduta.core.query.engine import Engine, Scope
from veduta.core.query.engine.levels import CellLevel
from veduta.core.query.filters import Context, Filter, PointsFilter


def group_values(
    model: Model,
    grouping: Grouping,
    search: str = "",
    limit: int = 200,
    selected: tuple[Any, ...] = (),
    under: tuple[tuple[Filter, ...], Context] | None = None,
) -> tuple[list[tuple[Any, str, int]], int]:
    """A dimension's values as (value, words, rows), and how many there are.

    Most frequent first, dates in order; only those that occur `under` some filters, if these are given. `search`
    ignores case; at most `limit` are returned, the `selected` ones first."""
    field = model.schema[grouping.field]
    value = group_expression(grouping, model.schema).alias("v")
    home = model.find_home({field.id})
    there = _scan_rows(model, field.id, home, under)
    if search and field.kind is DataType.TEXT:
        there = there.filter(value.str.to_lowercase().str.contains(search.lower(), literal=True))
    counted = there.group_by(value).agg(n=pl.len()).collect()
    if search and field.kind is not DataType.TEXT:
        said = [search.lower() in label_value(v, grouping.grain).lower() for v in counted["v"]]
        counted = counted.filter(pl.Series(said, dtype=pl.Boolean))
    by = ["v"] if grouping.grain else ["n", "v"]
    chosen = pl.col("v").is_in(pl.Series(list(selected), dtype=counted["v"].dtype).implode(), nulls_equal=True)
    there_are = counted.height
    counted = counted.with_columns(chosen=chosen)
    if not grouping.grain and there_are > limit:  # only those that could be among the first are sorted
        counted = counted.filter(pl.col("chosen") | (pl.col("n") >= counted["n"].top_k(limit).min()))
    shown = counted.sort(
        ["chosen", *by], descending=[True, *([False] if len(by) == 1 else [True, False])], nulls_last=True
    ).head(limit)
    rows = [(v, label_value(v, grouping.grain), n) for v, n, _ in shown.iter_rows()]
    return rows, there_are


def _scan_rows(model: Model, field: str, home: str, under: tuple[tuple[Filter, ...], Context] | None) -> pl.LazyFrame:
    """A table's rows with one field, in any order; only those that pass the filters which reach it, if some are given.

    Without filters the field is read as it is stored, which is quicker than a question."""
    if not under or not under[0]:
        return model.scan([field], home, ordered=False)
    filters, context = under
    narrowing, _ = resolve_filters(filters, model, context)
    return Engine(Scope(model, narrowing, context)).scan_rows(home, CellLevel(), {field}, (), ordered=False)


def count_distribution(
    model: Model, field: str, bars: int = 30, under: tuple[tuple[Filter, ...], Context] | None = None
) -> list[int]:
    """How many rows have a number in each of so many equal parts of the field's range.

    The highest number is in the last. Empty for a field without numbers."""
    facts = model.get_facts(field)
    if facts.lowest is None or facts.highest is None:
        return []
    low, width = float(facts.lowest), (float(facts.highest) - float(facts.lowest)) / bars or 1.0
    home = model.find_home({field})
    rows = _scan_rows(model, field, home, under)
    part = ((pl.col(field).cast(pl.Float64) - low) / width).floor().clip(0, bars - 1).cast(pl.Int64).alias("part")
    counted = rows.drop_nulls(field).group_by(part).agg(n=pl.len()).collect()
    counts = dict(counted.iter_rows())
    return [counts.get(place, 0) for place in range(bars)]


def scan_underlying_rows(
    model: Model,
    filters: tuple[Filter | PointsFilter, ...],
    context: Context,
    columns: list[str],
    sort: tuple[str, bool] | None = None,
    search: str = "",
    home: str = "",
) -> pl.LazyFrame:
    """The rows of a table behind some filters, with row number "row" and these columns, lazily.

    Filters that do not reach the table are left out. `sort` is a column and whether it descends; empties come last both
    ways. `search` looks in all text columns."""
    narrowing, _ = resolve_filters(filters, model, context)
    rows = Engine(Scope(model, narrowing, context)).scan_rows(home, CellLevel(), {*columns, ROW}, (), ordered=False)
    if search:
        texts = [pl.col(name) for name in columns if model.schema[name].kind is DataType.TEXT]
        others = [pl.col(name).cast(pl.String) for name in columns if model.schema[name].kind is not DataType.TEXT]
        conditions = [
            text.str.to_lowercase().str.contains(search.lower(), literal=True).fill_null(False)
            for text in texts + others
        ]
        rows = rows.filter(pl.any_horizontal(conditions)) if conditions else rows
    order, down = ([sort[0], ROW], [sort[1], False]) if sort else ([ROW], [False])
    return rows.sort(order, descending=down, nulls_last=True).select(pl.col(ROW).alias("row"), *columns)

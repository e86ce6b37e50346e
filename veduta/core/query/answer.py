"""Answer a query: filters, grain, keep, totals, sort, limit, in the order the guide's page on calculation gives."""

from __future__ import annotations

import datetime as dt
from typing import Any

import polars as pl

from veduta.core.data.fields import Aggregate, Field, Kind, NumberFormat, Schema
from veduta.core.errors import DefinitionProblem
from veduta.core.query.filters import (
    Context,
    DatesFilter,
    Filter,
    ListFilter,
    PointsFilter,
    RelativeFilter,
    grouping_words,
    narrow,
    typed,
    value_words,
)
from veduta.core.query.grains import Grain, Grouping, group_expression, period_end, period_start
from veduta.core.query.query import Column, Keep, Measure, Query, Result, Sort, Table, measure_words

LARGEST_WHOLE = 2**63 - 1


def context_for(table: Table, schema: Schema, today: dt.date) -> Context:
    """The context with the latest date of every date field of the table."""
    latest = {}
    for field in schema:
        if field.kind.is_date and (highest := table.facts(field.id).highest):
            latest[field.id] = dt.date.fromisoformat(str(highest)[:10])
    return Context(today, latest)


def answer(query: Query, table: Table, schema: Schema, context: Context) -> Result:
    """The query's result over the table. Raises DefinitionProblem if the query does not fit the schema."""
    columns = result_columns(query, schema)
    rows = _keyed_rows(query, table, schema, context)
    keys = [column.key for column in columns if not column.is_measure]
    notes: list[str] = []
    measures = [measure_expression(measure, table, schema).alias(f"m{i}") for i, measure in enumerate(query.measures)]
    # Ranking and answering are one pass where the ranked dimension is the only one.
    keeps_after = query.keep and len(keys) == 1 and not query.totals
    wanted_measures = [*measures, pl.len().alias("rows")]
    if keeps_after:
        wanted_measures.append(measure_expression(query.keep.by, table, schema).alias("by"))
    elif query.keep and keys:
        rows = _kept(rows, query, table, schema, notes)
    wanted = [_aggregated(rows, keys, wanted_measures)]
    wanted += [_aggregated(rows, [f"d{i}" for i in kept], measures) for kept in query.totals]
    ranking = _sort_ranking(rows, query, table, schema, keys)
    if ranking is not None:
        wanted.append(ranking)
    found, *others = pl.collect_all(wanted) if len(wanted) > 1 else [wanted[0].collect()]
    if keeps_after:
        found = _best(found, query.keep, "d0", grouping_words(query.groups[0], schema), notes).drop("by")
    rows_read = int(found.drop_in_place("rows").sum())
    totals = dict(zip(query.totals, others, strict=False))
    found = _sorted(found, query, schema, others[-1] if ranking is not None else None, keys)
    groups = found.height
    if groups > query.limit:
        notes.append(f"Showing {query.limit:,} of {groups:,} groups.")
        found = found.head(query.limit)
    if not rows_read and query.filters:
        notes += _why_nothing(query.filters, table, schema, context)
    return Result(
        columns=columns,
        frame=found,
        totals={
            kept: total.sort([f"d{i}" for i in kept], nulls_last=True) if kept else total for kept, total in totals.items()
        },
        rows_read=rows_read,
        rows_there=table.rows,
        groups=groups,
        unfinished=_unfinished(query, found, context),
        notes=notes,
    )


def result_columns(query: Query, schema: Schema) -> list[Column]:
    """The columns that the query's result will have, dimensions first."""
    columns = []
    for i, group in enumerate(query.groups):
        field = schema[group.field]
        words = grouping_words(group, schema)
        columns.append(Column(f"d{i}", words[0].upper() + words[1:], field.kind, group, field.format))
    for i, measure in enumerate(query.measures):
        words = measure_words(measure, schema)
        columns.append(
            Column(
                f"m{i}", words[0].upper() + words[1:], measure_kind(measure, schema), None, measure_format(measure, schema)
            )
        )
    return columns


def measure_kind(measure: Measure, schema: Schema) -> Kind:
    if measure.field is None or measure.aggregate in (Aggregate.COUNT, Aggregate.COUNT_DISTINCT):
        return Kind.WHOLE
    kind = schema[measure.field].kind
    return Kind.DECIMAL if measure.aggregate in (Aggregate.MEAN, Aggregate.MEDIAN) else kind


def measure_format(measure: Measure, schema: Schema) -> NumberFormat:
    if measure.format:
        return measure.format
    counted = measure.field is None or measure.aggregate in (Aggregate.COUNT, Aggregate.COUNT_DISTINCT)
    return NumberFormat(decimals=0) if counted else schema[measure.field].format


def measure_expression(measure: Measure, table: Table, schema: Schema) -> pl.Expr:
    """The aggregate over rows: empties are skipped, and a sum over no values is empty."""
    if measure.field is None:
        return pl.len()
    field = schema[measure.field]
    column, aggregate = pl.col(field.id), measure.aggregate
    if aggregate is Aggregate.COUNT:
        return column.count()
    if aggregate is Aggregate.COUNT_DISTINCT:
        return column.drop_nulls().n_unique()
    if not field.kind.is_number and not (field.kind.is_date and aggregate in (Aggregate.MIN, Aggregate.MAX)):
        raise DefinitionProblem(
            f"The {aggregate.words} of “{field.name}” cannot be worked out: it holds {field.kind.words} values.",
            where=field.id,
            hint="Use a count, or change the field's type.",
        )
    if aggregate is Aggregate.SUM:
        return _sum(column, field, table)
    return {
        Aggregate.MEAN: column.mean,
        Aggregate.MEDIAN: column.median,
        Aggregate.MIN: column.min,
        Aggregate.MAX: column.max,
    }[aggregate]()


def _sum(column: pl.Expr, field: Field, table: Table) -> pl.Expr:
    facts = table.facts(field.id)
    bounds = [abs(bound) for bound in (facts.lowest, facts.highest) if bound is not None]
    total = column.sum()
    if field.kind is Kind.WHOLE and max(bounds, default=0) * table.rows > LARGEST_WHOLE:
        total = column.cast(pl.Int128).sum().cast(pl.Float64)
    return total if not facts.empties and table.rows else pl.when(column.count() > 0).then(total)


def _needed_fields(query: Query) -> set[str]:
    needed = {group.field for group in query.groups}
    measures = [*query.measures, query.keep and query.keep.by, query.sort and query.sort.measure]
    needed |= {measure.field for measure in measures if measure and measure.field}
    for filter_ in query.filters:
        needed |= filter_.fields()
    return needed


def _keyed_rows(query: Query, table: Table, schema: Schema, context: Context) -> pl.LazyFrame:
    """The rows that pass the filters, with the groups' values as d0, d1, …"""
    needed = sorted(schema[field].id for field in _needed_fields(query))
    rows = narrow(table.scan(needed), query.filters, schema, context)
    return rows.with_columns(group_expression(group, schema).alias(f"d{i}") for i, group in enumerate(query.groups))


def _aggregated(rows: pl.LazyFrame, keys: list[str], measures: list[pl.Expr]) -> pl.LazyFrame:
    return rows.group_by(keys).agg(measures) if keys else rows.select(measures)


def _kept(rows: pl.LazyFrame, query: Query, table: Table, schema: Schema, notes: list[str]) -> pl.LazyFrame:
    """Only the rows of the kept values."""
    key = f"d{query.keep_group}"
    ranked = rows.group_by(key).agg(measure_expression(query.keep.by, table, schema).alias("by")).collect()
    kept = _best(ranked, query.keep, key, grouping_words(query.groups[query.keep_group], schema), notes)
    return rows.filter(pl.col(key).is_in(kept[key].implode(), nulls_equal=True))


def _best(ranked: pl.DataFrame, keep: Keep, key: str, name: str, notes: list[str]) -> pl.DataFrame:
    """The rows that are kept by their value in "by"; ties at the edge go to the first in order, and are said."""
    ranked = ranked.filter(pl.col("by").is_not_null())
    ranked = ranked.sort(["by", key], descending=[keep.end == "top", False], nulls_last=True)
    kept = ranked.head(keep.count)
    if ranked.height > keep.count and (tied := int((ranked["by"][keep.count :] == kept["by"][-1]).sum())):
        notes.append(f"{tied:,} more of {name} tie with the last one kept.")
    return kept


def _sort_of(query: Query) -> Sort:
    if query.sort:
        return query.sort
    first = query.groups[0]
    return Sort(by="time" if first.grain else "name")


def _sort_ranking(rows: pl.LazyFrame, query: Query, table: Table, schema: Schema, keys: list[str]) -> pl.LazyFrame | None:
    """The first dimension's values with the measure they are sorted by, if it is not simply a shown column."""
    if not keys or _sort_of(query).by != "measure":
        return None
    measure = _sort_of(query).measure or (query.measures[0] if query.measures else Measure())
    if len(keys) == 1 and _shown_at(measure, query) is not None:
        return None
    return rows.group_by("d0").agg(measure_expression(measure, table, schema).alias("order"))


def _shown_at(measure: Measure, query: Query) -> int | None:
    return next((i for i, shown in enumerate(query.measures) if shown.same_number(measure)), None)


def _sorted(
    found: pl.DataFrame, query: Query, schema: Schema, ranking: pl.DataFrame | None, keys: list[str]
) -> pl.DataFrame:
    if not keys:
        return found
    sort = _sort_of(query)
    if sort.by == "measure":
        if ranking is not None:
            found = found.join(ranking, on="d0", how="left", nulls_equal=True)
        else:
            measure = sort.measure or query.measures[0]
            found = found.with_columns(order=pl.col(f"m{_shown_at(measure, query)}"))
        order, descending = [pl.col("d0").is_null(), pl.col("order"), *keys], [False, sort.descending, *[False] * len(keys)]
        return found.sort(order, descending=descending, nulls_last=True).drop("order")
    if sort.by == "own":
        field, grain = schema[query.groups[0].field], query.groups[0].grain
        values = [typed(value, field, grain) for value in sort.values]
        place = pl.DataFrame({"d0": pl.Series(values, dtype=found["d0"].dtype), "order": range(len(values))}).unique("d0")
        found = found.join(place, on="d0", how="left")
        return found.sort([pl.col("order"), *keys], nulls_last=True).drop("order")
    first = pl.col("d0")
    if found["d0"].dtype == pl.String:
        found = found.with_columns(folded=first.str.to_lowercase())
        found = found.sort(["folded", *keys], descending=[sort.descending] * 2 + [False] * (len(keys) - 1), nulls_last=True)
        return found.drop("folded")
    return found.sort(keys, descending=[sort.descending] + [False] * (len(keys) - 1), nulls_last=True)


def _unfinished(query: Query, found: pl.DataFrame, context: Context) -> dt.date | None:
    """The last day with data, where the latest period shown goes on after it."""
    place = next((i for i, group in enumerate(query.groups) if group.is_time_axis), None)
    if place is None or not found.height or (last := found[f"d{place}"].max()) is None:
        return None
    group = query.groups[place]
    latest = context.latest.get(group.field)
    for filter_ in query.filters:
        if isinstance(filter_, DatesFilter | RelativeFilter) and filter_.field == group.field:
            end = filter_.bounds(context)[1]
            latest = min(latest, end) if latest and end else latest
    if latest and group.grain is not Grain.DAY and period_start(latest, group.grain) == last:
        return latest if latest < period_end(last, group.grain) else None
    return None


def _why_nothing(filters: tuple[Filter, ...], table: Table, schema: Schema, context: Context) -> list[str]:
    """For filters on values that do not occur at all: say so."""
    found = []
    for filter_ in filters:
        if isinstance(filter_, ListFilter) and not filter_.exclude:
            narrowed = narrow(table.scan([filter_.field]), (filter_,), schema, context)
            if not narrowed.select(pl.len()).collect().item():
                found.append(f"Nothing matches: no row has {filter_.words(schema)}.")
    return found or ["No rows pass all the filters."]


def group_values(
    table: Table, schema: Schema, grouping: Grouping, search: str = "", limit: int = 200, selected: tuple[Any, ...] = ()
) -> tuple[list[tuple[Any, str, int]], int]:
    """A dimension's values as (value, words, rows), most frequent first (dates in order), and how many there are.

    `search` ignores case; at most `limit` are returned, the `selected` ones first.
    """
    field = schema[grouping.field]
    value = group_expression(grouping, schema).alias("v")
    counted = table.scan([field.id]).group_by(value).agg(n=pl.len()).collect()
    if search:
        if field.kind is Kind.TEXT:
            counted = counted.filter(pl.col("v").str.to_lowercase().str.contains(search.lower(), literal=True))
        else:
            said = [search.lower() in value_words(v, field, grouping.grain).lower() for v in counted["v"]]
            counted = counted.filter(pl.Series(said, dtype=pl.Boolean))
    by = ["v"] if grouping.grain else ["n", "v"]
    chosen = pl.col("v").is_in(pl.Series(list(selected), dtype=counted["v"].dtype).implode(), nulls_equal=True)
    counted = counted.with_columns(chosen=chosen).sort(
        ["chosen", *by], descending=[True, *([False] if len(by) == 1 else [True, False])], nulls_last=True
    )
    shown = counted.head(limit)
    rows = [(v, value_words(v, field, grouping.grain), n) for v, n, _ in shown.iter_rows()]
    return rows, counted.height


def rows_behind(
    table: Table,
    schema: Schema,
    filters: tuple[Filter | PointsFilter, ...],
    context: Context,
    columns: list[str],
    sort: tuple[str, bool] | None = None,
    search: str = "",
) -> pl.LazyFrame:
    """The records that pass the filters, with their row number as "row" and these columns, lazily.

    `sort` is a column and whether it descends; empties come last both ways. `search` looks in all text columns.
    """
    needed = set(columns) | {name for filter_ in filters for name in filter_.fields()}
    rows = table.scan(sorted(needed)).with_row_index("row", 1)
    rows = narrow(rows, filters, schema, context)
    if search:
        texts = [pl.col(name) for name in columns if schema[name].kind is Kind.TEXT]
        others = [pl.col(name).cast(pl.String) for name in columns if schema[name].kind is not Kind.TEXT]
        found = [
            text.str.to_lowercase().str.contains(search.lower(), literal=True).fill_null(False) for text in texts + others
        ]
        rows = rows.filter(pl.any_horizontal(found)) if found else rows
    if sort:
        rows = rows.sort(sort[0], descending=sort[1], nulls_last=True, maintain_order=True)
    return rows.select("row", *columns)

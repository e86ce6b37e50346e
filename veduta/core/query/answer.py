"""Answer a query: filters, grain, keep, totals, sort, limit, in the order the guide's page on calculation gives."""

from __future__ import annotations

import datetime as dt
from collections.abc import Hashable

import polars as pl

from veduta.core.cache import Cache
from veduta.core.calendar import Days, Grouping
from veduta.core.data.fields import DataType, NumberFormat
from veduta.core.formula.additivity import adds_up
from veduta.core.model.model import Model
from veduta.core.query.engine.levels import make_group_key
from veduta.core.query.engine.shown_periods import find_filtered_periods
from veduta.core.query.filters import (
    Context,
    DatesFilter,
    Filter,
    MeasureFilter,
    MembersFilter,
    MembershipFilter,
    ValuesFilter,
    group_heading,
    narrow,
)
from veduta.core.query.measures import get_total, measure_format, measure_heading
from veduta.core.query.ordering import sort_cells
from veduta.core.query.plan import ALIGNED, QueryPlan, pick_columns
from veduta.core.query.query import Column, Query, Result
from veduta.core.query.same_periods import narrow_to_same_periods
from veduta.core.query.top_n import REST, VisibleCells, apply_top_n
from veduta.core.query.totals import compute_totals
from veduta.core.query.unfinished_periods import find_unfinished_periods

AROUND = 7_500
"""Bytes that an answer takes besides its values, measured over thousands of small ones: most of what they take."""


def _estimate_size(result: Result) -> float:
    """About what an answer takes in memory, in bytes: its values, and what stands around them and its question."""
    return sum(frame.estimated_size() for frame in (result.frame, *result.totals.values())) + AROUND


answers: Cache[Result] = Cache(128 * 1024 * 1024, _estimate_size)
"""The answers that are kept, by the model, the question and today."""


def make_context(model: Model, today: dt.date) -> Context:
    """The context of questions to a model on a day."""
    return Context(today, model.find_latest_dates(), model.schema.fiscal_month)


def answer(query: Query, model: Model, context: Context) -> Result:
    """The query's result over a model. Raises DefinitionProblem if the query does not fit it."""
    key = make_cache_key(query, model, context)
    return answers.get(key, lambda: _execute(query, model, context)) if key else _execute(query, model, context)


def make_cache_key(query: Query, model: Model, context: Context) -> Hashable:
    """What an answer is kept by; None for one that is not kept."""
    return None if model.key is None else (model.make_cache_key(), query, context.today)


def _execute(query: Query, model: Model, context: Context) -> Result:
    asked = plan_query(query, model, context)
    return build_result(asked, asked.work_out())


def plan_query(query: Query, model: Model, context: Context) -> QueryPlan:
    """A question of which is known what has to be read for it."""
    filters, conditions = resolve_filters(query.filters, model, context)
    asked = QueryPlan(query, model, context, filters, conditions)
    same, note = narrow_to_same_periods(asked)
    if same is not None:
        asked = QueryPlan(query, model, context, (*filters, same), conditions)
        asked.same_periods = True
    asked.notes += [note] if note else []
    asked.collect()
    return asked


def find_same_periods(query: Query, model: Model, context: Context) -> DatesFilter | None:
    """What keeps a question to the periods that a plan and what came of it have in common; None where nothing does.

    Raises DefinitionProblem if the query does not fit the model."""
    return narrow_to_same_periods(QueryPlan(query, model, context, *resolve_filters(query.filters, model, context)))[0]


def build_result(asked: QueryPlan, cells: pl.DataFrame) -> Result:
    """The result of a question whose cells are worked out."""
    query, model = asked.query, asked.model
    shown = apply_top_n(asked, cells)
    asked.context.check_wanted()
    rows_read = int(shown.cells[asked.rows].sum() or 0)
    columns = _build_columns(asked)
    seen, own = len(columns) - query.unseen, asked.find_own_orders()
    result = Result(
        columns=columns[:seen],
        unseen=columns[seen:],
        frame=_name_columns(asked, shown, sort_cells(asked, shown).head(query.limit)),
        totals=compute_totals(asked, shown),
        rows_read=rows_read,
        rows_there=model.count_rows(asked.home),
        groups=shown.cells.height,
        rest=shown.gathered.rest if shown.gathered else None,
        orders={column.key: own[key] for column, key in zip(columns, asked.keys, strict=False) if key in own},
    )
    periods = find_unfinished_periods(asked, result.frame)
    result.unfinished, result.begun, result.reach = periods.until, periods.since, periods.reach
    result.named, result.same_periods = _find_named_days(asked), asked.same_periods
    if result.groups > query.limit:
        asked.notes.append(f"Showing {query.limit:,} of {result.groups:,} groups.")
    if not rows_read and query.filters:
        asked.notes += _explain_empty_result(asked)
    result.notes = [*asked.notes, *asked.engine.notes]
    return result


def answer_membership(
    asked: MembershipFilter, others: tuple[Filter, ...], model: Model, context: Context
) -> MembersFilter | None:
    """The values that a membership filter names now, as a list filter that applies to other data.

    None where its parameters set no limit. The `others` are the filters that count in its question too, if it follows
    them."""
    now = asked.resolve_parameters(model.parameters)
    if now is None:
        return None
    plain, _ = resolve_filters(others if now.follows else (), model, context)
    found = _answer_filter(now, plain, model, context)
    assert isinstance(found, ValuesFilter)
    values = [value.isoformat() if isinstance(value, dt.date) else value for value in found.listed.to_list()]
    return MembersFilter(field=asked.field, grain=found.grain, values=tuple(values), exclude=asked.exclude)


def resolve_filters(
    filters: tuple[Filter, ...], model: Model, context: Context
) -> tuple[tuple[Filter, ...], list[MeasureFilter]]:
    """Filters on rows with their parameters' values, and what they ask worked out; apart from them those on groups."""
    now_set = [now for filter_ in filters if (now := filter_.resolve_parameters(model.parameters)) is not None]
    groups = [on_groups for filter_ in now_set if (on_groups := filter_.get_group_filter())]
    rows = [filter_ for filter_ in now_set if not filter_.get_group_filter()]
    plain = tuple(filter_ for filter_ in rows if filter_.get_question() is None)
    return tuple(_answer_filter(filter_, plain, model, context) for filter_ in rows), groups


def _answer_filter(filter_: Filter, others: tuple[Filter, ...], model: Model, context: Context) -> Filter:
    """A filter with the values that the question it needs returns; some questions follow the other filters."""
    asked = filter_.get_question()
    if asked is None:
        return filter_
    condition = asked.make_condition()
    own = (*asked.filters, *(others if asked.follows else ()), *([condition] if condition else []))
    measures = (asked.keep.by,) if asked.keep else (asked.measure,) if asked.measure else ()
    query = Query(
        groups=(asked.make_grouping(model.schema),),
        measures=measures,
        filters=own,
        keep=asked.keep and asked.keep.model_copy(update={"rest": False, "of": "by"}),
        limit=10_000_000,
    )
    return filter_.apply_answer(answer(query, model, context).frame["d0"], model.schema)


def _build_columns(asked: QueryPlan) -> list[Column]:
    """The columns of the query's result, dimensions first."""
    columns, schema = [], asked.schema
    for i, group in enumerate(asked.query.groups):
        field = schema[group.field]
        name = group_heading(group, schema, bool(asked.query.aligned))
        if asked.query.aligned and group.is_time_axis:
            columns.append(Column(f"d{i}", name, DataType.WHOLE, Grouping(field=group.field), NumberFormat(decimals=0)))
            continue
        columns.append(Column(f"d{i}", name, field.kind, group, field.format, shapes=field.shapes))
    for i, (measure, node) in enumerate(zip(asked.query.measures, asked.nodes, strict=True)):
        said = measure_heading(measure, schema)
        kind = DataType.DECIMAL if node.kind is None else node.kind
        number_format = measure_format(measure, schema, node)
        total = get_total(measure, schema)
        columns.append(Column(f"m{i}", said, kind, None, number_format, total, adds_up=adds_up(node)))
    return columns


def _name_columns(asked: QueryPlan, shown: VisibleCells, cells: pl.DataFrame) -> pl.DataFrame:
    """The cells under the names that a result gives its columns."""
    axis = asked.engine.find_axis(asked.place) if asked.query.aligned else None
    keys = [ALIGNED if group == axis else make_group_key(group) for group in asked.query.groups]
    sources = {f"d{i}": key for i, key in enumerate(keys)} | {f"m{i}": name for i, name in enumerate(asked.names)}
    return pick_columns(cells, sources | ({REST: REST} if shown.gathered else {}))


def _find_named_days(asked: QueryPlan) -> tuple[Days, ...]:
    """The days that the filters on the time axis let pass together, whether there are rows or not."""
    axis = asked.engine.find_axis(asked.place)
    if axis is None or not asked.engine.filters:
        return ()
    periods = find_filtered_periods(list(asked.engine.filters), asked.model, asked.context)
    if periods is None or periods.field not in asked.model.list_same_dates(axis.field):
        return ()
    return tuple(periods.ranges)


def _explain_empty_result(asked: QueryPlan) -> list[str]:
    """For filters on values that do not occur at all: say so."""
    reasons = []
    for filter_ in asked.query.filters:
        if field := filter_.get_named_values():
            rows = asked.model.scan([field], asked.model.find_home({field}))
            if not narrow(rows, (filter_,), asked.schema, asked.context).select(pl.len()).collect().item():
                reasons.append(f"Nothing matches: no row has {filter_.describe(asked.schema)}.")
    return reasons or ["No rows pass all the filters."]

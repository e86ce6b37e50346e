"""Plan and actual, like for like: actuals of ten months are not held against a plan or targets of twelve."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass, replace

import polars as pl

from veduta.core.calendar import PERIODS, Grain, find_period_end, find_period_start, to_date
from veduta.core.model.model import Model
from veduta.core.model.reach import ANY_PERIOD
from veduta.core.phrases import join_names
from veduta.core.query.engine import Engine
from veduta.core.query.engine.levels import CellLevel
from veduta.core.query.filters import DatesFilter
from veduta.core.query.filters.dates import describe_dates
from veduta.core.query.plan import QueryPlan

SIDES = 2
LONG = (Grain.MONTH, Grain.QUARTER, Grain.YEAR)
"""Tables that know days are compared by no less: a day without rows is no end of what a table covers."""


@dataclass(frozen=True)
class TableSpan:
    """The first and the last day of the periods in which a table has rows."""

    table: str
    first: dt.date
    last: dt.date


def narrow_to_same_periods(asked: QueryPlan) -> tuple[DatesFilter | None, str]:
    """A filter to the periods in which both of two tables have rows, and the note that says so.

    It applies to a question about some time, of tables of which one knows only months or longer periods. A plan for
    twelve months beside ten months of rows: both are counted for the ten. Nothing is filtered where they cover the
    same, or the date is shown, so that everybody sees which periods each has. A question about all time is not filtered
    either: the note says what each covers."""
    tables = list_tables(asked)
    date = _find_common_date(asked, tables) if len(tables) == SIDES and not asked.query.own_periods else ""
    grain = (
        min((_find_known_grain(asked.model, table, date) for table in tables), key=PERIODS.index) if date else Grain.DAY
    )
    if grain not in LONG:
        return None, ""
    spans = _find_table_spans(asked, tables, date, grain)
    if len({(span.first, span.last) for span in spans}) < SIDES:
        return None, ""
    first, last = max(span.first for span in spans), min(span.last for span in spans)
    fiscal = asked.schema.fiscal_month
    said = join_names([f"{span.table} covers {describe_dates(span.first, span.last, fiscal)}" for span in spans])
    if first > last:
        return None, f"The two tables have no period in common: {said}."
    if not any(filter_.list_days(asked.model.list_same_dates(date), asked.context) for filter_ in asked.engine.filters):
        return None, f"{said}. Each is counted over its own periods."
    note = f"{said}. Both are counted for {describe_dates(first, last, fiscal)}."
    return DatesFilter(field=date, start=first, end=last), note


def list_tables(asked: QueryPlan) -> list[str]:
    """The tables whose rows the measures that are shown aggregate, in the model's order."""
    shown = asked.nodes[: len(asked.nodes) - asked.query.unseen] or asked.nodes
    there = {table for node in shown for table in asked.engine.list_tables_of(node)}
    return [table for table in asked.model.tables if table in there]


def _find_common_date(asked: QueryPlan, tables: list[str]) -> str:
    """The date field by which both tables are known.

    Of several, the one that is filtered by; "" where the question is grouped by it."""
    model = asked.model
    dates = [
        field.id
        for field in asked.schema
        if field.kind.is_date
        and field.level != "aggregate"
        and all(model.reaches(table, field.id, ANY_PERIOD) for table in tables)
    ]
    filtered = {name for filter_ in asked.engine.filters for name, _ in filter_.needs()}
    date = next((name for name in dates if filtered & model.list_same_dates(name)), next(iter(dates), ""))
    is_by_it = date and any(group.field in model.list_same_dates(date) for group in asked.groups)
    return "" if is_by_it else date


def _find_table_spans(asked: QueryPlan, tables: list[str], date: str, grain: Grain) -> list[TableSpan]:
    """What the tables cover in whole periods, of the rows that pass the filters; only those that have any rows."""
    engine, fiscal = Engine(replace(asked.engine.scope, groups=())), asked.schema.fiscal_month
    day = pl.col(date).cast(pl.Date)
    spans = []
    for table in tables:
        rows = engine.scan_rows(table, CellLevel(), {date}, (), ordered=False)
        ((first, last),) = rows.select(day.min().alias("first"), day.max().alias("last")).collect().rows()
        if first is not None:
            start, end = (
                to_date(find_period_start(first, grain, fiscal)),
                find_period_end(find_period_start(last, grain, fiscal), grain),
            )
            spans.append(TableSpan(asked.model.get_table_name(table), start, to_date(end)))
    return spans


def _find_known_grain(model: Model, table: str, date: str) -> Grain:
    """The periods that a table's dates stand for; days for any shorter ones."""
    if known := model.find_known_grain(table, date):
        return Grain(known)
    own = [name for name in model.list_same_dates(date) if name in model.schema and model.schema[name].table == table]
    return next((rhythm for name in own if (rhythm := model.find_rhythm(name))), Grain.DAY)

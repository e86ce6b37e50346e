"""Events: days, or spans of days, of another dataset that a time axis is held against."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

import polars as pl

from veduta.core.calendar import find_period_end
from veduta.core.chart.definition import EventFields, ReferenceMark
from veduta.core.errors import DefinitionProblem, VedutaError
from veduta.core.model.model import Model
from veduta.core.number_format import format_value
from veduta.core.phrases import pluralise
from veduta.core.query.filters import Context
from veduta.core.query.listing import scan_underlying_rows
from veduta.core.query.query import Result

MOST_EVENTS = 40

Others = Mapping[str, tuple[Model, Context]]
"""Other datasets by their ids, as whoever looks may see them; raises VedutaError for one that cannot be seen."""


@dataclass(frozen=True)
class Event:
    """A day, or the days to an end, with what happened."""

    start: dt.date
    end: dt.date | None
    words: str


def find_events(
    fields: EventFields, model: Model, context: Context, span: tuple[dt.date, dt.date]
) -> tuple[list[Event], int]:
    """The first events of a dataset within a span of days, in order, and their number.

    Rows without a first day are no events. Raises DefinitionProblem if the dataset has no such fields."""
    columns = [name for name in (fields.start, fields.end, fields.words) if name]
    dated = [model.schema[name].kind.is_date for name in (fields.start, fields.end) if name]
    if not all(dated):
        raise DefinitionProblem("The days of events are dates.", hint="Choose fields that are dates.")
    start = pl.col(fields.start).cast(pl.Date)
    end = pl.max_horizontal(pl.col(fields.end).cast(pl.Date), start) if fields.end else start
    words = pl.col(fields.words) if fields.words else pl.lit(None)
    found = (
        scan_underlying_rows(model, (), context, list(dict.fromkeys(columns)))
        .select(start.alias("start"), end.alias("end"), words.alias("words"))
        .filter(pl.col("start") <= span[1], pl.col("end") >= span[0])
        .sort("start", maintain_order=True)
        .collect()
    )
    kind = model.schema[fields.words].kind if fields.words else None
    events = [
        Event(start, end if end > start else None, format_value(words, kind) if kind else "")
        for start, end, words in found.head(MOST_EVENTS).iter_rows()
    ]
    return events, found.height


def add_events(
    references: tuple[ReferenceMark, ...], result: Result, others: Others, notes: list[str]
) -> Iterator[ReferenceMark]:
    """The references, with those to a dataset of events as one to the days of each event that is within the time axis.

    What cannot be shown is said in `notes`."""
    for reference in references:
        if reference.events is None or reference.of != "events":
            yield reference
            continue
        span = _find_span(result)
        if span is None:
            notes.append("Events to compare with need a time axis, and are not drawn.")
            continue
        try:
            events, there = find_events(reference.events, *others[reference.events.dataset], span)
        except VedutaError as problem:
            notes.append(f"Events to compare with are not drawn. {problem.message}")
            continue
        if there > len(events):
            notes.append(f"The first {MOST_EVENTS} of {pluralise(there, 'event')} are drawn.")
        for event in events:
            days = {"start": max(event.start, span[0]), "end": event.end and min(event.end, span[1])}
            yield reference.model_copy(update={"of": "dates", "said": event.words or reference.said, **days})


def _find_span(result: Result) -> tuple[dt.date, dt.date] | None:
    """The first and the last day of the time axis."""
    if not result.dimensions or not result.dimensions[0].dimension.is_time_axis:
        return None
    column = result.dimensions[0]
    there = result.frame[column.key].drop_nulls()
    first, last = there.min(), there.max()
    if not isinstance(first, dt.date) or not isinstance(last, dt.date):
        return None
    end = find_period_end(last, column.dimension.period)
    return _to_day(first), _to_day(end)


def _to_day(moment: dt.date) -> dt.date:
    return moment.date() if isinstance(moment, dt.datetime) else moment

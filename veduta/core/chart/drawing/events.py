"""Events: days, or spans of days, of another dataset that a time axis is held against."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from veduta.core.calendar import period_end
from veduta.core.chart.definition import EventFields, Reference
from veduta.core.errors import VedutaError
from veduta.core.formats import format_value
from veduta.core.model.model import Model
from veduta.core.query.filters import Context
from veduta.core.query.listing import rows_behind
from veduta.core.query.query import Result
from veduta.core.words import counted

MOST_EVENTS = 40

Others = Mapping[str, tuple[Model, Context]]
"""Other datasets by their ids, as whoever looks may see them; raises VedutaError for one that cannot be seen."""


@dataclass(frozen=True)
class Event:
    """A day, or the days to an end, with what happened."""

    start: dt.date
    end: dt.date | None
    words: str


def events_of(fields: EventFields, model: Model, context: Context) -> list[Event]:
    """The events of a dataset in the order of their days; rows without a first day are none. Raises DefinitionProblem
    if it has no such fields."""
    columns = [name for name in (fields.start, fields.end, fields.words) if name]
    for name in columns:
        model.schema[name]
    found = []
    for row in rows_behind(model, (), context, list(dict.fromkeys(columns))).collect().iter_rows(named=True):
        start, end = (_as_day(row[name]) if name else None for name in (fields.start, fields.end))
        words = format_value(row[fields.words], model.schema[fields.words].kind) if fields.words else ""
        if start:
            found.append(Event(start, end if end and end > start else None, words))
    return sorted(found, key=lambda event: event.start)


def _as_day(moment: Any) -> dt.date | None:
    """The day of a date or of a date and time; nothing else is one."""
    if isinstance(moment, dt.datetime):
        return moment.date()
    return moment if isinstance(moment, dt.date) else None


def with_events(
    references: tuple[Reference, ...], result: Result, others: Others, notes: list[str]
) -> Iterator[Reference]:
    """The references, with those to a dataset of events as one to the days of each event that is within the time axis.
    What cannot be shown is said in `notes`."""
    for reference in references:
        if reference.events is None or reference.of != "events":
            yield reference
            continue
        span = _span(result)
        if span is None:
            notes.append("Events to compare with need a time axis, and are not drawn.")
            continue
        try:
            events = events_of(reference.events, *others[reference.events.dataset])
        except VedutaError as problem:
            notes.append(f"Events to compare with are not drawn. {problem.message}")
            continue
        within = [each for each in events if (each.end or each.start) >= span[0] and each.start <= span[1]]
        if len(within) > MOST_EVENTS:
            notes.append(f"The first {MOST_EVENTS} of {counted(len(within), 'event')} are drawn.")
        for event in within[:MOST_EVENTS]:
            days = {"start": max(event.start, span[0]), "end": event.end and min(event.end, span[1])}
            yield reference.model_copy(update={"of": "dates", "said": event.words or reference.said, **days})


def _span(result: Result) -> tuple[dt.date, dt.date] | None:
    """The first and the last day of the time axis."""
    if not result.dimensions or not result.dimensions[0].dimension.is_time_axis:
        return None
    column = result.dimensions[0]
    there = result.frame[column.key].drop_nulls()
    first, last = there.min(), there.max()
    if not isinstance(first, dt.date) or not isinstance(last, dt.date):
        return None
    start, end = _as_day(first), _as_day(period_end(last, column.dimension.period))
    return (start, end) if start and end else None

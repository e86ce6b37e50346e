"""Filters on dates: the days they let pass, from one moment to another, recent periods."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterable
from typing import Any, Literal

import polars as pl
from pydantic import Field

from veduta.core.calendar import (
    Days,
    Grain,
    find_period_end,
    find_period_start,
    label_period,
    merge_days,
    shift_days,
    step_back_periods,
    to_date,
)
from veduta.core.data.fields import DataType, Schema
from veduta.core.errors import DefinitionProblem
from veduta.core.model.reach import ANY_PERIOD
from veduta.core.query.filters.base import Condition, Context, FieldCondition

EVER = (dt.date.min, dt.date.max)


class PeriodFilter(FieldCondition):
    """A filter on a date that lets some periods pass."""

    def needs(self) -> set[tuple[str, str]]:
        return {(self.field, ANY_PERIOD)}

    def move_to_other_periods(self, dates: set[str]) -> Condition | None:
        return None if self.field in dates else self

    def build_expression(self, schema: Schema, context: Context) -> pl.Expr:
        return _build_between_days(self.field, schema, *self.find_bounds(context))

    def build_table_expression(self, schema: Schema, context: Context, known_grain: Callable[[str], str]) -> pl.Expr:
        """A table that knows only months takes all months that are touched."""
        known = known_grain(self.field)
        if not known:
            return self.build_expression(schema, context)
        first, last = self.find_bounds(context)
        first = first and find_period_start(first, Grain(known), schema.fiscal_month)
        return _build_between_days(self.field, schema, first, last.date() if isinstance(last, dt.datetime) else last)

    def find_last_day(self, dates: set[str], context: Context) -> dt.date | None:
        last = self.find_bounds(context)[1] if self.field in dates else None
        return last.date() if isinstance(last, dt.datetime) else last

    def find_bounds(self, context: Context) -> tuple[dt.date | None, dt.date | None]:
        """The first and the last day or moment, both included; None leaves a side open."""
        raise NotImplementedError

    def list_days(self, dates: set[str], context: Context) -> list[Days] | None:
        if self.field not in dates:
            return None
        first, last = self.find_bounds(context)
        return [(first or EVER[0], last or EVER[1])]


def invert_days(ranges: list[Days]) -> list[Days]:
    """All days but those of some ranges."""
    spans: list[Days] = []
    start: dt.date = dt.date.min
    for first, last in merge_days(ranges):
        least = dt.timedelta(microseconds=1) if isinstance(first, dt.datetime) else dt.timedelta(days=1)
        if to_date(first) > dt.date.min:  # nothing is before the first day of the calendar
            spans.append((start, first - least))
        if to_date(last) == dt.date.max:  # nor after the last
            return spans
        start = last + least
    return [*spans, (start, dt.date.max)]


def list_days_of(values: Iterable[Any], grain: Grain) -> list[Days]:
    """The days of periods that JSON names by their starts, joined."""
    named = [str(value) for value in values if value is not None]
    starts = [dt.datetime.fromisoformat(n) if grain is Grain.HOUR else dt.date.fromisoformat(n[:10]) for n in named]
    return merge_days((start, find_period_end(start, grain)) for start in starts)


class DatesFilter(PeriodFilter):
    """Rows whose day lies between two days, both included; None leaves a side open.

    With times of the day it goes from one moment to another, both included."""

    kind: Literal["dates"] = "dates"
    start: dt.date | None = None
    end: dt.date | None = None
    start_time: dt.time | None = None
    end_time: dt.time | None = None

    @property
    def ends(self) -> tuple[dt.date | None, dt.date | None]:
        return _read_moment(self.start, self.start_time), _read_moment(self.end, self.end_time)

    def find_bounds(self, context: Context) -> tuple[dt.date | None, dt.date | None]:
        return self.ends

    def describe_periods(self, fiscal_month: int = 1) -> str:
        """From when to when, in words: "2 Aug 2026 to 4 Aug 2026"."""
        return describe_dates(*self.ends, fiscal_month)

    def describe(self, schema: Schema) -> str:
        said = self.describe_periods(schema.fiscal_month)
        timed = any(isinstance(each, dt.datetime) for each in self.ends)
        before = "" if not all(self.ends) else "from " if timed else "in "
        return f"{schema[self.field].name} {before}{said}"


def _read_moment(day: dt.date | None, time: dt.time | None) -> dt.date | None:
    return dt.datetime.combine(day, time.replace(tzinfo=None)) if day and time else day


def _build_between_days(name: str, schema: Schema, start: dt.date | None, end: dt.date | None) -> pl.Expr:
    field, column = schema[name], pl.col(name)
    if not field.kind.is_date:
        raise DefinitionProblem(f"“{field.name}” is not a date.", where=field.id)
    if field.kind is DataType.DATE:  # data that know only days have all the days that are touched
        start, end = start and to_date(start), end and to_date(end)
    inside = column >= start if start else column.is_not_null()
    if end is None or end == dt.date.max:
        return inside
    if isinstance(end, dt.datetime) or field.kind is DataType.DATE:
        return inside & (column <= end)
    # A date-time belongs to its day up to the last moment before the next one.
    return inside & (column < end + dt.timedelta(days=1))


def describe_dates(start: dt.date | None, end: dt.date | None, fiscal_month: int = 1) -> str:
    """A range of days as shortly as it can be said.

    >>> describe_dates(dt.date(2026, 1, 1), dt.date(2026, 10, 31))
    'Jan 2026 to Oct 2026'
    >>> describe_dates(dt.datetime(2026, 8, 31, 6), dt.datetime(2026, 8, 31, 9, 30))
    '31 Aug 2026 06:00 to 09:30'
    """
    if not start or not end:
        return f"from {_end_words(start)}" if start else f"up to {_end_words(end)}" if end else "any day"
    if isinstance(start, dt.datetime) and isinstance(end, dt.datetime) and start.date() == end.date() and start < end:
        return f"{_end_words(start)} to {end:%H:%M}"
    if not isinstance(start, dt.datetime) and not isinstance(end, dt.datetime):
        for grain in (Grain.YEAR, Grain.QUARTER, Grain.MONTH):
            last = find_period_start(end, grain, fiscal_month)
            if find_period_start(start, grain, fiscal_month) != start or find_period_end(last, grain) != end:
                continue
            if last == start:
                return label_period(start, grain)
            if grain is not Grain.QUARTER:
                return f"{label_period(start, grain)} to {label_period(last, grain)}"
    return _end_words(start) if start == end else f"{_end_words(start)} to {_end_words(end)}"


def _end_words(end: dt.date) -> str:
    return label_period(end, Grain.MOMENT if isinstance(end, dt.datetime) else Grain.DAY)


class RelativeFilter(PeriodFilter):
    """The last `count` periods up to the anchor's own, which may be unfinished; `back` goes whole periods earlier.

    With `to_date` the last of them ends as far into it as the anchor is into its own: the year before up to the same
    day."""

    kind: Literal["relative"] = "relative"
    unit: Literal["day", "week", "month", "quarter", "year"] = "month"
    count: int = Field(12, ge=1, le=1_000)
    back: int = Field(0, ge=0, le=1_000)
    anchor: Literal["latest", "today"] = "latest"
    to_date: bool = False

    def find_bounds(self, context: Context) -> tuple[dt.date, dt.date]:
        """The first and the last day, both included."""
        anchor = context.latest.get(self.field, context.today) if self.anchor == "latest" else context.today
        grain = Grain(self.unit)
        try:
            last = step_back_periods(find_period_start(anchor, grain, context.fiscal_month), grain, self.back)
            end = find_period_end(last, grain)
            if self.to_date:
                end = min(end, to_date(shift_days(anchor, anchor, -self.back, grain)[1]))
            return step_back_periods(last, grain, self.count - 1), end
        except (ValueError, OverflowError):
            return EVER

    def describe(self, schema: Schema) -> str:
        return f"{schema[self.field].name} in {self.describe_periods(schema.fiscal_month)}"

    def get_counting_date(self) -> str:
        return self.field if self.anchor == "latest" else ""

    def describe_periods(self, fiscal_month: int = 1) -> str:
        """Which periods, in words: "the last 2 fiscal years"."""
        # Quarters of a fiscal year that begins with a calendar quarter are the calendar's.
        own = {"year": fiscal_month != 1, "quarter": fiscal_month % 3 != 1}.get(self.unit, False)
        unit = f"fiscal {self.unit}" if own else self.unit
        since = " up to today" if self.anchor == "today" else ""
        if self.count == 1 and self.back <= 1:
            which = ("this" if self.anchor == "today" else "the latest") if self.back == 0 else "the previous"
            so_far = (" up to the same day" if self.back else " to date") if self.to_date else ""
            return f"{which} {unit}{so_far}" + (since if self.back and not self.to_date else "")
        since += ", the last one up to the same day" if self.to_date else ""
        before = f", skipping the latest{f' {self.back}' if self.back > 1 else ''}" if self.back else ""
        return f"the last {self.count} {unit}{'s' * (self.count > 1)}{since}{before}"

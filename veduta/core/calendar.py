"""Dates at a grain: periods that follow each other (months) and parts that come back (weekdays)."""

from __future__ import annotations

import datetime as dt
from calendar import monthrange
from collections.abc import Iterable
from enum import StrEnum
from typing import Any

import polars as pl
from dateutil.relativedelta import relativedelta
from pydantic import Field, model_validator

from veduta.core.data.fields import DataField, DataType, Frozen, Schema
from veduta.core.errors import DefinitionProblem
from veduta.core.value_classes import build_class_expression


class Grain(StrEnum):
    YEAR = "year"
    QUARTER = "quarter"
    MONTH = "month"
    WEEK = "week"
    DAY = "day"
    HOUR = "hour"
    WEEKDAY = "weekday"
    MONTH_OF_YEAR = "month_of_year"
    HOUR_OF_DAY = "hour_of_day"
    MOMENT = "moment"
    """The very value of a date-time, as formulas group by it; charts do not."""

    @property
    def is_part(self) -> bool:
        return self in PARTS

    @property
    def needs_time(self) -> bool:
        """Whether only date-times have it."""
        return self in (Grain.HOUR, Grain.HOUR_OF_DAY, Grain.MOMENT)

    @property
    def words(self) -> str:
        return self.value.replace("_", " ")


PERIODS = (Grain.YEAR, Grain.QUARTER, Grain.MONTH, Grain.WEEK, Grain.DAY, Grain.HOUR)
DAY_PERIODS = PERIODS[:-1]
"""The periods that are made up of days."""
PARTS = {Grain.WEEKDAY: range(1, 8), Grain.MONTH_OF_YEAR: range(1, 13), Grain.HOUR_OF_DAY: range(24)}
"""The grains that come back, with their values."""
STEPS = {
    Grain.YEAR: ("1y", relativedelta(years=1)),
    Grain.QUARTER: ("1q", relativedelta(months=3)),
    Grain.MONTH: ("1mo", relativedelta(months=1)),
    Grain.WEEK: ("1w", relativedelta(weeks=1)),
    Grain.DAY: ("1d", relativedelta(days=1)),
    Grain.HOUR: ("1h", relativedelta(hours=1)),
}
LENGTHS = {Grain.WEEK: dt.timedelta(weeks=1), Grain.DAY: dt.timedelta(days=1), Grain.HOUR: dt.timedelta(hours=1)}
"""Of the grains whose periods are all equally long."""
WEEKDAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
MONTHS = (
    "January",
    "February",
    "March",
    "April",
    "May",
    "June",
    "July",
    "August",
    "September",
    "October",
    "November",
    "December",
)


class ValueGroup(Frozen):
    """Texts that stand together as one value, under a name."""

    name: str = Field(min_length=1, max_length=200)
    values: tuple[str | None, ...] = Field(min_length=1, max_length=2_000)


class Grouping(Frozen):
    """A dimension rows are grouped by.

    Dates have a grain; other fields have none. Numbers may be put in classes of a `width`, and of texts some may stand
    `together`; no value is in two of these."""

    field: str
    grain: Grain | None = None
    width: float | None = Field(None, gt=0)
    together: tuple[ValueGroup, ...] = Field((), max_length=50)

    @model_validator(mode="before")
    @classmethod
    def _from_name(cls, value: Any) -> Any:
        return {"field": value} if isinstance(value, str) else value

    @property
    def is_plain(self) -> bool:
        """Whether its values are those of the field themselves."""
        return self.grain is None and self.width is None and not self.together

    @property
    def period(self) -> Grain:
        """The grain of a dimension that has one."""
        assert self.grain is not None, f"{self.field} has no grain"
        return self.grain

    @property
    def is_time_axis(self) -> bool:
        return self.grain in STEPS


def list_grains(kind: DataType) -> list[Grain]:
    """The grains that dates of this kind have: periods from coarse to fine, then parts."""
    return [grain for grain in (*PERIODS, *PARTS) if kind is DataType.DATETIME or not grain.needs_time]


def get_written_grain(field: DataField) -> Grain | None:
    """The periods that a date field's texts write instead of days."""
    return Grain(field.reading.period) if field.reading.period else None


def list_field_grains(field: DataField) -> list[Grain]:
    """The grains by which a chart can group a date field; where its texts wrote periods, none is finer than these."""
    if finest := get_written_grain(field):
        parts = [Grain.MONTH_OF_YEAR] if finest is Grain.MONTH else []
        return [*PERIODS[: PERIODS.index(finest) + 1], *parts]
    return list_grains(field.kind)


ABOUT_CLASSES = 20


def make_grouping(field: DataField, grain: Grain | None = None) -> Grouping:
    """The field as a dimension, dates by month unless told otherwise."""
    return Grouping(field=field.id, grain=(grain or Grain.MONTH) if field.kind.is_date else None)


SPANS = ((20 * 366, Grain.YEAR), (12 * 366, Grain.QUARTER), (150, Grain.MONTH), (45, Grain.WEEK), (2, Grain.DAY))
"""How many days dates must span for a grain to tell something about them, from coarse to fine."""

DAYS_OF_MANY = {Grain.YEAR: 100_000, Grain.QUARTER: 150 * 91, Grain.MONTH: 150 * 30, Grain.WEEK: 120 * 7}
"""How many days as many periods as are still told apart take."""


def choose_grain(days: int, rhythm: Grain | None, kind: DataType) -> Grain:
    """The coarsest grain that shows dates of this span well.

    It is the grain of the periods that the dates stand for (their rhythm) if there are not too many of them, and never
    a finer one."""
    finest = rhythm or (Grain.HOUR if kind is DataType.DATETIME else Grain.DAY)
    if rhythm and days <= DAYS_OF_MANY[rhythm]:
        return rhythm
    by_span = next((grain for least, grain in SPANS if days > least), Grain.HOUR)
    return min(by_span, finest, key=PERIODS.index)


def group_expression(grouping: Grouping, schema: Schema) -> pl.Expr:
    """The value a row is grouped under: a period's first day, a weekday 1 to 7, a month 1 to 12, or the value itself.

    Raises DefinitionProblem for a grain on a field that is not a date, or a date without one.
    """
    field = schema[grouping.field]
    column = pl.col(field.id)
    if grouping.width is not None:
        if not field.kind.is_number:
            raise DefinitionProblem(f"“{field.name}” is not a number, so it has no classes.", where=field.id)
        return build_class_expression(column, grouping.width, field.kind is DataType.WHOLE)
    if grouping.together:
        return _build_value_groups(column, grouping.together, field)
    if not field.kind.is_date:
        if grouping.grain:
            raise DefinitionProblem(
                f"“{field.name}” is not a date, so it has no {grouping.grain.words}.", where=field.id
            )
        return column
    if grouping.grain is None:
        raise DefinitionProblem(f"Say by which period “{field.name}” is grouped.", where=field.id)
    if grouping.grain.needs_time and field.kind is not DataType.DATETIME:
        raise DefinitionProblem(
            f"“{field.name}” has no time of day, so it has no {grouping.grain.words}.",
            where=field.id,
            hint="Choose days or longer.",
        )
    return truncate_to_grain(column, field.kind is DataType.DATETIME, grouping.grain, schema.fiscal_month)


def _build_value_groups(column: pl.Expr, groups: tuple[ValueGroup, ...], field: DataField) -> pl.Expr:
    if field.kind is not DataType.TEXT:
        raise DefinitionProblem(f"“{field.name}” is not a text, so its values cannot be put together.", where=field.id)
    names = {value: each.name for each in groups for value in each.values}
    return column.replace_strict(list(names), list(names.values()), default=column, return_dtype=pl.String)


def truncate_to_grain(column: pl.Expr, timed: bool, grain: Grain, fiscal_month: int = 1) -> pl.Expr:
    """Dates, or with `timed` date-times, at a grain."""
    if grain is Grain.WEEKDAY:
        return column.dt.weekday()
    if grain is Grain.MONTH_OF_YEAR:
        return column.dt.month()
    if grain is Grain.HOUR_OF_DAY:
        return column.dt.hour()
    if grain is Grain.MOMENT:
        return column
    if grain is Grain.HOUR:
        return column.dt.truncate("1h")
    return start_expression(column.dt.date() if timed else column, grain, fiscal_month)


def start_expression(day: pl.Expr, grain: Grain, fiscal_month: int = 1) -> pl.Expr:
    """The first day of the period that holds each day."""
    if grain is Grain.DAY:
        return day
    late = (fiscal_month - 1) % {Grain.YEAR: 12, Grain.QUARTER: 3}.get(grain, 1)
    start = day.dt.offset_by(f"-{late}mo") if late else day
    start = start.dt.truncate(STEPS[grain][0])
    return start.dt.offset_by(f"{late}mo") if late else start


NESTED = {
    Grain.YEAR: (Grain.YEAR,),
    Grain.QUARTER: (Grain.QUARTER, Grain.YEAR),
    Grain.MONTH: (Grain.MONTH, Grain.QUARTER, Grain.YEAR),
    Grain.WEEK: (Grain.WEEK, Grain.YEAR),
    Grain.DAY: (Grain.DAY, Grain.WEEK, Grain.MONTH, Grain.QUARTER, Grain.YEAR),
    Grain.HOUR: (Grain.HOUR, Grain.DAY, Grain.WEEK, Grain.MONTH, Grain.QUARTER, Grain.YEAR),
}
"""The periods that each grain's periods make up whole; weeks make up ISO years."""
FOLLOWING = {
    Grain.QUARTER: (Grain.YEAR,),
    Grain.MONTH: (Grain.QUARTER, Grain.YEAR, Grain.MONTH_OF_YEAR),
    Grain.DAY: (Grain.WEEK, Grain.MONTH, Grain.QUARTER, Grain.YEAR, Grain.WEEKDAY, Grain.MONTH_OF_YEAR),
    Grain.HOUR: (*DAY_PERIODS, *PARTS),
    Grain.MOMENT: (*PERIODS, *PARTS),
}
"""What is known of a date's grains once one is known: the calendar year of a month, the weekday of a day."""


def follows(group: Grouping, finer: Grouping) -> bool:
    """Whether a dimension's value follows from that of a finer grain of the same date."""
    if finer.grain is None or group.field != finer.field:
        return False
    return group.grain in FOLLOWING.get(finer.grain, ())


def drop_dependent_groupings(groups: Iterable[Grouping]) -> tuple[Grouping, ...]:
    """The dimensions without those that follow from another one: year and month of a date are told by the month."""
    groups = tuple(dict.fromkeys(groups))
    return tuple(group for group in groups if not any(follows(group, other) for other in groups))


def derive_coarser_period(group: Grouping, column: pl.Expr, finer: Grain, fiscal_month: int = 1) -> pl.Expr:
    """A dimension's value, worked out from a column of a finer grain that it follows from."""
    return truncate_to_grain(column, finer.needs_time, group.period, fiscal_month)


def find_enclosing_period(start: pl.Expr, grain: Grain, unit: Grain, fiscal_month: int = 1) -> pl.Expr:
    """The start of the period `unit` that a period of a chart lies in. Weeks lie in ISO years."""
    if grain is Grain.WEEK and unit is Grain.YEAR:
        return start - pl.duration(days=(start.dt.week().cast(pl.Int64) - 1) * 7)
    if grain is unit:
        return start
    return start_expression(start.dt.date() if grain is Grain.HOUR else start, unit, fiscal_month)


def shift_period(start: pl.Expr, grain: Grain, steps: int, unit: Grain) -> pl.Expr:
    """The start of the period so many units away; empty where there is none (29 February, ISO week 53)."""
    if grain is Grain.WEEK and unit is Grain.YEAR:
        # The same week's number of another ISO year, whose first week holds 4 January. Week 53 of 2026 has no
        # counterpart in 2025: what would be its day lies in another week, so it is empty.
        week = start.dt.week().cast(pl.Int64)
        january = pl.date(start.dt.iso_year() + steps, 1, 4)
        first = january - pl.duration(days=january.dt.weekday().cast(pl.Int64) - 1)
        day = first + pl.duration(days=(week - 1) * 7)
        return pl.when(day.dt.week() == week).then(day)
    if unit in (Grain.HOUR, Grain.DAY, Grain.WEEK):
        count, letter = {Grain.HOUR: (1, "h"), Grain.DAY: (1, "d"), Grain.WEEK: (7, "d")}[unit]
        return start.dt.offset_by(f"{steps * count}{letter}")
    day = start.dt.offset_by(f"{steps * {Grain.YEAR: 12, Grain.QUARTER: 3, Grain.MONTH: 1}[unit]}mo")
    return pl.when(day.dt.day() == start.dt.day()).then(day)


Days = tuple[dt.date, dt.date]
"""From one day to another, both included; from one moment to another where they are date-times."""


def shift_days(first: dt.date, last: dt.date, steps: int, unit: Grain) -> Days:
    """A range of days so many units away.

    The last day moves itself, and the end of a month stays one, so that whole months stay whole; a single day is no end
    of anything.

    >>> shift_days(dt.date(2024, 2, 1), dt.date(2024, 2, 29), -1, Grain.YEAR)[1]
    datetime.date(2023, 2, 28)
    >>> shift_days(dt.date(2026, 5, 1), dt.date(2026, 5, 30), -1, Grain.MONTH)[1]
    datetime.date(2026, 4, 30)
    """
    step = STEPS[unit][1] * steps
    try:
        start, end = first + step, last + step
        if unit in (Grain.YEAR, Grain.QUARTER, Grain.MONTH) and _is_month_end(last) and to_date(first) != to_date(last):
            end += relativedelta(day=31)
    except (ValueError, OverflowError):
        return first, last
    return start, end


def count_whole_months(first: dt.date, last: dt.date) -> int:
    """How many months a range of days is made up of; 0 if they are not whole.

    >>> count_whole_months(dt.date(2025, 12, 1), dt.date(2026, 2, 28))
    3
    >>> count_whole_months(dt.date(2026, 2, 1), dt.date(2026, 2, 27))
    0
    """
    if first.day != 1 or not _is_month_end(last):
        return 0
    return 12 * (last.year - first.year) + last.month - first.month + 1


def _is_month_end(day: dt.date) -> bool:
    return day.day == monthrange(day.year, day.month)[1]


def to_date(day: dt.date) -> dt.date:
    """The day of a moment."""
    return day.date() if isinstance(day, dt.datetime) else day


def intersect_days(a: Iterable[Days], b: Iterable[Days]) -> list[Days]:
    """The days that lie in both lists of ranges, in order."""
    b = list(b)
    overlaps = [(max(first, x, key=_to_datetime), min(last, y, key=_to_end_of_day)) for first, last in a for x, y in b]
    return merge_days(each for each in overlaps if _to_datetime(each[0]) <= _to_end_of_day(each[1]))


def merge_days(ranges: Iterable[Days]) -> list[Days]:
    """The ranges in order, those that touch or overlap made one."""
    joined: list[Days] = []
    for first, last in sorted(ranges, key=lambda each: _to_datetime(each[0])):
        if joined and _to_datetime(first) <= _to_end_of_day(joined[-1][1]) + dt.timedelta(microseconds=1):
            joined[-1] = (joined[-1][0], max(joined[-1][1], last, key=_to_end_of_day))
        else:
            joined.append((first, last))
    return joined


def _to_datetime(day: dt.date) -> dt.datetime:
    return day if isinstance(day, dt.datetime) else dt.datetime.combine(day, dt.time.min)


def _to_end_of_day(day: dt.date) -> dt.datetime:
    """A moment itself, or the last one of a day."""
    if isinstance(day, dt.datetime) or day == dt.date.max:
        return _to_datetime(day)
    return _to_datetime(day) + dt.timedelta(days=1, microseconds=-1)


def find_period_start(day: dt.date, grain: Grain, fiscal_month: int = 1) -> dt.date:
    """The first day (of hours the first moment) of the period that holds this day.

    >>> find_period_start(dt.date(2026, 11, 1), Grain.WEEK)
    datetime.date(2026, 10, 26)
    """
    if grain is Grain.HOUR:
        return _to_datetime(day).replace(minute=0, second=0, microsecond=0)
    if isinstance(day, dt.datetime):
        day = day.date()
    if grain is Grain.WEEK:
        return day - dt.timedelta(days=day.weekday())
    if grain in (Grain.DAY, Grain.MONTH):
        return day if grain is Grain.DAY else day.replace(day=1)
    length = 3 if grain is Grain.QUARTER else 12
    # Quarters begin with the fiscal year's month and every third one after it: with a year from February, 31 January
    # 2026 lies in the quarter from November 2025, and in the year from February 2025.
    late = (day.month - fiscal_month) % length
    month = day.month - late
    year = day.year if month > 0 else max(day.year - 1, 1)
    return dt.date(year, month if month > 0 else month + 12, 1)


def step_back_periods(start: dt.date, grain: Grain, count: int) -> dt.date:
    """The start of the period of days so many earlier. Raises ValueError or OverflowError where there is no such day.

    >>> step_back_periods(dt.date(2026, 1, 1), Grain.QUARTER, 5)
    datetime.date(2024, 10, 1)
    """
    if grain in (Grain.WEEK, Grain.DAY):
        return start - dt.timedelta(days=count * (7 if grain is Grain.WEEK else 1))
    months = start.year * 12 + start.month - 1 - count * {Grain.YEAR: 12, Grain.QUARTER: 3, Grain.MONTH: 1}[grain]
    return dt.date(months // 12, months % 12 + 1, 1)


def find_period_end(start: dt.date, grain: Grain) -> dt.date:
    """The last day (of hours the last moment) of the period that starts then."""
    try:
        if grain is Grain.HOUR:
            return start + STEPS[grain][1] - dt.timedelta(microseconds=1)
        if grain in (Grain.WEEK, Grain.DAY):
            return start + dt.timedelta(days=6 if grain is Grain.WEEK else 0)
        return step_back_periods(start, grain, -1) - dt.timedelta(days=1)
    except (ValueError, OverflowError):
        return type(start).max


def list_periods(first: dt.date, last: dt.date, grain: Grain, most: int = 20_000) -> list[dt.date]:
    """The starts of all periods from `first` to `last`, which are starts themselves; empty if more than `most`."""
    per_year = {Grain.YEAR: 1, Grain.QUARTER: 4, Grain.MONTH: 12, Grain.WEEK: 52, Grain.DAY: 365, Grain.HOUR: 8_766}[
        grain
    ]
    if (last.year - first.year) * per_year > most:
        return []
    if length := LENGTHS.get(grain):
        count = (last - first) // length + 1
        return [first + number * length for number in range(count)] if count <= most else []
    periods: list[dt.date] = []
    start = first
    while start <= last and len(periods) <= most:
        periods.append(start)
        try:
            start = start + STEPS[grain][1]
        except (ValueError, OverflowError):
            break
    return periods if len(periods) <= most else []


def label_period(start: dt.date, grain: Grain) -> str:
    """A period as people write it; fiscal years by both their years, quarters by the calendar or else by their months.

    >>> label_period(dt.date(2026, 3, 1), Grain.MONTH), label_period(dt.date(2026, 12, 28), Grain.WEEK)
    ('Mar 2026', 'W53 2026')
    """
    if grain is Grain.YEAR:
        return f"{start.year}" if start.month == 1 else f"{start.year}/{(start.year + 1) % 100:02}"
    if grain is Grain.QUARTER and start.month % 3 != 1:
        return (
            f"{MONTHS[start.month - 1][:3]}–{MONTHS[(start.month + 1) % 12][:3]} {find_period_end(start, grain).year}"
        )
    if grain is Grain.QUARTER:
        return f"Q{(start.month + 2) // 3} {start.year}"
    if grain is Grain.MONTH:
        return f"{MONTHS[start.month - 1][:3]} {start.year}"
    if grain is Grain.WEEK:
        year, week, _ = start.isocalendar()
        return f"W{week} {year}"
    if grain in (Grain.HOUR, Grain.MOMENT):
        return f"{label_period(start, Grain.DAY)} {start:%H:%M}"
    return f"{start.day} {MONTHS[start.month - 1][:3]} {start.year}"

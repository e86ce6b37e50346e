"""What narrows the rows: one class for each kind of filter, each with its expression and its words."""

from __future__ import annotations

import datetime as dt
import itertools
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from dataclasses import field as attribute
from typing import Annotated, Any, Literal

import polars as pl
from pydantic import ConfigDict, TypeAdapter
from pydantic import Field as Attribute

from veduta.core.calendar import (
    MONTHS,
    PERIODS,
    STEPS,
    WEEKDAYS,
    Days,
    Grain,
    Grouping,
    group_expression,
    joined_days,
    period_end,
    period_start,
    period_words,
    periods_back,
)
from veduta.core.data.fields import Field, Frozen, Kind, Schema
from veduta.core.errors import DefinitionProblem, Stopped
from veduta.core.query.measures import Keep, Measure, measure_words

Value = bool | int | float | str | None
REST_POINT = "␟rest"
"""Stands in a mark's point for the values that were not kept but gathered in one."""


@dataclass(frozen=True)
class Context:
    """What an answer depends on besides the rows: today, the latest date of each date field in all rows that may be seen,
    and the first month of the fiscal year."""

    today: dt.date
    latest: dict[str, dt.date] = attribute(default_factory=dict)
    fiscal_month: int = 1
    stopped: Callable[[], bool] | None = attribute(default=None, compare=False)
    """Whether nobody waits for the answer any more; asked between two passes over the rows."""

    def check_wanted(self) -> None:
        """Raises Stopped if nobody waits for the answer any more."""
        if self.stopped and self.stopped():
            raise Stopped("This question was stopped.", hint="A newer one has taken its place.")

    def latest_of_first(self) -> list[dt.date]:
        """The latest dates of the model's first table."""
        return [day for name, day in self.latest.items() if "." not in name]


def typed(value: Value, field: Field, grain: Grain | None = None) -> Any:
    """A value from JSON as the grouped column holds it. Raises DefinitionProblem if it cannot be one."""
    if value is None or value == REST_POINT:
        return value
    try:
        if grain and grain.is_part:
            return int(value)
        if grain and grain.needs_time:
            return dt.datetime.fromisoformat(str(value))
        if grain:
            return dt.date.fromisoformat(str(value)[:10])
        if field.kind is Kind.DATE:
            return dt.date.fromisoformat(str(value))
        if field.kind is Kind.DATETIME:
            return dt.datetime.fromisoformat(str(value))
        if field.kind is Kind.YES_NO:
            return value if isinstance(value, bool) else {"true": True, "false": False}[str(value).lower()]
        if field.kind is Kind.WHOLE:
            return int(value)
        if field.kind is Kind.DECIMAL:
            return float(value)
        return str(value)
    except (ValueError, TypeError, KeyError, OverflowError):
        raise DefinitionProblem(f"“{value}” is not a value of {field.name}.", where=field.id) from None


def value_words(value: Any, field: Field | None, grain: Grain | None = None) -> str:
    """A typed group value in words; empties are said as such."""
    if value is None:
        return "empty"
    if value == REST_POINT:
        return "what was gathered"
    if grain is Grain.WEEKDAY:
        return WEEKDAYS[int(value) - 1] if 1 <= int(value) <= 7 else str(value)
    if grain is Grain.MONTH_OF_YEAR:
        return MONTHS[int(value) - 1] if 1 <= int(value) <= 12 else str(value)
    if grain is Grain.HOUR_OF_DAY:
        return f"{int(value):02}:00"
    if grain:
        return period_words(value, grain)
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, dt.datetime):
        return f"{period_words(value.date(), Grain.DAY)} {value:%H:%M}"
    if isinstance(value, dt.date):
        return period_words(value, Grain.DAY)
    if isinstance(value, float) and value == int(value) and abs(value) < 1e15:
        return str(int(value))
    return str(value)


def grouping_words(grouping: Grouping, schema: Schema) -> str:
    """A dimension's name, dates with their grain: "month of Sailing date"."""
    field = schema[grouping.field]
    return f"{grouping.grain.words} of {in_sentence(field.name)}" if grouping.grain else field.name


def in_sentence(name: str) -> str:
    """A name as it stands inside a sentence: "Fare revenue" as "fare revenue", "ETA" as it is."""
    return name[0].lower() + name[1:] if len(name) > 1 and name[1].islower() else name


def list_words(words: list[str], most: int = 3) -> str:
    if len(words) > most:
        return f"{', '.join(words[:most])} and {len(words) - most} more"
    return " or ".join(filter(None, [", ".join(words[:-1]), words[-1]])) if words else "nothing"


class _Filter(Frozen):
    field: str

    def fields(self) -> set[str]:
        return {self.field}

    def with_field(self, field: str) -> _Filter:
        """The same filter on another dataset's field."""
        return self.model_copy(update={"field": field})

    def needs(self) -> set[tuple[str, str]]:
        """The fields that a table must have to be narrowed, each with the grain that it must know it by ("" its days)."""
        return {(self.field, "")}

    def in_other_periods(self, dates: set[str]) -> _Filter | None:
        """What is left of the filter where other periods of these dates (names of one date) are looked up: it is not about
        periods, so it holds there too."""
        return self

    def without(self, fields: frozenset[str]) -> _Filter | None:
        """What is left of the filter where filters on these fields do not count."""
        return None if self.field in fields else self

    def days(self, dates: set[str], context: Context) -> list[Days] | None:
        """The ranges of days of these dates that it lets pass; None if it is not about periods of them."""
        return None

    def period_grain(self, dates: set[str]) -> Grain | None:
        """The grain of the periods of these dates that it chooses, if it does."""
        return None


EVER = (dt.date.min, dt.date.max)


class _PeriodFilter(_Filter):
    """A filter on a date that lets some periods pass."""

    def needs(self) -> set[tuple[str, str]]:
        return {(self.field, "year")}

    def in_other_periods(self, dates: set[str]) -> _Filter | None:
        return None if self.field in dates else self

    def bounds(self, context: Context) -> tuple[dt.date | None, dt.date | None]:
        """The first and the last day or moment, both included; None leaves a side open."""
        raise NotImplementedError

    def days(self, dates: set[str], context: Context) -> list[Days] | None:
        if self.field not in dates:
            return None
        first, last = self.bounds(context)
        return [(first or EVER[0], last or EVER[1])]


def _but(ranges: list[Days]) -> list[Days]:
    """All days but those of some ranges."""
    found, start = [], dt.date.min
    for first, last in joined_days(ranges):
        least = dt.timedelta(microseconds=1) if isinstance(first, dt.datetime) else dt.timedelta(days=1)
        found.append((start, first - least))
        start = last + least
    return [*found, (start, dt.date.max)]


def _days_of(values: Iterable[Any], grain: Grain) -> list[Days]:
    """The days of periods that JSON names by their starts, joined."""
    read = dt.datetime.fromisoformat if grain is Grain.HOUR else lambda value: dt.date.fromisoformat(value[:10])
    starts = [read(str(value)) for value in values if value is not None]
    return joined_days((start, period_end(start, grain)) for start in starts)


class ListFilter(_Filter):
    """Rows whose value is among `values` (None is empty), or with `exclude` is not. With a `parameter` its values count
    instead, and no limit narrows nothing."""

    kind: Literal["list"] = "list"
    grain: Grain | None = None
    values: tuple[Value, ...] = Attribute((), max_length=5_000)
    exclude: bool = False
    parameter: str = Attribute("", max_length=40)

    def expression(self, schema: Schema, context: Context) -> pl.Expr:
        column = group_expression(Grouping(field=self.field, grain=self.grain), schema) if self.grain else pl.col(self.field)
        return _among(column, [typed(value, schema[self.field], self.grain) for value in self.values], self.exclude)

    def needs(self) -> set[tuple[str, str]]:
        return {(self.field, self.grain or "")}

    def in_other_periods(self, dates: set[str]) -> Filter | None:
        """A part of dates (Saturdays) holds in every period; days and periods themselves give way."""
        return None if self.field in dates and not (self.grain and self.grain.is_part) else self

    def days(self, dates: set[str], context: Context) -> list[Days] | None:
        if not self.period_grain(dates):
            return None
        found = _days_of(self.values, self.grain)
        return _but(found) if self.exclude else found

    def period_grain(self, dates: set[str]) -> Grain | None:
        return self.grain if self.field in dates and self.grain in STEPS else None

    def words(self, schema: Schema) -> str:
        field = schema[self.field]
        if self.parameter:
            return f"{field.name} is {'not ' * self.exclude}:{self.parameter}"
        values = [typed(value, field, self.grain) for value in self.values]
        if field.kind is Kind.YES_NO and values in ([True], [False]):
            return field.name if values[0] != self.exclude else f"not {field.name}"
        words = list_words([value_words(value, field, self.grain) for value in values])
        return f"{field.name} {'is not' if self.exclude else 'is'} {words}"


def _among(column: pl.Expr, values: list[Any], exclude: bool) -> pl.Expr:
    full = [value for value in values if value is not None]
    found = column.is_in(full) if len(full) != 1 else column == full[0]
    found = found.fill_null(None in values) if exclude or None in values else found
    return ~found if exclude else found


class RangeFilter(_Filter):
    """Rows whose number lies between two bounds, both included; None leaves a side open."""

    kind: Literal["range"] = "range"
    low: float | None = None
    high: float | None = None
    low_parameter: str = Attribute("", max_length=40)
    high_parameter: str = Attribute("", max_length=40)

    def expression(self, schema: Schema, context: Context) -> pl.Expr:
        column = pl.col(self.field)
        if not schema[self.field].kind.is_number:
            raise DefinitionProblem(f"“{schema[self.field].name}” is not a number.", where=self.field)
        return between_bounds(column, self.low, self.high)

    def words(self, schema: Schema) -> str:
        name = schema[self.field].name
        low = f":{self.low_parameter}" if self.low_parameter else _number(self.low)
        high = f":{self.high_parameter}" if self.high_parameter else _number(self.high)
        if low and high:
            return f"{name} is {low} to {high}"
        return f"{name} is at least {low}" if low else f"{name} is at most {high}" if high else f"{name} is not empty"


def between_bounds(value: pl.Expr, low: float | None, high: float | None) -> pl.Expr:
    """Whether a number lies between two bounds, both included; an open side still wants a value."""
    found = value >= low if low is not None else value.is_not_null()
    return found & (value <= high) if high is not None else found


def _number(value: float | None) -> str:
    return "" if value is None else f"{value:,.10g}"


class DatesFilter(_PeriodFilter):
    """Rows whose day lies between two days, both included; None leaves a side open. With times of the day it goes from
    one moment to another, both included."""

    kind: Literal["dates"] = "dates"
    start: dt.date | None = None
    end: dt.date | None = None
    start_time: dt.time | None = None
    end_time: dt.time | None = None

    @property
    def ends(self) -> tuple[dt.date | None, dt.date | None]:
        return _at_time(self.start, self.start_time), _at_time(self.end, self.end_time)

    def bounds(self, context: Context) -> tuple[dt.date | None, dt.date | None]:
        return self.ends

    def expression(self, schema: Schema, context: Context) -> pl.Expr:
        return _between_days(self, schema, *self.bounds(context))

    def words(self, schema: Schema) -> str:
        said = dates_words(*self.ends, schema.fiscal_month)
        timed = any(isinstance(each, dt.datetime) for each in self.ends)
        before = "" if not all(self.ends) else "from " if timed else "in "
        return f"{schema[self.field].name} {before}{said}"


def _at_time(day: dt.date | None, time: dt.time | None) -> dt.date | None:
    return dt.datetime.combine(day, time.replace(tzinfo=None)) if day and time else day


def _between_days(filter_: _Filter, schema: Schema, start: dt.date | None, end: dt.date | None) -> pl.Expr:
    field, column = schema[filter_.field], pl.col(filter_.field)
    if not field.kind.is_date:
        raise DefinitionProblem(f"“{field.name}” is not a date.", where=field.id)
    found = column >= start if start else column.is_not_null()
    if end is None or end == dt.date.max:
        return found
    if isinstance(end, dt.datetime) or field.kind is Kind.DATE:
        return found & (column <= end)
    # A date-time belongs to its day up to the last moment before the next one.
    return found & (column < end + dt.timedelta(days=1))


def dates_words(start: dt.date | None, end: dt.date | None, fiscal_month: int = 1) -> str:
    """A range of days as shortly as it can be said.

    >>> dates_words(dt.date(2026, 1, 1), dt.date(2026, 10, 31))
    'Jan 2026 to Oct 2026'
    >>> dates_words(dt.datetime(2026, 8, 31, 6), dt.datetime(2026, 8, 31, 9, 30))
    '31 Aug 2026 06:00 to 09:30'
    """
    timed = [isinstance(each, dt.datetime) for each in (start, end)]
    said = [
        each and period_words(each, Grain.MOMENT if with_time else Grain.DAY)
        for each, with_time in zip((start, end), timed, strict=True)
    ]
    if not start or not end:
        return f"from {said[0]}" if start else f"up to {said[1]}" if end else "any day"
    for grain in () if any(timed) else (Grain.YEAR, Grain.QUARTER, Grain.MONTH):
        last = period_start(end, grain, fiscal_month)
        if period_start(start, grain, fiscal_month) == start and period_end(last, grain) == end:
            first, last = period_words(start, grain), period_words(last, grain)
            if first == last:
                return first
            if grain is not Grain.QUARTER:
                return f"{first} to {last}"
    if all(timed) and start.date() == end.date():
        return f"{said[0]} to {end:%H:%M}"
    return said[0] if start == end else f"{said[0]} to {said[1]}"


class RelativeFilter(_PeriodFilter):
    """The last `count` periods up to the anchor's own, which may be unfinished; `back` goes whole periods earlier."""

    kind: Literal["relative"] = "relative"
    unit: Literal["day", "week", "month", "quarter", "year"] = "month"
    count: int = Attribute(12, ge=1, le=1_000)
    back: int = Attribute(0, ge=0, le=1_000)
    anchor: Literal["latest", "today"] = "latest"

    def bounds(self, context: Context) -> tuple[dt.date, dt.date]:
        """The first and the last day, both included."""
        anchor = context.latest.get(self.field, context.today) if self.anchor == "latest" else context.today
        grain = Grain(self.unit)
        try:
            last = periods_back(period_start(anchor, grain, context.fiscal_month), grain, self.back)
            return periods_back(last, grain, self.count - 1), period_end(last, grain)
        except (ValueError, OverflowError):
            return EVER

    def expression(self, schema: Schema, context: Context) -> pl.Expr:
        return _between_days(self, schema, *self.bounds(context))

    def words(self, schema: Schema) -> str:
        return f"{schema[self.field].name} in {self.words_of_periods(schema.fiscal_month)}"

    def words_of_periods(self, fiscal_month: int = 1) -> str:
        """Which periods, in words: "the last 2 fiscal years"."""
        # Quarters of a fiscal year that begins with a calendar quarter are the calendar's.
        own = {"year": fiscal_month != 1, "quarter": fiscal_month % 3 != 1}.get(self.unit, False)
        unit = f"fiscal {self.unit}" if own else self.unit
        since = " up to today" if self.anchor == "today" else ""
        if self.count == 1 and self.back <= 1:
            which = ("today's" if self.anchor == "today" else "the latest") if self.back == 0 else "the previous"
            return f"{which} {unit}" + (since if self.back else "")
        before = f", {self.back} {unit}{'s' * (self.back > 1)} back" if self.back else ""
        return f"the last {self.count} {unit}{'s' * (self.count > 1)}{since}{before}"


class TextFilter(_Filter):
    """Rows whose text contains, starts or ends with some text, ignoring case."""

    kind: Literal["text"] = "text"
    match: Literal["contains", "starts", "ends"] = "contains"
    text: str = Attribute(min_length=1, max_length=500)
    exclude: bool = False

    def expression(self, schema: Schema, context: Context) -> pl.Expr:
        if schema[self.field].kind is not Kind.TEXT:
            raise DefinitionProblem(f"“{schema[self.field].name}” is not text.", where=self.field)
        column, text = pl.col(self.field).str.to_lowercase(), self.text.lower()
        found = {
            "contains": lambda: column.str.contains(text, literal=True),
            "starts": lambda: column.str.starts_with(text),
            "ends": lambda: column.str.ends_with(text),
        }[self.match]()
        return ~found.fill_null(False) if self.exclude else found

    def words(self, schema: Schema) -> str:
        verb = {"contains": "contains", "starts": "starts with", "ends": "ends with"}[self.match]
        if self.exclude:
            verb = {"contains": "does not contain", "starts": "does not start with", "ends": "does not end with"}[self.match]
        return f"{schema[self.field].name} {verb} “{self.text}”"


class EmptyFilter(_Filter):
    """Rows with an empty value, or with `exclude` the others."""

    kind: Literal["empty"] = "empty"
    exclude: bool = False

    def expression(self, schema: Schema, context: Context) -> pl.Expr:
        column = pl.col(self.field)
        return column.is_not_null() if self.exclude else column.is_null()

    def words(self, schema: Schema) -> str:
        return f"{schema[self.field].name} is {'not ' * self.exclude}empty"


class PointsFilter(Frozen):
    """Rows that belong to marks: each point is the marks' values of `groups`, in their order. Where a chart gathered what
    it did not keep, REST_POINT stands for all values but those of `rest`; `kept` are these, once they are worked out."""

    model_config = ConfigDict(frozen=True, extra="forbid", arbitrary_types_allowed=True)
    kind: Literal["points"] = "points"
    groups: tuple[Grouping, ...] = Attribute(min_length=1, max_length=10)
    points: tuple[tuple[Value, ...], ...] = Attribute(max_length=5_000)
    exclude: bool = False
    rest: MembershipFilter | None = None
    kept: Any = Attribute(None, exclude=True)

    def fields(self) -> set[str]:
        return {group.field for group in self.groups}

    def needs(self) -> set[tuple[str, str]]:
        return {(group.field, group.grain or "") for group in self.groups}

    def in_other_periods(self, dates: set[str]) -> PointsFilter | None:
        return self._only([group.field not in dates or (group.grain or Grain.DAY).is_part for group in self.groups])

    def without(self, fields: frozenset[str]) -> PointsFilter | None:
        return self._only([group.field not in fields for group in self.groups])

    def _only(self, wanted: list[bool]) -> PointsFilter | None:
        """The marks by some of their dimensions. Marks that are left out say nothing about other cells."""
        if all(wanted):
            return self
        if not any(wanted) or self.exclude:
            return None
        groups = itertools.compress(self.groups, wanted)
        points = dict.fromkeys(tuple(itertools.compress(point, wanted)) for point in self.points)
        return self.model_copy(update={"groups": tuple(groups), "points": tuple(points)})

    def days(self, dates: set[str], context: Context) -> list[Days] | None:
        at = self._period_at(dates)
        if at is None or (self.exclude and len(self.groups) > 1):
            return None
        found = _days_of((point[at] for point in self.points), self.groups[at].grain)
        return _but(found) if self.exclude else found

    def period_grain(self, dates: set[str]) -> Grain | None:
        at = self._period_at(dates)
        return None if at is None else self.groups[at].grain

    def _period_at(self, dates: set[str]) -> int | None:
        """The place of the finest periods of these dates among the marks' dimensions."""
        fitting = [i for i, group in enumerate(self.groups) if group.field in dates and group.is_time_axis]
        return max(fitting, key=lambda i: PERIODS.index(self.groups[i].grain), default=None)

    def expression(self, schema: Schema, context: Context) -> pl.Expr:
        columns = [group_expression(group, schema) for group in self.groups]
        if any(len(point) != len(self.groups) for point in self.points):
            raise DefinitionProblem("A selected mark does not fit its chart.", hint="Clear the selection.")
        values = [
            [typed(value, schema[group.field], group.grain) for value, group in zip(point, self.groups, strict=True)]
            for point in self.points
        ]
        if len(columns) == 1 and [REST_POINT] not in values:
            return _among(columns[0], [point[0] for point in values], self.exclude)
        marks = [
            pl.all_horizontal(self._is_at(column, value) for column, value in zip(columns, point, strict=True))
            for point in values
        ]
        found = pl.any_horizontal(marks) if marks else pl.lit(False)
        return ~found if self.exclude else found

    def words(self, schema: Schema) -> str:
        said = [
            " and ".join(
                value_words(typed(value, schema[group.field], group.grain), schema[group.field], group.grain)
                for value, group in zip(point, self.groups, strict=True)
            )
            for point in self.points
        ]
        names = " and ".join(schema[group.field].name for group in self.groups)
        return f"{names} {'is not' if self.exclude else 'is'} {self._run(said, schema) or list_words(said)}"

    def _is_at(self, column: pl.Expr, value: Any) -> pl.Expr:
        if value == REST_POINT:
            return ~column.is_in(self.kept.implode(), nulls_equal=True)
        return column.eq_missing(pl.lit(value))

    def _run(self, said: list[str], schema: Schema) -> str:
        """Periods that follow each other said as "Mar 2026 to Jun 2026"."""
        if len(self.groups) > 1 or not self.groups[0].is_time_axis or len(said) < 3:
            return ""
        if any(REST_POINT in point for point in self.points):
            return ""
        grain = self.groups[0].grain
        ranges = _days_of((point[0] for point in self.points), grain)
        if len(ranges) != 1 or any(point[0] is None for point in self.points):
            return ""
        first, last = ranges[0]
        last = period_start(last, grain, schema.fiscal_month)
        return f"{period_words(first, grain)} to {period_words(last, grain)}"


class MeasureFilter(Frozen):
    """Groups whose value of a measure, shown or not, lies between two bounds; it narrows what is shown, not the rows."""

    kind: Literal["measure"] = "measure"
    measure: Measure
    low: float | None = None
    high: float | None = None
    low_parameter: str = Attribute("", max_length=40)
    high_parameter: str = Attribute("", max_length=40)

    def fields(self) -> set[str]:
        return self.measure.fields()

    def bounds_of(self, value: pl.Expr) -> pl.Expr:
        """Whether a value lies between the bounds."""
        return between_bounds(value, self.low, self.high)

    def words(self, schema: Schema) -> str:
        low = f":{self.low_parameter}" if self.low_parameter else _number(self.low)
        high = f":{self.high_parameter}" if self.high_parameter else _number(self.high)
        name = measure_words(self.measure, schema)
        if low and high:
            return f"groups whose {in_sentence(name)} is {low} to {high}"
        bound = f"at least {low}" if low else f"at most {high}" if high else "not empty"
        return f"groups whose {in_sentence(name)} is {bound}"


class MembershipFilter(_Filter):
    """Rows whose field is among the values another question returns: its top or bottom ones by a measure (`keep`), and
    those whose measure lies between bounds. `filters` are the question's own; with `follows` the other filters of the
    chart reach into it too. Dates are told apart by `grain`, or by day, date-times by the moment."""

    kind: Literal["member"] = "member"
    grain: Grain | None = None
    keep: Keep | None = None
    measure: Measure | None = None
    low: float | None = None
    high: float | None = None
    low_parameter: str = Attribute("", max_length=40)
    high_parameter: str = Attribute("", max_length=40)
    filters: tuple[Filter, ...] = Attribute((), max_length=50)
    follows: bool = False
    exclude: bool = False

    def fields(self) -> set[str]:
        found = {self.field}
        for measure in (self.keep and self.keep.by, self.measure):
            found |= measure.fields() if measure else set()
        return found.union(*(filter_.fields() for filter_ in self.filters))

    def condition(self) -> MeasureFilter | None:
        if self.measure is None:
            return None
        return MeasureFilter(
            measure=self.measure, low=self.low, high=self.high, low_parameter=self.low_parameter, high_parameter=self.high_parameter
        )  # fmt: skip

    def words(self, schema: Schema) -> str:
        parts = []
        if self.keep:
            parts.append(
                f"the {self.keep.end} {self.keep.count_words} by {in_sentence(measure_words(self.keep.by, schema))}"
            )
        if condition := self.condition():
            parts.append(f"those with {condition.words(schema).removeprefix('groups whose ').replace(' is ', ' ', 1)}")
        inside = f" ({', '.join(each.words(schema) for each in self.filters)})" if self.filters else ""
        scope = "" if self.follows else " overall"
        return f"{schema[self.field].name} is {'not ' * self.exclude}among {' and '.join(parts)}{inside}{scope}"


class ValuesFilter(_Filter):
    """Rows whose value is among those of a column that was worked out; what a membership becomes. It is never stored."""

    model_config = ConfigDict(frozen=True, extra="forbid", arbitrary_types_allowed=True)
    kind: Literal["values"] = "values"
    grain: Grain | None = None
    found: Any = None
    exclude: bool = False
    said: str = ""

    def expression(self, schema: Schema, context: Context) -> pl.Expr:
        column = group_expression(Grouping(field=self.field, grain=self.grain), schema)
        among = column.is_in(self.found.implode(), nulls_equal=True)
        return ~among if self.exclude else among

    def words(self, schema: Schema) -> str:
        return self.said


Filter = Annotated[
    ListFilter
    | RangeFilter
    | DatesFilter
    | RelativeFilter
    | TextFilter
    | EmptyFilter
    | PointsFilter
    | MeasureFilter
    | MembershipFilter,
    Attribute(discriminator="kind"),
]
MembershipFilter.model_rebuild()
PointsFilter.model_rebuild()
filter_adapter: TypeAdapter[Filter] = TypeAdapter(Filter)


def narrow(rows: pl.LazyFrame, filters: tuple[Filter, ...], schema: Schema, context: Context) -> pl.LazyFrame:
    """The rows that pass all filters."""
    return rows.filter([filter_.expression(schema, context) for filter_ in filters]) if filters else rows

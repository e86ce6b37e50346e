"""The controls of a dashboard's trail: filters and parameters that readers set."""

from __future__ import annotations

import datetime as dt
import json
from typing import Annotated, Final, Literal

from pydantic import Field, model_validator

from veduta.core.calendar import Grain, Grouping, count_whole_months, shift_days, to_date
from veduta.core.dashboard.scope import EVERYWHERE, BlockScope
from veduta.core.data.fields import DataField, DataType, Frozen
from veduta.core.model.definition import Choice as LabelledValue
from veduta.core.number_format import label_value
from veduta.core.phrases import join_names
from veduta.core.query.filters import (
    DatesFilter,
    ListFilter,
    RangeFilter,
    RelativeFilter,
    TextFilter,
    Value,
    convert_point_value,
)
from veduta.core.query.filters.rows import describe_bound
from veduta.core.query.measures import Measure

OF_A_YEAR = {"year": 1, "quarter": 4, "month": 12}
"""How many of a unit make a year; of days and weeks it is no whole number."""
MOST_BACK = 1_000
IDENTIFIER = r"^[a-z0-9]{1,20}$"


class DatesChoice(Frozen):
    """What a date control is set to: recent periods, or two days of which either may be open.

    Those of a date-time may have a time of day."""

    kind: Literal["relative", "dates"] = "relative"
    unit: Literal["day", "week", "month", "quarter", "year"] = "month"
    count: int = Field(12, ge=1, le=1_000)
    back: int = Field(0, ge=0, le=MOST_BACK)
    anchor: Literal["latest", "today"] = "latest"
    to_date: bool = False
    start: dt.date | None = None
    end: dt.date | None = None
    start_time: dt.time | None = None
    end_time: dt.time | None = None

    @model_validator(mode="after")
    def _validate_order(self) -> DatesChoice:
        if self.start and self.end:
            first = dt.datetime.combine(self.start, self.start_time or dt.time.min)
            if first > dt.datetime.combine(self.end, self.end_time or dt.time.max):
                raise ValueError("the first moment is after the last")
        return self

    def filter(self, field: str) -> RelativeFilter | DatesFilter | None:
        """The filter it makes on a field; None if it shows all."""
        if self.kind == "relative":
            own = {"unit": self.unit, "count": self.count, "back": self.back, "anchor": self.anchor}
            return RelativeFilter(field=field, **own, to_date=self.to_date)
        if not (self.start or self.end):
            return None
        times = {"start_time": self.start_time, "end_time": self.end_time}
        return DatesFilter(field=field, start=self.start, end=self.end, **times)

    def describe(self, control: Control) -> str:
        made = self.filter(control.field)
        return made.describe_periods() if made else "all"

    def step(self, steps: int) -> DatesChoice | None:
        """The choice moved by so many periods or days, earlier or later.

        Whole months move by months. None where there is no such step: from open ends, or past the latest.

        >>> month = DatesChoice(kind="dates", start=dt.date(2026, 1, 1), end=dt.date(2026, 1, 31))
        >>> month.step(1).end
        datetime.date(2026, 2, 28)
        """
        if self.kind == "relative":
            return self._go_back(-steps * self.count)
        if not (self.start and self.end):
            return None
        months = count_whole_months(self.start, self.end)
        unit, length = (Grain.MONTH, months) if months else (Grain.DAY, (self.end - self.start).days + 1)
        return self._move(steps * length, unit, self.start, self.end)

    def move_year_back(self, first: dt.date, last: dt.date) -> DatesChoice | None:
        """The same a year before; `first` and `last` are the days that it shows."""
        if self.kind == "relative" and self.unit in OF_A_YEAR:
            return self._go_back(OF_A_YEAR[self.unit])
        return self._move(-1, Grain.YEAR, first, last)

    def _go_back(self, periods: int) -> DatesChoice | None:
        back = self.back + periods
        return self.model_copy(update={"back": back}) if 0 <= back <= MOST_BACK else None

    def _move(self, steps: int, unit: Grain, first: dt.date, last: dt.date) -> DatesChoice | None:
        start, end = shift_days(first, last, steps, unit)
        moved = {"kind": "dates", "start": to_date(start), "end": to_date(end), "back": 0}
        return self.model_copy(update=moved) if (start, end) != (first, last) else None


class ListChoice(Frozen):
    """What a list control is set to: some values, or all but them."""

    values: tuple[Value, ...] = Field(max_length=5_000)
    exclude: bool = False

    def filter(self, field: str) -> ListFilter | None:
        return ListFilter(field=field, values=self.values, exclude=self.exclude) if self.values else None

    def describe(self, control: Control) -> str:
        if not self.values:
            return "all"
        field = DataField(id=control.field, source="", name=control.name, kind=control.field_kind)
        said = join_names([label_value(convert_point_value(value, field)) for value in self.values], "or", 3)
        return f"all but {said}" if self.exclude else said


class RangeChoice(Frozen):
    """What a control of numbers is set to: two bounds, both included, of which either may be open."""

    low: float | None = None
    high: float | None = None

    @model_validator(mode="after")
    def _validate_order(self) -> RangeChoice:
        if self.low is not None and self.high is not None and self.low > self.high:
            raise ValueError("the lowest number is above the highest")
        return self

    def filter(self, field: str) -> RangeFilter | None:
        if self.low is None and self.high is None:
            return None
        return RangeFilter(field=field, low=self.low, high=self.high)

    def describe(self, control: Control) -> str:
        low, high = describe_bound(self.low), describe_bound(self.high)
        if low and high:
            return f"{low} to {high}"
        return f"at least {low}" if low else f"at most {high}" if high else "all"


class TextChoice(Frozen):
    """What a control of texts is set to: a part of them."""

    match: Literal["contains", "starts", "ends"] = "contains"
    text: str = Field("", max_length=500)

    def filter(self, field: str) -> TextFilter | None:
        return TextFilter(field=field, match=self.match, text=self.text) if self.text.strip() else None

    def describe(self, control: Control) -> str:
        verb = {"contains": "contains", "starts": "starts with", "ends": "ends with"}[self.match]
        return f"{verb} “{self.text}”" if self.text.strip() else "all"


class Option(Frozen):
    """One of the things that readers choose for charts: a measure, a dimension, or the grain of their periods."""

    name: str = Field(min_length=1, max_length=200)
    measure: Measure | None = None
    by: Grouping | None = None
    grain: Grain | None = None

    @model_validator(mode="after")
    def _is_one(self) -> Option:
        if sum(each is not None for each in (self.measure, self.by, self.grain)) != 1:
            raise ValueError("an option is one measure, one dimension or one grain")
        return self


class ChooserChoice(Frozen):
    """Which of its options a chooser is set to, by its place."""

    option: int = Field(ge=0, lt=50)

    def filter(self, field: str) -> None:
        """None: it narrows nothing."""

    def describe(self, control: Control) -> str:
        return control.options[self.option].name if self.option < len(control.options) else "as it was made"


class ParameterChoice(Frozen):
    """What a parameter is set to; None is no limit."""

    set: tuple[Value, ...] | None = Field(max_length=200)

    def filter(self, field: str) -> None:
        """None: the formulas and limits that read a parameter filter, or not."""

    def describe(self, control: Control) -> str:
        labels = {json.dumps(each.value): each.label for each in control.choices}
        said = [labels.get(json.dumps(value)) or str(value) for value in self.set or ()]
        return join_names(said, "or", 3) if said else "no limit"


ControlKind = Literal["dates", "list", "range", "text", "parameter", "chooser"]
Choice = DatesChoice | ListChoice | RangeChoice | TextChoice | ParameterChoice | ChooserChoice
CHOICES: Final[dict[ControlKind, type[Choice]]] = {
    "dates": DatesChoice,
    "list": ListChoice,
    "range": RangeChoice,
    "text": TextChoice,
    "parameter": ParameterChoice,
    "chooser": ChooserChoice,
}
"""By the kind of a control what it can be set to."""
KIND_WORDS: Final[dict[ControlKind, str]] = {
    "dates": "a range of dates",
    "list": "values to tick",
    "range": "a range of numbers",
    "text": "a part of the text",
}


def list_control_kinds(kind: DataType) -> list[ControlKind]:
    """The kinds of control that a field of a kind of value can have, the usual one first."""
    if kind.is_date:
        return ["dates"]
    if kind.is_number:
        return ["range", "list"]
    return ["list", "text"] if kind is DataType.TEXT else ["list"]


First = Literal["set", "highest", "reader", "last"]
FIRST_WORDS: Final[dict[First, str]] = {
    "set": "what it is set to here",
    "highest": "the latest or highest value there is",
    "reader": "what is said of the reader as",
    "last": "what they had last time",
}
"""What a control is set to when a reader comes."""


def list_defaults(kind: ControlKind) -> list[First]:
    """What a kind of control can be set to at first."""
    if kind == "list":
        return ["set", "highest", "reader", "last"]
    if kind == "dates":
        return ["set", "highest", "last"]
    return ["set", "reader", "last"] if kind in ("parameter", "text") else ["set", "last"]


Fields = dict[str, Annotated[str, Field(max_length=100)]]
"""By the ids of other datasets, their field that stands for one of ours; "" where they do not follow. Those that are
not named follow by a field of the same name and kind of value."""


class Control(Frozen):
    """A filter that readers set, or a parameter.

    A filter names its field; blocks of other datasets follow as its `fields` say. A parameter's `field` is its own id,
    and blocks of its dataset follow; `choices` are its labelled values. A chooser filters nothing: it sets what charts
    of its dataset show, to one of its `options`.

    One that is `single` has one value at a time, one of dates one day, and a `required` one always holds a value.
    `buttons` stand side by side for the choices of a parameter, a chooser or the values of a list; a control that
    `depends` offers only what occurs under all else that narrows the dashboard. What it is set to at first is its own
    choice of its kind, or as `first` says: of a reader, an `attribute`."""

    id: str = Field(pattern=IDENTIFIER)
    kind: ControlKind
    dataset: str
    field: str
    field_kind: DataType
    name: str = Field(min_length=1, max_length=200)
    dates: DatesChoice | None = None
    list: ListChoice | None = None
    range: RangeChoice | None = None
    text: TextChoice | None = None
    parameter: ParameterChoice | None = None
    chooser: ChooserChoice | None = None
    options: tuple[Option, ...] = Field((), max_length=50)
    single: bool = False
    required: bool = False
    buttons: bool = False
    depends: bool = False
    first: First = "set"
    attribute: str = Field("", max_length=100)
    choices: tuple[LabelledValue, ...] = ()
    scope: BlockScope = EVERYWHERE
    fields: Fields = {}

"""How the parts of a drawing look, where that differs from the usual."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from itertools import pairwise
from typing import Annotated, Final, Literal

from pydantic import AfterValidator, Field, StringConstraints, model_validator

from veduta.core.calendar import Grouping
from veduta.core.chart.addresses import validate_address
from veduta.core.chart.contrast import write_colour
from veduta.core.data.date_patterns import validate_date_pattern
from veduta.core.data.fields import Frozen
from veduta.core.data.languages import LanguageCode

End = Annotated[float, Field(allow_inf_nan=False)]
NAMED = re.compile(r"([1-9]|1[0-9]|2[0-4]|better|worse|quiet|ink|#[0-9A-F]{6})?")


def _validate_colour(text: str) -> str:
    """A colour as it is kept: any that CSS can write is kept as #RRGGBB."""
    name = text.strip() if NAMED.fullmatch(text.strip()) else write_colour(text)
    if text.strip() and not name:
        raise ValueError(f"“{text}” is no colour; write it as #0B5D62, rgb(11 93 98), hsl(184 80% 21%) or teal")
    return name


Colour = Annotated[str, StringConstraints(max_length=100), AfterValidator(_validate_colour)]
"""A series colour by its number, one that means something, or any; "" is as usual."""


class AxisLook(Frozen):
    """An axis. `title` None is as usual, "" none.

    A value axis has ends of its own (`low`, `high`, or the numbers that parameters are set to, which go before those),
    or begins at zero or with the data, is linear or logarithmic, and has about so many `ticks`. A dimension axis has
    its `labels` level, slanted, upright or wrapped, of at most so many `letters`, and every so manieth of them; lines
    along time have `gaps` where there are no rows, or are drawn through. Either may be reversed, have a grid or none,
    or be hidden."""

    title: str | None = Field(None, max_length=200)
    low: End | None = None
    high: End | None = None
    low_parameter: str = Field("", max_length=40)
    high_parameter: str = Field("", max_length=40)
    begins: Literal["", "zero", "data"] = ""
    scale: Literal["", "linear", "logarithmic"] = ""
    ticks: Annotated[int, Field(ge=2, le=40)] | None = None
    labels: Literal["", "level", "slanted", "upright", "wrapped"] = ""
    letters: Annotated[int, Field(ge=3, le=100)] | None = None
    every: Annotated[int, Field(ge=1, le=1_000)] | None = None
    gaps: Literal["", "bridged"] = ""
    reversed: bool = False
    grid: Literal["", "shown", "none"] = ""
    hidden: bool = False

    def list_parameters(self) -> set[str]:
        """Those that its ends go by."""
        return {name for name in (self.low_parameter, self.high_parameter) if name}

    def resolve_parameters(self, numbers: Mapping[str, float | None]) -> AxisLook:
        """The axis with the numbers of its parameters.

        An end whose parameter has no value is the default, as is a high end that is not above the low one."""
        low = numbers.get(self.low_parameter) if self.low_parameter else self.low
        high = numbers.get(self.high_parameter) if self.high_parameter else self.high
        if low is not None and high is not None and low >= high:
            high = None
        return self.model_copy(update={"low": low, "high": high, "low_parameter": "", "high_parameter": ""})

    @model_validator(mode="after")
    def _validate_order(self) -> AxisLook:
        if self.low is not None and self.high is not None and self.low >= self.high:
            raise ValueError("the axis ends before it begins")
        return self


class LegendLook(Frozen):
    """Where a legend stands, in which order, and of how many entries it has at most; the others are counted."""

    place: Literal["", "top", "bottom", "left", "right", "inside", "none"] = ""
    order: Literal["", "reversed", "names"] = ""
    most: Annotated[int, Field(ge=1, le=200)] | None = None


class LabelLook(Frozen):
    """What labels of marks say: values, names, or both.

    Also their colour where they stand on the sheet."""

    says: Literal["", "name", "both"] = ""
    colour: Colour = ""


class ValueName(Frozen):
    """What a value of a dimension (named as by `value_colours.key_of`) is called in a chart."""

    field: str = Field(min_length=1, max_length=100)
    value: str | None = Field(max_length=1_000)
    name: str = Field(min_length=1, max_length=200)


class DateLook(Frozen):
    """How the periods of a dimension are written: by a pattern of CLDR, in a language.

    Dimensions are named as by `value_colours.key_of`."""

    field: str = Field(min_length=1, max_length=100)
    pattern: Annotated[str, Field(min_length=1, max_length=60), AfterValidator(validate_date_pattern)]
    language: LanguageCode = "en"


class ValueLook(Frozen):
    """What a table shows for the values of a dimension besides their words.

    They link to an `address`, and pictures of their names stand beside them or instead of them. Dimensions are named as
    by `value_colours.key_of`."""

    field: str = Field(min_length=1, max_length=100)
    address: Annotated[str, Field(max_length=500), AfterValidator(validate_address)] = ""
    pictures: Literal["", "beside", "instead"] = ""


ONLY = ""
"""The name of a series that needs none, as it is the only one."""


class SeriesLook(Frozen):
    """How a series is drawn, known by its entry in the legend, or the `ONLY` one.

    Colour, width of lines in pixels, dashes, a dot at each point, and opacity."""

    name: str = Field(max_length=1_000)
    colour: Colour = ""
    width: Annotated[float, Field(ge=0.5, le=20)] | None = None
    dash: Literal["", "solid", "dashed", "dotted"] = ""
    points: Literal["", "shown"] = ""
    opacity: Annotated[float, Field(ge=0.05, le=1)] | None = None


class TitleLook(Frozen):
    """The looks of the title and the note: alignment and size.

    A title may also show where others stand beside the drawing."""

    align: Literal["", "middle", "right"] = ""
    size: Literal["", "small", "large"] = ""
    hidden: bool = False


class TableLook(Frozen):
    """The looks of a table or a crosstab.

    Whether rows are numbered, the first column stays in view, long texts wrap, rows are close together, and repeated
    values are blank. Subtotals stand below their groups or above them, which may be `folded` at first."""

    numbered: bool = False
    held: bool = False
    texts: Literal["", "wrap", "line"] = ""
    rows: Literal["", "close", "wide"] = ""
    blank: bool = False
    subtotals: Literal["", "above"] = ""
    folded: bool = False

    @property
    def classes(self) -> str:
        """What a page knows it by."""
        chosen = {"numbered": self.numbered, "held": self.held}
        chosen |= {f"texts-{self.texts}": bool(self.texts), f"rows-{self.rows}": bool(self.rows)}
        return " ".join(name for name, holds in chosen.items() if holds)


class WholeLook(Frozen):
    """The looks of the whole chart.

    Font size, background and border, padding, the language of numbers and dates, whether series are told apart without
    their colours too (by patterns, dashes and shapes), and whether conditional formats are listed in words beside the
    chart."""

    ground: Colour = ""
    border: Colour = ""
    inner: Literal["", "small", "large"] = ""
    size: Literal["", "small", "large"] = ""
    language: LanguageCode = "en"
    patterns: bool = False
    lists_conditions: bool = False


class ColumnLook(Frozen):
    """What a table draws in the cells of a measure, by its position.

    A bar or a shade relative to all values of the column, and a small line of how it went by a date (`trend`). A
    conditional format's ground covers the shade, unless the `shade` is `first`. Both are relative to the values of the
    column, or `over` those of all columns drawn so, of each group of the first dimension, or from `low` to `high`.
    Shades go from one colour to another, or to both sides of a `middle` (zero where there are negative values); bars
    have the low colour where they are negative. A bar stands left of its number, right of it, or `instead`. With
    `totals`, totals are drawn on too and count among the values. What stands `above` its heading, and above those of
    neighbours that have the same, groups columns of a table."""

    measure: Annotated[int, Field(ge=0, lt=50)]
    draws: Literal["", "bar", "shade"] = ""
    shade_first: bool = False
    over: Literal["", "table", "groups", "fixed"] = ""
    low: End | None = None
    high: End | None = None
    middle: End | None = None
    low_colour: Colour = ""
    middle_colour: Colour = ""
    high_colour: Colour = ""
    side: Literal["", "right", "instead"] = ""
    totals: bool = False
    trend: Grouping | None = None
    above: str = Field("", max_length=100)

    @model_validator(mode="after")
    def _validate_order(self) -> ColumnLook:
        ends = [end for end in (self.low, self.middle, self.high) if end is not None]
        if any(a >= b for a, b in pairwise(ends)):
            raise ValueError("the range ends before it begins")
        return self

    @property
    def has_own_shades(self) -> bool:
        return self.middle is not None or bool(self.low_colour or self.middle_colour or self.high_colour)


class Look(Frozen):
    """The looks of a chart's parts.

    The title and the note, the axis of the first dimension (`along`), the value axes, the legend, labels of marks, the
    whole, columns of tables, and the names of values in this chart."""

    title: TitleLook = TitleLook()
    along: AxisLook = AxisLook()
    value: AxisLook = AxisLook()
    second: AxisLook = AxisLook()
    legend: LegendLook = LegendLook()
    labels: LabelLook = LabelLook()
    whole: WholeLook = WholeLook()
    table: TableLook = TableLook()
    columns: tuple[ColumnLook, ...] = Field((), max_length=50)
    names: tuple[ValueName, ...] = Field((), max_length=500)
    series: tuple[SeriesLook, ...] = Field((), max_length=200)
    dates: tuple[DateLook, ...] = Field((), max_length=20)
    values: tuple[ValueLook, ...] = Field((), max_length=20)

    def list_parameters(self) -> set[str]:
        """Those that ends of axes go by."""
        return self.along.list_parameters() | self.value.list_parameters() | self.second.list_parameters()

    def resolve_parameters(self, numbers: Mapping[str, float | None]) -> Look:
        """With the numbers of its parameters."""
        if not self.list_parameters():
            return self
        axes = {name: getattr(self, name).resolve_parameters(numbers) for name in ("along", "value", "second")}
        return self.model_copy(update=axes)

    def get_column(self, measure: int) -> ColumnLook:
        """How the cells of a measure look."""
        return next((each for each in self.columns if each.measure == measure), ColumnLook(measure=measure))


PartName = Literal["title", "along", "value", "second", "legend", "series", "labels", "whole", "table"]
PARTS: Final[tuple[PartName, ...]] = (
    "title",
    "legend",
    "series",
    "labels",
    "value",
    "second",
    "along",
    "whole",
    "table",
)
"""The parts in the order in which they are read."""


@dataclass(frozen=True)
class Sheet:
    """The sheet on which a drawing stands, where it is not the default.

    Background and border in the light and the dark theme, padding, and font sizes by name."""

    ground: tuple[str, str] | None = None
    border: tuple[str, str] | None = None
    inner: str = ""
    letters: str = ""


@dataclass(frozen=True)
class DrawnPart:
    """A part of a drawing that can be formatted.

    Its name, whether values stand on it (an axis, a legend of shades), and on which side an axis is."""

    name: PartName
    title: str
    of_values: bool = False
    side: str = ""

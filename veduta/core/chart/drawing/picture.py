"""A result about to be drawn, and what becomes of it: a specification of the chart grammar, a table, or figures."""

from __future__ import annotations

import dataclasses
import datetime as dt
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any, Literal

from veduta.core.calendar import Grouping
from veduta.core.chart.definition import ChartDefinition, ReferenceMark
from veduta.core.chart.drawing.text_metrics import SIZES, measure_text
from veduta.core.chart.look import DateLook, DrawnPart, Sheet, ValueLook
from veduta.core.chart.palettes import OWN, Paints
from veduta.core.chart.value_colours import ValueColours, make_field_key, make_value_key
from veduta.core.data.date_patterns import format_date_pattern
from veduta.core.data.fields import Frozen, NumberFormat
from veduta.core.geography.shapes import Shapes
from veduta.core.number_format import PARTS_OF_ONE, REST_POINT, format_number, format_value, group_words, settle
from veduta.core.query.query import Column, Result

if TYPE_CHECKING:
    from veduta.core.chart.drawing.cells import Figure, TableLayout, Word
    from veduta.core.chart.drawing.marks import Mark

SCHEMA = "https://vega.github.io/schema/vega-lite/v6.json"


LEAST_SHORTENED = 1_000
"""From here on, a number is shorter with a unit."""


class Settings(Frozen):
    """What can be set about a kind of drawing; each kind that has any declares a subclass."""


@dataclass
class Picture:
    """A result about to be drawn, with the settings of its kind.

    `value_colours` are those that values of the dimensions that are `coloured` have; for others, `value_order` is each
    series value's fixed place, so that colours stay with values.

    `selected` holds the points of marks that are selected, perhaps only their first dimensions; `excluded` says that
    they are left out. `numbers` are the values of parameters at which lines stand. `cells` keeps what marks of several
    layers share. The `atlas` has the shapes of areas by their ids, `beside` the answer to what a kind asks besides.
    `references` are what marks are held against, with the columns `compared` of the formulas among them in their order;
    `told` are those of formulas in texts, by them. In a `thinned` picture, lines have fewer points than there are.
    `format_words` are what conditional formats say; of which rows they hold is in the frame. Of a long table the rows
    are wanted from the so manieth (`rows_from`) on. A picture in a panel knows the panel's values, the `whole` picture,
    and the colours that panels have given to series so far."""

    definition: ChartDefinition
    result: Result
    settings: Any = dataclasses.field(default_factory=Settings)
    value_order: list[Any] = dataclasses.field(default_factory=list)
    coloured: tuple[Grouping, ...] = ()
    value_colours: ValueColours = dataclasses.field(default_factory=ValueColours)
    selected: tuple[tuple[Any, ...], ...] | None = None
    excluded: bool = False
    numbers: dict[str, float | None] = dataclasses.field(default_factory=dict)
    cells: list[Any] = dataclasses.field(default_factory=list)
    panel: tuple[Any, ...] = ()
    whole: Picture | None = None
    palette: dict[str, str] = dataclasses.field(default_factory=dict)
    atlas: Mapping[str, Shapes] = dataclasses.field(default_factory=dict)
    beside: Result | None = None
    references: tuple[ReferenceMark, ...] = ()
    compared: tuple[Column, ...] = ()
    told: Mapping[str, Column] = dataclasses.field(default_factory=dict)
    thinned: bool = False
    format_words: Sequence[str] = ()
    rows_from: int = 0
    paints: Paints = OWN
    fiscal_month: int = 1

    @property
    def dimensions(self) -> list[Column]:
        return self.result.dimensions

    @property
    def measures(self) -> list[Column]:
        return self.result.measures

    @property
    def language(self) -> str:
        """The language in which numbers and dates are written."""
        return self.definition.look.whole.language

    def format_percent(self, share: float) -> str:
        """A share with one decimal, as "12.5%"."""
        return format_number(share, NumberFormat(style="percent", decimals=1, language=self.language))

    @cached_property
    def formats(self) -> dict[str, NumberFormat]:
        """The number formats of the measures, by their columns' keys; the same in all panels."""
        if self.whole:
            return self.whole.formats
        found = {}
        for column in self.measures:
            values = self.result.frame[column.key]
            ends = (values.min(), values.max()) if column.kind.is_number else ()
            found[column.key] = settle(column.format, ends, column.kind)
        return found

    def measure_text(self, text: str, strong: bool = False) -> int:
        """How many pixels a text takes at most, in letters of the chart's size."""
        return measure_text(text, SIZES[self.definition.look.whole.size], strong)

    @cached_property
    def short_formats(self) -> dict[str, NumberFormat]:
        """The formats of measures whose large numbers are shortened, by their columns' keys."""
        formats = dict(self.formats)
        for column in self.measures:
            if column.kind.is_number and formats[column.key].style not in PARTS_OF_ONE:
                formats[column.key] = formats[column.key].model_copy(update={"shorten": True, "decimals": 1})
        return formats

    def shorten_text(self, mark: Mark) -> str:
        """A mark's value as it is written where there is little room."""
        if mark.measure not in self.short_formats or abs(mark.value) < LEAST_SHORTENED:
            return mark.text
        column = next(column for column in self.measures if column.key == mark.measure)
        return format_value(mark.value, column.kind, self.short_formats[mark.measure])

    @cached_property
    def names(self) -> dict[tuple[str, str | None], str]:
        """The names that values have in this chart, by their dimensions and themselves."""
        return {(each.field, each.value): each.name for each in self.definition.look.names}

    @cached_property
    def date_looks(self) -> dict[str, DateLook]:
        """How periods of dimensions are written in this chart, where that is not as usual."""
        return {each.field: each for each in self.definition.look.dates}

    def find_value_look(self, column: Column) -> ValueLook | None:
        """What values of a dimension are besides their words, where that is set."""
        return self._value_looks.get(make_field_key(column.dimension)) if self._value_looks else None

    @cached_property
    def _value_looks(self) -> dict[str, ValueLook]:
        return {each.field: each for each in self.definition.look.values}

    def is_chosen(self, point: list[Any]) -> bool:
        """Whether a mark is drawn at full strength."""
        if self.selected is None:
            return True
        depth = len(self.selected[0]) if self.selected else 0
        return ((*point, *self.panel)[:depth] in self.selected) != self.excluded

    def label(self, column: Column, value: Any) -> str:
        """A value of a dimension as people read it."""
        if value == REST_POINT and self.result.rest and column.key == self.result.rest.key:
            return self.result.rest.name
        if self.names and (own := self.names.get((make_field_key(column.dimension), make_value_key(value)))):
            return own
        if (
            self.date_looks
            and isinstance(value, dt.date)
            and (look := self.date_looks.get(make_field_key(column.dimension)))
        ):
            return format_date_pattern(value, look.pattern, look.language)
        return "(empty)" if value is None else group_words(value, column.dimension, column.kind, column.format)


@dataclass
class PanelRoom:
    """How panels are laid out, in pixels.

    How many there are, how many stand in a row (0 for as many as fit), whether rows and columns mean something, their
    distance, how much stands out at their right, and the least size at which each can be read."""

    count: int
    columns: int
    grid: bool
    across: int
    down: int
    beside: int
    least_width: int
    least_height: int


@dataclass
class Drawing:
    """A drawn chart: a specification of the chart grammar with its rows, a table, or figures.

    `notes` say what is not as it seems. `along` is the direction in which a range of the first dimension can be
    dragged, if any. Below `least_height`, in pixels, it cannot be read. Where it is made of `panels`, the specification
    has them all, for the page to show as many as there is room for. Data besides the rows is `named`. Its `parts` can
    be formatted; it stands on a `sheet`."""

    spec: dict[str, Any] | None = None
    rows: list[dict[str, Any]] = dataclasses.field(default_factory=list)
    table: TableLayout | None = None
    figures: list[Figure] | None = None
    words: list[Word] | None = None
    notes: list[str] = dataclasses.field(default_factory=list)
    along: Literal["", "x", "y"] = ""
    least_height: int = 0
    panels: PanelRoom | None = None
    named: dict[str, list[dict[str, Any]]] = dataclasses.field(default_factory=dict)
    parts: list[DrawnPart] = dataclasses.field(default_factory=list)
    sheet: Sheet = Sheet()


def simplify_point(values: list[Any]) -> list[Any]:
    """The values of a mark's dimensions as they can be sent."""
    return [value.isoformat() if isinstance(value, dt.date) else value for value in values]


def make_base_spec(**parts: Any) -> dict[str, Any]:
    return {"$schema": SCHEMA, "data": {"name": "rows"}, "width": "container", "height": "container", **parts}


def iterate_units(spec: dict[str, Any]) -> Iterator[dict[str, Any]]:
    """The parts of a specification that have a mark of their own."""
    if "mark" in spec:
        yield spec
    for inside in (*spec.get("layer", ()), *spec.get("concat", ())):
        yield from iterate_units(inside)


def copy_spec(part: Any) -> Any:
    """A specification that can be changed; rows in it stay as they are."""
    if isinstance(part, dict):
        return {name: value if name == "data" else copy_spec(value) for name, value in part.items()}
    return [copy_spec(each) for each in part] if isinstance(part, list) else part

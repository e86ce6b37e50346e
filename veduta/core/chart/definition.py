"""A chart: a saved question and how its answer is drawn.

A definition is a value; everything else is computed from it."""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Sequence
from typing import Annotated, Any, Final, Literal

from pydantic import Field, StringConstraints, ValidationError, model_validator

from veduta.core.calendar import Grouping
from veduta.core.chart.conditional import ConditionalFormat
from veduta.core.chart.look import Colour, Look
from veduta.core.chart.text_placeholders import find_formulas
from veduta.core.chart.value_colours import ColourList
from veduta.core.data.fields import Aggregate, DataField, FieldRole, Frozen, Schema, list_aggregates
from veduta.core.jsontext import InvalidJson, read_json
from veduta.core.query.filters import Filter, Value
from veduta.core.query.measures import Measure, TopN
from veduta.core.query.query import Sort, Tie
from veduta.core.stored import load

VERSION: Final = 2
ParameterSetting = list[Value] | Value
KindName = Annotated[str, StringConstraints(pattern=r"^[a-z_]{1,40}$")]
SettingValue = bool | int | float | Annotated[str, StringConstraints(max_length=300)]
How = Literal["bar", "line", "step", "area", "dot", "tick", "text", "range", "band", "link"]
Dash = Literal["", "solid", "dashed", "dotted"]


class Layer(Frozen):
    """How some of a chart's measures, by their positions, are drawn.

    Each by itself, or two as a range, a band or a link (a link of one begins at zero). A `colour` is a series colour by
    its number, a colour with a meaning, or any; none is each series' own. With a `test`, a formula over the chart's
    cells, marks that pass it have the colour and the others the `other` colour; `said` and `other_said` label both in
    the legend. A layer of filled marks may instead have the `shade` of a measure, shown or not, smooth or in about so
    many `steps`. `width` is that of lines, `size` that of dots, in pixels. An `undivided` layer shows the totals of the
    first dimension's values, whatever splits the others."""

    measures: tuple[Annotated[int, Field(ge=0, lt=50)], ...] = Field(min_length=1, max_length=50)
    how: How
    axis: Literal["first", "second"] = "first"
    undivided: bool = False
    colour: Colour = ""
    test: str = Field("", max_length=5_000)
    other: Colour = ""
    said: str = Field("", max_length=100)
    other_said: str = Field("", max_length=100)
    shade: Measure | None = None
    steps: int = Field(0, ge=0, le=9)
    dash: Dash = ""
    width: float | None = Field(None, ge=0.5, le=20)
    size: float | None = Field(None, ge=2, le=60)
    opacity: float | None = Field(None, ge=0.05, le=1)


class EventFields(Frozen):
    """Where events are: a dataset with the fields of their first and perhaps last day, and of their words."""

    dataset: str = Field(min_length=1, max_length=60)
    start: str = Field(min_length=1, max_length=60)
    end: str = Field("", max_length=60)
    words: str = Field("", max_length=60)


class ReferenceMark(Frozen):
    """A reference line, or with `high` or `end` a band.

    It stands at a number or a parameter's value, a `statistic` of the values of the groups shown, the value over all
    rows shown, a `formula` over them, a day, or the days of a dataset of events. `measure` is the position of the
    measure on whose axis it stands; none means each of them. In panels it is computed `over` each or all of them.
    `said` is its label."""

    of: Literal["number", "groups", "rows", "formula", "dates", "events"] = "groups"
    measure: Annotated[int, Field(ge=0, lt=50)] | None = None
    statistic: Literal["mean", "median", "min", "max", "percentile"] = "mean"
    percent: float = Field(90, ge=0, le=100)
    over: Literal["panel", "all"] = "panel"
    value: float | None = None
    high: float | None = None
    parameter: str = Field("", max_length=40)
    formula: str = Field("", max_length=5_000)
    start: dt.date | None = None
    end: dt.date | None = None
    events: EventFields | None = None
    said: str = Field("", max_length=200)
    colour: Colour = ""
    dash: Dash = ""

    @model_validator(mode="after")
    def _validate(self) -> ReferenceMark:
        if self.of == "number" and self.value is None and not self.parameter:
            raise ValueError("the number to compare with is missing")
        if self.of == "dates" and self.start is None:
            raise ValueError("the day to compare with is missing")
        if self.of == "formula" and not self.formula.strip():
            raise ValueError("the formula to compare with is missing")
        if self.of == "events" and self.events is None:
            raise ValueError("the dataset of events is missing")
        if (self.start and self.end and self.end < self.start) or ((self.high or 0) < (self.value or 0) and self.high):
            raise ValueError("the end of a band is before its beginning")
        return self


class Panels(Frozen):
    """The chart drawn once for each value of a dimension, or of two, the first down and the second across.

    Of one dimension they go on in the next row (`wrapped`), or stand in one row or column. `scales` are common to all,
    or the value axes of each are its own, or both axes."""

    by: tuple[Grouping, ...] = Field(min_length=1, max_length=2)
    arranged: Literal["wrapped", "beside", "below"] = "wrapped"
    scales: Literal["common", "values", "own"] = "common"


class Drilling(Frozen):
    """Where readers may drill a chart.

    `along` one of the model's paths, by its name ("" is all of them), and those of dates; by any `others` of its
    dimensions; or not at all."""

    off: bool = False
    along: str = Field("", max_length=100)
    others: bool = True


class ChartDefinition(Frozen):
    """`title`, `note` and `foot` may have values in them, as `places` says.

    `kind` None lets Veduta choose; `settings` are those of kinds, each of which reads the ones it knows. `show` empty
    counts rows. `layers` draw the measures if the kind leaves that to them. `totals` "" is as usual for the kind.
    `series_order` begins the order of the last dimension of several, whose values make series. `aligned` is a test: the
    time axis counts from the first period in which it held. With `own_periods` a plan is counted to its end. Of
    `conditional` that hold, the first that says something counts. `values` sets the model's parameters for this chart;
    None is no limit. `colours` are those of values in this chart alone; with `own_colours` it takes none that values
    have elsewhere. A `specification` is drawn by the kind that has one of its own."""

    version: Literal[2] = VERSION
    dataset: str
    title: str = Field("", max_length=1_000)
    note: str = Field("", max_length=2_000)
    foot: str = Field("", max_length=2_000)
    kind: KindName | None = None
    settings: dict[KindName, SettingValue] = Field({}, max_length=100)
    show: tuple[Measure, ...] = Field((), max_length=50)
    layers: tuple[Layer, ...] = Field((), max_length=20)
    by: tuple[Grouping, ...] = Field((), max_length=10)
    split: Grouping | None = None
    panels: Panels | None = None
    only: tuple[Filter, ...] = Field((), max_length=50)
    keep: TopN | None = None
    sort: Sort | None = None
    series_order: tuple[Value, ...] = Field((), max_length=5_000)
    totals: Literal["", "all", "none"] = ""
    references: tuple[ReferenceMark, ...] = Field((), max_length=20)
    aligned: str = Field("", max_length=5_000)
    own_periods: bool = False
    values: dict[str, ParameterSetting] = {}
    colours: tuple[ColourList, ...] = Field((), max_length=20)
    own_colours: bool = False
    specification: str = Field("", max_length=200_000)
    look: Look = Look()
    conditional: tuple[ConditionalFormat, ...] = Field((), max_length=50)
    drill: Drilling = Drilling()

    @property
    def measures(self) -> tuple[Measure, ...]:
        return self.show or (Measure(),)

    @property
    def drawn(self) -> tuple[Grouping, ...]:
        """The dimensions of a drawing; where there are panels, of each."""
        return (*self.by, self.split) if self.split else self.by

    @property
    def groups(self) -> tuple[Grouping, ...]:
        """All dimensions, those of panels last."""
        return (*self.drawn, *self.panels.by) if self.panels else self.drawn

    def list_fields(self) -> set[str]:
        """The ids of all fields the chart uses."""
        names = {group.field for group in self.groups}
        names = names.union(*(measure.list_fields() for measure in self.list_formula_measures()))
        for filter_ in self.only:
            names |= filter_.list_fields()
        return names

    @property
    def texts(self) -> tuple[str, str, str]:
        """Those that may have values in them."""
        return self.title, self.note, self.foot

    def list_formula_measures(self) -> list[Measure]:
        """Everything that is worked out for the chart, shown or not; some of it may be there twice."""
        measures = [*self.show, self.keep and self.keep.by, self.sort and self.sort.measure]
        measures += [tie.measure for tie in self.sort.ties] if self.sort else []
        measures += [layer.shade for layer in self.layers]
        measures += [measure for each in self.conditional for measure in each.list_measures()]
        formulas = [self.aligned, *(layer.test for layer in self.layers)]
        own = [Measure(formula=formula) for formula in (*formulas, *find_formulas(*self.texts)) if formula]
        own += [Measure(formula=reference.formula) for reference in self.references if reference.of == "formula"]
        return [*own, *(measure for measure in measures if measure)]


def _upgrade_to_second(data: dict[str, Any]) -> dict[str, Any]:
    """Version 1 had the way in which series are stacked beside the kind, and one thing to compare with."""
    stacking = data.get("stacking", "stacked")
    compare = data.get("compare", "")
    later = {name: value for name, value in data.items() if name not in ("stacking", "compare")}
    if stacking != "stacked":
        later["settings"] = {"stacking": stacking}
    if compare:
        later["references"] = [{"of": compare}]
    return later


UPGRADES = {1: _upgrade_to_second}


def load_definition(data: Any) -> ChartDefinition:
    """From stored or sent JSON. Raises NewerDefinition or DefinitionProblem."""
    return load(ChartDefinition, data, name="chart", version=VERSION, upgrades=UPGRADES)


def check_fields(definition: ChartDefinition, schema: Schema) -> None:
    """Raises MissingField if the definition uses a field that is not there."""
    for field in sorted(definition.list_fields()):
        schema[field]


def make_default_measure(field: DataField) -> Measure:
    """The field as a measure with its default aggregate, or the first that suits its kind of value."""
    if field.level == "aggregate":
        return Measure(field=field.id, aggregate=Aggregate.OWN)
    if field.role is FieldRole.DIMENSION:
        return Measure(field=field.id, aggregate=Aggregate.COUNT_DISTINCT)
    fitting = list_aggregates(field.kind)
    return Measure(field=field.id, aggregate=field.aggregate if field.aggregate in fitting else fitting[0])


def sort_of_column(definition: ChartDefinition, columns: str) -> Sort | None:
    """The sort by a column of the chart's rows, named as in `list_sorted_columns`.

    A "-" before the name descends; m0@["2025"] is a column of a crosstab; further columns after commas break ties. None
    if the chart has no such column or cannot be sorted by it."""
    column, *further = [columns] if "@" in columns else columns.split(",")
    name, _, place = column.removeprefix("-").partition("@")
    descending = column.startswith("-")
    if name == "d0" and definition.by:
        return Sort(by="time" if definition.by[0].is_time_axis else "name", descending=descending)
    ties = [_tie(definition, each) for each in further]
    measure = _measure_of(definition, name)
    if measure is None or None in ties:
        return None
    try:
        at = read_json(place) if place else ()
        return Sort(by="measure", measure=measure, descending=descending, at=at, ties=[tie for tie in ties if tie])
    except (InvalidJson, ValidationError):
        return None


def _measure_of(definition: ChartDefinition, column: str) -> Measure | None:
    return {f"m{i}": measure for i, measure in enumerate(definition.measures)}.get(column)


def _tie(definition: ChartDefinition, column: str) -> Tie | None:
    name = column.removeprefix("-")
    measure = _measure_of(definition, name)
    is_there = measure or (name == "d0" and definition.by)
    return Tie(measure=measure, descending=name != column) if is_there else None


def list_sorted_columns(definition: ChartDefinition, sort: Sort | None) -> dict[str, bool]:
    """The columns that a sort goes by, in order, and whether each descends.

    "m1" is the second measure, "d0" the first dimension. Empty if a sort column is not shown or the sort is an order of
    its own."""
    if sort is None or sort.by == "own":
        return {}
    if sort.by != "measure":
        return {"d0": sort.descending}
    columns = {_make_column_key(definition, sort.measure or definition.measures[0], sort.at): sort.descending}
    columns |= {_make_column_key(definition, tie.measure) if tie.measure else "d0": tie.descending for tie in sort.ties}
    return {column: descending for column, descending in columns.items() if column}


def _make_column_key(definition: ChartDefinition, measure: Measure, at: Sequence[Value] = ()) -> str:
    shown = next((i for i, own in enumerate(definition.measures) if own.is_same_number(measure)), None)
    return "" if shown is None else make_column_name(shown, at)


def make_column_name(measure: int, place: Sequence[Value]) -> str:
    """A column of numbers, of a crosstab at some values of the dimensions across."""
    return f"m{measure}@{json.dumps(list(place))}" if place else f"m{measure}"

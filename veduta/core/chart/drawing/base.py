"""What all drawings share: marks with their words, series and colours, the specification's common parts."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from dataclasses import dataclass
from dataclasses import field as attribute
from typing import Any, cast

from babel.numbers import get_currency_symbol

from veduta.core.calendar import PERIODS
from veduta.core.chart.definition import ChartDefinition, ChartKind
from veduta.core.data.fields import Kind, NumberFormat
from veduta.core.formats import REST_POINT, format_value, settle
from veduta.core.query.query import Column, Result
from veduta.core.words import counted, in_sentence, listed

SCHEMA = "https://vega.github.io/schema/vega-lite/v6.json"
MOST_IN_LEGEND = 24
IN_LEGEND = 24
"""Letters of a name in a legend."""
SERIES_COLOURS = ("#0B5D62", "#C9850F", "#B8433A", "#4F62B5", "#7B8F5B", "#C56CC0", "#807061", "#659494")


@dataclass
class Picture:
    """A result about to be drawn. `value_order` is each series value's fixed place, so that colours stay with values.

    `selected` holds the points of marks that are selected, perhaps only their first dimensions; `excluded` says that
    they are left out.
    """

    definition: ChartDefinition
    kind: ChartKind
    result: Result
    value_order: list[Any] = attribute(default_factory=list)
    selected: tuple[tuple[Any, ...], ...] | None = None
    excluded: bool = False

    @property
    def formats(self) -> dict[str, NumberFormat]:
        return {
            column.key: settle(column.format, self.result.frame[column.key], column.kind)
            for column in self.result.measures
        }

    @property
    def references(self) -> list[tuple[str, float]]:
        """The values that the chart is compared with, one for each measure, named."""
        compare = self.definition.compare
        if not compare or not self.result.dimensions:
            return []
        compared = []
        for column in self.result.measures:
            if compare == "groups":
                value = self.result.frame[column.key].mean() if column.kind.is_number else None
            else:
                value = self.result.totals[()][column.key][0]
            if isinstance(value, int | float):
                compared.append((column, float(value)))
        said = {"groups": "the mean of the groups shown", "rows": "the value over all rows shown"}[compare]
        several = len(self.result.measures) > 1
        return [(f"{said}{f' of {column.name}' if several else ''}", value) for column, value in compared]

    def reference_words(self) -> list[tuple[str, str]]:
        """The references as people read them."""
        formats = list(self.formats.values())
        return [
            (name, format_value(value, Kind.DECIMAL, formats[min(i, len(formats) - 1)]))
            for i, (name, value) in enumerate(self.references)
        ]

    def chosen(self, point: list[Any]) -> bool:
        """Whether a mark is drawn at full strength."""
        if self.selected is None:
            return True
        depth = len(self.selected[0]) if self.selected else 0
        return (tuple(point[:depth]) in self.selected) != self.excluded


@dataclass
class Drawing:
    """A Vega-Lite specification with its rows, or the layout of a table; `notes` say what is not as it seems."""

    kind: ChartKind
    spec: dict[str, Any] | None = None
    rows: list[dict[str, Any]] = attribute(default_factory=list)
    layout: Any = None
    notes: list[str] = attribute(default_factory=list)


Builder = Callable[[Picture], Drawing]
BUILDERS: dict[ChartKind, Builder] = {}


def draws(kind: ChartKind) -> Callable[[Builder], Builder]:
    """Register a builder. Raises ValueError for a kind that has one."""

    def register(builder: Builder) -> Builder:
        if kind in BUILDERS:
            raise ValueError(f"Two builders draw {kind}.")
        BUILDERS[kind] = builder
        return builder

    return register


def plain_point(values: list[Any]) -> list[Any]:
    return [value.isoformat() if isinstance(value, dt.date) else value for value in values]


def dimension_words(column: Column, value: Any, result: Result) -> str:
    if value == REST_POINT and result.rest and column.key == result.rest.key:
        return result.rest.name
    return "(empty)" if value is None else format_value(value, column.kind, column.format, column.dimension.grain)


def marks(picture: Picture) -> list[dict[str, Any]]:
    """One mark for each row and measure.

    A mark has its axis value `x` (and as words `name`), series `s`, number `y` (and as words `text`), what a
    tooltip lists (`tip`), what is read aloud (`said`), its `point` for selections, whether it is drawn at full
    strength (`on`) and whether its period is unfinished (`open`).
    """
    result = picture.result
    dimensions, measures, formats = result.dimensions, result.measures, picture.formats
    several = len(measures) > 1
    marked = []
    last = _unfinished_start(result)
    for row in result.frame.iter_rows(named=True):
        values = [result.value(row, column.key) for column in dimensions]
        words = [dimension_words(column, value, result) for column, value in zip(dimensions, values, strict=True)]
        point = plain_point(values)
        series = " · ".join(words[1:])
        tip_start = [[column.name, word] for column, word in zip(dimensions, words, strict=True)]
        unfinished = last is not None and last in values
        for measure in measures:
            value = row[measure.key]
            text = format_value(value, measure.kind, formats[measure.key])
            tip = [*tip_start, [measure.name, text]]
            if unfinished:
                tip.append(["Unfinished", f"data to {format_value(result.unfinished, dimensions[0].kind)}"])
            marked.append(
                {
                    "x": values[0] if values else None,
                    "name": words[0] if words else measure.name,
                    "s": " · ".join(filter(None, [series, measure.name])) if several else series,
                    "y": value,
                    "text": text,
                    "tip": tip,
                    "said": ", ".join(words) + f": {text}" + (f" {measure.name}" if several else ""),
                    "point": point,
                    "on": int(picture.chosen(point)),
                    "open": int(unfinished),
                }
            )
    return marked


def _unfinished_start(result: Result) -> dt.date | None:
    if result.unfinished is None:
        return None
    periods = [column for column in result.dimensions if column.dimension.is_time_axis]
    finest = max(periods, key=lambda column: PERIODS.index(column.dimension.period))
    return cast("dt.date | None", result.frame[finest.key].max())


def series_of(rows: list[dict[str, Any]]) -> list[str]:
    return list(dict.fromkeys(row["s"] for row in rows))


def colour(picture: Picture, rows: list[dict[str, Any]]) -> dict[str, Any]:
    """The colour channel: one colour without series; with them, each value's own colour whatever else is shown."""
    series = series_of(rows)
    order = [dimension_words(picture.result.dimensions[-1], value, picture.result) for value in picture.value_order]
    order += [picture.result.rest.name] if order and picture.result.rest else []
    positions = {word: position for position, word in enumerate(order)}
    fixed = bool(positions) and all(name in positions for name in series)
    if fixed:
        series.sort(key=positions.__getitem__)
    if len(series) <= 1 and len(picture.result.dimensions) < 2:
        return {"value": SERIES_COLOURS[0]}
    numbers = [positions[name] if fixed else i for i, name in enumerate(series)]
    return {
        "field": "s",
        "type": "nominal",
        "scale": {"domain": series, "range": _distinct([i % len(SERIES_COLOURS) for i in numbers])},
        "legend": _legend(series) if len(series) <= MOST_IN_LEGEND else None,
        "sort": None,
    }


def _distinct(positions: list[int]) -> list[str]:
    """The colours at these places; where two series share one while others are free, the later takes a free one."""
    free = [i for i in range(len(SERIES_COLOURS)) if i not in positions]
    taken: set[int] = set()
    colours = []
    for position in positions:
        if position in taken and free:
            position = free.pop(0)
        taken.add(position)
        colours.append(SERIES_COLOURS[position])
    return colours


def _legend(series: list[str]) -> dict[str, Any]:
    """As many entries side by side as fit the width."""
    entry = 34 + 6 * min(IN_LEGEND, max(map(len, series), default=0))
    columns = {"expr": f"max(1, floor(width / {entry}))"}
    return {
        "title": None,
        "orient": "top",
        "labelLimit": 0,
        "labelExpr": shortened(IN_LEGEND),
        "columns": columns,
        "description": f"Colours: {listed(series, most=10)}",
    }


def number_axis(number_format: NumberFormat) -> dict[str, Any]:
    """The axis of a measure: shortened numbers in the measure's own style."""
    if number_format.style == "percent":
        return {"labelExpr": "format(datum.value, '.6~%')"}
    symbol = get_currency_symbol(number_format.currency, "en") if number_format.style == "currency" else ""
    large = "replace(replace(format(abs(datum.value), '.6~s'), 'G', 'bn'), 'T', 'tn')"
    sign = "(datum.value < 0 ? '−' : '')"
    size = f"(abs(datum.value) >= 1000 ? {large} : format(abs(datum.value), '.6~g'))"
    return {"labelExpr": f"{sign} + '{symbol}' + {size}" if symbol else f"{sign} + {size}"}


def shortened(most: int) -> str:
    """An expression for an axis or a legend: long labels without their middle, as names often differ at their ends."""
    end = most // 2 - 1
    label = "datum.label"
    short = f"slice({label}, 0, {most - end - 1}) + '…' + slice({label}, -{end})"
    return f"length({label}) > {most} ? {short} : {label}"


def said_along(picture: Picture, rows: list[dict[str, Any]]) -> str:
    """What the axis of the first dimension shows, for those who do not see it."""
    first, names = picture.result.dimensions[0], list(dict.fromkeys(row["name"] for row in rows))
    if first.dimension.is_time_axis and names:
        return f"{first.name}, from {names[0]} to {names[-1]}"
    return f"{first.name}, {counted(len(names), 'value')}"


def said_across(picture: Picture) -> str:
    """What the axis of the measures shows, for those who do not see it."""
    return f"Values of {listed([in_sentence(measure.name) for measure in picture.result.measures])}"


def base_spec(**parts: Any) -> dict[str, Any]:
    return {"$schema": SCHEMA, "data": {"name": "rows"}, "width": "container", "height": "container", **parts}


def reference_layers(picture: Picture, channel: str) -> list[dict[str, Any]]:
    """A dashed rule for each value the chart is compared with, and its number."""
    values = [
        {"value": value, "label": text}
        for (_, value), (_, text) in zip(picture.references, picture.reference_words(), strict=True)
    ]
    if not values:
        return []
    value_channel = {channel: {"field": "value", "type": "quantitative"}}
    at_end = {"x": {"value": {"expr": "width"}}} if channel == "y" else {"y": {"value": 0}}
    text = (
        {"type": "text", "align": "right", "baseline": "bottom", "dy": -4, "aria": False}
        if channel == "y"
        else {"type": "text", "align": "left", "baseline": "top", "dx": 5, "aria": False}
    )
    return [
        {
            "data": {"values": values},
            "mark": {"type": "rule", "strokeDash": [6, 3], "strokeWidth": 1.4, "aria": False},
            "encoding": value_channel,
        },
        {
            "data": {"values": values},
            "mark": text,
            "encoding": {**value_channel, **at_end, "text": {"field": "label"}},
        },
    ]


DIMMED = {"condition": {"test": "datum.on === 0", "value": 0.25}, "value": 1}
SAID = {"field": "said", "type": "nominal"}
TOOLTIP = {"content": "data"}

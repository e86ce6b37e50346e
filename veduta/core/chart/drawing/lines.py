"""Lines and areas. Time axes are continuous: missing periods are gaps, the unfinished last one is dashed."""

from __future__ import annotations

import datetime as dt
from typing import Any

from veduta.core.calendar import Grain, period_words, periods_between
from veduta.core.chart.definition import ChartKind
from veduta.core.chart.drawing.base import (
    DIMMED,
    SAID,
    TOOLTIP,
    Drawing,
    Picture,
    base_spec,
    colour,
    draws,
    marks,
    number_axis,
    reference_layers,
    said_across,
    said_along,
    series_of,
    shortened,
)
from veduta.core.formats import REST_POINT
from veduta.core.words import counted

AXIS_FORMATS = {
    Grain.YEAR: "%Y",
    Grain.MONTH: "%b %y",
    Grain.WEEK: "%-d %b %y",
    Grain.DAY: "%-d %b %y",
    Grain.HOUR: "%-d %b %H:%M",
}
Rows = list[dict[str, Any]]
TICKS = {
    Grain.YEAR: {"interval": "year", "step": 1},
    Grain.QUARTER: {"interval": "month", "step": 3},
    Grain.MONTH: {"interval": "month", "step": 1},
    Grain.WEEK: {"interval": "week", "step": 1},
    Grain.DAY: {"interval": "day", "step": 1},
    Grain.HOUR: {"interval": "hour", "step": 1},
}
MOST_TICKS = 60
HALF_A_LABEL = 18
DAYS_OF_A_MONTH = 31
MONTHS_SAID = 14
"""Months of which each has a label; of more every third."""


def filled_in(picture: Picture, rows: Rows, zero: bool) -> Rows:
    """The marks with one for every period between the first and the last and every series.

    Missing ones have an empty number, or 0 where `zero` (for areas, which cannot be stacked on a gap).
    """
    first = picture.result.dimensions[0] if picture.result.dimensions else None
    if not first or not first.dimension.is_time_axis:
        return rows
    dated = [row["x"] for row in rows if isinstance(row["x"], dt.date)]
    if not dated:
        return rows
    grain = first.dimension.period
    periods = periods_between(min(dated), max(dated), grain)
    there = {(row["x"], row["s"]): row for row in rows}
    series = series_of(rows)
    if not periods or len(periods) * len(series) > 50_000:
        return rows
    descending = isinstance(rows[0]["x"], dt.date) and rows[0]["x"] > min(dated)
    ordered = reversed(periods) if descending and picture.definition.sort else periods
    filled = []
    for period in ordered:
        for name in series:
            missing = {
                "x": period,
                "name": period_words(period, grain),
                "s": name,
                "y": 0 if zero else None,
                "text": "–",
                "tip": [[first.name, period_words(period, grain)], ["", "no rows"]],
                "said": f"{period_words(period, grain)}: no rows",
                "point": None,
                "on": 1,
                "open": 0,
            }
            filled.append(there.get((period, name), missing))
    return filled + [row for row in rows if not isinstance(row["x"], dt.date)]


def _time_axis(grain: Grain, periods: int) -> dict[str, Any]:
    axis: dict[str, Any] = {
        "title": None,
        "labelOverlap": "parity",
        "labelSeparation": 10,
        "tickCount": TICKS[grain],
        "grid": False,
        # The label of a period at the very end would stick out of the drawing.
        "labelAlign": {"expr": f"scale('x', datum.value) > width - {HALF_A_LABEL} ? 'right' : 'center'"},
    }
    if grain is Grain.MONTH and periods > MONTHS_SAID:
        axis["tickCount"] = TICKS[Grain.QUARTER]
    elif grain is Grain.DAY and DAYS_OF_A_MONTH < periods <= 4 * DAYS_OF_A_MONTH:
        axis |= {"tickCount": {"interval": "day", "step": 7}, "format": "%-d %b %y"}
    elif grain in (Grain.DAY, Grain.WEEK) and periods > (7 if grain is Grain.WEEK else DAYS_OF_A_MONTH):
        axis |= {"tickCount": TICKS[Grain.MONTH], "format": "%b %y"}
    elif grain is Grain.HOUR and periods > 48:
        coarse, pattern = (Grain.MONTH, "%b %y") if periods > 31 * 24 else (Grain.DAY, "%-d %b %y")
        axis |= {"tickCount": TICKS[coarse], "format": pattern}
    elif grain is Grain.QUARTER:
        axis["labelExpr"] = "'Q' + utcquarter(datum.value) + ' ' + utcyear(datum.value)"
    if grain is not Grain.QUARTER:
        axis.setdefault("format", AXIS_FORMATS[grain])
    if periods > {
        Grain.MONTH: MOST_TICKS,
        Grain.WEEK: 5 * MOST_TICKS,
        Grain.DAY: 30 * MOST_TICKS,
        Grain.QUARTER: 40,
    }.get(grain, 10**9):
        axis |= {"tickCount": TICKS[Grain.YEAR], "format": "%Y"}
        axis.pop("labelExpr", None)
    return axis


def _along(picture: Picture, rows: Rows, notes: list[str]) -> tuple[Rows, dict[str, Any]]:
    """The rows that can be drawn along the first dimension, and its channel; what cannot is said in `notes`."""
    first, rest = picture.result.dimensions[0], picture.result.rest
    if not first.dimension.is_time_axis:
        axis: dict[str, Any] = {
            "title": None,
            "labelLimit": 0,
            "labelExpr": shortened(20),
            "labelOverlap": "greedy",
            "description": said_along(picture, rows),
        }
        if first.kind.is_number:
            axis |= {"title": first.name, "labelAngle": 0}
        scale = {"type": "point", "padding": 0.5}
        return rows, {"field": "name", "type": "nominal", "sort": None, "scale": scale, "axis": axis}
    if undated := sum(row["x"] is None for row in rows):
        notes.append(f"Rows without {first.name} are not drawn ({counted(undated, 'mark')}).")
    if rest and any(row["x"] == REST_POINT for row in rows):
        notes.append(f"“{rest.name}” has no place on a time axis and is not drawn.")
    rows = [row | {"t": _milliseconds(row["x"])} for row in rows if isinstance(row["x"], dt.date)]
    axis = _time_axis(first.dimension.period, len({row["t"] for row in rows}))
    axis["description"] = said_along(picture, rows)
    return rows, {"field": "t", "type": "temporal", "scale": {"type": "utc"}, "axis": axis}


@draws(ChartKind.LINE)
@draws(ChartKind.AREA)
def draw_lines(picture: Picture) -> Drawing:
    area = picture.kind is ChartKind.AREA
    notes: list[str] = []
    rows, x = _along(picture, filled_in(picture, marks(picture), zero=area), notes)
    several = len(series_of(rows)) > 1
    full = area and several and picture.definition.stacking == "full"
    axis = {"labelExpr": "format(datum.value, '.0%')"} if full else number_axis(picture.result.measures[0].format)
    y: dict[str, Any] = {"field": "y", "type": "quantitative"}
    y["axis"] = {"title": None, "description": said_across(picture), **axis}
    y["stack"] = ("normalize" if full else "zero") if area else None
    _mark_alone_and_tail(rows)
    colours = colour(picture, rows)
    shared = {"x": x, "y": y, "color": colours, "opacity": DIMMED, "description": SAID}
    detail = {"detail": {"field": "s", "type": "nominal"}} if "field" in colours else {}
    shape = {"type": "area", "line": False} if area else {"type": "line", "strokeWidth": 2, "strokeJoin": "round"}
    shape["invalid"] = "break-paths-show-domains"
    finished: dict[str, Any] = {
        "transform": [{"filter": "datum.open === 0"}],
        "mark": {**shape, "aria": False},
        "encoding": {"x": x, "y": y, "color": colours, **detail},
    }
    pale = {"fillOpacity": 0.4} if area else {"strokeDash": [4, 4]}
    unfinished: dict[str, Any] = {
        "transform": [{"filter": "datum.tail === 1"}],
        "mark": {**shape, **pale, "aria": False},
        "encoding": {"x": x, "y": y, "color": colours, **detail},
    }
    if picture.selected is not None:
        for layer in (finished, unfinished):
            layer["encoding"]["opacity"] = {"value": 0.35}
    dots = {
        "transform": [{"filter": "isValid(datum.y) && datum.point !== null"}],
        "mark": {"type": "point", "filled": True, "size": 50, "tooltip": TOOLTIP, "cursor": "pointer"},
        "encoding": {
            **shared,
            "opacity": {
                "condition": [{"test": "datum.alone === 1", "value": 1}, {"test": "datum.dot === 1", "value": 1}],
                "value": 0,
            },
        },
    }
    for row in rows:
        row["dot"] = int(picture.selected is not None and row["on"] == 1 and row["point"] is not None)
    return Drawing(
        picture.kind, base_spec(layer=[finished, unfinished, dots, *reference_layers(picture, "y")]), rows, notes=notes
    )


def _milliseconds(day: dt.date) -> int:
    clock = day.hour * 3_600_000 if isinstance(day, dt.datetime) else 0
    return (day.toordinal() - dt.date(1970, 1, 1).toordinal()) * 86_400_000 + clock


def _mark_alone_and_tail(rows: Rows) -> None:
    """Mark points with no neighbour to draw a line to, and the last two points where the last is unfinished."""
    by_series: dict[str, Rows] = {}
    for row in rows:
        row["alone"] = row["tail"] = 0
        by_series.setdefault(row["s"], []).append(row)
    for line in by_series.values():
        for i, row in enumerate(line):
            before = line[i - 1]["y"] if i else None
            after = line[i + 1]["y"] if i + 1 < len(line) else None
            row["alone"] = int(row["y"] is not None and before is None and after is None)
            if row["open"]:
                row["tail"] = 1
                if i:
                    line[i - 1]["tail"] = 1

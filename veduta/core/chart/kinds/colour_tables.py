"""Tables of colour: one dimension by another, and the days of years."""

from __future__ import annotations

import datetime as dt
from typing import Any

from veduta.core.calendar import MONTHS, WEEKDAYS, Grain
from veduta.core.chart.drawing.axes import LEVEL_LETTERS, shorten_labels
from veduta.core.chart.drawing.cells import sort_values
from veduta.core.chart.drawing.colours import BLACK, WHITE
from veduta.core.chart.drawing.labels import LINE, fit_labels, note_labels, show_if
from veduta.core.chart.drawing.layer_context import AROUND_ROWS, DIMMED, LEAST_STEP, POINTED_AT, SAID
from veduta.core.chart.drawing.marks import Mark, make_marks, to_rows
from veduta.core.chart.drawing.picture import Drawing, Picture, make_base_spec
from veduta.core.chart.drawing.shades import build_shade
from veduta.core.chart.kinds.base import ChartKind, ChartShape, ShadeSettings, register_kind
from veduta.core.phrases import pluralise

NUMBERED_CELLS = 240
"""Cells up to which each carries its number."""
STEP = 24
MOST_STANDING = 14


def _draw_cells(colour: dict[str, Any], x: dict[str, Any], y: dict[str, Any]) -> dict[str, Any]:
    return {
        "transform": [{"filter": "isValid(datum.value)"}],
        "mark": {"type": "rect", **POINTED_AT},
        "encoding": {
            "x": x,
            "y": y,
            "color": colour,
            "opacity": DIMMED,
            "description": SAID,
        },
    }


@register_kind
class ColourTable(ChartKind):
    name = "heat"
    title = "table of colours"
    theme = "To compare"
    use = "Shows where two dimensions together are high or low, by shade."
    glyph = (
        '<path opacity=".25" d="M3 3h8v5H3zM21 9h8v5h-8z"/><path opacity=".55" d="M12 3h8v5h-8zM3 15h8v5H3z"/>'
        '<path d="M21 3h8v5h-8zM3 9h8v5H3zM12 15h8v5h-8z"/><path opacity=".8" d="M12 9h8v5h-8zM21 15h8v5h-8z"/>'
    )
    measures = (1, 1)
    dimensions = (2, 2)
    settings = ShadeSettings

    def draw(self, picture: Picture) -> Drawing:
        down, across = picture.dimensions
        made = make_marks(picture)
        order = [picture.label(across, value) for value in _list_across(picture)]
        for mark in made:
            mark.more["column"] = mark.series
        axis = {"title": None, "labelLimit": 0, "labelExpr": shorten_labels(24), "domain": False}
        rows = list(dict.fromkeys(mark.name for mark in made))
        x = {
            "field": "column",
            "type": "nominal",
            "sort": order,
            "scale": {"paddingInner": 0.04},
            "axis": axis
            | {"orient": "top", "labelOverlap": "greedy", "labelBound": True, "description": across.name}
            | _label_level(order, across.dimension.grain),
        }
        y = {
            "field": "name",
            "type": "nominal",
            "sort": None,
            "scale": {"paddingInner": 0.06},
            "axis": axis | {"description": f"{down.name}, {pluralise(len(rows), 'value')}"},
        }
        layers = [_draw_cells(_shade(picture, made), x, y)]
        if len(made) <= NUMBERED_CELLS:
            number = {"type": "text", "aria": False, "fontSize": 11}
            white = {"condition": {"test": "datum.strong === 1", "value": WHITE}, "value": BLACK}
            there = [mark for mark in made if mark.value is not None]
            note_labels(picture, made, there)
            fits = f"datum.widest_short < bandwidth('x') && bandwidth('y') > {LINE}"
            text = {"text": fit_labels("bandwidth('x')", keeps_top=False), "color": white, "opacity": show_if(fits)}
            layers.append({"mark": number, "encoding": {"x": x, "y": y, **text}})
        spec = make_base_spec(layer=layers)
        if len(rows) > MOST_STANDING:
            spec["height"] = {"step": STEP}
        least = AROUND_ROWS + LEAST_STEP * len(rows)
        return Drawing(spec, to_rows(made), least_height=least)


def _shade(picture: Picture, made: list[Mark]) -> dict[str, Any]:
    return build_shade(picture, picture.measures[0], made, steps=int(picture.settings.steps))


def _label_level(names: list[str], grain: Grain | None) -> dict[str, Any]:
    """How names stand above their columns: parts of dates by three letters, many letters slanted."""
    if grain in (Grain.MONTH_OF_YEAR, Grain.WEEKDAY):
        return {"labelAngle": 0, "labelExpr": "slice(datum.label, 0, 3)"}
    return {"labelAngle": 0 if sum(map(len, names)) <= LEVEL_LETTERS else -35}


def _list_across(picture: Picture) -> list[Any]:
    """The values of the second dimension in their order."""
    key, result = picture.dimensions[1].key, picture.result
    there = [result.get_value(row, key) for row in result.frame.iter_rows(named=True)]
    return sort_values(there, result.orders.get(key, ()))


@register_kind
class Calendar(ChartKind):
    name = "calendar"
    title = "calendar"
    theme = "Over time"
    use = "Shows every day of some years by shade: weekdays down, weeks across."
    glyph = (
        '<path opacity=".35" d="M3 3h4v4H3zM9 9h4v4H9zM21 3h4v4h-4zM15 15h4v4h-4zM21 9h4v4h-4z"/>'
        '<path d="M9 3h4v4H9zM15 3h4v4h-4zM3 9h4v4H3zM15 9h4v4h-4zM3 15h4v4H3zM9 15h4v4H9zM21 15h4v4h-4z"/>'
    )
    measures = (1, 1)
    dated = True
    dimensions = (1, 1)
    settings = ShadeSettings

    def check_extra_constraints(self, asked: ChartShape) -> str:
        first = asked.first
        return "" if first and first.grain is Grain.DAY else "A calendar needs a date by day."

    def draw(self, picture: Picture) -> Drawing:
        made = [mark for mark in make_marks(picture) if isinstance(mark.along, dt.date)]
        for mark in made:
            day = mark.along
            start = dt.date(day.year, 1, 1)
            mark.more |= {
                "week": (day.timetuple().tm_yday - 1 + start.weekday()) // 7,
                "line": f"{day.year} {day.weekday()}",
            }
        years = sorted({mark.along.year for mark in made})
        all_years = range(years[0], years[-1] + 1) if years else ()
        lines = [f"{year} {day}" for year in all_years for day in (*range(7), "gap")]
        names = " : ".join(
            f"slice(datum.value, 5) === '{day}' ? {_name_line(day, name)}" for day, name in enumerate(WEEKDAYS)
        )
        y = {
            "field": "line",
            "type": "nominal",
            "scale": {"domain": lines, "paddingInner": 0.08},
            "axis": {
                "title": None,
                "domain": False,
                "labelOverlap": False,
                "labelExpr": f"{names} : ''",
                "description": "Weekdays, a year below another",
            },
        }
        months = " : ".join(f"datum.value == '{_find_first_week(i)}' ? '{name[:3]}'" for i, name in enumerate(MONTHS))
        x = {
            "field": "week",
            "type": "ordinal",
            "scale": {"domain": list(range(54)), "paddingInner": 0.08},
            "axis": {
                "title": None,
                "orient": "top",
                "domain": False,
                "labelAngle": 0,
                "labelAlign": "left",
                "labelOverlap": False,
                "labelExpr": f"{months} : ''",
                "description": "Weeks of a year",
            },
        }
        spec = make_base_spec(**_draw_cells(_shade(picture, made), x, y))
        if len(lines) > MOST_STANDING + 2:
            spec["height"] = {"step": 13}
        return Drawing(spec, to_rows(made))


def _name_line(weekday: int, name: str) -> str:
    """What stands beside the line of a weekday: the year beside Thursday, Monday and Saturday by name."""
    if weekday == 3:
        return "slice(datum.value, 0, 4)"
    return f"'{name[:3]}'" if weekday in (0, 5) else "''"


def _find_first_week(month: int) -> int:
    """About where a month begins, in weeks of a year."""
    return (dt.date(2026, month + 1, 1).timetuple().tm_yday + 5) // 7

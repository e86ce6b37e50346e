"""Where a chart leads when it is drilled, and what is offered for it or one of its marks."""

from __future__ import annotations

from typing import Any

from veduta.core.calendar import Grouping
from veduta.core.chart.definition import ChartDefinition, Drilling
from veduta.core.chart.drilling import DrillStep, list_drill_targets, list_other_dimensions, unfolds
from veduta.core.data.fields import Schema
from veduta.core.model.model import Model
from veduta.core.number_format import REST_POINT, label_value
from veduta.core.phrases import lower_first
from veduta.core.query.filters import Value, convert_point_value, label_grouping

Lead = tuple[dict[str, Any], str]
"""A step as JSON, and its words."""


def label_group_value(value: Value, group: Grouping, schema: Schema) -> str:
    """A value of a dimension as it is read."""
    if value == REST_POINT:
        return "the others"
    field = schema[group.field]
    return label_value(convert_point_value(value, field, group.grain), group.grain)


def open_everywhere(chart: ChartDefinition) -> ChartDefinition:
    """A chart as whoever makes it may drill it."""
    return chart.model_copy(update={"drill": Drilling()})


def leads_of(chart: ChartDefinition, model: Model) -> list[dict[str, Any]]:
    """Where the dimensions of a chart lead, as its page needs it."""
    return [
        {
            "step": _make_step(way.position, way.to, []) | {"position": way.position},
            "down": way.down,
            "unfolds": way.down and unfolds(chart, way.position, model),
            "from": label_grouping(chart.groups[way.position], model.schema),
            "to": lower_first(label_grouping(way.to, model.schema)),
        }
        for way in list_drill_targets(chart, model)
    ]


def leads_offered(chart: ChartDefinition, model: Model, point: list[Any]) -> dict[str, Any]:
    """The context of what is offered for a chart, or for one of its marks."""
    schema, leads, broken_down = model.schema, list_drill_targets(chart, model), list_other_dimensions(chart, model)
    down, up = ([way for way in leads if way.down is is_down] for is_down in (True, False))
    into = [way for way in down if way.position < len(point)]
    return {
        "groups": [
            ("Into this one", [_lead(chart, way.position, way.to, schema, point) for way in into]),
            ("Down, all of them", [_lead(chart, way.position, way.to, schema) for way in down]),
            ("Up", [_lead(chart, way.position, way.to, schema) for way in up]),
        ],
        "others": [
            (_make_step(0, group, point, whole=True), label_grouping(group, schema), _find_table(group, schema))
            for group in broken_down
        ],
        "value": ", ".join(label_group_value(*of, schema) for of in zip(point, chart.groups, strict=False)),
        "is_empty": not leads and not broken_down,
    }


def _find_table(group: Grouping, schema: Schema) -> str:
    """The name of the joined table that a dimension is of."""
    table = schema[group.field].table
    return schema.tables.get(table, "") if table else ""


def _make_step(position: int, to: Grouping, point: list[Any], whole: bool = False) -> dict[str, Any]:
    """The step to a dimension, into the value of a mark at its position or into the `whole` mark."""
    into = tuple(point if whole else point[position : position + 1]) or None
    return DrillStep(position=position, to=to, into=into).model_dump(mode="json", exclude_defaults=True)


def _lead(chart: ChartDefinition, position: int, to: Grouping, schema: Schema, point: list[Any] | None = None) -> Lead:
    """The step to a dimension, into the value of a mark if there is one."""
    group, step = chart.groups[position], _make_step(position, to, point or [])
    is_grain = to.grain and to.field == group.field
    by = to.period.words if is_grain else lower_first(label_grouping(to, schema))
    if point:
        return step, f"{label_group_value(point[position], group, schema)}, by {by}"
    return step, f"{label_grouping(group, schema)} to {by}" if len(chart.groups) > 1 else by

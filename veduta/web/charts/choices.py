"""What the editors of charts and controls offer to choose from."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any

from veduta.core.calendar import make_grouping
from veduta.core.chart.definition import ChartDefinition, make_default_measure
from veduta.core.chart.palettes import OWN, Paints
from veduta.core.chart.theme import get_both_colours
from veduta.core.data.fields import DataType, FieldRole, Schema
from veduta.core.model.definition import ParameterField
from veduta.core.model.model import Model
from veduta.core.query.filters import Context, convert_point_value
from veduta.core.query.listing import group_values
from veduta.core.query.measures import Measure, measure_words
from veduta.web.palettes.models import load_paints

VALUES_SHOWN = 100


@dataclass(frozen=True)
class ColourChoice:
    """A colour to choose: how it is kept, its words, and how it looks in the light and the dark theme."""

    value: str
    words: str
    tones: tuple[str, str]


def _make_choices(colours: dict[str, str], paints: Paints = OWN) -> list[ColourChoice]:
    return [ColourChoice(value, words, get_both_colours(paints.get_colour(value))) for value, words in colours.items()]


def list_colour_choices() -> list[ColourChoice]:
    """The colours to choose from: those of series as the workspace has them, and those that mean something."""
    paints = load_paints()
    return _make_choices(
        {str(number): f"Series colour {number}" for number in range(1, len(paints.series) + 1)}
        | {"better": "Better", "worse": "Worse", "quiet": "Quiet grey", "ink": "Ink"},
        paints,
    )


TINTS = _make_choices(
    {"#F8DFDC": "Pale red", "#DCEFE6": "Pale green", "#FBF0D9": "Pale yellow", "#E6EAEA": "Pale grey"}
)
"""Grounds of cells, for texts to be read on."""


@dataclass(frozen=True)
class OpenPopover:
    """A popover that was opened: the clause's entry at `index`; of a filter also the field and the way it is to be."""

    definition: ChartDefinition
    model: Model
    context: Context
    clause: str
    index: int
    find: str
    field: str = ""
    way: str = ""


def measure_choices(definition: ChartDefinition, schema: Schema, chosen: Measure | None) -> list[dict[str, Any]]:
    """Every measure of the dataset, the shown ones first, as options; perhaps none is chosen."""
    choices = [
        *definition.measures,
        Measure(),
        *(make_default_measure(f) for f in schema.visible if f.role is FieldRole.MEASURE),
        *([chosen] if chosen else []),
    ]
    unique: list[Measure] = []
    for measure in choices:
        if not any(measure.is_same_number(other) for other in unique):
            unique.append(measure)
    return [
        {
            "name": measure_words(measure, schema),
            "value": json.dumps(
                {
                    "field": measure.field,
                    "aggregate": measure.aggregate.value,
                    "formula": measure.formula,
                    "name": measure.name,
                }
            ),
            "chosen": chosen is not None and measure.is_same_number(chosen),
        }
        for measure in unique
    ]


def list_number_parameters(model: Model) -> list[ParameterField]:
    """The parameters that can stand for a number."""
    return [
        parameter for parameter in model.definition.parameters if parameter.kind.is_number and not parameter.several
    ]


def list_parameter_choices(
    parameter: ParameterField, setting: list[Any] | None, model: Model, find: str = ""
) -> dict[str, Any]:
    """What the editor of a parameter offers: its choices, the values of its field, or a box for one."""
    chosen = [] if setting is None else [simplify(value) for value in setting]
    choices = [
        (json.dumps(each.value), each.label or str(each.value), each.value in chosen) for each in parameter.choices
    ]
    if not choices and parameter.field and parameter.field in model.schema:
        field = model.schema[parameter.field]
        values, _ = group_values(
            model, make_grouping(field), find, VALUES_SHOWN, tuple(convert_point_value(v, field) for v in chosen)
        )
        choices = [
            (json.dumps(simplify(value)), said, simplify(value) in chosen)
            for value, said, _ in values
            if value is not None
        ]
    elif not choices and parameter.kind is DataType.YES_NO:
        choices = [("true", "Yes", True in chosen), ("false", "No", False in chosen)]
    return {
        "parameter": parameter,
        "choices": choices,
        "value": chosen[0] if chosen else "",
        "unlimited": setting is None,
        "find": find,
        "input": {DataType.DATE: "date", DataType.DATETIME: "datetime-local", DataType.TEXT: "text"}.get(
            parameter.kind, "number"
        ),
    }


def simplify(value: Any) -> Any:
    return value.isoformat() if hasattr(value, "isoformat") else value

"""Edits of the layers of a drawing."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field

from veduta.core.chart.choose import choose_kind
from veduta.core.chart.definition import (
    ChartDefinition,
    How,
    Layer,
)
from veduta.core.chart.drawing.shades import MOST_STEPS
from veduta.core.chart.edits.clauses import remove
from veduta.core.chart.edits.registry import Index, change_definition, edit, get_item, is_number, test_formula
from veduta.core.chart.kinds import get_kind
from veduta.core.chart.kinds.layered import BETWEEN_TWO
from veduta.core.chart.look import Colour
from veduta.core.errors import DefinitionProblem
from veduta.core.model.model import Model
from veduta.core.query.measures import Measure

FILLING = ("bar", "area")


def _list_layers(definition: ChartDefinition, model: Model) -> list[Layer]:
    """The layers that the chart is drawn in now."""
    kind = choose_kind(definition, model)[0]
    return list(kind.list_layers(definition) or get_kind("layers").list_layers(definition))


def _set_layers(definition: ChartDefinition, layers: list[Layer], model: Model) -> ChartDefinition:
    """The chart drawn in these layers, lying if it lay before."""
    lies = choose_kind(definition, model)[0].lies(definition)
    settings = {**definition.settings, "direction": "lying" if lies else "upright"}
    return change_definition(definition, kind="layers", layers=tuple(layers), settings=settings)


@edit
def draw_measure(
    definition: ChartDefinition, model: Model, index: Index, how: How, axis: Literal["first", "second"] = "first"
) -> ChartDefinition:
    """Draw a measure its own way; the others stay as they are.

    Bars and areas of several measures share a layer, behind the others."""
    get_item(definition.measures, index)
    layers = []
    for layer in _list_layers(definition, model):
        others = tuple(i for i in layer.measures if i != index)
        if layer.how in BETWEEN_TWO or others == layer.measures:
            layers.append(layer)
        elif others:
            layers.append(layer.model_copy(update={"measures": others}))
    new = Layer(measures=(index,), how=how, axis=axis)
    same = [n for n, layer in enumerate(layers) if (layer.how, layer.axis) == (how, axis) and how in FILLING]
    if same:
        measures = tuple(sorted((*layers[same[0]].measures, index)))
        layers[same[0]] = layers[same[0]].model_copy(update={"measures": measures})
    else:
        layers = [new, *layers] if how in FILLING else [*layers, new]
    return _set_layers(definition, layers, model)


@edit
def set_layer(
    definition: ChartDefinition,
    model: Model,
    index: Index,
    how: How | None = None,
    axis: Literal["first", "second"] | None = None,
    colour: Colour | None = None,
    test: str | None = None,
    other: Colour | None = None,
    said: str | None = None,
    other_said: str | None = None,
    shade: Measure | Literal[""] | None = None,
    steps: Annotated[int, Field(ge=0, le=MOST_STEPS)] | None = None,
    dash: Literal["", "solid", "dashed", "dotted"] | None = None,
    width: float | Literal[""] | None = None,
    size: float | Literal[""] | None = None,
    opacity: float | Literal[""] | None = None,
    undivided: bool | None = None,
) -> ChartDefinition:
    """Change how a layer is drawn; an empty value goes back to the usual.

    A test is a formula over the chart's cells, written with the fields' names; a layer has a test, or a shade. Raises
    DefinitionProblem for a test that is not yes or no, and a shade that is not a number."""
    layers = _list_layers(definition, model)
    layer = get_item(tuple(layers), index)
    sent = {"how": how, "axis": axis, "colour": colour, "other": other, "dash": dash, "steps": steps}
    sent |= {"undivided": undivided}
    sent |= {"said": said and said.strip(), "other_said": other_said and other_said.strip()}
    changes: dict[str, Any] = {name: value for name, value in sent.items() if value is not None}
    numbers = {"width": width, "size": size, "opacity": opacity}
    changes |= {name: None if value == "" else value for name, value in numbers.items() if value is not None}
    if test is not None:
        changes["test"] = test_formula(test, model)
    if shade is not None:
        changes |= {"shade": _parse_shade(shade, model), "test": ""}
    elif changes.get("test"):
        changes["shade"] = None
    layers[index] = layer.model_copy(update=changes)
    return _set_layers(definition, layers, model)


def _parse_shade(by: Measure | Literal[""], model: Model) -> Measure | None:
    """What a shade is of. Raises DefinitionProblem if it is not a number."""
    if by == "":
        return None
    if not is_number(by, model):
        raise DefinitionProblem("A shade goes by a number.", hint="Choose a measure that is one.")
    return by


@edit
def add_layer(definition: ChartDefinition, model: Model, how: How, measures: tuple[Index, ...]) -> ChartDefinition:
    """Add a layer in front of the others, or behind them if it fills its ground or links dots."""
    for index in measures:
        get_item(definition.measures, index)
    layers, layer = _list_layers(definition, model), Layer(measures=measures, how=how)
    behind = how in FILLING or how in BETWEEN_TWO
    return _set_layers(definition, [layer, *layers] if behind else [*layers, layer], model)


@edit
def move_layer(definition: ChartDefinition, model: Model, index: Index, to: Index) -> ChartDefinition:
    """Draw a layer earlier, behind others, or later, in front of them."""
    layers = _list_layers(definition, model)
    layer = get_item(tuple(layers), index)
    layers.pop(index)
    layers.insert(to, layer)
    return _set_layers(definition, layers, model)


@edit
def remove_layer(definition: ChartDefinition, model: Model, index: Index) -> ChartDefinition:
    """Take a layer away. A measure that no other layer shows goes with it."""
    layers = _list_layers(definition, model)
    gone = get_item(tuple(layers), index)
    layers.pop(index)
    definition = _set_layers(definition, layers, model)
    drawn = {i for layer in layers for i in layer.measures}
    for measure in sorted(set(gone.measures) - drawn, reverse=True):
        if len(definition.measures) > 1:
            definition = remove(definition, model, "show", measure)
    return definition

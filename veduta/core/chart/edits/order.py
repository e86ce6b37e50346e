"""Edits of the order of what a clause names, and of series."""

from __future__ import annotations

from typing import Literal

from veduta.core.chart.definition import (
    ChartDefinition,
)
from veduta.core.chart.edits.layers import move_layer
from veduta.core.chart.edits.registry import Index, change_definition, edit, get_item
from veduta.core.chart.rewriting import renumber_measures
from veduta.core.model.model import Model
from veduta.core.query.filters import Value


@edit
def move(
    definition: ChartDefinition,
    model: Model,
    clause: Literal["show", "by", "panels", "only", "compare", "layer", "conditional"],
    index: Index,
    to: Index,
) -> ChartDefinition:
    """Put an entry of a clause before another one, or after it if it stood before it."""
    if clause == "layer":
        return move_layer(definition, model, index, to)
    name = {"compare": "references"}.get(clause, clause)
    items = definition.panels.by if clause == "panels" and definition.panels else getattr(definition, name) or ()
    order = list(range(len(items)))
    get_item(items, max(index, to))
    order.insert(to, order.pop(index))
    moved = tuple(items[i] for i in order)
    if clause == "panels" and definition.panels:
        return change_definition(definition, panels=definition.panels.model_copy(update={"by": moved}))
    if clause == "show":
        definition = renumber_measures(definition, [order.index(i) for i in range(len(order))])
    if clause == "by" and definition.sort and definition.sort.by != "measure":
        definition = change_definition(definition, sort=None)
    return change_definition(definition, **{name: moved})


@edit
def order_series(definition: ChartDefinition, model: Model, values: tuple[Value, ...] = ()) -> ChartDefinition:
    """Put the series into an order of their own, by the values that make them; nothing is the usual order."""
    return change_definition(definition, series_order=values)

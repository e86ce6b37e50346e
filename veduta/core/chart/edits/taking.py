"""The edit by which what another state of a chart has of some parts is taken into it."""

from __future__ import annotations

from typing import Any

from veduta.core.chart.definition import ChartDefinition, load_definition
from veduta.core.chart.edits.registry import edit
from veduta.core.chart.merging import ALL, replace_parts
from veduta.core.errors import DefinitionProblem
from veduta.core.model.model import Model


@edit
def take_parts(
    definition: ChartDefinition, model: Model, other: dict[str, Any], parts: tuple[str, ...]
) -> ChartDefinition:
    """Take some parts from another state, or all where these alone do not fit.

    Raises DefinitionProblem for a state that is not usable, or of another dataset, and for parts that there are not."""
    source = load_definition(other)
    if source.dataset != definition.dataset or not {*parts} <= ALL.keys():
        raise DefinitionProblem("That state is not one of this chart.", hint="Load the page again.")
    try:
        return replace_parts(definition, source, parts)
    except DefinitionProblem:
        return source

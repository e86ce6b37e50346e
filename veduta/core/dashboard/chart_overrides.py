"""What of a chart is other in one block than in the chart itself: parts of its definition, kept with the block."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from veduta.core.chart.definition import ChartDefinition, load_definition
from veduta.core.chart.merging import PARTS, get_part, put_part
from veduta.core.dashboard.block_looks import apply_block_look
from veduta.core.dashboard.definition import DashboardBlock, Letters
from veduta.core.errors import DefinitionProblem, NewerDefinition


def find_overrides(chart: ChartDefinition, here: ChartDefinition) -> dict[str, Any]:
    """The parts in which a chart `here` is other than the chart itself, as JSON.

    Raises DefinitionProblem for charts of different data."""
    if chart.dataset != here.dataset:
        raise DefinitionProblem("The chart is of other data now.", hint="Go back to the dashboard and begin again.")
    before, after = chart.model_dump(mode="json"), here.model_dump(mode="json")
    return {part: get_part(after, part) for part in PARTS if get_part(after, part) != get_part(before, part)}


def apply_overrides(chart: ChartDefinition, own: Mapping[str, Any]) -> ChartDefinition:
    """A chart with what is other in a block. Raises DefinitionProblem where that does not go together any more."""
    if not own:
        return chart
    data = chart.model_dump(mode="json")
    for part, value in own.items():
        put_part(data, part, value)
    try:
        return load_definition(data)
    except NewerDefinition:
        raise
    except DefinitionProblem as problem:
        raise DefinitionProblem(
            "What is other here only does not fit this chart any more.",
            hint="“Change it here only” in the block's menu lists it, to be taken away.",
        ) from problem


def make_block_chart(chart: ChartDefinition, block: DashboardBlock, letters: Letters = "") -> ChartDefinition:
    """A chart as its block shows it.

    With the block's overrides and texts, and the dashboard's font size if the chart sets none."""
    here = apply_block_look(apply_overrides(chart, block.own), block.title, block.look)
    if not letters or here.look.whole.size:
        return here
    whole = here.look.whole.model_copy(update={"size": letters})
    return here.model_copy(update={"look": here.look.model_copy(update={"whole": whole})})


def make_chart_to_change(chart: ChartDefinition, block: DashboardBlock) -> ChartDefinition:
    """A chart with all that is other in a block, its texts as they are written there."""
    texts = {"title": block.title, "note": block.look.subtitle, "foot": block.look.note}
    return apply_overrides(chart, block.own).model_copy(update={name: text for name, text in texts.items() if text})


def list_overridden_texts(chart: ChartDefinition, here: ChartDefinition) -> dict[str, str]:
    """The texts that a block gives a chart which reads as it does `here`; "" where that is as in the chart."""
    texts = {"title": (chart.title, here.title), "subtitle": (chart.note, here.note), "note": (chart.foot, here.foot)}
    return {name: own if own != usual else "" for name, (usual, own) in texts.items()}

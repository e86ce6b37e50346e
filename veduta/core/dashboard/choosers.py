"""Controls by which readers choose what charts show: a measure, what it is by, or by which periods."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.text_placeholders import has_values
from veduta.core.dashboard.controls import ChooserChoice, Control, Option


def apply_choices(chart: ChartDefinition, chosen: Iterable[tuple[Control, ChooserChoice]]) -> ChartDefinition:
    """A chart with what readers have chosen for it, of those of its data.

    What was sorted or kept by a measure that is replaced goes by the one in its place. A title without values in it
    gives way to what the chart then says."""
    changed = chart
    for control, choice in chosen:
        if control.dataset == chart.dataset and choice.option < len(control.options):
            changed = _apply_option(changed, control.options[choice.option])
    if changed != chart and not has_values(changed.title):
        changed = changed.model_copy(update={"title": ""})
    return changed


def _apply_option(chart: ChartDefinition, option: Option) -> ChartDefinition:
    said: dict[str, Any] = {}
    if option.measure:
        old = chart.measures[0]
        said["show"] = (option.measure, *chart.show[1:])
        if chart.keep and chart.keep.by == old:
            said["keep"] = chart.keep.model_copy(update={"by": option.measure})
        if chart.sort and chart.sort.measure == old:
            said["sort"] = chart.sort.model_copy(update={"measure": option.measure})
    elif option.by and chart.by:
        said["by"] = (option.by, *chart.by[1:])
        if chart.sort and (chart.sort.by != "measure" or option.by.is_time_axis):
            said["sort"] = None  # an order of its own was of the values that are gone
    elif option.grain and chart.by and chart.by[0].is_time_axis:
        said["by"] = (chart.by[0].model_copy(update={"grain": option.grain}), *chart.by[1:])
    return chart.model_copy(update=said)

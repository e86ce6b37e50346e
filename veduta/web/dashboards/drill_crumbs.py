"""How blocks are drilled as they are read, in words, and where they lead."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from django.template.loader import render_to_string

from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.drilling import DrillStep
from veduta.core.dashboard.definition import DashboardBlock
from veduta.core.data.fields import Schema
from veduta.core.number_format import REST_POINT
from veduta.core.phrases import lower_first
from veduta.core.query.filters import label_grouping
from veduta.web.charts.drill_menu import label_group_value, leads_of
from veduta.web.dashboards.session import DashboardSession


@dataclass(frozen=True)
class Crumb:
    """A step in words: the value into which it leads, "" for all, and what the chart is by then."""

    value: str
    by: str


def list_crumbs(reading: DashboardSession, block: DashboardBlock) -> list[Crumb]:
    """The steps by which a block is drilled. Raises VedutaError for a chart that is not usable."""
    made = reading.apply_drills(block)
    schema = reading.get_schema_by_id(made.chart.dataset)
    return [_make_crumb(step, stage, schema) for step, stage in zip(made.steps, made.stages, strict=True)]


def _make_crumb(step: DrillStep, stage: ChartDefinition, schema: Schema) -> Crumb:
    to = lower_first(label_grouping(step.to, schema))
    if step.unfold:
        return Crumb("", f"{lower_first(label_grouping(stage.groups[step.position], schema))} and {to}")
    return Crumb(", ".join(label_group_value(value, group, schema) for group, value in step.list_filtered(stage)), to)


def make_drill_data(reading: DashboardSession, block: DashboardBlock) -> dict[str, Any]:
    """How a block is drilled, as its page needs it.

    The steps taken with their crumbs, where its dimensions lead, and what a selection of its marks is by: its
    dimensions, and the values into which it is drilled."""
    made = reading.apply_drills(block)
    chart = made.chart
    model = reading.get_model(reading.get_dataset(chart.dataset))
    within = {
        group.field: (group, value)
        for step, stage in zip(made.steps, made.stages, strict=True)
        for group, value in step.list_filtered(stage)
        if value != REST_POINT
    }
    return {
        "steps": [step.model_dump(mode="json", exclude_defaults=True) for step in made.steps],
        "ways": leads_of(chart, model),
        "others": chart.drill.others and not chart.drill.off,
        "by": [group.model_dump(mode="json", exclude_defaults=True) for group in chart.groups],
        "within": [[group.model_dump(mode="json", exclude_defaults=True), value] for group, value in within.values()],
        "crumbs": _render_crumbs(reading, block) if made.steps else "",
    }


def _render_crumbs(reading: DashboardSession, block: DashboardBlock) -> str:
    stages = reading.apply_drills(block).stages
    schema = reading.get_schema_by_id(stages[0].dataset)
    first = ", ".join(label_grouping(group, schema) for group in stages[0].groups) or "Total"
    return render_to_string("dashboards/crumbs.html", {"first": first, "crumbs": list_crumbs(reading, block)})


def list_drill_notes(reading: DashboardSession, block: DashboardBlock) -> list[str]:
    """What is to be said of steps that lead nowhere any more."""
    asked, taken = len(reading.state.drills.get(block.id, ())), len(reading.apply_drills(block).steps)
    return ["It is not drilled as far as it was: what it led to is not there any more."] if taken < asked else []

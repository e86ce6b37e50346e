"""How blocks are drilled as they are read, in words, and where they lead."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from django.template.loader import render_to_string

from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.drilling import Step
from veduta.core.dashboard.definition import Block
from veduta.core.data.fields import Schema
from veduta.core.formats import REST_POINT
from veduta.core.query.filters import grouping_words
from veduta.core.words import in_sentence
from veduta.web.charts.leads import leads_of, words_of_value
from veduta.web.dashboards.reading import Reading


@dataclass(frozen=True)
class Crumb:
    """A step in words: the value into which it leads, "" for all, and what the chart is by then."""

    value: str
    by: str


def crumbs(reading: Reading, block: Block) -> list[Crumb]:
    """The steps by which a block is drilled. Raises VedutaError for a chart that is not usable."""
    made = reading.drilled(block)
    schema = reading.schema_of(made.chart.dataset)
    return [_crumb(step, stage, schema) for step, stage in zip(made.steps, made.stages, strict=True)]


def _crumb(step: Step, stage: ChartDefinition, schema: Schema) -> Crumb:
    to = in_sentence(grouping_words(step.to, schema))
    if step.unfold:
        return Crumb("", f"{in_sentence(grouping_words(stage.groups[step.position], schema))} and {to}")
    return Crumb(", ".join(words_of_value(value, group, schema) for group, value in step.narrowed(stage)), to)


def drill_data(reading: Reading, block: Block) -> dict[str, Any]:
    """How a block is drilled, as its page needs it: the steps taken and their crumbs, where its dimensions lead, and
    what a selection of its marks is by: its dimensions, and the values into which it is drilled."""
    made = reading.drilled(block)
    chart = made.chart
    model = reading.model(reading.dataset(chart.dataset))
    within = {
        group.field: (group, value)
        for step, stage in zip(made.steps, made.stages, strict=True)
        for group, value in step.narrowed(stage)
        if value != REST_POINT
    }
    return {
        "steps": [step.model_dump(mode="json", exclude_defaults=True) for step in made.steps],
        "ways": leads_of(chart, model),
        "others": chart.drill.others and not chart.drill.off,
        "by": [group.model_dump(mode="json", exclude_defaults=True) for group in chart.groups],
        "within": [[group.model_dump(mode="json", exclude_defaults=True), value] for group, value in within.values()],
        "crumbs": _crumbs_html(reading, block) if made.steps else "",
    }


def _crumbs_html(reading: Reading, block: Block) -> str:
    stages = reading.drilled(block).stages
    schema = reading.schema_of(stages[0].dataset)
    first = ", ".join(grouping_words(group, schema) for group in stages[0].groups) or "Total"
    return render_to_string("dashboards/crumbs.html", {"first": first, "crumbs": crumbs(reading, block)})


def notes_of(reading: Reading, block: Block) -> list[str]:
    """What is to be said of steps that lead nowhere any more."""
    asked, taken = len(reading.state.drills.get(block.id, ())), len(reading.drilled(block).steps)
    return ["It is not drilled as far as it was: what it led to is not there any more."] if taken < asked else []

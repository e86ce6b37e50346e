"""What readers have selected in the blocks of a dashboard: what can be done with it, and its values put together."""

from __future__ import annotations

import uuid
from typing import Any

from django.http import Http404, HttpResponse, JsonResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from veduta.core.calendar import Grouping
from veduta.core.chart.drilling import step_taken
from veduta.core.chart.together import put_together
from veduta.core.dashboard.definition import Block, Selection
from veduta.core.data.fields import Schema
from veduta.core.errors import VedutaError
from veduta.web.accounts.access import Request, signed_in
from veduta.web.charts.leads import words_of_value
from veduta.web.common.requests import Line, Sent, asked
from veduta.web.dashboards.access import may_download
from veduta.web.dashboards.asking import reading_for
from veduta.web.dashboards.reading import Reading

MODES = (
    ("focus", "Show only these", "The other blocks show nothing else"),
    ("leave_out", "Leave these out", "The other blocks show all but these"),
    ("highlight", "Set these off", "The other blocks show all, with these in colour"),
)
MOST_VALUES = 100


class Named(Sent):
    name: Line = ""


@require_GET
@signed_in
def selection(request: Request, pk: uuid.UUID, number: int) -> HttpResponse:
    """What can be done with a selection, by its place among those of the state in the address."""
    reading = reading_for(request, pk)
    chosen, groups, schema = _chosen(reading, number)
    context = {
        "number": number,
        "selection": chosen,
        "modes": MODES,
        "values": [_words(point, groups, schema) for point in chosen.points[:MOST_VALUES]],
        "more": max(0, len(chosen.points) - MOST_VALUES),
        "goes_together": _goes_together(reading, chosen),
        "may_see_rows": may_download(request.user, reading.dashboard) and not chosen.dashboard,
    }
    return render(request, "dashboards/selection.html", context)


@require_GET
@signed_in
def together(request: Request, pk: uuid.UUID, number: int) -> JsonResponse:
    """The step by which the block of a selection shows its values together, under a name."""
    reading = reading_for(request, pk)
    chosen, _, _ = _chosen(reading, number)
    block = reading.block(chosen.block)
    chart = reading.chart(block)
    model = reading.model(reading.dataset(chart.dataset))
    step = put_together(chart, chosen.own_points(chart), asked(request, Named).name, model)
    step_taken(chart, step, model)
    return JsonResponse({"block": block.id, "step": step.model_dump(mode="json", exclude_defaults=True)})


def _chosen(reading: Reading, number: int) -> tuple[Selection, tuple[Grouping, ...], Schema]:
    """A selection with the dimensions of its points. Raises Http404 for one that is not there, or is of nothing."""
    selections = reading.state.selections
    source = reading.source_of(selections[number]) if number < len(selections) else None
    if source is None:
        raise Http404
    chart, schema = source
    return selections[number], selections[number].by or chart.groups, schema


def _words(point: tuple[Any, ...], groups: tuple[Grouping, ...], schema: Schema) -> str:
    return ", ".join(words_of_value(value, group, schema) for value, group in zip(point, groups, strict=False))


def _goes_together(reading: Reading, chosen: Selection) -> bool:
    """Whether its values can be put together in the block in which they are selected."""
    block = reading.definition.block(chosen.block)
    if chosen.dashboard or not isinstance(block, Block):
        return False
    try:
        chart = reading.chart(block)
        model = reading.model(reading.dataset(chart.dataset))
        points = chosen.own_points(chart)
        step_taken(chart, put_together(chart, points, "", model), model)
    except VedutaError:
        return False
    return len(points) > 1

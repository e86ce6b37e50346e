"""Drilling a dashboard's blocks as they are read: what is offered for a block or a mark, and the values beside one."""

from __future__ import annotations

import uuid
from typing import Annotated

from django.http import HttpResponse, JsonResponse
from django.shortcuts import render
from django.template.loader import render_to_string
from django.views.decorators.http import require_GET
from pydantic import Field as Attribute

from veduta.core.chart.drawing.picture import plain_point
from veduta.core.chart.question import work_out
from veduta.core.errors import VedutaError
from veduta.web.accounts.access import Request, signed_in
from veduta.web.charts.leads import leads_offered, words_of_value
from veduta.web.common.requests import Point, Sent, Text, Whole, asked, part_of
from veduta.web.dashboards.asking import reading_for
from veduta.web.modelling.services import context_now

MOST_MEMBERS = 1_000


class MarkAsked(Sent):
    """A mark, by its point, as JSON; nothing is the whole block."""

    point: Text = ""


class StepAsked(Sent):
    step: Annotated[Whole, Attribute(ge=0)] = 0


@require_GET
@signed_in
def drill(request: Request, pk: uuid.UUID, block_id: str) -> HttpResponse:
    """Where a block leads as it is read, or one of its marks."""
    reading = reading_for(request, pk)
    block = reading.block(block_id)
    chart = reading.chart(block)
    model = reading.model(reading.dataset(chart.dataset))
    point = part_of(asked(request, MarkAsked).point, Point)
    context = leads_offered(chart, model, point) | {"title": reading.name_of(block)}
    return render(request, "charts/leads.html", context)


@require_GET
@signed_in
def members(request: Request, pk: uuid.UUID, block_id: str) -> JsonResponse:
    """The values among which the one into which a block is drilled by a step stands, in the order of the chart that it
    was then; those before and after it are a list of one, or of none."""
    reading = reading_for(request, pk)
    block = reading.block(block_id)
    made, number = reading.drilled(block), asked(request, StepAsked).step
    if number >= len(made.steps) or made.steps[number].into is None:
        raise VedutaError("That step is not there any more.", hint="Load the page again.")
    stage, position = made.stages[number], made.steps[number].position
    now = dict(made.steps[number].narrowed(stage)).get(stage.groups[position])
    model, following = reading.asked(block, stage)
    result = work_out(stage, model, context_now(model), tuple(following.filters))[2]
    column = result.dimensions[position]
    values = dict.fromkeys(result.value(row, column.key) for row in result.frame.iter_rows(named=True))
    plain = plain_point(list(values))
    at = plain.index(now) if now in plain else -1
    listed = [
        {"value": value, "words": words_of_value(value, stage.groups[position], model.schema), "chosen": place == at}
        for place, value in enumerate(plain[:MOST_MEMBERS])
    ]
    context = {"members": listed, "more": len(plain) - len(listed)}
    before, after = (at - 1, at + 1) if at >= 0 else (-1, len(plain))
    return JsonResponse(
        {
            "before": plain[before : before + 1] if before >= 0 else [],
            "after": plain[after : after + 1],
            "html": render_to_string("dashboards/members.html", context),
        }
    )

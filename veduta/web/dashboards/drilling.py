"""Drilling a dashboard's blocks as they are read: what is offered for a block or a mark, and the values beside one."""

from __future__ import annotations

import uuid
from typing import Annotated

from django.http import HttpResponse, JsonResponse
from django.shortcuts import render
from django.template.loader import render_to_string
from django.views.decorators.http import require_GET
from pydantic import Field

from veduta.core.chart.drawing.picture import simplify_point
from veduta.core.chart.question import work_out
from veduta.core.errors import VedutaError
from veduta.web.accounts.access import Request, require_sign_in
from veduta.web.charts.drill_menu import label_group_value, leads_offered
from veduta.web.common.requests import Point, RequestModel, Text, Whole, parse_query, validate_part
from veduta.web.dashboards.view_requests import open_session
from veduta.web.modelling.services import make_current_context

MOST_MEMBERS = 1_000


class MarkAsked(RequestModel):
    """A mark, by its point, as JSON; nothing is the whole block."""

    point: Text = ""


class StepAsked(RequestModel):
    step: Annotated[Whole, Field(ge=0)] = 0


@require_GET
@require_sign_in
def drill_block(request: Request, pk: uuid.UUID, block_id: str) -> HttpResponse:
    """Where a block leads as it is read, or one of its marks."""
    reading = open_session(request, pk)
    block = reading.get_block(block_id)
    chart = reading.get_chart(block)
    model = reading.get_model(reading.get_dataset(chart.dataset))
    point = validate_part(parse_query(request, MarkAsked).point, Point)
    context = leads_offered(chart, model, point) | {"title": reading.name_of(block)}
    return render(request, "charts/leads.html", context)


@require_GET
@require_sign_in
def list_members(request: Request, pk: uuid.UUID, block_id: str) -> JsonResponse:
    """The values next to the one that a drill step went into.

    In the order of the chart as it was then; the values before and after it are each a list of one, or of none."""
    reading = open_session(request, pk)
    block = reading.get_block(block_id)
    made, number = reading.apply_drills(block), parse_query(request, StepAsked).step
    if number >= len(made.steps) or made.steps[number].into is None:
        raise VedutaError("That step is not there any more.", hint="Load the page again.")
    stage, position = made.stages[number], made.steps[number].position
    now = dict(made.steps[number].list_filtered(stage)).get(stage.groups[position])
    model, following = reading.prepare(block, stage)
    result = work_out(stage, model, make_current_context(model), tuple(following.filters))[2]
    column = result.dimensions[position]
    values = dict.fromkeys(result.get_value(row, column.key) for row in result.frame.iter_rows(named=True))
    plain = simplify_point(list(values))
    at = plain.index(now) if now in plain else -1
    listed = [
        {"value": value, "words": label_group_value(value, stage.groups[position], model.schema), "chosen": place == at}
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

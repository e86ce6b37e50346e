"""What readers have selected in the blocks of a dashboard: what can be done with it, and its values put together."""

from __future__ import annotations

import uuid
from typing import Any

from django.http import Http404, HttpResponse, JsonResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from veduta.core.calendar import Grouping
from veduta.core.chart.drilling import apply_drill_step
from veduta.core.chart.value_groups import put_together
from veduta.core.dashboard.definition import DashboardBlock, Selection
from veduta.core.data.fields import Schema
from veduta.core.errors import VedutaError
from veduta.web.accounts.access import Request, require_sign_in
from veduta.web.charts.drill_menu import label_group_value
from veduta.web.common.requests import Line, RequestModel, parse_query
from veduta.web.dashboards.access import may_download
from veduta.web.dashboards.session import DashboardSession
from veduta.web.dashboards.view_requests import open_session

MODES = (
    ("focus", "Show only these", "The other blocks show nothing else"),
    ("leave_out", "Leave these out", "The other blocks show all but these"),
    ("highlight", "Set these off", "The other blocks show all, with these in colour"),
)
MOST_VALUES = 100


class GroupNamed(RequestModel):
    name: Line = ""


@require_GET
@require_sign_in
def show_selection(request: Request, pk: uuid.UUID, number: int) -> HttpResponse:
    """What can be done with a selection, by its place among those of the state in the address."""
    reading = open_session(request, pk)
    chosen, groups, schema = _find_selected(reading, number)
    context = {
        "number": number,
        "selection": chosen,
        "modes": MODES,
        "values": [_label_point(point, groups, schema) for point in chosen.points[:MOST_VALUES]],
        "more": max(0, len(chosen.points) - MOST_VALUES),
        "goes_together": _goes_together(reading, chosen),
        "may_see_rows": may_download(request.user, reading.dashboard) and not chosen.dashboard,
    }
    return render(request, "dashboards/selection.html", context)


@require_GET
@require_sign_in
def group_selected(request: Request, pk: uuid.UUID, number: int) -> JsonResponse:
    """The step by which the block of a selection shows its values together, under a name."""
    reading = open_session(request, pk)
    chosen, _, _ = _find_selected(reading, number)
    block = reading.get_block(chosen.block)
    chart = reading.get_chart(block)
    model = reading.get_model(reading.get_dataset(chart.dataset))
    step = put_together(chart, chosen.list_own_points(chart), parse_query(request, GroupNamed).name, model)
    apply_drill_step(chart, step, model)
    return JsonResponse({"block": block.id, "step": step.model_dump(mode="json", exclude_defaults=True)})


def _find_selected(reading: DashboardSession, number: int) -> tuple[Selection, tuple[Grouping, ...], Schema]:
    """A selection with the dimensions of its points. Raises Http404 for one that is not there, or is of nothing."""
    selections = reading.state.selections
    source = reading.find_selection_source(selections[number]) if number < len(selections) else None
    if source is None:
        raise Http404
    chart, schema = source
    return selections[number], selections[number].by or chart.groups, schema


def _label_point(point: tuple[Any, ...], groups: tuple[Grouping, ...], schema: Schema) -> str:
    return ", ".join(label_group_value(value, group, schema) for value, group in zip(point, groups, strict=False))


def _goes_together(reading: DashboardSession, chosen: Selection) -> bool:
    """Whether its values can be put together in the block in which they are selected."""
    block = reading.definition.find_block(chosen.block)
    if chosen.dashboard or not isinstance(block, DashboardBlock):
        return False
    try:
        chart = reading.get_chart(block)
        model = reading.get_model(reading.get_dataset(chart.dataset))
        points = chosen.list_own_points(chart)
        apply_drill_step(chart, put_together(chart, points, "", model), model)
    except VedutaError:
        return False
    return len(points) > 1

"""What of a chart is other in one block only: changed in the workbench, listed and taken away in the editor."""

from __future__ import annotations

import uuid
from dataclasses import dataclass

from django.http import Http404, HttpResponse, JsonResponse
from django.shortcuts import render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST

from veduta.core.chart.merging import PARTS
from veduta.core.dashboard.chart_overrides import (
    apply_overrides,
    find_overrides,
    list_overridden_texts,
    make_chart_to_change,
)
from veduta.core.dashboard.definition import DashboardBlock, load_dashboard
from veduta.core.errors import VedutaError
from veduta.web.accounts.access import Request, require_builder
from veduta.web.charts.models import Chart
from veduta.web.charts.services import list_differences
from veduta.web.charts.views import ChartSent, render_workbench
from veduta.web.common.requests import parse_json
from veduta.web.dashboards import services
from veduta.web.dashboards.access import find_dashboard
from veduta.web.dashboards.block_looks import BlockAsked
from veduta.web.dashboards.models import Dashboard
from veduta.web.modelling.services import load_model_for


@dataclass(frozen=True)
class OtherChart:
    """A part of a chart that is other here, with what it is here and in the chart where that can be said."""

    part: str
    name: str
    here: str = ""
    in_chart: str = ""


def _get_block_and_chart(dashboard: Dashboard, block_id: str) -> tuple[DashboardBlock, Chart]:
    """A block of a draft and its chart. Raises Http404 for one that is gone or has none."""
    block = dashboard.load_draft().find_block(block_id)
    chart = _get_chart(block)
    if block is None or chart is None:
        raise Http404
    return block, chart


def _get_chart(block: DashboardBlock | None) -> Chart | None:
    if block is None or block.kind != "chart":
        return None
    return Chart.objects.select_related("dataset", "dataset__current").filter(pk=block.chart, deleted_at=None).first()


@require_GET
@require_builder
def show_workbench(request: Request, pk: uuid.UUID, block_id: str) -> HttpResponse:
    """The workbench with a block's chart, to be changed here only."""
    dashboard = find_dashboard(request.user, pk, edit=True)
    block, chart = _get_block_and_chart(dashboard, block_id)
    here = {
        "name": dashboard.name,
        "pk": dashboard.pk,
        "back": f"{reverse('dashboard-edit', args=[pk])}#block-{block_id}",
    }
    start = {"saved": True, "here": reverse("dashboard-here-keep", args=[pk, block_id]), "block": block_id}
    definition = make_chart_to_change(chart.load(), block)
    return render_workbench(request, chart, definition, start, {"here": here, "stands_in": block_id})


@require_POST
@require_builder
def keep(request: Request, pk: uuid.UUID, block_id: str) -> JsonResponse:
    """Keep in a block in what its chart, as it is on the page, is other than the chart that is saved."""
    dashboard = find_dashboard(request.user, pk, edit=True)
    _, chart = _get_block_and_chart(dashboard, block_id)
    saved, here = chart.load(), parse_json(request, ChartSent).load(chart)
    change = {
        "edit": "set_own",
        "block": block_id,
        "own": find_overrides(saved, here),
        **list_overridden_texts(saved, here),
    }
    services.edit_draft(request.user, dashboard, change)
    return JsonResponse({"address": f"{reverse('dashboard-edit', args=[pk])}#block-{block_id}"})


@require_POST
@require_builder
def show_other_charts(request: Request, pk: uuid.UUID) -> HttpResponse:
    """What of a block's chart is other here only, to be taken away."""
    find_dashboard(request.user, pk, edit=True)
    asked = parse_json(request, BlockAsked)
    block = load_dashboard(asked.definition).find_block(asked.block)
    chart = _get_chart(block)
    if block is None or chart is None:
        raise VedutaError("The chart of that block is not there any more.", hint="Put another one there.")
    context = {"block": block, "others": _list_other_charts(request, chart, block), "chart": chart}
    return render(request, "dashboards/here.html", context)


def _list_other_charts(request: Request, chart: Chart, block: DashboardBlock) -> list[OtherChart]:
    saved = chart.load()
    said = {}
    try:
        here = apply_overrides(saved, block.own)
        schema = load_model_for(chart.dataset, request.user).schema
        said = {each["clause"]: each for each in list_differences(here, saved, schema)}
    except VedutaError:
        pass  # what does not fit any more is taken away here
    found = []
    for part in PARTS:
        if part in block.own:
            words = said.get("As" if part == "kind" else "Sorted" if part == "sort" else part.capitalize(), {})
            found.append(OtherChart(part, PARTS[part], words.get("mine", ""), words.get("theirs", "")))
    return found

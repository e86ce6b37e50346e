"""Dashboards as they are made: the editor, its edits, drafts, versions and who they are shared with."""

from __future__ import annotations

import logging
import uuid
from typing import Annotated, Any

from django.contrib import messages
from django.contrib.auth.models import Group
from django.http import Http404, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.template.loader import render_to_string
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST
from pydantic import BeforeValidator

from veduta.core.chart.palettes import PALETTES
from veduta.core.chart.value_colours import load_colour_lists
from veduta.core.dashboard.arrangements import STARTS
from veduta.core.dashboard.definition import DashboardDefinition, ViewState, load_dashboard
from veduta.core.dashboard.edits import apply_edit, place_words
from veduta.core.dashboard.mobile_layout import HIGHEST, LOWEST
from veduta.core.dashboard.print_layout import SIZES, count_head_rows, split_into_sheets
from veduta.core.errors import VedutaError
from veduta.web.accounts.access import Request, require_builder, require_sign_in
from veduta.web.accounts.models import User
from veduta.web.charts.models import Chart
from veduta.web.common.markdown import render_markdown
from veduta.web.common.requests import (
    Flag,
    Line,
    Maybe,
    Object,
    RequestModel,
    Text,
    parse_form,
    parse_json,
    read_rows,
    wants_json,
)
from veduta.web.dashboards import services, tasks
from veduta.web.dashboards.access import find_dashboard, list_dashboards, list_grants, may_edit
from veduta.web.dashboards.block_looks import PageAsked, store_texts
from veduta.web.dashboards.block_shells import make_shells, narrow_rows, render_shells_to_edit
from veduta.web.dashboards.filter_bar import list_filter_bar
from veduta.web.dashboards.filtering import filter_words
from veduta.web.dashboards.layout_styles import write_background_styles
from veduta.web.dashboards.miniatures import add_glyphs, list_pages_to_copy, make_miniature
from veduta.web.dashboards.models import Dashboard
from veduta.web.dashboards.publishing import freeze_charts
from veduta.web.dashboards.session import DashboardSession
from veduta.web.datasets.models import Dataset
from veduta.web.images.services import list_pictures
from veduta.web.modelling.services import load_whole_model
from veduta.web.palettes.models import Palette

logger = logging.getLogger("veduta.dashboards")


class DraftChangeSent(RequestModel):
    """An edit of a draft as it stands on the page."""

    definition: Object
    change: Object


class FacesAsked(RequestModel):
    """Blocks of a draft as it stands on the page."""

    definition: Object
    blocks: list[Line]


class ColourRow(RequestModel):
    """A field, a value and its colour; fields and values of several with · between them."""

    fields: Line = ""
    values: Line = ""
    colour: Line = ""


class ColoursSent(RequestModel):
    rows: Annotated[list[ColourRow], BeforeValidator(read_rows)] = []
    own: Flag = False


class ControlSent(RequestModel):
    dataset: Maybe = None
    field: Line = ""
    parameter: Line = ""


class ChartPlaced(RequestModel):
    """A chart, and the empty place it was made for, if there is one."""

    chart: Maybe = None
    place: Line = ""


class Markdown(RequestModel):
    text: Text = ""


class DashboardNamed(RequestModel):
    name: Line = ""


class Grant(RequestModel):
    who: Line = ""
    level: Line = ""
    download: Flag = False


@require_POST
@require_builder
def create_dashboard_page(request: Request) -> HttpResponse:
    dashboard = services.create_dashboard(request.user, parse_form(request, DashboardNamed).name)
    if wants_json(request):
        return JsonResponse({"id": str(dashboard.pk)})
    return redirect("dashboard-edit", dashboard.pk)


@require_GET
@require_builder
def edit(request: Request, pk: uuid.UUID) -> HttpResponse:
    dashboard = find_dashboard(request.user, pk, edit=True)
    definition = dashboard.load_draft()
    datasets = _list_datasets()
    like = list_pages_to_copy(request.user, dashboard)
    context = {
        "dashboard": dashboard,
        "start": {
            "id": str(pk),
            "name": dashboard.name,
            "revision": dashboard.revision,
            "definition": definition.model_dump(mode="json"),
            "like": [each["blocks"] for each in like],
            "published": dashboard.published.number if dashboard.published else None,
        },
        "pictures": list_pictures(),
        "colleagues": tasks.list_colleagues(request.user),
        "starts": [(start, make_miniature(start.blocks)) for start in STARTS],
        "like": like,
        "datasets": datasets,
        "begin_from": _find_dataset_used(definition, request.user),
        "palettes": _list_palettes(),
        "field_names": sorted({field.name for each in datasets for field in each["fields"]}, key=str.casefold),
        "versions": dashboard.publications.select_related("published_by")[:50],
    }
    return render(request, "dashboards/edit.html", context)


def _list_datasets() -> list[dict[str, Any]]:
    """The datasets that blocks can be of, each with its fields of rows and its parameters."""
    datasets = []
    for dataset in Dataset.objects.filter(deleted_at=None, current__isnull=False):
        model = load_whole_model(dataset)
        fields = [field for field in model.schema.visible if field.level != "aggregate"]
        datasets.append({"dataset": dataset, "fields": fields, "parameters": model.definition.parameters})
    return datasets


@require_GET
@require_builder
def list_control_fields(request: Request, pk: uuid.UUID) -> HttpResponse:
    """What a control can be on: fields and parameters, for the list that offers them."""
    find_dashboard(request.user, pk, edit=True)
    return render(request, "dashboards/_field_options.html", {"datasets": _list_datasets()})


@require_GET
@require_builder
def list_charts_to_add(request: Request, pk: uuid.UUID) -> HttpResponse:
    """The charts that a block can show, for the list that offers them."""
    find_dashboard(request.user, pk, edit=True)
    charts = add_glyphs(Chart.objects.filter(deleted_at=None).select_related("dataset"))
    return render(request, "dashboards/_chart_options.html", {"charts": charts})


def _find_dataset_used(definition: DashboardDefinition, user: User) -> Any:
    """The likeliest dataset of a new chart.

    That of the draft's last chart, or of the last chart that somebody made."""
    wanted = [block.chart for block in definition.charts if block.chart]
    own = Chart.objects.filter(deleted_at=None, updated_by=user)
    newest = (Chart.objects.filter(pk__in=wanted) if wanted else own).order_by("-updated_at")
    return newest.values_list("dataset", flat=True).first()


def _list_palettes() -> list[tuple[str, str, list[Palette]]]:
    """The palettes that a dashboard can use, by kind: the kind, its purpose, and they."""
    there = list(Palette.objects.filter(deleted_at=None))
    kinds = [(kind, words, [each for each in there if each.kind == kind]) for kind, (words, *_) in PALETTES.items()]
    return [(kind, words, own) for kind, words, own in kinds if own]


@require_POST
@require_builder
def place(request: Request, pk: uuid.UUID) -> JsonResponse:
    placed = parse_json(request, ChartPlaced)
    dashboard = get_object_or_404(Dashboard, pk=pk, deleted_at=None)
    if not (may_edit(request.user, dashboard) or tasks.may_fill(request.user, dashboard, placed.place)):
        raise Http404
    chart = Chart.objects.filter(pk=placed.chart, deleted_at=None).first()
    if chart is None:
        raise VedutaError("That chart does not exist any more.")
    if placed.place:
        tasks.fill(request.user, dashboard, chart, placed.place)
    else:
        services.place_chart(request.user, dashboard, chart)
    return JsonResponse({"address": _find_next_page(request.user, dashboard)})


def _find_next_page(user: User, dashboard: Dashboard) -> str:
    return reverse("dashboard-edit", args=[dashboard.pk]) if may_edit(user, dashboard) else reverse("inbox")


@require_GET
@require_builder
def list_choices(request: Request) -> HttpResponse:
    """The dashboards a chart can be placed on."""
    editable = [d for d in list_dashboards(request.user) if may_edit(request.user, d)]
    return render(request, "dashboards/choices.html", {"dashboards": editable})


@require_POST
@require_builder
def create_control(request: Request, pk: uuid.UUID) -> JsonResponse:
    find_dashboard(request.user, pk, edit=True)
    wanted = parse_json(request, ControlSent)
    dataset = Dataset.objects.filter(pk=wanted.dataset, deleted_at=None).first()
    if dataset is None:
        raise VedutaError("That dataset does not exist any more.")
    made = services.make_control(dataset, wanted.field, wanted.parameter)
    return JsonResponse(made.model_dump(mode="json"))


@require_POST
@require_builder
def change(request: Request, pk: uuid.UUID) -> JsonResponse:
    """A draft after an edit; nothing is kept yet."""
    dashboard = find_dashboard(request.user, pk, edit=True)
    asked = parse_json(request, DraftChangeSent)
    definition = load_dashboard(asked.definition)
    changed = apply_edit(definition, store_texts(asked.change, definition, dashboard, request.user))
    moved = asked.change.get("blocks") or [asked.change.get("block", "")]
    return JsonResponse({"definition": changed.model_dump(mode="json"), "said": place_words(changed, moved[0])})


@require_POST
@require_builder
def render_faces(request: Request, pk: uuid.UUID) -> JsonResponse:
    """The HTML of blocks of a draft as it stands on the page, by their names, and of which data its charts are."""
    dashboard = find_dashboard(request.user, pk, edit=True)
    asked = parse_json(request, FacesAsked)
    definition = freeze_charts(load_dashboard(asked.definition))
    reading = DashboardSession(dashboard, definition, ViewState(), request.user)
    grounds = " ".join(write_background_styles(page, reading.paints) for page in definition.pages)
    return JsonResponse(
        {
            "faces": render_shells_to_edit(reading, asked.blocks),
            "grounds": grounds,
            "filters": filter_words(reading),
            "datasets": reading.datasets,
        }
    )


@require_POST
@require_builder
def save_colours(request: Request, pk: uuid.UUID) -> JsonResponse:
    """Colours of values as they are written in the editor, for its definition."""
    find_dashboard(request.user, pk, edit=True)
    asked = parse_json(request, ColoursSent)
    lists = load_colour_lists((row.fields, row.values, row.colour) for row in asked.rows)
    return JsonResponse({"colours": [each.model_dump(mode="json") for each in lists], "own_colours": asked.own})


@require_POST
@require_builder
def render_text(request: Request) -> JsonResponse:
    """Markdown as safe HTML, for the editor's preview."""
    return JsonResponse({"html": render_markdown(parse_json(request, Markdown).text[:20_000])})


@require_POST
@require_builder
def show_print_layout(request: Request, pk: uuid.UUID) -> JsonResponse:
    """Where the sheets of a page end, and what can be done about blocks that would be cut."""
    dashboard, asked = find_dashboard(request.user, pk, edit=True), parse_json(request, PageAsked)
    definition = freeze_charts(load_dashboard(asked.definition))
    page = definition.find_page(asked.page) or definition.pages[0]
    reading = DashboardSession(dashboard, definition, ViewState(), request.user)
    tops = [block for block in page.blocks if not block.group] if page.kind == "flowing" else []
    head = count_head_rows([f"{each.name}: {each.words}" for each in list_filter_bar(reading)], definition.paper)
    found = split_into_sheets(tops, definition.paper, page.breaks, page.goes_on, head)
    names = {face.block.id: face.name for face in make_shells(reading, tops)}
    context = {
        "paper": definition.paper,
        "sizes": SIZES,
        "count": len(found.begins) + 1,
        "flows": page.kind == "flowing",
        "cut": [(each, names[each.id], found.cut[each.id]) for each in tops if each.id in found.cut],
        "set": [(name, names[name]) for name in (*page.breaks, *page.goes_on) if name in names],
    }
    return JsonResponse({"html": render_to_string("dashboards/paper.html", context, request), "begins": found.begins})


@require_POST
@require_builder
def narrow(request: Request, pk: uuid.UUID) -> HttpResponse:
    """The blocks of a page as narrow screens have them, to be put into another order, sized and hidden."""
    dashboard, asked = find_dashboard(request.user, pk, edit=True), parse_json(request, PageAsked)
    definition = freeze_charts(load_dashboard(asked.definition))
    page = definition.find_page(asked.page) or definition.pages[0]
    faces = make_shells(DashboardSession(dashboard, definition, ViewState(), request.user), page.in_reading_order)
    context = {"blocks": narrow_rows(page, faces), "lowest": LOWEST, "highest": HIGHEST}
    return render(request, "dashboards/narrow.html", context)


@require_GET
@require_builder
def compute_text_numbers(request: Request, pk: uuid.UUID, block_id: str) -> JsonResponse:
    """The numbers in a text of the draft, under what its controls are set to."""
    dashboard = find_dashboard(request.user, pk, edit=True)
    reading = DashboardSession.open(dashboard, ViewState(), request.user, draft=True)
    block = reading.definition.find_block(block_id)
    return JsonResponse({"numbers": reading.compute_numbers(block) if block else []})


@require_POST
@require_builder
def duplicate(request: Request, pk: uuid.UUID) -> HttpResponse:
    dashboard = find_dashboard(request.user, pk, edit=True)
    return redirect("dashboard-edit", services.duplicate_dashboard(request.user, dashboard).pk)


@require_POST
@require_builder
def delete(request: Request, pk: uuid.UUID) -> JsonResponse:
    dashboard = find_dashboard(request.user, pk, edit=True)
    services.delete_dashboard(request.user, dashboard)
    return JsonResponse({"message": f"“{dashboard.name}” is deleted.", "undo": reverse("dashboard-restore", args=[pk])})


@require_POST
@require_builder
def restore(request: Request, pk: uuid.UUID) -> JsonResponse:
    dashboard = Dashboard.objects.filter(pk=pk).exclude(deleted_at=None).first()
    if dashboard is None or not may_edit(request.user, dashboard):
        raise Http404
    services.restore_dashboard(request.user, dashboard)
    return JsonResponse({"message": f"“{dashboard.name}” is back."})


@require_sign_in
def share(request: Request, pk: uuid.UUID) -> HttpResponse:
    """Who may see or edit the dashboard."""
    dashboard = find_dashboard(request.user, pk, edit=True)
    if request.method == "POST":
        given = parse_form(request, Grant)
        try:
            name = services.grant(request.user, dashboard, given.who, given.level, given.download)
        except VedutaError as problem:
            messages.error(request, str(problem))
        else:
            said = {
                "view": "may view this dashboard",
                "edit": "may edit this dashboard",
                "": "may not see this dashboard any more",
            }
            messages.success(request, f"{name} {said[given.level]}.")
        return redirect("dashboard-share", pk)
    granted = list_grants(dashboard)
    keys = {grant["key"] for grant in granted}
    people = [
        p
        for p in User.objects.filter(is_active=True).exclude(pk=dashboard.created_by_id).order_by("username")
        if f"person-{p.pk}" not in keys
    ]
    groups = [g for g in Group.objects.order_by("name") if f"group-{g.pk}" not in keys]
    context = {"dashboard": dashboard, "grants": granted, "people": people, "groups": groups}
    return render(request, "dashboards/share.html", context)

"""Chart templates: kept, described, exchanged and used."""

from __future__ import annotations

import json
import uuid
from typing import Any

from django.core.paginator import Paginator
from django.http import Http404, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST

from veduta.core.chart.kinds import get_kind
from veduta.core.chart.templates import (
    LIKE_PARTS,
    FieldSlot,
    Template,
    build_template_schema,
    is_suitable,
    propose_fields,
    write_template,
)
from veduta.core.chart.templates.template import TAKES
from veduta.core.data.fields import DataField
from veduta.core.errors import VedutaError
from veduta.core.model.model import Model
from veduta.core.phrases import join_names
from veduta.web.accounts.access import Request, require_builder
from veduta.web.chart_templates import services
from veduta.web.chart_templates.models import ChartTemplate
from veduta.web.charts.models import Chart
from veduta.web.charts.render import make_chart_data
from veduta.web.charts.services import answer_chart
from veduta.web.common.bodies import read_small_file, takes_files
from veduta.web.common.downloads import send_as_file
from veduta.web.common.lists import Listed, ListHeading, list_context, sort_things
from veduta.web.common.requests import Flag, Line, Maybe, Object, Objects, RequestModel, Text, parse_json, parse_query
from veduta.web.datasets.models import Dataset
from veduta.web.modelling.services import list_chart_fields, load_model_for

LARGEST = 2 * 1024 * 1024
HEADINGS = (
    ListHeading("name", "Template", "name"),
    ListHeading("changed", "Changed", "updated_at", text=False),
    ListHeading("by", "By", "created_by__first_name"),
)
MOST_CHARTS = 200


class TemplateWords(RequestModel):
    """What a template and its places are called, and what belongs there."""

    name: Line = ""
    description: Line = ""
    places: Objects = []


class TemplateSent(TemplateWords):
    """With a picture of the chart, if one is to be kept."""

    picture: Text = ""
    with_picture: Flag = False


class TemplateOn(RequestModel):
    dataset: Maybe = None


class TemplateUsed(RequestModel):
    """The dataset that a chart is made from, and its fields by the places that they take."""

    source: Maybe = None
    fields: Object = {}


def _get_template(pk: uuid.UUID, deleted: bool = False) -> ChartTemplate:
    return get_object_or_404(ChartTemplate, pk=pk, deleted_at__isnull=not deleted)


def _get_chart(pk: uuid.UUID) -> Chart:
    return get_object_or_404(Chart.objects.select_related("dataset", "dataset__current"), pk=pk, deleted_at=None)


def _list_datasets() -> Any:
    return Dataset.objects.filter(deleted_at=None, current__isnull=False)


@require_GET
@require_builder
def list_chart_templates(request: Request) -> HttpResponse:
    listed = parse_query(request, Listed)
    templates = services.list_templates()
    if listed.find:
        templates = templates.filter(name__icontains=listed.find)
    page = Paginator(sort_things(templates, HEADINGS, listed), 50).get_page(listed.page)
    context = {"page": page, "largest": LARGEST, **list_context(HEADINGS, listed)}
    return render(request, "chart_templates/list.html", context)


@require_GET
@require_builder
def begin(request: Request, chart: uuid.UUID) -> HttpResponse:
    """Describe what a chart makes as a template, before it is kept."""
    of = _get_chart(chart)
    definition = services.load_current_definition(request.user, of)
    try:
        made = services.make_from_chart(request.user, of, definition)
        shown = make_chart_data(answer_chart(of.dataset, definition, request.user))
    except VedutaError as problem:
        return render(request, "charts/no_dataset.html", {"chart": of, "problem": problem}, status=422)
    context = {"chart": of, "made": made, "shown": shown, **_describe_slots(made.template)}
    return render(request, "chart_templates/begin.html", context)


def _describe_slots(template: Template) -> dict[str, Any]:
    return {"places": [(place, TAKES[place.takes]) for place in template.places]}


@require_POST
@require_builder
def keep(request: Request, chart: uuid.UUID) -> JsonResponse:
    """Keep a chart's design as a template."""
    said = parse_json(request, TemplateSent)
    made = services.make_from_chart(request.user, _get_chart(chart)).template
    if said.with_picture:
        made = made.model_copy(update={"picture": said.picture})
    described = services.describe_template(made, said.model_dump())
    kept = services.keep(request.user, described, drawn_from=_get_chart(chart).dataset)
    return JsonResponse({"address": reverse("template", args=[kept.pk])})


@require_GET
@require_builder
def show_template(request: Request, pk: uuid.UUID) -> HttpResponse:
    """A template, its places, and the fields of a dataset that could stand there."""
    kept = _get_template(pk)
    loaded = kept.load()
    chosen = parse_query(request, TemplateOn).dataset
    dataset = (_list_datasets().filter(pk=chosen) if chosen else _list_datasets()).first()
    context = {
        "kept": kept,
        "template": loaded,
        "kind": get_kind(loaded.design.kind) if loaded.design.kind else None,
        "datasets": _list_datasets(),
        "dataset": dataset,
        "pictured": services.may_see_picture(request.user, kept),
        "made": kept.made.filter(deleted_at=None).select_related("dataset"),
        **_describe_slots(loaded),
    }
    if dataset:
        try:
            choices = _list_choices(request, loaded, dataset)
            missing = [f"“{each['place'].name}”" for each in choices if each["place"].needed and not each["chosen"]]
            context |= {"choices": choices, "missing": join_names(missing) if missing else ""}
        except VedutaError as problem:
            context["problem"] = problem
    return render(request, "chart_templates/template.html", context)


def _list_choices(request: Request, loaded: Template, dataset: Dataset) -> list[dict[str, Any]]:
    """The places of a template with the fields that could stand there, the proposed one chosen."""
    model = load_model_for(dataset, request.user)
    first = propose_fields(loaded, model)
    return [
        {
            "place": place,
            "takes": TAKES[place.takes],
            "chosen": first[place.key],
            "groups": _list_groups(place, model),
        }
        for place in loaded.places
    ]


def _list_groups(place: FieldSlot, model: Model) -> list[tuple[str, list[DataField]]]:
    """The fields that suit a place, in the groups in which lists offer fields."""
    groups = [
        (group["name"], [field for field in group["fields"] if is_suitable(place, field)])
        for group in list_chart_fields(model)
    ]
    return [(name, fields) for name, fields in groups if fields]


@require_POST
@require_builder
def use(request: Request, pk: uuid.UUID) -> JsonResponse:
    """Make a chart with fields in the places."""
    used = parse_json(request, TemplateUsed)
    dataset = get_object_or_404(_list_datasets(), pk=used.source)
    chosen = {key: str(field) for key, field in used.fields.items()}
    chart = services.use(request.user, _get_template(pk), dataset, chosen)
    return JsonResponse({"address": reverse("chart", args=[chart.pk])})


@require_POST
@require_builder
def set_words(request: Request, pk: uuid.UUID) -> JsonResponse:
    kept = _get_template(pk)
    described = services.describe_template(
        services.load_whole(request.user, kept), parse_json(request, TemplateWords).model_dump()
    )
    services.keep(request.user, described, kept)
    return JsonResponse({"address": reverse("template", args=[pk])})


@require_GET
@require_builder
def list_similar_charts(request: Request) -> HttpResponse:
    """The templates and charts like which a chart can be drawn."""
    charts = Chart.objects.filter(deleted_at=None, revision__gt=0).select_related("dataset")[:MOST_CHARTS]
    parts = [(part, words) for part, (words, _) in LIKE_PARTS.items()]
    context = {"templates": services.list_templates(), "charts": charts, "parts": parts}
    return render(request, "chart_templates/likes.html", context)


@require_GET
@require_builder
def apply_design(request: Request, pk: uuid.UUID) -> JsonResponse:
    return JsonResponse({"template": _get_template(pk).load().model_dump(mode="json")})


@require_GET
@require_builder
def apply_design_of_chart(request: Request, chart: uuid.UUID) -> JsonResponse:
    """The design of a chart as it is saved, with places instead of its fields."""
    of = _get_chart(chart)
    made = services.make_from_chart(request.user, of, of.load())
    return JsonResponse({"template": made.template.model_dump(mode="json")})


@require_GET
@require_builder
def download_template(request: Request, pk: uuid.UUID) -> HttpResponse:
    kept = _get_template(pk)
    answer = HttpResponse(write_template(services.load_whole(request.user, kept)), content_type="application/json")
    return send_as_file(answer, f"{kept}.template.json")


@require_GET
@require_builder
def download_schema(request: Request) -> HttpResponse:
    """The JSON Schema of the file of a template."""
    text = json.dumps(build_template_schema(), indent=1)
    return HttpResponse(text, content_type="application/schema+json")


@require_GET
@require_builder
def show_picture(request: Request, pk: uuid.UUID) -> HttpResponse:
    kept = _get_template(pk)
    if not services.may_see_picture(request.user, kept):
        raise Http404
    return HttpResponse(bytes(kept.picture), content_type="image/png")


@takes_files
@require_POST
@require_builder
def receive(request: Request) -> JsonResponse:
    """Take a template's file as the raw body of the request."""
    content = read_small_file(request, LARGEST, "Templates")
    kept = services.receive(request.user, content)
    return JsonResponse({"address": reverse("template", args=[kept.pk])})


@require_POST
@require_builder
def delete(request: Request, pk: uuid.UUID) -> JsonResponse:
    kept = _get_template(pk)
    services.delete(request.user, kept)
    return JsonResponse({"message": f"“{kept}” is deleted.", "undo": reverse("template-restore", args=[pk])})


@require_POST
@require_builder
def restore(request: Request, pk: uuid.UUID) -> JsonResponse:
    kept = _get_template(pk, deleted=True)
    services.restore(request.user, kept)
    return JsonResponse({"message": f"“{kept}” is back."})

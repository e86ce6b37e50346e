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

from veduta.core.chart.kinds import kind_named
from veduta.core.chart.templates import LIKE_PARTS, Place, Template, proposed, suitable, template_schema, written
from veduta.core.chart.templates.template import TAKES
from veduta.core.data.fields import Field
from veduta.core.errors import VedutaError
from veduta.core.model.model import Model
from veduta.core.words import listed
from veduta.web.accounts.access import Request, builders_only
from veduta.web.chart_templates import services
from veduta.web.chart_templates.models import ChartTemplate
from veduta.web.charts.models import Chart
from veduta.web.charts.render import chart_data
from veduta.web.charts.services import answer_chart
from veduta.web.common.bodies import small_file, takes_files
from veduta.web.common.downloads import as_file
from veduta.web.common.lists import Heading, Listed, in_order, list_context
from veduta.web.common.requests import Flag, Line, Maybe, Object, Objects, Sent, Text, asked, sent
from veduta.web.datasets.models import Dataset
from veduta.web.modelling.services import chart_fields, model_for

LARGEST = 2 * 1024 * 1024
HEADINGS = (
    Heading("name", "Template", "name"),
    Heading("changed", "Changed", "updated_at", text=False),
    Heading("by", "By", "created_by__first_name"),
)
MOST_CHARTS = 200


class Words(Sent):
    """What a template and its places are called, and what belongs there."""

    name: Line = ""
    description: Line = ""
    places: Objects = []


class Kept(Words):
    """With a picture of the chart, if one is to be kept."""

    picture: Text = ""
    with_picture: Flag = False


class On(Sent):
    dataset: Maybe = None


class Used(Sent):
    """The dataset that a chart is made from, and its fields by the places that they take."""

    source: Maybe = None
    fields: Object = {}


def _template(pk: uuid.UUID, deleted: bool = False) -> ChartTemplate:
    return get_object_or_404(ChartTemplate, pk=pk, deleted_at__isnull=not deleted)


def _chart(pk: uuid.UUID) -> Chart:
    return get_object_or_404(Chart.objects.select_related("dataset", "dataset__current"), pk=pk, deleted_at=None)


def _datasets() -> Any:
    return Dataset.objects.filter(deleted_at=None, current__isnull=False)


@require_GET
@builders_only
def template_list(request: Request) -> HttpResponse:
    listed = asked(request, Listed)
    templates = services.there()
    if listed.find:
        templates = templates.filter(name__icontains=listed.find)
    page = Paginator(in_order(templates, HEADINGS, listed), 50).get_page(listed.page)
    context = {"page": page, "largest": LARGEST, **list_context(HEADINGS, listed)}
    return render(request, "chart_templates/list.html", context)


@require_GET
@builders_only
def begin(request: Request, chart: uuid.UUID) -> HttpResponse:
    """Describe what a chart makes as a template, before it is kept."""
    of = _chart(chart)
    definition = services.as_it_stands(request.user, of)
    try:
        made = services.made_from(request.user, of, definition)
        shown = chart_data(answer_chart(of.dataset, definition, request.user, is_suggested=True))
    except VedutaError as problem:
        return render(request, "charts/no_dataset.html", {"chart": of, "problem": problem}, status=422)
    context = {"chart": of, "made": made, "shown": shown, **_places(made.template)}
    return render(request, "chart_templates/begin.html", context)


def _places(template: Template) -> dict[str, Any]:
    return {"places": [(place, TAKES[place.takes]) for place in template.places]}


@require_POST
@builders_only
def keep(request: Request, chart: uuid.UUID) -> JsonResponse:
    """Keep a chart's design as a template."""
    said = sent(request, Kept)
    made = services.made_from(request.user, _chart(chart)).template
    if said.with_picture:
        made = made.model_copy(update={"picture": said.picture})
    described = services.described(made, said.model_dump())
    kept = services.keep(request.user, described, drawn_from=_chart(chart).dataset)
    return JsonResponse({"address": reverse("template", args=[kept.pk])})


@require_GET
@builders_only
def template(request: Request, pk: uuid.UUID) -> HttpResponse:
    """A template, its places, and the fields of a dataset that could stand there."""
    kept = _template(pk)
    loaded = kept.load()
    chosen = asked(request, On).dataset
    dataset = (_datasets().filter(pk=chosen) if chosen else _datasets()).first()
    context = {
        "kept": kept,
        "template": loaded,
        "kind": kind_named(loaded.design.kind) if loaded.design.kind else None,
        "datasets": _datasets(),
        "dataset": dataset,
        "pictured": services.may_see_picture(request.user, kept),
        "made": kept.made.filter(deleted_at=None).select_related("dataset"),
        **_places(loaded),
    }
    if dataset:
        try:
            choices = _choices(request, loaded, dataset)
            missing = [f"“{each['place'].name}”" for each in choices if each["place"].needed and not each["chosen"]]
            context |= {"choices": choices, "missing": listed(missing) if missing else ""}
        except VedutaError as problem:
            context["problem"] = problem
    return render(request, "chart_templates/template.html", context)


def _choices(request: Request, loaded: Template, dataset: Dataset) -> list[dict[str, Any]]:
    """The places of a template with the fields that could stand there, the proposed one chosen."""
    model = model_for(dataset, request.user)
    first = proposed(loaded, model)
    return [
        {
            "place": place,
            "takes": TAKES[place.takes],
            "chosen": first[place.key],
            "groups": _groups(place, model),
        }
        for place in loaded.places
    ]


def _groups(place: Place, model: Model) -> list[tuple[str, list[Field]]]:
    """The fields that suit a place, in the groups in which lists offer fields."""
    groups = [
        (group["name"], [field for field in group["fields"] if suitable(place, field)]) for group in chart_fields(model)
    ]
    return [(name, fields) for name, fields in groups if fields]


@require_POST
@builders_only
def use(request: Request, pk: uuid.UUID) -> JsonResponse:
    """Make a chart with fields in the places."""
    used = sent(request, Used)
    dataset = get_object_or_404(_datasets(), pk=used.source)
    chosen = {key: str(field) for key, field in used.fields.items()}
    chart = services.use(request.user, _template(pk), dataset, chosen)
    return JsonResponse({"address": reverse("chart", args=[chart.pk])})


@require_POST
@builders_only
def set_words(request: Request, pk: uuid.UUID) -> JsonResponse:
    kept = _template(pk)
    described = services.described(services.whole(request.user, kept), sent(request, Words).model_dump())
    services.keep(request.user, described, kept)
    return JsonResponse({"address": reverse("template", args=[pk])})


@require_GET
@builders_only
def likes(request: Request) -> HttpResponse:
    """The templates and charts like which a chart can be drawn."""
    charts = Chart.objects.filter(deleted_at=None, revision__gt=0).select_related("dataset")[:MOST_CHARTS]
    parts = [(part, words) for part, (words, _) in LIKE_PARTS.items()]
    context = {"templates": services.there(), "charts": charts, "parts": parts}
    return render(request, "chart_templates/likes.html", context)


@require_GET
@builders_only
def design(request: Request, pk: uuid.UUID) -> JsonResponse:
    return JsonResponse({"template": _template(pk).load().model_dump(mode="json")})


@require_GET
@builders_only
def design_of_chart(request: Request, chart: uuid.UUID) -> JsonResponse:
    """The design of a chart as it is saved, with places instead of its fields."""
    of = _chart(chart)
    made = services.made_from(request.user, of, of.load())
    return JsonResponse({"template": made.template.model_dump(mode="json")})


@require_GET
@builders_only
def file(request: Request, pk: uuid.UUID) -> HttpResponse:
    kept = _template(pk)
    answer = HttpResponse(written(services.whole(request.user, kept)), content_type="application/json")
    return as_file(answer, f"{kept}.template.json")


@require_GET
@builders_only
def schema(request: Request) -> HttpResponse:
    """The JSON Schema of the file of a template."""
    text = json.dumps(template_schema(), indent=1)
    return HttpResponse(text, content_type="application/schema+json")


@require_GET
@builders_only
def picture(request: Request, pk: uuid.UUID) -> HttpResponse:
    kept = _template(pk)
    if not services.may_see_picture(request.user, kept):
        raise Http404
    return HttpResponse(bytes(kept.picture), content_type="image/png")


@takes_files
@require_POST
@builders_only
def receive(request: Request) -> JsonResponse:
    """Take a template's file as the raw body of the request."""
    content = small_file(request, LARGEST, "Templates")
    kept = services.receive(request.user, content)
    return JsonResponse({"address": reverse("template", args=[kept.pk])})


@require_POST
@builders_only
def delete(request: Request, pk: uuid.UUID) -> JsonResponse:
    kept = _template(pk)
    services.delete(request.user, kept)
    return JsonResponse({"message": f"“{kept}” is deleted.", "undo": reverse("template-restore", args=[pk])})


@require_POST
@builders_only
def restore(request: Request, pk: uuid.UUID) -> JsonResponse:
    kept = _template(pk, deleted=True)
    services.restore(request.user, kept)
    return JsonResponse({"message": f"“{kept}” is back."})

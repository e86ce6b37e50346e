"""Shapes for maps on screen: received, looked at, and matched with the names in datasets."""

from __future__ import annotations

import uuid
from typing import Annotated
from urllib.parse import unquote

from django.http import HttpResponse, JsonResponse, UnreadablePostError
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST
from pydantic import BeforeValidator

from veduta.core.chart.kinds.maps import draw_outlines
from veduta.core.chart.theme import build_themes
from veduta.core.errors import FileProblem
from veduta.core.geography.shapes import LARGEST
from veduta.web.accounts.access import Request, require_builder
from veduta.web.common.bodies import takes_files
from veduta.web.common.requests import Flag, Line, RequestModel, parse_form, parse_json, read_rows
from veduta.web.datasets.models import ShapeSet
from veduta.web.datasets.requests import get_dataset
from veduta.web.datasets.shape_store import load_shapes, unpack_shapes
from veduta.web.map_shapes import services

EXAMPLES = 3


class ShapesRequest(RequestModel):
    name: Line = ""
    key: Line = ""


class Spelling(RequestModel):
    """What a name means: the key of an area, or none."""

    name: Line = ""
    key: Line = ""


class Spellings(RequestModel):
    names: Annotated[list[Spelling], BeforeValidator(read_rows)] = []


class Use(RequestModel):
    dataset: uuid.UUID
    field: Line
    used: Flag = False


@require_GET
@require_builder
def list_shapes(request: Request) -> HttpResponse:
    listed = [(each, load_shapes(each)) for each in ShapeSet.objects.select_related("created_by")]
    return render(request, "atlas/list.html", {"listed": listed, "largest": LARGEST})


@takes_files
@require_POST
@require_builder
def receive(request: Request) -> JsonResponse:
    """Take a file as the raw body of the request, named by the X-File-Name header."""
    name = unquote(request.headers.get("X-File-Name", ""))
    try:
        made = services.receive_shapes(request.user, request, int(request.META.get("CONTENT_LENGTH") or 0), name)
    except UnreadablePostError:
        raise FileProblem("The upload broke off before its end.", hint="Upload the file again.") from None
    return JsonResponse({"address": reverse("atlas-shapes", args=[made.pk])})


def _get_shape_set(pk: uuid.UUID) -> ShapeSet:
    return get_object_or_404(ShapeSet.objects.select_related("created_by"), pk=pk)


@require_GET
@require_builder
def show_shapes(request: Request, pk: uuid.UUID) -> HttpResponse:
    """Some shapes: their picture, what names them, and the fields that do."""
    shape_set = _get_shape_set(pk)
    read, made = unpack_shapes(shape_set), load_shapes(shape_set)
    names = [
        (name, ", ".join(dict.fromkeys(str(each[name]) for each in read.properties[:EXAMPLES] if name in each)))
        for name in read.names
    ]
    context = {
        "set": shape_set,
        "shapes": made,
        "names": [(name, f"{name}: {examples} …") for name, examples in names],
        "naming": services.list_name_matches(request.user, shape_set, made),
        "offered": services.list_offered(request.user, made),
        "keys": sorted(made.keys),
        "themes": build_themes(),
        "picture": {"spec": draw_outlines(made), "rows": [], "sentence": f"The areas of {shape_set.name}"},
    }
    return render(request, "atlas/shapes.html", context)


@require_POST
@require_builder
def change(request: Request, pk: uuid.UUID) -> JsonResponse:
    about = parse_json(request, ShapesRequest)
    services.change_shapes(request.user, _get_shape_set(pk), about.name, about.key)
    return JsonResponse({"address": reverse("atlas-shapes", args=[pk])})


@require_POST
@require_builder
def spell_names(request: Request, pk: uuid.UUID) -> JsonResponse:
    spellings = {each.name: each.key for each in parse_json(request, Spellings).names if each.name}
    services.save_spellings(request.user, _get_shape_set(pk), spellings)
    return JsonResponse({"address": reverse("atlas-shapes", args=[pk])})


@require_POST
@require_builder
def use(request: Request, pk: uuid.UUID) -> HttpResponse:
    wanted = parse_form(request, Use)
    services.use_for(request.user, _get_shape_set(pk), get_dataset(wanted.dataset), wanted.field, wanted.used)
    return redirect("atlas-shapes", pk)


@require_POST
@require_builder
def delete(request: Request, pk: uuid.UUID) -> HttpResponse:
    services.delete_shapes(request.user, _get_shape_set(pk))
    return redirect("atlas")

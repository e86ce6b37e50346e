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

from veduta.core.chart.kinds.maps import outlines
from veduta.core.chart.theme import themes
from veduta.core.errors import FileProblem
from veduta.core.geography.shapes import LARGEST
from veduta.web.accounts.access import Request, builders_only
from veduta.web.atlas import services
from veduta.web.common.bodies import takes_files
from veduta.web.common.requests import Flag, Line, Sent, filled_in, rows_of, sent
from veduta.web.datasets.atlas import shapes_of, unpacked
from veduta.web.datasets.models import ShapeSet
from veduta.web.datasets.requests import dataset_at

EXAMPLES = 3


class About(Sent):
    name: Line = ""
    key: Line = ""


class Spelling(Sent):
    """What a name means: the key of an area, or none."""

    name: Line = ""
    key: Line = ""


class Spellings(Sent):
    names: Annotated[list[Spelling], BeforeValidator(rows_of)] = []


class Use(Sent):
    dataset: uuid.UUID
    field: Line
    used: Flag = False


@require_GET
@builders_only
def atlas(request: Request) -> HttpResponse:
    listed = [(each, shapes_of(each)) for each in ShapeSet.objects.select_related("created_by")]
    return render(request, "atlas/list.html", {"listed": listed, "largest": LARGEST})


@takes_files
@require_POST
@builders_only
def receive(request: Request) -> JsonResponse:
    """Take a file as the raw body of the request, named by the X-File-Name header."""
    name = unquote(request.headers.get("X-File-Name", ""))
    try:
        made = services.receive_shapes(request.user, request, int(request.META.get("CONTENT_LENGTH") or 0), name)
    except UnreadablePostError:
        raise FileProblem("The upload broke off before its end.", hint="Upload the file again.") from None
    return JsonResponse({"address": reverse("atlas-shapes", args=[made.pk])})


def _at(pk: uuid.UUID) -> ShapeSet:
    return get_object_or_404(ShapeSet.objects.select_related("created_by"), pk=pk)


@require_GET
@builders_only
def shapes(request: Request, pk: uuid.UUID) -> HttpResponse:
    """Some shapes: their picture, what names them, and the fields that do."""
    shape_set = _at(pk)
    read, made = unpacked(shape_set), shapes_of(shape_set)
    names = [
        (name, ", ".join(dict.fromkeys(str(each[name]) for each in read.properties[:EXAMPLES] if name in each)))
        for name in read.names
    ]
    context = {
        "set": shape_set,
        "shapes": made,
        "names": [(name, f"{name}: {examples} …") for name, examples in names],
        "naming": services.naming(request.user, shape_set, made),
        "offered": services.offered(request.user, shape_set, made),
        "keys": sorted(made.keys),
        "themes": themes(),
        "picture": {"spec": outlines(made), "rows": [], "sentence": f"The areas of {shape_set.name}"},
    }
    return render(request, "atlas/shapes.html", context)


@require_POST
@builders_only
def change(request: Request, pk: uuid.UUID) -> JsonResponse:
    about = sent(request, About)
    services.change_shapes(request.user, _at(pk), about.name, about.key)
    return JsonResponse({"address": reverse("atlas-shapes", args=[pk])})


@require_POST
@builders_only
def spell(request: Request, pk: uuid.UUID) -> JsonResponse:
    spellings = {each.name: each.key for each in sent(request, Spellings).names if each.name}
    services.spell(request.user, _at(pk), spellings)
    return JsonResponse({"address": reverse("atlas-shapes", args=[pk])})


@require_POST
@builders_only
def use(request: Request, pk: uuid.UUID) -> HttpResponse:
    wanted = filled_in(request, Use)
    services.use_for(request.user, _at(pk), dataset_at(wanted.dataset), wanted.field, wanted.used)
    return redirect("atlas-shapes", pk)


@require_POST
@builders_only
def delete(request: Request, pk: uuid.UUID) -> HttpResponse:
    services.delete_shapes(request.user, _at(pk))
    return redirect("atlas")

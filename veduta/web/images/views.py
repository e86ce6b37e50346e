"""The workspace's pictures: looked at, brought in, named and deleted."""

from __future__ import annotations

import uuid
from urllib.parse import unquote

from django.core.paginator import Paginator
from django.http import HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, render
from django.template.loader import render_to_string
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST

from veduta.web.accounts.access import Request, require_builder, require_sign_in
from veduta.web.common.bodies import read_small_file, takes_files
from veduta.web.common.requests import Line, RequestModel, Searched, parse_json, parse_query
from veduta.web.images import services
from veduta.web.images.models import KeptPicture, PublishedPicture

ON_A_PAGE = 60
A_DAY = 86_400


class Described(RequestModel):
    name: Line = ""
    words: Line = ""


def _get_picture(pk: uuid.UUID, deleted: bool = False) -> KeptPicture:
    return get_object_or_404(KeptPicture, pk=pk, deleted_at__isnull=not deleted)


@require_GET
@require_builder
def show_pictures(request: Request) -> HttpResponse:
    searched = parse_query(request, Searched)
    pictures = services.list_pictures()
    if searched.find:
        pictures = pictures.filter(name__icontains=searched.find)
    page = Paginator(pictures, ON_A_PAGE).get_page(searched.page)
    return render(request, "pictures/list.html", {"page": page, "find": searched.find, "largest": services.LARGEST})


@takes_files
@require_POST
@require_builder
def receive(request: Request) -> JsonResponse:
    """Take a file as the raw body of the request, named by the X-File-Name header; answers with it as one of a list."""
    content = read_small_file(request, services.LARGEST, "Pictures")
    kept = services.receive(request.user, unquote(request.headers.get("X-File-Name", "")), content)
    option = render_to_string("pictures/option.html", {"picture": kept})
    return JsonResponse({"address": reverse("pictures"), "name": kept.name, "html": option})


@require_GET
@require_sign_in
def show_picture(request: Request, pk: uuid.UUID) -> HttpResponse:
    return _send_picture(_get_picture(pk))


@require_GET
@require_sign_in
def show_published_picture(request: Request, digest: str) -> HttpResponse:
    """A picture as it was when something was published with it."""
    return _send_picture(get_object_or_404(PublishedPicture, digest=digest))


def _send_picture(kept: KeptPicture | PublishedPicture) -> HttpResponse:
    answer = HttpResponse(bytes(kept.content), content_type=kept.content_type)
    # An SVG that is opened by itself is a document: it may neither run nor load anything.
    answer["Content-Security-Policy"] = "default-src 'none'; style-src 'unsafe-inline'; sandbox"
    answer["X-Content-Type-Options"] = "nosniff"
    answer["Cache-Control"] = f"private, max-age={A_DAY}"
    return answer


@require_POST
@require_builder
def describe(request: Request, pk: uuid.UUID) -> JsonResponse:
    said = parse_json(request, Described)
    services.describe(request.user, _get_picture(pk), said.name, said.words)
    return JsonResponse({"message": "Kept."})


@require_POST
@require_builder
def delete(request: Request, pk: uuid.UUID) -> JsonResponse:
    kept = _get_picture(pk)
    services.delete(request.user, kept)
    undo = reverse("picture-restore", args=[pk])
    return JsonResponse({"message": f"“{kept}” is deleted.", "undo": undo})


@require_POST
@require_builder
def restore(request: Request, pk: uuid.UUID) -> JsonResponse:
    kept = _get_picture(pk, deleted=True)
    services.restore(request.user, kept)
    return JsonResponse({"message": f"“{kept}” is back."})

"""Turn problems made for readers into pages or JSON; no stack trace reaches a person."""

from __future__ import annotations

import logging

from django.core.exceptions import PermissionDenied, RequestDataTooBig, TooManyFieldsSent, TooManyFilesSent
from django.http import Http404, HttpRequest, HttpResponse, HttpResponseRedirect, JsonResponse
from django.shortcuts import render

from veduta.core.errors import VedutaError
from veduta.web.common.disk import FULL_DISK, LOCKED, is_full_disk, is_locked
from veduta.web.common.requests import wants_json

logger = logging.getLogger("veduta")
TOO_MUCH = VedutaError("This is too much to send at once.", hint="Send less at a time; rows are brought in as a file.")


class NotKeptMiddleware:
    """What is answered to somebody who is signed in stays in no cache: not in a proxy's, not on a shared machine."""

    def __init__(self, get_response) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        response = self.get_response(request)
        if request.user.is_authenticated and "Cache-Control" not in response:
            response["Cache-Control"] = "private, no-store"
        return response


class ProblemsMiddleware:
    def __init__(self, get_response) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        response = self.get_response(request)
        if wants_json(request) and isinstance(response, HttpResponseRedirect):
            return JsonResponse({"address": response.url})  # the page goes there, with what it has to say
        return response

    def process_exception(self, request: HttpRequest, error: Exception) -> HttpResponse | None:
        if is_full_disk(error):
            return make_problem_response(request, FULL_DISK, 507)
        if is_locked(error):
            return make_problem_response(request, LOCKED, 503)
        if isinstance(error, VedutaError):
            return make_problem_response(request, error, 422)
        if isinstance(error, RequestDataTooBig | TooManyFieldsSent | TooManyFilesSent):
            return make_problem_response(request, TOO_MUCH, 413)
        if not wants_json(request):
            return None
        if isinstance(error, Http404):
            return JsonResponse({"message": "This is not here (any more), or not for you."}, status=404)
        if isinstance(error, PermissionDenied):
            return JsonResponse({"message": str(error) or "You may not do this."}, status=403)
        logger.exception("A request failed: %s", request.path)
        message = "Something went wrong on our side. Nothing was lost: try again, or load the page anew."
        return JsonResponse({"message": message}, status=500)


def make_problem_response(request: HttpRequest, problem: VedutaError, status: int) -> HttpResponse:
    if wants_json(request):
        return JsonResponse(problem.as_data(), status=status)
    return render(request, "problem.html", {"problem": problem}, status=status)

"""Who may open what. What somebody may not see is "not found", so that addresses tell nothing."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps
from typing import Concatenate, ParamSpec

from django.core.exceptions import PermissionDenied
from django.http import Http404, HttpRequest, JsonResponse
from django.http.response import HttpResponseBase

from veduta.web.accounts.models import User
from veduta.web.common.requests import wants_json

Arguments = ParamSpec("Arguments")


class Request(HttpRequest):
    """A request of somebody who is signed in."""

    user: User


View = Callable[Concatenate[Request, Arguments], HttpResponseBase]


def _guard(view: View[Arguments], allowed: Callable[[User], bool]) -> View[Arguments]:
    @wraps(view)
    def guard(request: Request, /, *args: Arguments.args, **kwargs: Arguments.kwargs) -> HttpResponseBase:
        if not request.user.is_authenticated:
            if wants_json(request):
                return JsonResponse({"signed_out": True, "message": "You are signed out."}, status=401)
            from django.contrib.auth.views import redirect_to_login

            return redirect_to_login(request.get_full_path())
        if not allowed(request.user):
            raise Http404
        return view(request, *args, **kwargs)

    return guard


def require_sign_in(view: View[Arguments]) -> View[Arguments]:
    """For everybody who is signed in."""
    return _guard(view, lambda user: True)


def require_builder(view: View[Arguments]) -> View[Arguments]:
    """For analysts and stewards."""
    return _guard(view, lambda user: user.builds)


def require_steward(view: View[Arguments]) -> View[Arguments]:
    return _guard(view, lambda user: user.is_steward)


def must_build(user: User) -> None:
    """For services: raises PermissionDenied for somebody who may not build."""
    if not (user.is_authenticated and user.is_active and user.builds):
        raise PermissionDenied("Only analysts and stewards may do this.")


def must_steward(user: User) -> None:
    if not (user.is_authenticated and user.is_active and user.is_steward):
        raise PermissionDenied("Only stewards may do this.")

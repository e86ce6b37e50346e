"""Who may open what. What somebody may not see is "not found", so that addresses tell nothing."""

from __future__ import annotations

from collections.abc import Callable
from functools import wraps

from django.core.exceptions import PermissionDenied
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse

from veduta.web.accounts.models import User
from veduta.web.common.requests import wants_json

View = Callable[..., HttpResponse]


def _guarded(view: View, allowed: Callable[[User], bool]) -> View:
    @wraps(view)
    def guard(request: HttpRequest, *args, **kwargs) -> HttpResponse:
        if not request.user.is_authenticated:
            if wants_json(request):
                return JsonResponse({"signed_out": True, "message": "You are signed out."}, status=401)
            from django.contrib.auth.views import redirect_to_login

            return redirect_to_login(request.get_full_path())
        if not allowed(request.user):
            raise Http404
        return view(request, *args, **kwargs)

    return guard


def signed_in(view: View) -> View:
    """For everybody who is signed in."""
    return _guarded(view, lambda user: True)


def builders_only(view: View) -> View:
    """For analysts and stewards."""
    return _guarded(view, lambda user: user.builds)


def stewards_only(view: View) -> View:
    return _guarded(view, lambda user: user.is_steward)


def must_build(user: User) -> None:
    """For services: raises PermissionDenied for somebody who may not build."""
    if not (user.is_authenticated and user.is_active and user.builds):
        raise PermissionDenied("Only analysts and stewards may do this.")


def must_steward(user: User) -> None:
    if not (user.is_authenticated and user.is_active and user.is_steward):
        raise PermissionDenied("Only stewards may do this.")

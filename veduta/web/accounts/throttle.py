"""Who may not try to sign in just now.

django-axes counts failures of a name from an address; this counts those of an address with any names, and of a name
from any addresses over a day."""

from __future__ import annotations

import datetime as dt
from functools import partial
from typing import Any

from axes.handlers.database import AxesDatabaseHandler
from axes.models import AccessFailureLog, AccessLog
from django.conf import settings
from django.http import HttpRequest
from django.utils import timezone

from veduta.web.common.best_effort import note

SOON, DAY = dt.timedelta(hours=settings.AXES_COOLOFF_TIME), dt.timedelta(days=1)
OF_ADDRESS, OF_NAME = 6, 12
"""So many times the tries that a name has from one address: those of an address, and those of a name in a day."""


class Throttle(AxesDatabaseHandler):
    def is_locked(self, request: HttpRequest, credentials: dict[str, Any] | None = None) -> bool:
        address, name = request.axes_ip_address, (credentials or {}).get("username", "")  # type: ignore[attr-defined]
        return (
            super().is_locked(request, credentials)
            or _count_failures(SOON, ip_address=address) >= settings.AXES_FAILURE_LIMIT * OF_ADDRESS
            or (
                _count_failures(DAY, username=name) >= settings.AXES_FAILURE_LIMIT * OF_NAME
                and not _is_at_home(name, address)
            )
        )

    def user_logged_in(self, sender: Any, request: Any, user: Any, **more: Any) -> None:
        note(partial(super().user_logged_in, sender, request, user, **more))

    def user_logged_out(self, sender: Any, request: Any, user: Any, **more: Any) -> None:
        note(partial(super().user_logged_out, sender, request, user, **more))

    def user_login_failed(self, sender: Any, credentials: dict[str, Any], request: Any = None, **more: Any) -> None:
        super().user_login_failed(sender, credentials, request, **more)
        AccessFailureLog.objects.filter(attempt_time__lt=timezone.now() - DAY).delete()


def _count_failures(during: dt.timedelta, **of: Any) -> int:
    return AccessFailureLog.objects.filter(attempt_time__gte=timezone.now() - during, locked_out=False, **of).count()


def _is_at_home(name: str, address: str) -> bool:
    """Whether the person has signed in from this address before: nobody else can then lock them out."""
    return AccessLog.objects.filter(username=name, ip_address=address).exists()

"""What a request draws has the counterparts of colours in the dark theme that the workspace has set."""

from __future__ import annotations

from functools import cache

from django.http import HttpRequest, HttpResponse

from veduta.core.chart.theme import counterparts
from veduta.web.colours.models import own_counterparts


class CounterpartsMiddleware:
    def __init__(self, get_response) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        with counterparts(cache(own_counterparts)):
            return self.get_response(request)

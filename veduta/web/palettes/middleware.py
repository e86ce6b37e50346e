"""What a request draws has the counterparts of colours in the dark theme that the workspace has set."""

from __future__ import annotations

from collections.abc import Iterator
from contextvars import Context, copy_context
from functools import cache
from typing import Any

from django.http import FileResponse, HttpRequest, StreamingHttpResponse

from veduta.core.chart.theme import use_counterparts
from veduta.web.palettes.models import load_counterparts


class CounterpartsMiddleware:
    def __init__(self, get_response) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> Any:
        with use_counterparts(cache(load_counterparts)):
            response = self.get_response(request)
            if isinstance(response, StreamingHttpResponse) and _is_worked_out(response):
                response.streaming_content = _within(copy_context(), iter(response))
        return response


def _is_worked_out(response: StreamingHttpResponse) -> bool:
    """Whether what is streamed is made piece by piece in a thread: no file, and no events."""
    return not isinstance(response, FileResponse) and not response.is_async


def _within(context: Context, parts: Iterator[bytes]) -> Iterator[bytes]:
    """What is streamed after the request's function has ended is worked out in its context all the same."""
    while (part := context.run(next, parts, None)) is not None:
        yield part

"""How much of a request is read, and how long is waited for it.

What is larger or slower is refused before anything is done with it."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Awaitable, Callable, Mapping
from typing import Any, TypeVar

from django.conf import settings
from django.contrib.auth import SESSION_KEY
from django.http import HttpRequest, UnreadablePostError, parse_cookie
from django.urls import Resolver404, resolve
from django.utils.module_loading import import_string

from veduta.core.errors import FileProblem

Receive = Callable[[], Awaitable[Mapping[str, Any]]]
View = TypeVar("View", bound=Callable[..., Any])

PAUSE = 15.0
"""Seconds that may pass without a byte of a body."""
GRACE, SLOWEST = 30.0, 20_000
"""A body may take so many seconds, and longer by what it has come to at so many bytes a second."""


class BodyRefused(Exception):
    """A request that is not read to its end."""

    def __init__(self, status: int, message: str, hint: str) -> None:
        super().__init__(message)
        self.status, self.data = status, {"code": "request", "message": message, "where": "", "hint": hint}

    async def answer(self, send: Callable[[Mapping[str, Any]], Awaitable[None]]) -> None:
        body = json.dumps(self.data, ensure_ascii=False).encode()
        headers = [(b"content-type", b"application/json"), (b"connection", b"close"), (b"cache-control", b"no-store")]
        await send({"type": "http.response.start", "status": self.status, "headers": headers})
        await send({"type": "http.response.body", "body": body})


def takes_files(view: View) -> View:
    """For a view that takes whole files as a request's body, from whoever is signed in."""
    view.takes_files = True  # type: ignore[attr-defined]
    return view


def read_small_file(request: HttpRequest, most: int, things: str) -> bytes:
    """A file that is a request's body, of at most so many bytes; `things` is what such files are.

    Raises FileProblem for one that is larger or did not come whole."""
    try:
        content = request.read(most + 1)
    except UnreadablePostError:
        raise FileProblem("The upload broke off before its end.", hint="Upload the file again.") from None
    if len(content) > most:
        raise FileProblem(
            f"The file is larger than {_describe_size(most)}.", hint=f"{things} are small: is it the right one?"
        )
    return content


def _describe_size(most: int) -> str:
    return f"{most / 1024**2:,.0f} MB" if most >= 1024**2 else f"{most / 1024:,.0f} kB"


def may_be_large(scope: Mapping[str, Any]) -> bool:
    headers = dict(scope["headers"])
    return _read_declared_length(headers) > settings.DATA_UPLOAD_MAX_MEMORY_SIZE or b"transfer-encoding" in headers


def find_body_limit(scope: Mapping[str, Any]) -> int:
    """How large the body of a request may be."""
    small = settings.DATA_UPLOAD_MAX_MEMORY_SIZE
    try:
        view = resolve(scope["path"]).func
    except Resolver404:
        return small
    if not getattr(view, "takes_files", False):
        return small
    cookies = parse_cookie(dict(scope["headers"]).get(b"cookie", b"").decode("latin1"))
    key = cookies.get(settings.SESSION_COOKIE_NAME)
    signed_in = key and import_string(f"{settings.SESSION_ENGINE}.SessionStore")(key).get(SESSION_KEY)
    return settings.UPLOAD_LIMIT if signed_in else small


def _read_declared_length(headers: dict[bytes, bytes]) -> int:
    length = headers.get(b"content-length", b"0")
    return int(length) if length.isdigit() else 0


def limit_waiting(receive: Receive, scope: Mapping[str, Any], most: int) -> Receive:
    """`receive`, which raises Refused for a body of more than `most` bytes or one that does not come in time."""
    too_large = BodyRefused(
        413,
        f"This is more than {most / 1024**2:,.0f} MB.",
        "Send less at a time; rows are brought in as a file.",
    )
    if _read_declared_length(dict(scope["headers"])) > most:
        raise too_large
    started, size, complete = asyncio.get_running_loop().time(), 0, False

    async def receiving() -> Mapping[str, Any]:
        nonlocal size, complete
        if complete:
            return await receive()
        until = started + GRACE + size / SLOWEST
        wait = min(PAUSE, until - asyncio.get_running_loop().time())
        try:
            message = await asyncio.wait_for(receive(), wait)
        except TimeoutError:
            raise BodyRefused(408, "The request came too slowly.", "Check the connection, then try again.") from None
        size += len(message.get("body", b""))
        complete = not message.get("more_body", False)
        if size > most:
            raise too_large
        return message

    return receiving

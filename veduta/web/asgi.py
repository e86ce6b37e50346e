"""The application as the server calls it: Django, with bounds for what comes in and for how much is worked on at once.

A request is read without holding a thread, and an answer sent without one, however slow the other side is. Only
working it out takes one of `settings.THREADS` turns.
"""

from __future__ import annotations

import asyncio
import tempfile
import threading
from collections.abc import AsyncIterator, Awaitable, Callable, Iterator, Mapping
from contextlib import asynccontextmanager
from typing import Any
from weakref import WeakValueDictionary

from veduta.web import installation

installation.prepare()

import django  # noqa: E402
from asgiref.sync import sync_to_async  # noqa: E402
from django.conf import settings  # noqa: E402
from django.core.handlers.asgi import ASGIHandler  # noqa: E402
from django.http import HttpRequest, StreamingHttpResponse  # noqa: E402
from django.http.response import HttpResponseBase  # noqa: E402

django.setup(set_prefix=False)

from veduta.web.common.bodies import BodyRefused, find_body_limit, limit_waiting, may_be_large  # noqa: E402
from veduta.web.common.client_disconnect import leaving  # noqa: E402
from veduta.web.common.streaming import take_next_pieces  # noqa: E402

# What is received is kept here while it comes, if it is large: other temporary folders may be in memory.
tempfile.tempdir = str(settings.UPLOAD_DIR)

Receive = Callable[[], Awaitable[Mapping[str, Any]]]
Send = Callable[[Mapping[str, Any]], Awaitable[None]]


class ReaderTurns:
    """Who may have something worked out now.

    All together have so many turns at once, and each person half of them: somebody who opens forty downloads waits for
    their own, and others do not wait for them."""

    def __init__(self, turns: int) -> None:
        self.all = asyncio.Semaphore(turns)
        self.each = max(1, turns // 2)
        self.own: WeakValueDictionary[str, asyncio.Semaphore] = WeakValueDictionary()

    @asynccontextmanager
    async def take_turns(self, who: str) -> AsyncIterator[None]:
        """A turn of somebody's."""
        own = self.own.get(who)
        if own is None:
            own = self.own[who] = asyncio.Semaphore(self.each)
        async with own, self.all:
            yield


class VedutaHandler(ASGIHandler):
    def __init__(self) -> None:
        # Middleware and views are plain functions and run in one thread, one after the other: going from thread to
        # thread between them would cost more than most of them do.
        self.load_middleware(is_async=False)
        self.turns = ReaderTurns(settings.THREADS)

    async def handle(self, scope: Mapping[str, Any], receive: Receive, send: Send) -> None:
        leaving.set(threading.Event())
        try:
            most = settings.DATA_UPLOAD_MAX_MEMORY_SIZE
            if may_be_large(scope):
                most = await sync_to_async(find_body_limit)(scope)
            await super().handle(dict(scope), limit_waiting(receive, scope, most), send)
        except BodyRefused as refused:
            await refused.answer(send)

    async def listen_for_disconnect(self, receive: Receive) -> None:
        try:
            await super().listen_for_disconnect(receive)
        finally:
            leaving.get().set()

    async def get_response_async(self, request: HttpRequest) -> HttpResponseBase:
        who = request.COOKIES.get(settings.SESSION_COOKIE_NAME) or request.META.get("REMOTE_ADDR", "")
        async with self.turns.take_turns(who):
            response = await sync_to_async(self.get_response)(request)
        if isinstance(response, StreamingHttpResponse):
            pieces = response.streaming_content
            if isinstance(pieces, Iterator):
                response.streaming_content = self._iterate_in_turns(pieces, who)
        return response

    async def _iterate_in_turns(self, iterator: Iterator[bytes], who: str) -> AsyncIterator[bytes]:
        """The pieces of an answer, some made in each turn and sent without one."""
        following = sync_to_async(take_next_pieces)
        try:
            done = False
            while not done:
                async with self.turns.take_turns(who):
                    pieces, done = await following(iterator)
                if pieces:
                    yield pieces
        finally:
            if close := getattr(iterator, "close", None):
                await sync_to_async(close)()


application = VedutaHandler()

"""The web server: uvicorn, which reads requests and sends answers without holding a thread."""

from __future__ import annotations

import asyncio
import socket
from typing import Any

import uvicorn
from django.conf import settings
from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol

from veduta.web.common.processes import say_ready

HEAD_SECONDS, HEAD_BYTES = 10.0, 64 * 1024
"""How long the line and the headers of a request may take, and how long they may be."""


class PatientProtocol(HttpToolsProtocol):
    """Closes a connection whose request does not begin properly in time."""

    def connection_made(self, transport: Any) -> None:
        super().connection_made(transport)
        self.head_bytes = 0
        self.head_timer: asyncio.TimerHandle | None = None
        self._await_head()

    def connection_lost(self, exc: Exception | None) -> None:
        self._head_came()
        super().connection_lost(exc)

    def on_message_begin(self) -> None:
        super().on_message_begin()
        self._await_head()

    def on_headers_complete(self) -> None:
        self._head_came()
        super().on_headers_complete()

    def data_received(self, data: bytes) -> None:
        if self.head_timer:
            self.head_bytes += len(data)
        super().data_received(data)
        if self.head_timer and self.head_bytes > HEAD_BYTES:
            self.send_400_response("The address or the headers are too long.")

    def _await_head(self) -> None:
        self._head_came()
        self.head_timer = self.loop.call_later(HEAD_SECONDS, self.transport.close)

    def _head_came(self) -> None:
        self.head_bytes = 0
        if self.head_timer:
            self.head_timer.cancel()
            self.head_timer = None


def listen(port: int) -> socket.socket:
    """A socket that listens on this machine. Raises OSError if the port is taken."""
    return socket.create_server(("127.0.0.1", port), backlog=1024)


def run(listener: socket.socket) -> None:
    """Serve until told to stop. Whom a proxy names as the sender is believed only of those that the settings name."""
    config = uvicorn.Config(
        "veduta.web.asgi:application",
        http=PatientProtocol,
        ws="none",
        lifespan="off",
        log_config=None,
        access_log=False,
        server_header=False,
        proxy_headers=bool(settings.PROXIES),
        forwarded_allow_ips=settings.PROXIES,
        timeout_keep_alive=30,
        timeout_graceful_shutdown=10,
    )
    AnnouncedServer(config).run(sockets=[listener])


class AnnouncedServer(uvicorn.Server):
    """Says when it answers."""

    async def startup(self, sockets: list[socket.socket] | None = None) -> None:
        await super().startup(sockets=sockets)
        if self.started:
            say_ready()

"""Whether the person who asked is still there."""

from __future__ import annotations

import threading
from collections.abc import Callable
from contextvars import ContextVar

leaving: ContextVar[threading.Event] = ContextVar("leaving")
"""Set when the connection of the request being answered is closed."""


def watch_client() -> Callable[[], bool]:
    """A question that other threads may ask on behalf of this request."""
    left = leaving.get(None)
    return lambda: left is None or not left.is_set()

"""What is merely noted while somebody reads: that they looked, when they signed in. Reading goes on without it."""

from __future__ import annotations

import logging
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from django.db import DatabaseError, connection, transaction

logger = logging.getLogger("veduta")
AT_ONCE = 200
"""Milliseconds that a note waits for the database while another writes."""


def note(write: Callable[[], object]) -> None:
    """Write something if the database takes it at once.

    Where it is locked, full or read-only, nothing is written, and the request goes on."""
    try:
        with limit_lock_wait(), transaction.atomic():
            write()
    except (DatabaseError, OSError) as error:
        logger.warning("Something was not noted: %s", error)


@contextmanager
def limit_lock_wait(milliseconds: int = AT_ONCE) -> Iterator[None]:
    """Have the database wait only so long for others inside, and as long as before afterwards."""
    with connection.cursor() as cursor:
        before = cursor.execute("PRAGMA busy_timeout").fetchone()[0]
        cursor.execute(f"PRAGMA busy_timeout = {milliseconds}")
    try:
        yield
    finally:
        with connection.cursor() as cursor:
            cursor.execute(f"PRAGMA busy_timeout = {before}")

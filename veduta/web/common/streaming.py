"""Answers that are sent in pieces, as they are worked out."""

from __future__ import annotations

import json
import logging
import time
from collections.abc import Iterator

from veduta.web.common.disk import FULL_DISK, LOCKED, is_full_disk, is_locked

logger = logging.getLogger("veduta")
BROKEN = "The answer broke off on our side. Nothing was lost: load the page again."

SEND_NOW = ""
"""A piece that says: what came before is sent, for the next one is not ready yet."""
AT_ONCE = 0.02
"""Seconds of making pieces before they are sent: going from thread to thread for each costs more."""


def take_next_pieces(iterator: Iterator[bytes]) -> tuple[bytes, bool]:
    """The pieces to send together, and whether there are no more.

    Those that come within some moments, or before one that asks to be sent."""
    until = time.monotonic() + AT_ONCE
    pieces = []
    for piece in iterator:
        pieces.append(piece)
        if not piece or time.monotonic() > until:
            return b"".join(pieces), False
    return b"".join(pieces), True


def end_with_words(lines: Iterator[str]) -> Iterator[str]:
    """Lines of JSON, the last of which says why they broke off, if they did.

    Their head has been sent long since, so an error there would be no more than silence."""
    try:
        yield from lines
    except Exception as error:
        logger.exception("An answer broke off.")
        known = FULL_DISK if is_full_disk(error) else LOCKED if is_locked(error) else None
        yield json.dumps({"broken": str(known) if known else BROKEN}) + "\n"

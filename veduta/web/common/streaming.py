"""Answers that are sent in pieces, as they are worked out."""

from __future__ import annotations

import time
from collections.abc import Iterator

SEND_NOW = ""
"""A piece that says: what came before is sent, for the next one is not ready yet."""
AT_ONCE = 0.02
"""Seconds of making pieces before they are sent: going from thread to thread for each costs more."""


def next_pieces(iterator: Iterator[bytes]) -> tuple[bytes, bool]:
    """The pieces that come within some moments or before one says that they are to be sent, and whether there are no
    more."""
    until = time.monotonic() + AT_ONCE
    pieces = []
    for piece in iterator:
        pieces.append(piece)
        if not piece or time.monotonic() > until:
            return b"".join(pieces), False
    return b"".join(pieces), True

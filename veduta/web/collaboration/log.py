"""The log of what several people changed in one thing."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class Entry:
    """What somebody (`who`) changed in so many saves, the last of which, by its number, left the thing as it was then.

    Changes are names and what became of them; None for the oldest state that is kept."""

    who: str
    began: dt.datetime
    ended: dt.datetime
    first: int
    last: int
    saves: int
    changes: Sequence[tuple[str, str]] | None

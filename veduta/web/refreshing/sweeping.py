"""What workers sweep up now and then."""

from __future__ import annotations

import math
import time

from veduta.web.imports import services as intake
from veduta.web.jobs import queue

EVERY = 60 * 60
"""Seconds between two sweeps of one worker; the first is at its start."""
_last = {"at": -math.inf}


def sweep_now_and_then() -> int:
    """Take away what uploads that were cut off have left. Returns how many files or folders."""
    if time.monotonic() - _last["at"] < EVERY:
        return 0
    _last["at"] = time.monotonic()
    return intake.sweep()


queue.duties.append(sweep_now_and_then)

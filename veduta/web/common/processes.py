"""Processes that belong together."""

from __future__ import annotations

import os
import signal
import threading
import time
from contextlib import suppress

TOGETHER = "VEDUTA_STARTED_BY"
"""In the environment, the process that started this one and without which it is not to go on."""
READY = "VEDUTA_SAYS_READY"
"""In the environment, the number of the pipe on which a process says that it does its work."""
GRACE = 20.0  # seconds to end in


def say_ready() -> None:
    """Tell the process that started this one that it does its work."""
    pipe = int(os.environ.pop(READY, "-1"))
    if pipe >= 0:
        with suppress(OSError):  # nobody listens any more
            os.write(pipe, b"1")
        os.close(pipe)


def end_with_parent() -> None:
    """Have this process end when the one that started it for that purpose is gone, however it went."""
    parent = int(os.environ.get(TOGETHER, "0"))
    if parent:
        threading.Thread(target=_watch, args=[parent], daemon=True).start()


def _watch(parent: int) -> None:
    while os.getppid() == parent:
        time.sleep(0.5)
    os.kill(os.getpid(), signal.SIGTERM)
    time.sleep(GRACE)
    os._exit(1)

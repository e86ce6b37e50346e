"""How long something outside is waited for: until a time is up, or nobody wants the answer any more."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from veduta.core.errors import QueryCancelled, VedutaError

LOOK_EVERY = 0.25  # seconds


class DeadlineExceeded(VedutaError):
    """An answer did not come in the time there was for it."""

    code = "too-long"


class Deadline:
    """`seconds` to wait in all from now on; `wanted` says whether somebody still waits."""

    def __init__(self, seconds: float = float("inf"), wanted: Callable[[], bool] = lambda: True) -> None:
        self.seconds, self.wanted = seconds, wanted
        self._until = time.monotonic() + seconds

    def find_problem(self) -> VedutaError | None:
        """What to say if it is over."""
        if time.monotonic() > self._until:
            told = f"{self.seconds:,.0f} seconds" if self.seconds < 120 else f"{self.seconds / 60:,.0f} minutes"
            return DeadlineExceeded(f"It took longer than {told} and was stopped.", hint="Ask for less at a time.")
        return None if self.wanted() else QueryCancelled("Stopped. Everything is as it was before.")

    def check(self) -> None:
        """Raises DeadlineExceeded or QueryCancelled if it is over."""
        if problem := self.find_problem():
            raise problem

    @contextmanager
    def watch(self, interrupt: Callable[[], object]) -> Iterator[None]:
        """Call `interrupt` from another thread if time runs out while the body works.

        Then raises DeadlineExceeded or QueryCancelled, whatever came of the interruption."""
        done = threading.Event()
        over: list[VedutaError] = []

        def watch() -> None:
            while not done.wait(LOOK_EVERY):
                if not over and (problem := self.find_problem()):
                    over.append(problem)
                if over:
                    interrupt()

        watcher = threading.Thread(target=watch, daemon=True)
        watcher.start()
        try:
            yield
        except Exception:
            if over:
                raise over[0] from None
            raise
        finally:
            done.set()
            watcher.join()


NO_DEADLINE = Deadline()

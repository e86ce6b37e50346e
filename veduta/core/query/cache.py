"""Answers kept in memory, by all they depend on. The same question asked twice at once is worked out once."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from concurrent.futures import Future

from veduta.core.errors import Stopped
from veduta.core.query.query import Result


class ResultCache:
    """Results by key, the least recently used leaving first when they take more
    than `most_bytes`. Safe under threads."""

    def __init__(self, most_bytes: int) -> None:
        self.most_bytes = most_bytes
        self._kept: OrderedDict[Hashable, tuple[Result, float]] = OrderedDict()
        self._under_way: dict[Hashable, Future[Result]] = {}
        self._size = 0.0
        self._lock = threading.Lock()

    def get(self, key: Hashable, work_out: Callable[[], Result]) -> Result:
        """The result for a key, worked out if it is not there; whoever asks meanwhile waits for it. A question that
        fails is not kept and fails for all who wait."""
        with self._lock:
            if key in self._kept:
                self._kept.move_to_end(key)
                return self._kept[key][0]
            waiting = self._under_way.get(key)
            if waiting is None:
                mine = self._under_way[key] = Future()
        if waiting is not None:
            try:
                return waiting.result()
            except Stopped:  # by whoever asked first, not by us
                return self.get(key, work_out)
        try:
            result = work_out()
        except BaseException as problem:
            with self._lock:
                del self._under_way[key]
            mine.set_exception(problem)
            raise
        with self._lock:
            del self._under_way[key]
            self._keep(key, result)
        mine.set_result(result)
        return result

    def _keep(self, key: Hashable, result: Result) -> None:
        size: float = sum(frame.estimated_size() for frame in (result.frame, *result.totals.values())) + 2_000
        if size > self.most_bytes:
            return
        self._kept[key] = (result, size)
        self._size += size
        while self._size > self.most_bytes:
            self._size -= self._kept.popitem(last=False)[1][1]

    def clear(self) -> None:
        with self._lock:
            self._kept.clear()
            self._size = 0.0

    def __len__(self) -> int:
        return len(self._kept)


results = ResultCache(128 * 1024 * 1024)

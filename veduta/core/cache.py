"""What is kept in memory, within a bound, for all threads of a process.

Keys hold all that a value depends on (a dataset's version, when a definition changed, today …), so that nothing ever
has to be told that a value is out of date: several processes on one database each keep their own and are right."""

from __future__ import annotations

import threading
from collections.abc import Callable, Hashable
from concurrent.futures import Future
from contextlib import suppress
from typing import Any, Generic, TypeVar
from weakref import WeakSet

from cachetools import LRUCache

from veduta.core.errors import QueryCancelled

Value = TypeVar("Value")
_caches: WeakSet[Cache[Any]] = WeakSet()


def clear_caches() -> None:
    """Empty every cache of this process, for tests.

    The next test's rows get the same keys with other values."""
    for cache in list(_caches):
        cache.clear()


class Cache(Generic[Value]):
    """A bounded cache of values by key, least recently used out first.

    Each value counts as `size_of` it says, or as one, towards `most`; a larger value is not kept. Of two threads that
    ask for the same key at once, one computes it."""

    def __init__(self, most: float, size_of: Callable[[Value], float] | None = None) -> None:
        self._values: LRUCache[Hashable, Value] = LRUCache(most, size_of)
        self._under_way: dict[Hashable, Future[Value]] = {}
        self._lock = threading.Lock()
        _caches.add(self)

    def get(self, key: Hashable, work_out: Callable[[], Value]) -> Value:
        """The value for a key, worked out if it is not there; whoever asks meanwhile waits for it.

        What fails is not kept and fails for all who wait."""
        with self._lock:
            if key in self._values:
                return self._values[key]
            waiting = self._under_way.get(key)
            if waiting is None:
                mine = self._under_way[key] = Future()
        if waiting is not None:
            try:
                return waiting.result()
            except QueryCancelled:  # by whoever asked first, not by us
                return self.get(key, work_out)
        try:
            value = work_out()
        except BaseException as problem:
            with self._lock:
                del self._under_way[key]
            mine.set_exception(problem)
            raise
        with self._lock:
            del self._under_way[key]
            self._keep(key, value)
        mine.set_result(value)
        return value

    def find_kept(self, key: Hashable) -> Value | None:
        """The value for a key, if it is there."""
        with self._lock:
            return self._values.get(key)

    def keep(self, key: Hashable, value: Value) -> None:
        """Keep a value that was worked out elsewhere."""
        with self._lock:
            self._keep(key, value)

    def _keep(self, key: Hashable, value: Value) -> None:
        with suppress(ValueError):  # larger than all that may be kept
            self._values[key] = value

    def set_limit(self, most: float) -> None:
        """Keep nothing, and from now on no more than so much."""
        with self._lock:
            self._values = LRUCache(most, self._values.getsizeof)

    def clear(self) -> None:
        with self._lock:
            self._values.clear()

    def __len__(self) -> int:
        return len(self._values)

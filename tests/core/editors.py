"""People who edit one thing at the same time, each with what their page keeps."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any


@dataclass
class Editor:
    """Somebody with an editor that can undo: what was like the shared state last, what there is now, and the states to
    which undoing and redoing lead. `merging` brings together as the page does it."""

    merging: Any
    base: Any
    now: Any
    past: list[Any] = field(default_factory=list)
    future: list[Any] = field(default_factory=list)

    def bring(self, shared: Any) -> Any:
        """Bring all to what others did, and return what is shared then."""
        for states in (self.past, self.future):
            states[:] = [self.merging.rebase_definition(self.base, shared, each).definition for each in states]
        self.base = self.now = self.merging.merge_definitions(self.base, shared, self.now).definition
        return self.now

    def make(self, state: Any) -> None:
        self.past.append(self.now)
        self.future.clear()
        self.now = state

    def undo(self) -> None:
        self.future.append(self.now)
        self.now = self.past.pop()

    def redo(self) -> None:
        self.past.append(self.now)
        self.now = self.future.pop()

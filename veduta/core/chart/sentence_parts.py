"""The parts that a chart's sentence is made of."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

MOVABLE = ("show", "layer", "by", "panels", "only", "compare")


@dataclass(frozen=True)
class SentencePart:
    """Some words; those of a clause name it and its position in it.

    Those of a `MOVABLE` one can be put into another order."""

    text: str
    clause: str = ""
    index: int = 0

    @property
    def movable(self) -> bool:
        return self.clause in MOVABLE


def join_parts(texts: Sequence[str], clause: str, positions: Sequence[int] | None = None) -> list[SentencePart]:
    """The entries of a clause in a row: "fare, passengers and sailings"; at these positions, else at their own."""
    parts: list[SentencePart] = []
    for place, text in enumerate(texts):
        if place:
            parts.append(SentencePart(" and " if place == len(texts) - 1 else ", "))
        parts.append(SentencePart(text, clause, positions[place] if positions else place))
    return parts

"""The saves of a draft, put together into the sittings in which somebody worked on it."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable
from dataclasses import dataclass

PAUSE = dt.timedelta(minutes=10)
"""Whoever does nothing for longer sits down anew."""


@dataclass(frozen=True)
class Save:
    """A draft was saved by somebody, who has an id (None for one who is not known any more)."""

    number: int
    who: int | None
    at: dt.datetime


@dataclass(frozen=True)
class Sitting:
    """What one person saved without a longer pause and without others in between: the oldest first."""

    saves: tuple[Save, ...]

    @property
    def first(self) -> Save:
        return self.saves[0]

    @property
    def last(self) -> Save:
        return self.saves[-1]


def group_sittings(saves: Iterable[Save]) -> list[Sitting]:
    """The sittings of saves that are given with the oldest first; the newest sitting is first."""
    found: list[list[Save]] = []
    for save in saves:
        last = found[-1][-1] if found else None
        if last and last.who == save.who and save.at - last.at <= PAUSE:
            found[-1].append(save)
        else:
            found.append([save])
    return [Sitting(tuple(each)) for each in reversed(found)]

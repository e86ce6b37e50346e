"""What has changed in the figures of a dashboard since somebody last looked."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

from pydantic import Field

from veduta.core.data.fields import Frozen


class Summary(Frozen):
    """A figure as it was read: its name, its value (None where there was none), and how it was written."""

    name: str = Field(max_length=300)
    value: float | None = Field(None, allow_inf_nan=False)
    text: str = Field("", max_length=300)


@dataclass(frozen=True)
class Difference:
    """How a figure differs; `share` is by how much of what it was, "" where that says nothing."""

    name: str
    before: str
    now: str
    share: str


def list_differences(before: Mapping[str, Summary], now: Mapping[str, Summary]) -> list[Difference]:
    """The figures that differ from before, in their order and as written.

    Each has the name of its place."""
    pairs = [(before[place], each) for place, each in now.items() if place in before]
    return [_compare(old, new) for old, new in pairs if old.value != new.value and old.text != new.text]


def _compare(old: Summary, new: Summary) -> Difference:
    return Difference(new.name, old.text, new.text, _share(old.value, new.value))


def _share(old: float | None, new: float | None) -> str:
    """A change in percent, as it is written, or "" where it means nothing.

    >>> _share(200, 190), _share(0, 5), _share(-2, 2), _share(1e9, 1e9 + 1), _share(None, 1)
    ('−5.0%', '', '', 'under ±0.1%', '')
    """
    if old is None or new is None or old <= 0 or new < 0 or not math.isfinite(new / old):
        return ""
    share = 100 * (new / old - 1)
    if abs(share) < 0.1:
        return "under ±0.1%"
    return f"{share:+,.1f}%".replace("-", "−")

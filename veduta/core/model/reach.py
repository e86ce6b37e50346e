"""Which fields of other tables a table's rows have.

Through joins to tables with one row for each key, or because a key holds the same values. No value is ever counted
twice, since no join here can repeat a row."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from veduta.core.model.definition import JoinKey, ModelJoin

GRAINS = ("", "day", "week", "month", "quarter", "year")
NESTS = {
    "": GRAINS,
    "day": ("day", "week", "month", "quarter", "year"),
    "week": ("week",),
    "month": ("month", "quarter", "year"),
    "quarter": ("quarter", "year"),
    "year": ("year",),
}

ANY_PERIOD = "year"
"""What is known of a date that is known by any period of the calendar; weeks do not make up years."""


@dataclass(frozen=True)
class Lookup:
    """A join to a table with one row for each key: the keys on this side and on the other."""

    table: str
    own: tuple[str, ...]
    other: tuple[str, ...]
    grains: tuple[str, ...]


@dataclass(frozen=True)
class Source:
    """Where a field's values come from.

    From the field `same` that holds the same values, or from its own table by a lookup. With a `grain` only its periods
    are known, not its days."""

    same: str = ""
    grain: str = ""


@dataclass(frozen=True)
class Reach:
    """The fields that a table's rows have, by their ids, and the lookups that bring those of other tables, in order."""

    sources: dict[str, Source]
    lookups: list[Lookup]


def make_field_id(table: str, field: str) -> str:
    return f"{table}.{field}" if table else field


def split_table(field: str) -> str:
    return field.partition(".")[0] if "." in field else ""


def reach(
    home: str,
    fields: dict[str, list[str]],
    joins: tuple[ModelJoin, ...],
    is_unique: Callable[[str, tuple[JoinKey, ...], bool], bool],
) -> Reach:
    """What the rows of table `home` have.

    `fields` lists the fields' ids for each table; `is_unique(table, keys, left)` tells whether a table has one row for
    each of the keys on its side."""
    sources = {field: Source() for field in fields.get(home, ())}
    lookups: list[Lookup] = []
    visited = {home}
    changed = True
    while changed:
        changed = False
        for join in joins:
            for left in (True, False):
                near, far = (join.left, join.right) if left else (join.right, join.left)
                own = tuple(make_field_id(near, key.left if left else key.right) for key in join.keys)
                other = tuple(make_field_id(far, key.right if left else key.left) for key in join.keys)
                for mine, theirs, key in zip(own, other, join.keys, strict=True):
                    if mine in sources and theirs not in sources and _fits(sources[mine].grain, key.grain):
                        grain = max(sources[mine].grain, key.grain, key=GRAINS.index)
                        sources[theirs] = Source(same=mine, grain=grain)
                        changed = True
                if far in visited or not all(field in sources for field in own):
                    continue
                fits = all(_fits(sources[field].grain, key.grain) for field, key in zip(own, join.keys, strict=True))
                if fits and is_unique(far, join.keys, not left):
                    lookups.append(Lookup(far, own, other, tuple(key.grain for key in join.keys)))
                    visited.add(far)
                    for field in fields.get(far, ()):
                        sources.setdefault(field, Source())
                    changed = True
    return Reach(sources, lookups)


def _fits(known: str, wanted: str) -> bool:
    """Whether periods that are known only by `known` can be told by `wanted`."""
    return wanted in NESTS[known]

"""Which area a name means: by its own key, by how it is spelt elsewhere, or nearly."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from rapidfuzz import fuzz, process

from veduta.core.geography.shapes import Shapes

NEARLY = 75
"""How alike, of 100, two names must be for one to be offered for the other."""


@dataclass(frozen=True)
class MatchedNames:
    """Areas by the names that mean them, the names that mean none, and the areas that no name means."""

    areas: dict[str, str]
    unmatched: tuple[str, ...]
    unused: tuple[str, ...]

    @property
    def share(self) -> float:
        return len(self.areas) / max(1, len(self.areas) + len(self.unmatched))


def simplify_name(name: str) -> str:
    """A name without what people write now this way, now that: case, accents, blanks and signs.

    >>> simplify_name(" Île-d’Ash ")
    'ile d ash'
    """
    letters = unicodedata.normalize("NFKD", name.casefold())
    return re.sub(r"[\W_]+", " ", "".join(each for each in letters if not unicodedata.combining(each))).strip()


def match_names(names: Iterable[str], shapes: Shapes) -> MatchedNames:
    """What each name means on the map.

    An area's own key, a spelling that was given for it, or a key that differs only in case, accents and punctuation, if
    there is just one."""
    keys = set(shapes.keys)
    plain: dict[str, str | None] = {}
    for key in shapes.keys:
        plain[simplify_name(key)] = None if simplify_name(key) in plain else key
    areas: dict[str, str] = {}
    unmatched: list[str] = []
    for name in dict.fromkeys(names):
        given = shapes.aliases.get(name)
        means: str | None = name if name in keys else given if given in keys else plain.get(simplify_name(name))
        if means is None:
            unmatched.append(name)
        else:
            areas[name] = means
    used = set(areas.values())
    return MatchedNames(areas, tuple(unmatched), tuple(key for key in shapes.keys if key not in used))


def find_likely(name: str, keys: Sequence[str]) -> str:
    """The key that a name is most like, or "" if it is like none."""
    best = process.extractOne(simplify_name(name), {key: simplify_name(key) for key in keys}, scorer=fuzz.WRatio)
    return best[2] if best and best[1] >= NEARLY else ""

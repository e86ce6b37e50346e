"""Counts and lists in words."""

from __future__ import annotations

from collections.abc import Sequence


def pluralise(count: int, one: str, many: str = "") -> str:
    """A number of things: "1 row", "1,200 rows"; `many` is given where the plural is not the word with an s."""
    return f"{count:,} {one if count == 1 else many or one + 's'}"


def describe_not_drawn(count: int, thing: str, why: str) -> str:
    """That some things are left out of a drawing: "2 parts below zero are not drawn." """
    return f"{pluralise(count, thing)} {why} {'is' if count == 1 else 'are'} not drawn."


def join_names(names: Sequence[str], joint: str = "and", most: int | None = None) -> str:
    """Names in a row: "Tern, Quay and Harrow". Of more than `most` the first ones, and how many more there are."""
    if not names:
        return "nothing"
    if most is not None and len(names) > most:
        return f"{', '.join(names[:most])} and {len(names) - most:,} more"
    return f" {joint} ".join(filter(None, [", ".join(names[:-1]), names[-1]]))


def lower_first(name: str) -> str:
    """A name as it stands inside a sentence: "Fare revenue" as "fare revenue", "ETA" as it is."""
    return name[0].lower() + name[1:] if len(name) > 1 and name[1].islower() else name


def split_words(text: str) -> frozenset[str]:
    """The words of a list that is written with spaces between them."""
    return frozenset(text.split())

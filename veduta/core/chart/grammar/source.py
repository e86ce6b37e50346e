"""JSON text with the places of what it says, also while it is being written."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from dataclasses import dataclass, field

TOKENS = re.compile(r'"(?:[^"\\\n]|\\.)*"?|[{}\[\],:]|[^\s{}\[\],:"]+')
Path = tuple[str | int, ...]


@dataclass(frozen=True)
class SourceSpan:
    """From one character of a text to before another."""

    start: int
    end: int


@dataclass
class _Open:
    """An object or an array that is still open.

    Where it begins, the key whose value comes next, its number of items, and whether a colon followed the key."""

    path: Path
    is_object: bool
    key: str | None = None
    keys: set[str] = field(default_factory=set)
    has_colon: bool = False
    items: int = 0

    @property
    def inner(self) -> Path:
        return (*self.path, (self.key or "") if self.is_object else self.items)


@dataclass(frozen=True)
class Caret:
    """What is being written at a place: a key of the object at `path`, which has `keys` already, or a value at `path`.

    `span` is what is written of it so far."""

    path: Path
    is_key: bool
    span: SourceSpan
    keys: frozenset[str] = frozenset()


def _iterate_tokens(text: str) -> Iterator[tuple[str, int, int]]:
    for match in TOKENS.finditer(text):
        yield match[0], match.start(), match.end()


def _decode_token(token: str) -> str:
    try:
        return str(json.loads(token))
    except ValueError:
        return token.strip('"')


def locate_parts(text: str) -> tuple[dict[Path, SourceSpan], dict[Path, SourceSpan]]:
    """Where each value stands, by its path, and where each key does."""
    values: dict[Path, SourceSpan] = {}
    keys: dict[Path, SourceSpan] = {}
    starts: list[int] = []
    open_: list[_Open] = []
    for token, start, end in _iterate_tokens(text):
        if token in "{[":
            path = open_[-1].inner if open_ else ()
            values[path] = SourceSpan(start, start + 1)
            open_.append(_Open(path, token == "{"))
            starts.append(start)
        elif token in "}]":
            if open_:
                values[open_.pop().path] = SourceSpan(starts.pop(), end)
        elif open_ and open_[-1].is_object and token[0] == '"' and not open_[-1].has_colon:
            open_[-1].key = _decode_token(token)
            keys[open_[-1].inner] = SourceSpan(start, end)
        elif token not in ",:":
            values[open_[-1].inner if open_ else ()] = SourceSpan(start, end)
        _take_token(open_, token)
    return values, keys


def _take_token(open_: list[_Open], token: str) -> None:
    """Notes what a comma or a colon says about what comes next."""
    if not open_:
        return
    inside = open_[-1]
    if token == ",":
        inside.items += 1
        inside.key, inside.has_colon = None, False
    elif token == ":" and inside.is_object:
        inside.has_colon = True


def locate_caret(text: str, caret: int) -> Caret:
    """What is being written at a place of a text, which need not be whole."""
    open_: list[_Open] = []
    span = SourceSpan(caret, caret)
    for token, start, end in _iterate_tokens(text):
        if start >= caret:
            break
        is_word = token not in "{}[],:"
        if is_word and end >= caret and not (token[0] == '"' and end == caret and token[-1] == '"' and len(token) > 1):
            span = SourceSpan(start, end)
            break
        if token in "{[":
            open_.append(_Open(open_[-1].inner if open_ else (), token == "{"))
        elif token in "}]":
            if open_:
                open_.pop()
        elif is_word and open_ and open_[-1].is_object and not open_[-1].has_colon:
            open_[-1].key = _decode_token(token)
            open_[-1].keys.add(open_[-1].key)
        _take_token(open_, token)
    if not open_:
        return Caret((), False, span)
    inside = open_[-1]
    if inside.is_object and not inside.has_colon:
        return Caret(inside.path, True, span, frozenset(inside.keys))
    return Caret(inside.inner, False, span)

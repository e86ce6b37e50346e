"""A bound for the texts that formulas and steps make: what would be larger is refused before it is made."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

import polars as pl

from veduta.core.formula.problems import FormulaProblem

LONGEST_TEXT = 100_000
"""Bytes of one value."""
FREE, ON_AVERAGE, MOST_TOGETHER = 64 * 1024**2, 1_000, 4 * 1024**3
"""Bytes of the values that are made at once: so many in any case, more if they are so many on average, but never more
than that. What is no larger than what it is made of is always within bounds."""

Sizes = Callable[..., pl.Expr]


class TextsTooLarge(FormulaProblem):
    """A text function whose results would be too large.

    Polars re-creates an error that passes through it, with the same class and its own message; so the class itself
    holds the message that people read."""

    def __init__(self, *_args: Any, **_kwargs: Any) -> None:
        super().__init__(
            f"This makes texts that are too large: one of more than {LONGEST_TEXT:,} characters, or many of more than"
            f" {ON_AVERAGE:,} on average.",
            hint="Replace or join less at a time, or shorten with left(…).",
        )


def bound_result(make: Sizes, size: Sizes, *texts: pl.Expr) -> pl.Expr:
    """The text that `make` builds from some texts, if it is within bounds.

    `size` gives the most bytes of each result; beyond the bounds, computing it raises TextsTooLarge."""
    work = partial(_make_within_bounds, make, size)
    return pl.map_batches(list(texts), work, return_dtype=pl.String, is_elementwise=True)


def _make_within_bounds(make: Sizes, size: Sizes, columns: Any) -> pl.Series:
    """A column of one value stands for that value in each row."""
    if any(column.is_empty() for column in columns):
        return pl.Series(columns[0].name, [], dtype=pl.String)
    frame = pl.DataFrame([column.alias(str(i)) for i, column in enumerate(columns) if column.len() > 1])
    rows = max(1, frame.height)
    texts = [
        pl.col(str(i)) if column.len() > 1 else pl.lit(column[0], dtype=pl.String) for i, column in enumerate(columns)
    ]
    before = [_count_bytes(frame, text.str.len_bytes()) for text in texts]
    after = _count_bytes(frame, size(*texts))
    longest = max(LONGEST_TEXT, *map(_find_longest, before))
    together = max(min(max(FREE, rows * ON_AVERAGE), MOST_TOGETHER), *(text.sum() for text in before))
    if _find_longest(after) > longest or after.sum() > together:
        raise TextsTooLarge
    return frame.select(make(*texts)).to_series()


def _count_bytes(frame: pl.DataFrame, size: pl.Expr) -> pl.Series:
    return frame.select(size.cast(pl.Int64)).to_series()


def _find_longest(bytes_: pl.Series) -> int:
    longest: Any = bytes_.max()
    return longest or 0


def join_texts(a: pl.Expr, b: pl.Expr) -> pl.Expr:
    """Both texts, one behind the other; an empty one adds nothing, two stay empty."""

    def make(a: pl.Expr, b: pl.Expr) -> pl.Expr:
        return pl.when(a.is_not_null() | b.is_not_null()).then(a.fill_null("") + b.fill_null(""))

    def size(a: pl.Expr, b: pl.Expr) -> pl.Expr:
        return a.str.len_bytes().cast(pl.Int64).fill_null(0) + b.str.len_bytes().fill_null(0)

    return bound_result(make, size, a, b)


def replace_text(text: pl.Expr, find: pl.Expr, put: pl.Expr) -> pl.Expr:
    """The text with every occurrence of a part replaced; an empty part is nowhere."""

    def make(text: pl.Expr, find: pl.Expr, put: pl.Expr) -> pl.Expr:
        known = find.is_not_null() & put.is_not_null()
        part, new = find.fill_null(""), put.fill_null("")
        one = find.meta.is_literal()  # the fast way, which finds the same in every text
        done = text.str.replace_all(part, new, literal=True) if one else text.str.split(part).list.join(new)
        return pl.when(known & (part != "")).then(done).when(known).then(text)

    def size(text: pl.Expr, find: pl.Expr, put: pl.Expr) -> pl.Expr:
        longer = put.str.len_bytes().cast(pl.Int64) - find.str.len_bytes()
        return text.str.len_bytes() + text.str.count_matches(find, literal=True) * longer

    return bound_result(make, size, text, find, put)


def replace_pattern(text: pl.Expr, pattern: str, put: str) -> pl.Expr:
    """The text with every match of a regular expression replaced.

    `put` may refer to groups with $1 and the like, each of which is at most the whole match."""

    def size(text: pl.Expr) -> pl.Expr:
        bytes_ = text.str.len_bytes().cast(pl.Int64)
        return bytes_ * (1 + put.count("$")) + text.str.count_matches(pattern) * len(put.encode())

    return bound_result(lambda text: text.str.replace_all(pattern, put), size, text)

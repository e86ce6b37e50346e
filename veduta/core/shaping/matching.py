"""How two tables' keys match: which columns go together, the share that finds a match, what is unmatched."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import polars as pl
from rapidfuzz import fuzz, process

from veduta.core.data.fields import DataField, DataType
from veduta.core.data.profile import share_in
from veduta.core.errors import DefinitionProblem
from veduta.core.number_format import label_value
from veduta.core.shaping.flow import Flow

SAMPLE = 20_000
LISTED = 200


@dataclass(frozen=True)
class Side:
    """One side of a match: its rows, those whose key finds a match, and the keys that do not, with their rows."""

    rows: int
    matched: int
    unmatched: tuple[tuple[str, int], ...]
    unmatched_keys: int

    @property
    def share(self) -> float:
        return self.matched / self.rows if self.rows else 0.0


@dataclass(frozen=True)
class MatchShare:
    """How two sides of a match fit together.

    `several` keys of the other side have more than one row, and `rows_after` come out of keeping all rows."""

    own: Side
    other: Side
    several: int
    rows_after: int


def build_key_columns(
    own: Flow, other: Flow, pairs: tuple[tuple[str, str], ...]
) -> tuple[list[pl.Expr], list[pl.Expr]]:
    """This side's keys as comparable expressions, and the other's as columns __k0, __k1, …

    Raises DefinitionProblem if their kinds do not compare."""
    if not pairs:
        raise DefinitionProblem("No key is chosen.", hint="Choose a column on each side that holds the same values.")
    left, right = [], []
    for i, (own_id, other_id) in enumerate(pairs):
        a, b = own.schema[own_id], other.schema[other_id]
        kind = find_common_key_type(a, b)
        left.append(_build_key(a, kind))
        right.append(_build_key(b, kind).alias(f"__k{i}"))
    return left, right


def _build_key(field: DataField, kind: DataType) -> pl.Expr:
    return pl.col(field.id) if field.kind is kind else pl.col(field.id).cast(kind.dtype)


def find_common_key_type(a: DataField, b: DataField) -> DataType:
    """The kind in which two keys are compared."""
    if a.kind == b.kind:
        return a.kind
    if a.kind.is_number and b.kind.is_number:
        return DataType.DECIMAL
    if a.kind.is_date and b.kind.is_date:
        return DataType.DATETIME
    raise DefinitionProblem(
        f"“{a.name}” holds {a.kind.words} values and “{b.name}” {b.kind.words} values, so they never match.",
        hint="Change the type of one of them first.",
    )


def match_share(own: Flow, other: Flow, pairs: tuple[tuple[str, str], ...]) -> MatchShare:
    """Count both ways which rows find a match. Empty keys match nothing."""
    left, right = build_key_columns(own, other, pairs)
    keys = [f"__k{i}" for i in range(len(pairs))]
    a, b = pl.collect_all(
        [
            own.rows.select(key.alias(name) for key, name in zip(left, keys, strict=True))
            .group_by(keys)
            .agg(n=pl.len()),
            other.rows.select(right).group_by(keys).agg(m=pl.len()),
        ]
    )
    both = a.join(b, on=keys, how="left").with_columns(
        pl.col("m").cast(pl.Int64).fill_null(0), pl.col("n").cast(pl.Int64)
    )
    fields = [(own.schema[x], other.schema[y]) for x, y in pairs]
    return MatchShare(
        own=_count_side(both.with_columns(matched=pl.col("m") > 0), keys, "n", [x for x, _ in fields]),
        other=_count_side(
            b.join(a, on=keys, how="left").with_columns(pl.col("m").cast(pl.Int64), matched=pl.col("n").is_not_null()),
            keys,
            "m",
            [y for _, y in fields],
        ),
        several=b.filter(pl.col("m") > 1).drop_nulls().height,
        rows_after=int((both["n"] * pl.select(pl.max_horizontal(both["m"], pl.lit(1))).to_series()).sum()),
    )


def _count_side(keyed: pl.DataFrame, keys: list[str], count: str, fields: list[DataField]) -> Side:
    missing = keyed.filter(~pl.col("matched")).sort(
        [count, *keys], descending=[True, *[False] * len(keys)], nulls_last=True
    )
    listed = tuple(
        (
            " · ".join(
                label_value(_convert_value(value, field)) for value, field in zip(row[: len(keys)], fields, strict=True)
            ),
            row[-1],
        )
        for row in missing.head(LISTED).select(*keys, count).iter_rows()
    )
    matched = int(keyed.filter("matched")[count].sum())
    return Side(int(keyed[count].sum()), matched, listed, missing.height)


def _convert_value(value: Any, field: DataField) -> Any:
    return value.date() if field.kind is DataType.DATE and hasattr(value, "date") else value


@dataclass(frozen=True)
class KeySuggestion:
    own: str
    other: str
    share: float
    """The share of the different values on this side that the other side has too."""


def suggest_keys(own: Flow, other: Flow, most: int = 5) -> list[KeySuggestion]:
    """Pairs of columns that look like keys, the best first: values that overlap, and names that are alike."""

    def uniques(flow: Flow) -> dict[str, pl.Series]:
        fields = [f for f in flow.fields if f.kind not in (DataType.YES_NO, DataType.DECIMAL)]
        frame = flow.rows.select(field.id for field in fields).head(SAMPLE).collect()
        return {field.id: frame[field.id].drop_nulls().unique() for field in fields}

    ours, theirs = uniques(own), uniques(other)
    scored = []
    for a, mine in ours.items():
        for b, yours in theirs.items():
            field, against = own.schema[a], other.schema[b]
            if field.kind != against.kind or not len(mine) or not len(yours):
                continue
            share = share_in(mine, yours)
            alike = fuzz.token_set_ratio(field.name.lower(), against.name.lower()) / 100
            distinct = min(1.0, len(yours) / 3)  # few values overlap by chance
            small = 0.4 if field.kind.is_number and alike < 0.6 else 1.0  # so do small numbers
            if share > 0.05 and (score := (0.75 * share * distinct + 0.25 * alike) * small) > 0.35:
                scored.append((score, KeySuggestion(a, b, share)))
    best: list[KeySuggestion] = []
    used: set[str] = set()
    for _, suggestion in sorted(scored, key=lambda each: -each[0]):
        if not {f"own {suggestion.own}", f"other {suggestion.other}"} & used:
            best.append(suggestion)
            used |= {f"own {suggestion.own}", f"other {suggestion.other}"}
    return best[:most]


def suggest_spellings(
    values: list[tuple[str, int]], targets: list[str] | None = None, alike: float = 70
) -> list[tuple[str, str, int]]:
    """(value, the spelling it probably means, how alike in percent), the surest first.

    `values` come with their counts. Without `targets`, rarer values are compared with more frequent ones.
    """
    suggestions = []
    if targets is not None:
        known = set(targets)
        asked = [value for value, _ in values if value not in known]
        for value in asked:
            if best := process.extractOne(value, targets, scorer=_score_likeness, score_cutoff=alike):
                suggestions.append((value, best[0], round(best[1])))
    else:
        ordered = [value for value, _ in sorted(values, key=lambda pair: (-pair[1], pair[0]))]
        for i, value in enumerate(ordered):
            if best := process.extractOne(value, ordered[:i], scorer=_score_likeness, score_cutoff=max(alike, 80)):
                suggestions.append((value, best[0], round(best[1])))
    return sorted(suggestions, key=lambda pair: (-pair[2], pair[0]))


def _score_likeness(a: str, b: str, **_options: Any) -> float:
    """How alike two spellings are, from 0 to 100: letters and words, blanks and capitals apart."""
    x, y = _simplify(a), _simplify(b)
    return max(
        fuzz.ratio(x.replace(" ", ""), y.replace(" ", "")),
        fuzz.token_sort_ratio(x, y),
        0.9 * fuzz.token_set_ratio(x, y),
    )


def _simplify(text: str) -> str:
    return " ".join("".join(letter if letter.isalnum() else " " for letter in text.casefold()).split())

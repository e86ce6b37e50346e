"""How well two tables of a model match, and by which keys they probably belong together."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import combinations
from typing import Any

import polars as pl
from rapidfuzz import fuzz

from veduta.core.calendar import STEPS, Grain
from veduta.core.data.fields import DataField, DataType
from veduta.core.data.profile import share_in
from veduta.core.model.definition import JoinKey, ModelJoin
from veduta.core.model.model import Model
from veduta.core.model.reach import make_field_id
from veduta.core.model.rows import make_comparable

SAMPLE = 50_000
LISTED = 20
LIKELY = 0.6
"""How likely, from 0 to 1, two fields must belong together to be proposed."""
MOST_PAIRS, FEW_KEYS = 6, 3
TRIED = 5_000
"""So many rows are looked at first for two with the same keys."""


@dataclass(frozen=True)
class JoinSide:
    """One side of a join.

    Its rows, the rows whose keys the other side has, its distinct keys, the most rows that share one, and keys without
    a match (as values, with their rows), the most frequent first."""

    table: str
    rows: int
    matched: int
    keys: int
    most: int
    unmatched: tuple[tuple[tuple[Any, ...], int], ...]
    unmatched_keys: int

    @property
    def share(self) -> float:
        return self.matched / self.rows if self.rows else 0.0

    @property
    def is_unique(self) -> bool:
        return self.most <= 1


@dataclass(frozen=True)
class JoinCheck:
    left: JoinSide
    right: JoinSide

    @property
    def share(self) -> float:
        """The share of rows that find a match.

        Counted on the side with many rows a key, from which the other side is looked up."""
        return min(
            side.share for side in [s for s in (self.left, self.right) if not s.is_unique] or (self.left, self.right)
        )

    @property
    def words(self) -> str:
        """How many rows of one side belong to one of the other."""
        sides = ("one" if self.left.is_unique else "many", "one" if self.right.is_unique else "many")
        return f"{sides[0]} to {sides[1]}"


def check_join(model: Model, join: ModelJoin) -> JoinCheck:
    """Count both ways which rows find a match; empty keys match nothing.

    Raises VedutaError for keys that do not exist."""
    counted = [
        model.tables[table].scan(names).select(columns).group_by(pl.all()).agg(n=pl.len())
        for table, names, columns in _iterate_sides(model, join)
    ]
    a, b = pl.collect_all(counted)
    keys = [f"k{i}" for i in range(len(join.keys))]
    return JoinCheck(_check_side(join.left, a, b, keys), _check_side(join.right, b, a, keys))


def _iterate_sides(model: Model, join: ModelJoin) -> Iterator[tuple[str, list[str], list[pl.Expr]]]:
    """The table of each side of a join, the columns of its keys, and these as they are compared, as "k0", "k1" …."""
    for left in (True, False):
        table, columns = join.left if left else join.right, []
        for i, key in enumerate(join.keys):
            own, other = (key.left, key.right) if left else (key.right, key.left)
            kinds = (
                model.schema[make_field_id(table, own)].kind,
                model.schema[make_field_id(join.right if left else join.left, other)].kind,
            )
            columns.append(make_comparable(pl.col(own), *kinds, key.grain, model.schema.fiscal_month).alias(f"k{i}"))
        yield table, list(dict.fromkeys(key.left if left else key.right for key in join.keys)), columns


def _check_side(table: str, own: pl.DataFrame, other: pl.DataFrame, keys: list[str]) -> JoinSide:
    missing = own.join(other.drop_nulls(), on=keys, how="anti").sort(
        "n", *keys, descending=[True, *[False] * len(keys)], nulls_last=True
    )
    full = own.drop_nulls()
    return JoinSide(
        table=table,
        rows=int(own["n"].sum()),
        matched=int(own["n"].sum()) - int(missing["n"].sum()),
        keys=full.height,
        most=max(full["n"].to_list(), default=0),
        unmatched=tuple((tuple(row[:-1]), row[-1]) for row in missing.head(LISTED).iter_rows()),
        unmatched_keys=missing.height,
    )


def suggest_join(model: Model, table: str, other: str) -> ModelJoin | None:
    """The likeliest keys between two tables, by names, kinds and overlap of values.

    Best are few that are different for each row of one side, which the other side then looks up: an airport and an
    hour, rather than a day alone. Where no keys are, all that belong together are proposed.
    """
    scored = []
    for a in _list_candidates(model, table):
        for b in _list_candidates(model, other):
            if (score := _score_pair(model, a, b)) is not None and score >= LIKELY:
                scored.append((score, a, b))
    pairs: list[tuple[DataField, DataField]] = []
    for _, a, b in sorted(scored, key=lambda each: -each[0]):
        if not any(a.id == x.id or b.id == y.id for x, y in pairs):
            pairs.append((a, b))
    if not pairs:
        return None
    pairs = pairs[:MOST_PAIRS]
    keys = _drop_redundant_keys(
        model, ModelJoin(left=table, right=other, keys=tuple(_make_key(model, *pair) for pair in pairs))
    )
    return ModelJoin(left=table, right=other, keys=keys)


def _drop_redundant_keys(model: Model, join: ModelJoin) -> tuple[JoinKey, ...]:
    """The fewest keys of a join that identify each row of one of its sides, the likeliest first.

    All of them where more than a few would be needed, or none are enough."""
    frames = [model.tables[table].scan(names).select(columns) for table, names, columns in _iterate_sides(model, join)]
    sides = [frame.drop_nulls() for frame in pl.collect_all(frames)]
    counts = [[side[name].n_unique() for name in side.columns] for side in sides]

    def is_unique(number: int, chosen: tuple[int, ...]) -> bool:
        side = sides[number]
        if side.height < 2 or math.prod(counts[number][i] for i in chosen) < side.height:
            return False
        own = side.select(f"k{i}" for i in chosen)
        return not own.head(TRIED).is_duplicated().any() and own.n_unique() == own.height

    for size in range(1, min(FEW_KEYS, len(join.keys)) + 1):
        for chosen in combinations(range(len(join.keys)), size):
            is_day_alone = size == 1 and sides[0].schema[f"k{chosen[0]}"].is_temporal()
            if not is_day_alone and any(is_unique(number, chosen) for number in (0, 1)):
                return tuple(join.keys[i] for i in chosen)
    return join.keys


def _list_candidates(model: Model, table: str) -> list[DataField]:
    return [
        f
        for f in model.schema
        if f.table == table and not f.formula and f.kind not in (DataType.YES_NO, DataType.DECIMAL)
    ]


def _simplify_name(field: DataField) -> str:
    return field.id.partition(".")[2] if field.table else field.id


def _is_key(model: Model, field: DataField) -> bool:
    facts, rows = model.get_facts(field.id), model.tables[field.table].rows
    return rows > 1 and facts.distinct == rows - facts.empties and not field.kind.is_date


def _score_pair(model: Model, a: DataField, b: DataField) -> float | None:
    """How likely two fields belong together, from 0 to 1; None for those that cannot."""
    if a.kind is not b.kind and not (a.kind.is_date and b.kind.is_date):
        return None
    alike = fuzz.token_set_ratio(a.name.lower(), b.name.lower()) / 100
    if a.kind.is_date and _are_unlike_periods(model, a, b):
        return None
    x, y = _sample_values(model, a), _sample_values(model, b)
    if a.kind.is_date:
        grain = _make_key(model, a, b).grain or "day"
        x, y = (values.cast(pl.Date).dt.truncate(STEPS[Grain(grain)][0]).unique() for values in (x, y))
    if not len(x) or not len(y):
        return None
    share = max(share_in(x, y), share_in(y, x))
    few = min(1.0, min(len(x), len(y)) / 5)  # few values overlap by chance, and so do small numbers
    weight = 0.4 if a.kind.is_number and alike < 0.8 else 1.0
    return (0.65 * share * few + 0.35 * alike) * weight + 0.05 * (_is_key(model, a) or _is_key(model, b))


def _are_unlike_periods(model: Model, a: DataField, b: DataField) -> bool:
    """Whether one stands for years and the other for months or days: all days of a year would match one row of it."""
    return (model.find_rhythm(a.id) is Grain.YEAR) != (model.find_rhythm(b.id) is Grain.YEAR)


def _sample_values(model: Model, field: DataField) -> pl.Series:
    column = _simplify_name(field)
    return model.tables[field.table].scan([column]).head(SAMPLE).collect()[column].drop_nulls().unique()


def _make_key(model: Model, a: DataField, b: DataField) -> JoinKey:
    """The pair; dates where one side stands for months are compared by them."""
    grain = ""
    if a.kind.is_date:
        rhythms = [model.find_rhythm(field.id) for field in (a, b)]
        grain = next(
            (period.value for period in (Grain.YEAR, Grain.QUARTER, Grain.MONTH) if period in rhythms),
            "day" if a.kind is not b.kind else "",
        )
    return JoinKey(left=_simplify_name(a), right=_simplify_name(b), grain=grain)

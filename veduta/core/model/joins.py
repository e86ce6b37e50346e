"""How well two tables of a model match, and by which keys they probably belong together."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import polars as pl
from rapidfuzz import fuzz

from veduta.core.data.fields import Field, Kind
from veduta.core.data.profile import share_in
from veduta.core.model.definition import Join, Key
from veduta.core.model.model import Model
from veduta.core.model.reach import field_id
from veduta.core.model.rows import comparable

SAMPLE = 50_000
LISTED = 20


@dataclass(frozen=True)
class JoinSide:
    """One side of a join: its rows, those whose keys the other side has, its different keys, the most rows that share
    one, and keys without a match (as values, with their rows), the most frequent first."""

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
        """The share of rows that find a match, of the sides that have many rows
        for a key: the others are looked up in."""
        return min(
            side.share for side in [s for s in (self.left, self.right) if not s.is_unique] or (self.left, self.right)
        )

    @property
    def words(self) -> str:
        """How many rows of one side belong to one of the other."""
        sides = ("one" if self.left.is_unique else "many", "one" if self.right.is_unique else "many")
        return f"{sides[0]} to {sides[1]}"


def check_join(model: Model, join: Join) -> JoinCheck:
    """Count both ways which rows find a match; empty keys match nothing. Raises
    VedutaError for keys that do not exist."""
    counted = []
    for left in (True, False):
        table, columns = join.left if left else join.right, []
        for i, key in enumerate(join.keys):
            own, other = (key.left, key.right) if left else (key.right, key.left)
            kinds = (
                model.schema[field_id(table, own)].kind,
                model.schema[field_id(join.right if left else join.left, other)].kind,
            )
            columns.append(comparable(pl.col(own), *kinds, key.grain, model.schema.fiscal_month).alias(f"k{i}"))
        names = list(dict.fromkeys(key.left if left else key.right for key in join.keys))
        counted.append(model.tables[table].scan(names).select(columns).group_by(pl.all()).agg(n=pl.len()))
    a, b = pl.collect_all(counted)
    keys = [f"k{i}" for i in range(len(join.keys))]
    return JoinCheck(_side(join.left, a, b, keys), _side(join.right, b, a, keys))


def _side(table: str, own: pl.DataFrame, other: pl.DataFrame, keys: list[str]) -> JoinSide:
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


def suggest_join(model: Model, table: str, other: str) -> Join | None:
    """The likeliest keys between two tables, by names, kinds, overlap of values and whether they tell rows apart."""
    scored = []
    for a in _candidates(model, table):
        for b in _candidates(model, other):
            if (score := _score(model, a, b)) is not None:
                scored.append((score, a, b))
    pairs: list[tuple[Field, Field]] = []
    for score, a, b in sorted(scored, key=lambda each: -each[0]):
        if score < 0.6 or any(a.id == x.id or b.id == y.id for x, y in pairs):
            continue
        pairs.append((a, b))
        if _is_key(model, a) or _is_key(model, b):
            return Join(left=table, right=other, keys=(_key(model, a, b),))
    keys = tuple(_key(model, a, b) for a, b in pairs[:4])
    return Join(left=table, right=other, keys=keys) if keys else None


def _candidates(model: Model, table: str) -> list[Field]:
    return [f for f in model.schema if f.table == table and not f.formula and f.kind not in (Kind.YES_NO, Kind.DECIMAL)]


def _plain(field: Field) -> str:
    return field.id.partition(".")[2] if field.table else field.id


def _is_key(model: Model, field: Field) -> bool:
    facts, rows = model.facts(field.id), model.tables[field.table].rows
    return rows > 1 and facts.distinct == rows - facts.empties and not field.kind.is_date


def _score(model: Model, a: Field, b: Field) -> float | None:
    if a.kind is not b.kind and not (a.kind.is_date and b.kind.is_date):
        return None
    alike = fuzz.token_set_ratio(a.name.lower(), b.name.lower()) / 100
    if a.kind.is_date:
        return 0.61 + 0.1 * alike if model.facts(a.id).distinct and model.facts(b.id).distinct else None
    x, y = _values(model, a), _values(model, b)
    if not len(x) or not len(y):
        return None
    share = max(share_in(x, y), share_in(y, x))
    few = min(1.0, min(len(x), len(y)) / 5)  # few values overlap by chance, and so do small numbers
    weight = 0.4 if a.kind.is_number and alike < 0.8 else 1.0
    return (0.65 * share * few + 0.35 * alike) * weight + 0.05 * (_is_key(model, a) or _is_key(model, b))


def _values(model: Model, field: Field) -> pl.Series:
    column = _plain(field)
    return model.tables[field.table].scan([column]).head(SAMPLE).collect()[column].drop_nulls().unique()


def _key(model: Model, a: Field, b: Field) -> Key:
    """The pair; dates where one side has only first days of periods are compared by that period."""
    grain = ""
    if a.kind.is_date:
        firsts = [_period(model, field) for field in (a, b)]
        grain = next(
            (period for period in ("year", "month") if period in firsts), "day" if a.kind is not b.kind else ""
        )
    return Key(left=_plain(a), right=_plain(b), grain=grain)


def _period(model: Model, field: Field) -> str:
    days = _values(model, field).cast(pl.Date)
    if not (days.dt.day() == 1).all():
        return ""
    return "year" if (days.dt.month() == 1).all() and len(days) > 1 else "month"

"""Which values of a dimension are kept, by a measure; the others may be gathered in one."""

from __future__ import annotations

import math
from dataclasses import dataclass

import polars as pl

from veduta.core.formula.functions import AddsUp, Level
from veduta.core.phrases import lower_first
from veduta.core.query.engine.levels import make_group_key
from veduta.core.query.filters import label_grouping
from veduta.core.query.measures import TopN
from veduta.core.query.plan import QueryPlan, add_shown, place_showing
from veduta.core.query.query import Rest

REST = "rest"
"""A column of cells: whether they stand for the values that were not kept."""
REST_NAMES = ("Other", "All others", "Everything else")


@dataclass(frozen=True)
class TopNSplit:
    """What became of a dimension (its position) whose values were not all kept: the cells kept, and those gathered."""

    position: int
    rest: Rest
    kept: pl.DataFrame
    dropped: pl.DataFrame


@dataclass(frozen=True)
class VisibleCells:
    """The cells that are shown.

    They are `narrowed` if not all of those whose rows pass the filters stand behind them; what was not kept may be
    `gathered` among them."""

    cells: pl.DataFrame
    narrowed: bool
    gathered: TopNSplit | None = None


@dataclass(frozen=True)
class Ranking:
    """How a dimension is ranked.

    By the column `by`, values of the column `key`, within the groups of other columns; `name` is the dimension's."""

    keep: TopN
    by: str
    key: str
    within: tuple[str, ...]
    name: str


def apply_top_n(asked: QueryPlan, cells: pl.DataFrame) -> VisibleCells:
    """The cells that the question keeps of these."""
    keep = asked.keep
    if not keep or not asked.keys:
        return VisibleCells(cells, asked.drops_cells)
    is_within, ranked_group = keep.of == "within", asked.query.keep_group
    if ranked_group is None:
        ranked_group = -1 if is_within else 0
    position = asked.groups.index(asked.query.groups[ranked_group])
    group, key = asked.groups[position], asked.keys[position]
    within = tuple(other for other in asked.keys if is_within and other != key)
    if asked.ranks_cells:
        ranked, by = cells, asked.columns[asked.build_node(keep.by)]
    else:
        ranked, by = asked.rank_values(keep.by, group, cells, asked.drops_cells)
    best = _pick_ranked(ranked, Ranking(keep, by, key, within, label_grouping(group, asked.schema)), asked.notes)
    on = [*within, key]
    remain = best[cells.columns] if asked.ranks_cells else cells.join(best[on], on=on, how="semi", nulls_equal=True)
    if remain.height == cells.height:
        return VisibleCells(remain, asked.drops_cells)
    if not keep.rest:
        return VisibleCells(remain, True)
    dropped = cells.join(best[on], on=on, how="anti", nulls_equal=True)
    rest = Rest(f"d{asked.query.groups.index(group)}", _name_of_rest(asked, position, dropped))
    gathered = TopNSplit(position, rest, remain, dropped)
    both = pl.concat([remain, _describe_rest(asked, gathered)], how="diagonal_relaxed")
    return VisibleCells(both, asked.drops_cells, gathered)


def _name_of_rest(asked: QueryPlan, position: int, dropped: pl.DataFrame) -> str:
    """A name that is none of the dimension's values."""
    key = asked.keys[position]
    values = set()
    if not asked.groups[position].grain:
        values = {str(value).casefold() for value in asked.engine.cells[asked.place].frame[key].unique()}
    free = [name for name in REST_NAMES if name.casefold() not in values]
    return free[0] if free else f"{REST_NAMES[0]} ({dropped[key].n_unique():,})"


def _describe_rest(asked: QueryPlan, gathered: TopNSplit) -> pl.DataFrame:
    """The rest as one value a line, computed anew from its rows: columns of all keys, measures, rows and `REST`.

    The dimension's own key is empty. Of windows only shares are given: they add up."""
    dropped, group, key = gathered.dropped, asked.groups[gathered.position], asked.keys[gathered.position]
    engine = asked.make_engine(dropped, True)
    place = place_showing(tuple(each for each in asked.groups if each != group))
    engine.gather((node, place) for node in asked.nodes)
    keys = [make_group_key(each) for each in place.shown]
    anew, summed = [], [pl.col(asked.rows).sum()]
    for name, node in zip(asked.names, asked.nodes, strict=True):
        if node.level is not Level.WINDOW:
            anew.append(pl.col(engine.get_column(node, place)).alias(name))
        elif node.function is not None and node.function.adds_up is AddsUp.ITSELF:
            summed.append(pl.when(pl.col(name).count() > 0).then(pl.col(name).sum()).alias(name))
        else:
            summed.append(pl.lit(None, dtype=dropped.schema[name]).alias(name))
    rest = add_shown(engine.cells[place].frame, engine, place).select(*keys, *anew)
    if keys:
        rest = rest.join(dropped.group_by(keys).agg(summed), on=keys, how="inner", nulls_equal=True)
    else:
        rest = pl.concat([rest, dropped.select(summed)], how="horizontal")
    none = pl.lit(None, dtype=dropped.schema[key]).alias(key)
    return rest.with_columns(none, pl.lit(True).alias(REST)).select(*asked.keys, *asked.names, asked.rows, REST)


def _pick_ranked(ranked: pl.DataFrame, ranking: Ranking, notes: list[str]) -> pl.DataFrame:
    """The rows that are kept, overall or within each group.

    Of rows that tie at the edge, those first in order are kept, unless all ties are; a note counts them."""
    keep, by, key, within, name = ranking.keep, ranking.by, ranking.key, ranking.within, ranking.name
    needed = [by] if keep.empties else [by, key]
    if any(ranked[column].null_count() for column in needed):
        ranked = ranked.drop_nulls(needed)
    downwards = [*[False] * len(within), keep.end == "top", False]
    ranked = ranked.sort([*within, by, key], descending=downwards, nulls_last=True)
    best, tied = _pick_top_n_within(ranked, keep, by, within) if within else _pick_top_n(ranked, keep, by)
    if tied and keep.ties:
        notes.append(f"{tied:,} more of {name} {'is' if tied == 1 else 'are'} kept because of ties.")
    elif tied:
        notes.append(f"{tied:,} more of {name} tie{'s' * (tied == 1)} with the last one kept.")
    if best[key].null_count() and best.height < ranked.height:
        notes.append(f"An empty {lower_first(name)} is among those kept.")
    return best


def _pick_top_n(ranked: pl.DataFrame, keep: TopN, by: str) -> tuple[pl.DataFrame, int]:
    """The first rows of a ranking, in order, and how many more tie with the last of them.

    The tied rows are included if ties are kept."""
    # At least one, and never a part of one: 10% of 25 are 3.
    count = max(1, math.ceil(ranked.height * min(keep.count, 100) / 100 - 1e-9)) if keep.percent else keep.count
    # Of values 9, 7, 7, 7 the top 2 are the first two in order, and two more tie with the last of them.
    first = ranked.head(count)
    tied = int((ranked[by][count:] == first[by][-1]).sum()) if ranked.height > count else 0
    return (ranked.head(count + tied) if keep.ties else first), tied


def _pick_top_n_within(ranked: pl.DataFrame, keep: TopN, by: str, within: tuple[str, ...]) -> tuple[pl.DataFrame, int]:
    """The same within each group, whose rows stand in the order of the ranking."""
    count = pl.lit(keep.count)
    if keep.percent:
        count = (pl.len().over(within) * min(keep.count, 100) / 100 - 1e-9).ceil().clip(1)
    numbered = ranked.with_columns(
        __row=pl.int_range(pl.len()).over(within),
        __rank=pl.col(by).rank("min", descending=keep.end == "top").over(within),
        __count=count,
    )
    with_ties = numbered.filter(pl.col("__rank") <= pl.col("__count"))
    first = with_ties.filter(pl.col("__row") < pl.col("__count"))
    return (with_ties if keep.ties else first), with_ties.height - first.height

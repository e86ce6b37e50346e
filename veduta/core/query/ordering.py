"""The order of an answer's rows."""

from __future__ import annotations

from dataclasses import replace

import polars as pl

from veduta.core.query.measures import Measure
from veduta.core.query.plan import ALIGNED, QueryPlan, pick_columns
from veduta.core.query.query import Tie
from veduta.core.query.top_n import REST, VisibleCells

ORDER = "__order"


def sort_cells(asked: QueryPlan, shown: VisibleCells) -> pl.DataFrame:
    """The cells in order: the first dimension as the sort says, the others by their own order.

    Empties come last in each, and what was not kept after them."""
    cells, keys = shown.cells, asked.keys
    if not keys or cells.height < 2:
        return cells
    if asked.query.aligned:
        return cells.sort([ALIGNED, *keys], nulls_last=True)
    sort, own, by = asked.sort, asked.find_own_orders(), []
    for key, values in own.items():
        order = pl.DataFrame({key: pl.Series(values, dtype=cells[key].dtype), key + ORDER: range(len(values))})
        cells = cells.join(order.unique(key, keep="first"), on=key, how="left", nulls_equal=True)
    shown = replace(shown, cells=cells)
    for i, (group, key) in enumerate(zip(asked.groups, keys, strict=True)):
        if shown.gathered and shown.gathered.position == i:
            by.append((pl.col(REST).fill_null(False), False))
        if key in own:
            by.append((pl.col(key + ORDER), False))
        elif i == 0:
            cells, first = _build_first_order(asked, shown)
            by += first
        elif node := asked.engine.sort_node(group):
            by.append((pl.col(asked.columns[node]), False))
        by.append((pl.col(key), i == 0 and sort.by in ("name", "time") and sort.descending))
    return cells.sort([each for each, _ in by], descending=[down for _, down in by], nulls_last=True)


def _build_first_order(asked: QueryPlan, shown: VisibleCells) -> tuple[pl.DataFrame, list[tuple[pl.Expr, bool]]]:
    """What the first dimension is sorted by besides its values, each downwards or not; and the cells with that."""
    cells, sort, group, key = shown.cells, asked.sort, asked.groups[0], asked.keys[0]
    empties_last = (pl.col(key).is_null(), False)
    if sort.by == "measure":
        ties = [Tie(measure=asked.sort_measure, descending=sort.descending), *sort.ties]
        orders: list[tuple[pl.Expr, bool]] = []
        for number, tie in enumerate(ties):
            if tie.measure is None:
                orders.append((_build_alphabetical(cells, key), tie.descending))
            else:
                cells, order = _add_measure(asked, replace(shown, cells=cells), tie.measure, f"{ORDER}{number}")
                orders.append((pl.col(order), tie.descending))
        return cells, [empties_last, *orders]
    if node := asked.engine.sort_node(group):
        return cells, [empties_last, (pl.col(asked.columns[node]), sort.descending)]
    if cells[key].dtype == pl.String:
        return cells, [(_build_alphabetical(cells, key), sort.descending)]
    return cells, []


def _build_alphabetical(cells: pl.DataFrame, key: str) -> pl.Expr:
    return pl.col(key).str.to_lowercase() if cells[key].dtype == pl.String else pl.col(key)


def _add_measure(asked: QueryPlan, shown: VisibleCells, measure: Measure, name: str) -> tuple[pl.DataFrame, str]:
    """The cells with a measure by which the first dimension is sorted, and its column.

    A new column has the name given."""
    if len(asked.keys) == 1:
        same = next((i for i, other in enumerate(asked.query.measures) if other.is_same_number(measure)), None)
        return shown.cells, asked.columns[asked.build_node(measure) if same is None else asked.nodes[same]]
    key = asked.keys[0]
    ranked, column = asked.rank_values(measure, asked.groups[0], shown.cells, shown.narrowed)
    ranking = pick_columns(ranked, {key: key, name: column})
    return shown.cells.join(ranking, on=key, how="left", nulls_equal=True), name

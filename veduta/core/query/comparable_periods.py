"""Totals of what holds one period against another: over the periods that have both."""

from __future__ import annotations

from dataclasses import dataclass, replace

import polars as pl

from veduta.core.formula.check import TypedExpression
from veduta.core.formula.functions import Level, load_registry
from veduta.core.query.engine import Engine
from veduta.core.query.engine.levels import CellLevel, Periods, make_group_key
from veduta.core.query.plan import QueryPlan, add_shown, place_showing

MOST_SPANS = 60
"""So many different sets of periods the lines of a total may have; each is worked out by itself."""


@dataclass
class ComparedTotal:
    """A total of a measure in the lines of a place.

    `values` has the lines' keys and a column "value", from `counted` of the `shown` periods; `is_refused` where lines
    differ too much in their periods."""

    values: pl.DataFrame
    counted: int
    shown: int
    is_refused: bool = False


def compares_periods(node: TypedExpression) -> bool:
    """Whether a value is made of one period's and another's: growth, or a month as a share of the one before.

    A mere value of another period is not."""
    if node.level is not Level.TIME or node.function is None:
        return False
    return node.call.compares or node.call.level is Level.ROW


def list_needed_values(node: TypedExpression) -> list[TypedExpression]:
    """The values that a period must have, all of them, to count."""
    if node.constant:
        return []
    function = node.function
    if function is not None and function.compares:
        # The difference is there just when both are, also where growth divides by zero.
        return [replace(node, function=load_registry()["change"], kind=node.get_option(0).kind)]
    if function is None or not function.operator or function.handles_empties or function.joins:
        return [node]
    return [value for argument in node.arguments if argument for value in list_needed_values(argument)]


def compute_comparable_total(
    asked: QueryPlan, node: TypedExpression, place: CellLevel, cells: pl.DataFrame, narrowed: bool
) -> ComparedTotal | None:
    """The total of a measure over the periods that have all its values.

    A row for each line of a place that does not show the time axis of the chart's `cells`; None where all periods have
    them, or there is no such axis. Lines are compared by the periods they have: a route that opened later has fewer."""
    axis = asked.engine.find_axis(asked.place)
    if axis is None or axis in place.groups or not compares_periods(node):
        return None
    keys, axis_key = [make_group_key(group) for group in place.shown], make_group_key(axis)
    fine = _compute_fine_cells(asked, node, place_showing((*place.shown, axis)), cells, narrowed)
    there = fine.filter(pl.col("counts"))
    if there.height == fine.height > 0:
        return None
    shown, counted = (frame[axis_key].drop_nulls().n_unique() for frame in (fine, there))
    if not there.height:
        return ComparedTotal(fine.select(keys).clear(), counted, shown)
    spans = _find_spans(there, keys, axis_key)
    if spans["span"].n_unique() > MOST_SPANS:
        return ComparedTotal(spans.head(0).select(*keys), counted, shown, is_refused=True)
    parts = []
    for (span,), lines in spans.group_by("span", maintain_order=True):
        values = _compute_over_periods(
            asked, node, place, cells, narrowed, Periods(axis.field, axis.grain, tuple(span))
        )
        parts.append(values.join(lines.select(keys), on=keys, how="semi", nulls_equal=True) if keys else values)
    values = pl.concat(parts) if parts else pl.DataFrame({key: pl.Series(dtype=fine.schema[key]) for key in keys})
    return ComparedTotal(values, counted, shown)


def _compute_fine_cells(
    asked: QueryPlan, node: TypedExpression, place: CellLevel, cells: pl.DataFrame, narrowed: bool
) -> pl.DataFrame:
    """The lines period by period: columns of their keys, of the axis, and "counts", whether all values are there."""
    engine, needed = asked.make_engine(cells, narrowed), list_needed_values(node)
    engine.gather((value, place) for value in needed)
    columns = engine.put_columns(needed, place)
    frame = add_shown(engine.cells[place].frame, engine, place)
    keys = [make_group_key(group) for group in place.shown]
    counts = pl.all_horizontal(pl.col(column).is_not_null() for column in columns)
    fine = frame.select(*keys, counts.alias("counts"))
    return fine.join(cells.select(keys).unique(), on=keys, how="semi", nulls_equal=True)


def _find_spans(there: pl.DataFrame, keys: list[str], axis_key: str) -> pl.DataFrame:
    """The periods of each line, in order."""
    span = pl.col(axis_key).unique().sort().alias("span")
    return there.group_by(keys, maintain_order=True).agg(span) if keys else there.select(span.implode())


def _compute_over_periods(
    asked: QueryPlan, node: TypedExpression, place: CellLevel, cells: pl.DataFrame, narrowed: bool, periods: Periods
) -> pl.DataFrame:
    """The value of each line over the periods that count: columns of the lines' keys and "value", in no order."""
    scope = replace(asked.engine.scope, kept=cells[asked.keys], narrowed=narrowed, only_periods=periods, common=None)
    engine = Engine(scope)
    engine.gather([(node, place)])
    column = engine.get_column(node, place)
    frame = add_shown(engine.cells[place].frame, engine, place)
    return frame.select(*(make_group_key(group) for group in place.shown), pl.col(column).alias("value"))

"""The first walk: notes which parts each place needs of which table."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import polars as pl

from veduta.core.calendar import Grain, Grouping
from veduta.core.formula.check import TypedExpression
from veduta.core.formula.functions import Level
from veduta.core.query.engine.levels import CellLevel, PartialAggregate
from veduta.core.query.engine.walk import Order, Walk
from veduta.core.query.filters import MeasureFilter

NOTHING = pl.lit(None)
"""Stands for every value, which is not known yet."""


class Collector(Walk):
    def get_column(self, node: TypedExpression, place: CellLevel) -> str:
        home = self.engine.find_home_table(node, place)
        self.engine.want(place, home)
        self.evaluate(node, place)
        if self._is_of_one_table(node, home):
            self.engine.with_reading(node, place, home)
        return ""

    def from_parts(
        self, node: TypedExpression, parts: dict[str, PartialAggregate], place: CellLevel, home: str
    ) -> pl.Expr:
        self.engine.want(place, home, parts.values())
        return NOTHING

    def apply_function(self, node: TypedExpression, values: list[pl.Expr | None]) -> pl.Expr:
        return NOTHING

    def find_determined(self, ends: tuple[PartialAggregate, PartialAggregate], place: CellLevel, home: str) -> pl.Expr:
        self.engine.want(place, home, ends)
        return NOTHING

    def look_up(
        self,
        node: TypedExpression,
        source: CellLevel,
        place: CellLevel,
        own: dict[str, pl.Expr],
        full: Iterable[str] = (),
    ) -> pl.Expr:
        return self._collect_needed(node, source)

    def find_latest(
        self,
        node: TypedExpression,
        source: CellLevel,
        place: CellLevel,
        axis: Grouping,
        key: str,
        unit: Grain,
        position: pl.Expr,
    ) -> pl.Expr:
        return self._collect_needed(node, source)

    def accumulate(
        self, node: TypedExpression, how: str, source: CellLevel, place: CellLevel, axis: Grouping, unit: Grain
    ) -> pl.Expr:
        return self._collect_needed(node, source)

    def find_first_held(self, node: TypedExpression, source: CellLevel, place: CellLevel, axis: Grouping) -> pl.Expr:
        return self._collect_needed(node, source)

    def look_up_each(
        self, node: TypedExpression, wanted: list[tuple[Any, CellLevel]], place: CellLevel, axis: Grouping
    ) -> pl.Expr:
        for _, source in wanted:
            self.get_column(node, source)
        return NOTHING

    def aggregate_cells(
        self, node: TypedExpression, argument: TypedExpression, source: CellLevel, place: CellLevel
    ) -> pl.Expr:
        return self._collect_needed(argument, source)

    def compute_window(
        self,
        node: TypedExpression,
        columns: list[str | None],
        order: Order,
        passes: str,
        source: CellLevel,
        place: CellLevel,
    ) -> pl.Expr:
        return NOTHING

    def compute_in_total(self, node: TypedExpression, place: CellLevel) -> pl.Expr:
        return self.evaluate(node.get_option(-1), place)

    def judge_cells(self, judged: list[tuple[MeasureFilter, str]], place: CellLevel) -> str:
        return ""

    def say(self, note: str) -> None:
        """It is said when the value is known."""

    def _collect_needed(self, node: TypedExpression, source: CellLevel) -> pl.Expr:
        self.get_column(node, source)
        return NOTHING

    def _is_of_one_table(self, node: TypedExpression, home: str) -> bool:
        """Whether a value needs nothing but sums and the like of one table's rows in its own cells."""
        if node.per is not None or node.field:
            return False
        if node.function is None:
            return True
        if node.function.level is Level.AGGREGATE:
            cells = any(argument and argument.level is Level.GRAIN for argument in node.arguments)
            return not cells and self.engine.list_tables_of(node) == [home]
        return node.function.level is Level.ROW and all(
            a is None or self._is_of_one_table(a, home) for a in node.arguments
        )

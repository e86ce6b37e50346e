"""The first walk: notes which parts each place needs of which table."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import polars as pl

from veduta.core.calendar import Grain, Grouping
from veduta.core.formula.check import Checked
from veduta.core.formula.functions import Level
from veduta.core.query.engine.places import Part, Place
from veduta.core.query.engine.walk import Order, Walk
from veduta.core.query.filters import MeasureFilter

NOTHING = pl.lit(None)
"""Stands for every value, which is not known yet."""


class Collector(Walk):
    def column(self, node: Checked, place: Place) -> str:
        home = self.engine.home(node, place)
        self.engine.want(place, home)
        self.value(node, place)
        if self._is_of_one_table(node, home):
            self.engine.with_reading(node, place, home)
        return ""

    def from_parts(self, node: Checked, parts: dict[str, Part], place: Place, home: str) -> pl.Expr:
        self.engine.want(place, home, parts.values())
        return NOTHING

    def applied(self, node: Checked, values: list[pl.Expr | None]) -> pl.Expr:
        return NOTHING

    def determined(self, ends: tuple[Part, Part], place: Place, home: str) -> pl.Expr:
        self.engine.want(place, home, ends)
        return NOTHING

    def looked_up(
        self, node: Checked, source: Place, place: Place, own: dict[str, pl.Expr], full: Iterable[str] = ()
    ) -> pl.Expr:
        return self._needed(node, source)

    def latest(
        self, node: Checked, source: Place, place: Place, axis: Grouping, key: str, unit: Grain, position: pl.Expr
    ) -> pl.Expr:
        return self._needed(node, source)

    def so_far(self, node: Checked, how: str, source: Place, place: Place, axis: Grouping, unit: Grain) -> pl.Expr:
        return self._needed(node, source)

    def first_held(self, node: Checked, source: Place, place: Place, axis: Grouping) -> pl.Expr:
        return self._needed(node, source)

    def of_each(self, node: Checked, wanted: list[tuple[Any, Place]], place: Place, axis: Grouping) -> pl.Expr:
        for _, source in wanted:
            self.column(node, source)
        return NOTHING

    def over_cells(self, node: Checked, argument: Checked, source: Place, place: Place) -> pl.Expr:
        return self._needed(argument, source)

    def windowed(
        self, node: Checked, columns: list[str | None], order: Order, passes: str, source: Place, place: Place
    ) -> pl.Expr:
        return NOTHING

    def in_total(self, node: Checked, place: Place) -> pl.Expr:
        return self.value(node.given(-1), place)

    def judged(self, judged: list[tuple[MeasureFilter, str]], place: Place) -> str:
        return ""

    def say(self, note: str) -> None:
        """It is said when the value is known."""

    def _needed(self, node: Checked, source: Place) -> pl.Expr:
        self.column(node, source)
        return NOTHING

    def _is_of_one_table(self, node: Checked, home: str) -> bool:
        """Whether a value needs nothing but sums and the like of one table's rows in its own cells."""
        if node.per is not None or node.field:
            return False
        if node.function is None:
            return True
        if node.function.level is Level.AGGREGATE:
            cells = any(argument and argument.level is Level.GRAIN for argument in node.arguments)
            return not cells and self.engine.tables_of(node) == [home]
        return node.function.level is Level.ROW and all(
            a is None or self._is_of_one_table(a, home) for a in node.arguments
        )

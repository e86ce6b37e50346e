"""The rows of one table of a model with the fields that are asked for: its own, those joins bring in, and formulas."""

from __future__ import annotations

from typing import TYPE_CHECKING

import polars as pl

from veduta.core.calendar import Grain, start_expression
from veduta.core.data.fields import DataType
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.compile import compile_formula
from veduta.core.model.reach import Lookup

if TYPE_CHECKING:
    from veduta.core.model.model import Model

ROW = "__row"
"""Asked for like a field, the number of a record in its table, from 1."""


class ModelRows:
    """Builds the rows of one table with the fields that are asked for."""

    def __init__(self, model: Model, home: str, ordered: bool = True) -> None:
        self.model, self.home, self.ordered = model, home, ordered
        reached = model.reach(home)
        self.sources, self.lookups = reached.sources, reached.lookups
        self.own: list[str] = []
        self.looked_up: dict[str, set[str]] = {}
        self.same: list[str] = []
        self.formulas: list[str] = []
        self.numbered = False
        self._noted: set[str] = set()

    def add_fields(self, names: list[str]) -> pl.LazyFrame:
        """The table's rows with at least these fields as columns, by their ids."""
        for name in names:
            self._need(name)
        return self._build()

    def _need(self, name: str) -> None:
        """Note a column, and those it is made from, once."""
        if name == ROW:
            self.numbered = True
        elif name in self._noted:
            return
        elif self.model.schema[name].formula:
            self._noted.add(name)
            for other in self.model.get_row_formula(name).fields:
                self._need(other)
            self.formulas.append(name)
        else:
            self._noted.add(name)
            self._need_source(name)

    def _need_source(self, name: str) -> None:
        field, source = self.model.schema[name], self.sources.get(name)
        if source is None:
            raise DefinitionProblem(
                f"“{field.name}” does not reach the rows of {self.model.get_table_name(self.home)}.",
                where=name,
                hint="Join the tables.",
            )
        if source.same:
            self._need(source.same)
            self.same.append(name)
        elif field.table == self.home:
            self.own.append(name)
        else:
            self.looked_up.setdefault(field.table, set()).add(name)
            for key in self._get_lookup(field.table).own:
                self._need(key)

    def _get_lookup(self, table: str) -> Lookup:
        return next(lookup for lookup in self.lookups if lookup.table == table)

    def _build(self) -> pl.LazyFrame:
        prefix = len(self.home) + 1 if self.home else 0
        rows = self.model.tables[self.home].scan([name[prefix:] for name in self.own])
        if self.numbered:
            rows = rows.with_row_index(ROW, 1)
        if prefix and self.own:
            rows = rows.rename({name[prefix:]: name for name in self.own})
        waiting = list(self.same)
        rows, waiting = self._rename_columns(rows, waiting)
        for lookup in self.lookups:
            if lookup.table in self.looked_up:
                rows = self._join_lookup(rows, lookup)
                rows, waiting = self._rename_columns(rows, waiting)
        for name in self.formulas:
            rows = compile_formula(self.model.get_row_formula(name), self.model.times).apply_to(rows, name)
        return rows

    def _rename_columns(self, rows: pl.LazyFrame, waiting: list[str]) -> tuple[pl.LazyFrame, list[str]]:
        """Add the fields that hold the same values as a field that is there."""
        if not waiting:
            return rows, waiting
        late = []
        there = set(rows.collect_schema().names())
        for name in waiting:
            source = self.sources[name]
            if source.same not in there:
                late.append(name)
                continue
            value = align_to_grain(pl.col(source.same), source.grain, self.model.schema.fiscal_month)
            rows = rows.with_columns(value.alias(name))
            there.add(name)
        return rows, late

    def _join_lookup(self, rows: pl.LazyFrame, lookup: Lookup) -> pl.LazyFrame:
        """The rows with the fields of a joined table that are wanted as columns, by their ids; no row is repeated."""
        schema, prefix = self.model.schema, len(lookup.table) + 1
        wanted = sorted(self.looked_up[lookup.table])
        columns = list(dict.fromkeys([*(name for name in wanted), *lookup.other]))

        def cut(name: str) -> str:
            return name[prefix:] if lookup.table else name

        other = self.model.tables[lookup.table].scan([cut(name) for name in columns])
        left, right = [], []
        for i, (a, b, grain) in enumerate(zip(lookup.own, lookup.other, lookup.grains, strict=True)):
            x, y = schema[a].kind, schema[b].kind
            left.append(make_comparable(pl.col(a), x, y, grain, schema.fiscal_month))
            right.append(make_comparable(pl.col(cut(b)), y, x, grain, schema.fiscal_month).alias(f"__key{i}"))
        other = other.select(*right, *(pl.col(cut(name)).alias(name) for name in wanted)).drop_nulls(
            [f"__key{i}" for i in range(len(right))]
        )
        keys = [f"__key{i}" for i in range(len(right))]
        # The table's own order says which of the values with the same place in time is the first. Keeping it takes
        # Polars up to ten times as long, as filters of joined fields are then applied after all joins.
        return (
            rows.with_columns(e.alias(k) for e, k in zip(left, keys, strict=True))
            .join(other, on=keys, how="left", maintain_order="left" if self.ordered else "none")
            .drop(keys)
        )


def align_to_grain(column: pl.Expr, grain: str, fiscal_month: int) -> pl.Expr:
    return start_expression(column.cast(pl.Date), Grain(grain), fiscal_month) if grain else column


def make_comparable(column: pl.Expr, own: DataType, other: DataType, grain: str, fiscal_month: int = 1) -> pl.Expr:
    """A key's values so that those of both sides can be compared."""
    if grain:
        return align_to_grain(column, grain, fiscal_month)
    if own is other:
        return column
    if own.is_number and other.is_number:
        return column.cast(pl.Float64)
    return column.cast(pl.Datetime("us")) if own.is_date and other.is_date else column.cast(pl.String)

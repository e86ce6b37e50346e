"""The sums, counts and the like that an aggregate needs of a table's rows."""

from __future__ import annotations

from collections.abc import Iterable

import polars as pl

from veduta.core.calendar import Grouping, group_expression
from veduta.core.data.fields import DataType
from veduta.core.formula.check import TypedExpression, make_operand
from veduta.core.formula.compile import Compiler
from veduta.core.formula.functions import Function, Operand, Times
from veduta.core.model.model import Model
from veduta.core.query.engine.levels import PartialAggregate, Prepared

LARGEST_WHOLE = 2**63 - 1
OWN = "own"
"""Stands for the parts of an aggregate that cannot be put together from any."""


class PartCompiler:
    """Makes the parts of a model's aggregates, each once for all questions."""

    def __init__(self, model: Model, prepared: Prepared, times: Times) -> None:
        self.model, self.schema, self.prepared, self.times = model, model.schema, prepared, times

    def compile_parts(self, node: TypedExpression, home: str) -> dict[str, PartialAggregate]:
        """The parts that an aggregate is made of, by how they are put together."""
        return {how: self._get_part(node, how, home) for how in node.call.parts or (OWN,)}

    def make_ends(self, group: Grouping, home: str) -> tuple[PartialAggregate, PartialAggregate]:
        """The lowest and the highest value of a dimension."""
        lowest, highest = (self._make_end(group, home, how) for how in ("min", "max"))
        return lowest, highest

    def _make_end(self, group: Grouping, home: str, how: str) -> PartialAggregate:
        key = ("key", how, group, home)
        part = self.prepared.parts.get(key)
        if part is None:
            name = self.prepared.make_name()
            column, value = f"i{name}", group_expression(group, self.schema)
            aggregate = getattr(pl.col(column), how)()
            part = self.prepared.parts[key] = PartialAggregate(
                name, how, column, value, aggregate, frozenset({group.field})
            )
        return part

    def _get_part(self, node: TypedExpression, how: str, home: str) -> PartialAggregate:
        key = (node.call.name if how == OWN else how, node.arguments, node.where, node.along, home)
        parts = self.prepared.parts
        return parts.get(key) or parts.setdefault(key, self._make_part(node, how, home))

    def _make_part(self, node: TypedExpression, how: str, home: str) -> PartialAggregate:
        argument = node.arguments[0] if node.arguments else None
        if (argument is None and node.where is None) or (how == "count" and self._is_full(argument, node, home)):
            return self.prepared.get_row_count_part(home)
        name = self.prepared.make_name()
        compiler = _RowCompiler(self.times)
        value = compiler.compile_node(argument) if argument else None
        column, expression = "", None
        if argument is not None and argument.field and node.where is None:
            column = argument.field
        else:
            column = f"i{name}"
            expression = value if value is not None else pl.lit(1, dtype=pl.Int64)
            if node.where is not None:
                expression = pl.when(compiler.compile_node(node.where)).then(expression)
        order = self._order_of_rows(node, home)
        source = sort_by(pl.col(column), order, node.call) if order else pl.col(column)
        fields = frozenset(name for name, _ in order).union(*(each.fields for each in (argument, node.where) if each))
        fields -= {name for each in compiler.attached for name in each.fields}.difference(
            _list_outside_fields(argument), _list_outside_fields(node.where)
        )
        return PartialAggregate(
            name,
            how,
            column,
            expression,
            self._compile_aggregate(node, how, source, home),
            fields,
            tuple(compiler.attached),
            node.call.name,
            node.call.so_far,
            _share_below(node),
            node.call.ordered,
        )

    def _compile_aggregate(self, node: TypedExpression, how: str, source: pl.Expr, home: str) -> pl.Expr:
        argument = node.arguments[0] if node.arguments else None
        if how == "sum" and argument and argument.kind is DataType.WHOLE and self._may_overflow(argument, home):
            return source.cast(pl.Int128).sum().cast(pl.Float64)
        if how != OWN:
            aggregate: pl.Expr = getattr(source, how)()
            return aggregate
        rest = [make_operand(a, pl.lit(a.value)) for a in node.arguments[1:] if a]
        return node.call.build(Operand(source, argument.kind if argument else DataType.WHOLE), *rest)

    def _order_of_rows(self, node: TypedExpression, home: str) -> tuple[tuple[str, bool], ...]:
        """By which fields an aggregate that depends on order looks at a table's rows: its own date, if not told."""
        if not node.call.ordered or node.along:
            return node.along
        own = (field for field in self.schema if field.table == home and field.kind.is_date and not field.formula)
        return tuple((field.id, False) for field in own)[:1]

    def _is_full(self, argument: TypedExpression | None, node: TypedExpression, home: str) -> bool:
        """Whether a field is known to have no empties, so that counting its values is counting rows."""
        if argument is None or not argument.field or node.where is not None:
            return False
        field = self.schema[argument.field]
        return not field.formula and field.table == home and not self.model.get_facts(field.id).empties

    def _may_overflow(self, argument: TypedExpression, home: str) -> bool:
        if not argument.field or self.schema[argument.field].formula:
            return True
        facts = self.model.get_facts(argument.field)
        bounds = [abs(bound) for bound in (facts.lowest, facts.highest) if bound is not None]
        largest: int = max(bounds, default=0) * self.model.tables[home].rows
        return largest > LARGEST_WHOLE


class _RowCompiler(Compiler):
    """Compiles what is inside an aggregate.

    Values at a grain of their own stand in columns that are `attached` to the rows."""

    def __init__(self, times: Times) -> None:
        super().__init__(times)
        self.attached: list[TypedExpression] = []

    def compile_node(self, node: TypedExpression) -> pl.Expr:
        if node.per is not None:
            self.attached.append(node)
            return pl.col(make_attached_name(node))
        return super().compile_node(node)


def make_attached_name(node: TypedExpression) -> str:
    """The column in which a value at a grain of its own stands beside the rows."""
    return f"__at_{abs(hash(node))}"


def sort_by(value: pl.Expr, order: Iterable[tuple[str, bool]], function: Function) -> pl.Expr:
    """A column in the order of others. Rows without a place in it are looked at only where there are no others."""
    columns, downwards = zip(*order, strict=True)
    return value.sort_by(
        columns, descending=list(downwards), nulls_last=function.takes_end == "first", maintain_order=True
    )


def _share_below(node: TypedExpression) -> float:
    """Of a quantile, the share of the values that lie below it."""
    share_below = node.call.share_below
    return share_below(*(argument.value for argument in node.arguments[1:] if argument)) if share_below else 0


def _list_outside_fields(node: TypedExpression | None) -> set[str]:
    """The fields a node reads of the rows themselves, not at a grain of its own."""
    if node is None or node.per is not None:
        return set()
    names = {node.field} if node.field else set()
    return names.union(*(_list_outside_fields(argument) for argument in (*node.arguments, node.where)))

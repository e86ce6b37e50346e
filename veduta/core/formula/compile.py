"""A checked formula as Polars expressions."""

from __future__ import annotations

from dataclasses import dataclass

import polars as pl

from veduta.core.data.fields import DataType
from veduta.core.formula.check import TypedExpression, make_operand
from veduta.core.formula.functions import Level, Operand, Times, Window
from veduta.core.formula.problems import FormulaProblem


@dataclass(frozen=True)
class CompiledFormula:
    """The formula's expression. What windows look at is worked out before, stage by stage, in columns of its own."""

    expression: pl.Expr
    kind: DataType
    stages: tuple[tuple[pl.Expr, ...], ...] = ()

    def apply_to(self, rows: pl.LazyFrame, name: str) -> pl.LazyFrame:
        """The rows with the formula's value as a column; a column of that name is replaced."""
        for stage in self.stages:
            rows = rows.with_columns(stage)
        rows = rows.with_columns(self.expression.alias(name))
        return (
            rows.drop([column.meta.output_name() for stage in self.stages for column in stage]) if self.stages else rows
        )


def compile_formula(checked: TypedExpression, times: Times = Times()) -> CompiledFormula:
    """Raises FormulaProblem where a constant argument cannot be used (a pattern, a number of rows)."""
    compiler = Compiler(times)
    expression = compiler.compile_node(checked)
    kind = checked.kind or DataType.TEXT
    expression = expression.cast(kind.dtype)
    if kind is DataType.DECIMAL:  # what is too large or undefined is empty
        expression = pl.when(expression.is_finite()).then(expression)
    return CompiledFormula(expression, kind, tuple(compiler.stages))


class Compiler:
    """Makes expressions of the nodes of one formula of a row."""

    def __init__(self, times: Times = Times()) -> None:
        self.times = times
        self.stages: list[tuple[pl.Expr, ...]] = []

    def _stage(self, expression: pl.Expr) -> str:
        name = f"__window_{len(self.stages)}"
        self.stages.append((expression.alias(name),))
        return name

    def compile_node(self, node: TypedExpression) -> pl.Expr:
        if node.field:
            return pl.col(node.field)
        if node.function is None:
            return pl.lit(node.value, dtype=node.kind.dtype if node.kind else None)
        operands = [self._compile_operand(argument, node) for argument in node.arguments]
        try:
            if node.function.level is Level.WINDOW:
                return node.function.build(*operands, window=self._compile_window(node))
            return node.function.build_expression(operands, self.times)
        except FormulaProblem as problem:
            raise FormulaProblem(problem.message, at=node.at, hint=problem.hint) from None

    def _compile_operand(self, argument: TypedExpression | None, parent: TypedExpression) -> Operand | None:
        if argument is None:
            return None
        expression = self.compile_node(argument)
        if parent.call.level is Level.WINDOW and argument.level is Level.WINDOW:
            expression = pl.col(self._stage(expression))  # a window cannot look at a window
        return make_operand(argument, expression)

    def _compile_window(self, node: TypedExpression) -> Window:
        ways = {descending for _, descending in node.along}
        names = tuple(name for name, _ in node.along)
        if len(ways) <= 1:
            return Window(names, True in ways, node.restart)
        # Polars orders all fields one way; for both ways the rows' places in the order are worked out first.
        order = pl.int_range(pl.len()).sort_by(
            names, descending=[down for _, down in node.along], nulls_last=True, maintain_order=True
        )
        return Window((self._stage(order.arg_sort()),), False, node.restart)

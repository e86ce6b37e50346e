"""A checked formula as Polars expressions."""

from __future__ import annotations

from dataclasses import dataclass

import polars as pl

from veduta.core.data.fields import Kind
from veduta.core.formula.check import Checked, operand_of
from veduta.core.formula.functions import Level, Operand, Times, Window
from veduta.core.formula.problems import FormulaProblem


@dataclass(frozen=True)
class Compiled:
    """The formula's expression. What windows look at is worked out before, stage by stage, in columns of its own."""

    expression: pl.Expr
    kind: Kind
    stages: tuple[tuple[pl.Expr, ...], ...] = ()

    def on(self, rows: pl.LazyFrame, name: str) -> pl.LazyFrame:
        """The rows with the formula's value as a column; a column of that name is replaced."""
        for stage in self.stages:
            rows = rows.with_columns(stage)
        rows = rows.with_columns(self.expression.alias(name))
        return (
            rows.drop([column.meta.output_name() for stage in self.stages for column in stage]) if self.stages else rows
        )


def compile_formula(checked: Checked, times: Times = Times()) -> Compiled:
    """Raises FormulaProblem where a constant argument cannot be used (a pattern, a number of rows)."""
    compiler = Compiler(times)
    expression = compiler.expression(checked)
    kind = checked.kind or Kind.TEXT
    expression = expression.cast(kind.dtype)
    if kind is Kind.DECIMAL:  # what is too large or undefined is empty
        expression = pl.when(expression.is_finite()).then(expression)
    return Compiled(expression, kind, tuple(compiler.stages))


class Compiler:
    """Makes expressions of the nodes of one formula of a row."""

    def __init__(self, times: Times = Times()) -> None:
        self.times = times
        self.stages: list[tuple[pl.Expr, ...]] = []

    def _staged(self, expression: pl.Expr) -> str:
        name = f"__window_{len(self.stages)}"
        self.stages.append((expression.alias(name),))
        return name

    def expression(self, node: Checked) -> pl.Expr:
        if node.field:
            return pl.col(node.field)
        if node.function is None:
            return pl.lit(node.value, dtype=node.kind.dtype if node.kind else None)
        operands = [self._operand(argument, node) for argument in node.arguments]
        try:
            if node.function.level is Level.WINDOW:
                return node.function.build(*operands, window=self._window(node))
            return node.function.expression(operands, self.times)
        except FormulaProblem as problem:
            raise FormulaProblem(problem.message, at=node.at, hint=problem.hint) from None

    def _operand(self, argument: Checked | None, parent: Checked) -> Operand | None:
        if argument is None:
            return None
        expression = self.expression(argument)
        if parent.call.level is Level.WINDOW and argument.level is Level.WINDOW:
            expression = pl.col(self._staged(expression))  # a window cannot look at a window
        return operand_of(argument, expression)

    def _window(self, node: Checked) -> Window:
        ways = {descending for _, descending in node.along}
        names = tuple(name for name, _ in node.along)
        if len(ways) <= 1:
            return Window(names, True in ways, node.restart)
        # Polars orders all fields one way; for both ways the rows' places in the order are worked out first.
        order = pl.int_range(pl.len()).sort_by(
            names, descending=[down for _, down in node.along], nulls_last=True, maintain_order=True
        )
        return Window((self._staged(order.arg_sort()),), False, node.restart)

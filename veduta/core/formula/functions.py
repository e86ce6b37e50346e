"""The registry of functions. Checker, compiler, completion, the in-app reference and the tests all read it."""

from __future__ import annotations

import datetime as dt
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum
from functools import cache, cached_property
from importlib import import_module
from typing import Any, Literal, Protocol

import polars as pl

from veduta.core.data.fields import DataType, NumberFormat
from veduta.core.formula.problems import FormulaProblem


class Level(StrEnum):
    """What an expression has one value for.

    Each row, many rows, each cell of a grain of its own (`per`), a cell with its neighbours (a window), or a cell in
    other periods."""

    ROW = "row"
    AGGREGATE = "aggregate"
    GRAIN = "grain"
    WINDOW = "window"
    TIME = "time"


NUMBER = frozenset({DataType.WHOLE, DataType.DECIMAL})
WHOLE = frozenset({DataType.WHOLE})
TEXT = frozenset({DataType.TEXT})
DAY = frozenset({DataType.DATE, DataType.DATETIME})
YES_NO = frozenset({DataType.YES_NO})
ANY = frozenset(DataType)
COUNTED = NumberFormat(decimals=0)
PERCENT = NumberFormat(style="percent")
KINDS_WORDS = {
    NUMBER: "a number",
    WHOLE: "a whole number",
    TEXT: "text",
    DAY: "a date",
    YES_NO: "yes or no",
    ANY: "any value",
}


@dataclass(frozen=True)
class Argument:
    """One argument of a function.

    `options` are the texts it may be, written as 'month'; with `bare` as words without quotes. `constant` arguments
    are written out, not taken from a field. All arguments marked `alike` must be of one kind.
    """

    name: str
    kinds: frozenset[DataType] = ANY
    optional: bool = False
    options: tuple[str, ...] = ()
    bare: bool = False
    constant: bool = False
    alike: bool = False


@dataclass(frozen=True)
class Operand:
    """A worked-out argument: its expression and kind (None is a bare `empty`), and the value of a constant."""

    expression: pl.Expr
    kind: DataType | None
    value: Any = None
    constant: bool = False


@dataclass(frozen=True)
class Window:
    """What a window function looks along: an expression is worked out in that order within each part."""

    order: tuple[str, ...] = ()
    descending: bool = False
    parts: tuple[str, ...] = ()

    def apply_over(self, expression: pl.Expr) -> pl.Expr:
        order: dict[str, Any] = (
            {"order_by": list(self.order), "descending": self.descending, "nulls_last": True} if self.order else {}
        )
        return expression.over(list(self.parts) or pl.lit(1), **order)


@dataclass(frozen=True)
class Times:
    """What functions of dates depend on: today, and the first month of the fiscal year."""

    today: dt.date | None = None
    fiscal_month: int = 1


class AddsUp(StrEnum):
    """When the values of some groups, added, make up the value of all of them together."""

    NEVER = "never"
    ITSELF = "as a sum or count does"
    GIVEN = "if all that it is given does"
    WITHIN_PERIODS = "if all that it is given does, but not over periods"
    SCALED = "if one part does, and the other is the same in all groups"


class SoFar(StrEnum):
    """Ways to work an aggregate out for all rows up to each period."""

    FIRST_SEEN = "how many values are there for the first time"
    QUANTILE = "quantile"
    VARIANCE = "variance"
    DEVIATION = "the root of the variance"


class PeriodLookup(Protocol):
    """What the query engine gives a function of time to ask: values of the node `x` in other cells than its own."""

    def evaluate(self, x: Any) -> pl.Expr:
        """In the cell itself."""

    def shift(self, x: Any, steps: int, unit: str, same_days: bool = False) -> pl.Expr:
        """So many periods later; of a period that is not over only as many days, if told so."""

    def take_whole_period(self, x: Any, unit: str) -> pl.Expr:
        """Of the whole period around the cell."""

    def to_date(self, x: Any, unit: str) -> pl.Expr:
        """Of all rows from the start of the period up to the cell."""

    def accumulate_cells(self, x: Any, how: str, unit: str) -> pl.Expr:
        """The cells from the start of the period up to this one, put together."""

    def count_since(self, x: Any) -> pl.Expr:
        """Whole periods since the first one in which `x` held."""


Gives = DataType | Callable[[list[Operand]], DataType | None]


@dataclass(frozen=True)
class Function:
    """A declaration.

    `gives` is the result's kind, `empties` what empty arguments do, `example` a formula and what it gives; window
    examples run down four rows with the counts 5, 9, 9 and 14."""

    name: str
    takes: tuple[Argument, ...]
    gives: Gives
    says: str
    empties: str
    example: tuple[str, str]
    theme: str
    build: Callable[..., pl.Expr]
    level: Level = Level.ROW
    parts: tuple[str, ...] = ()
    """Of an aggregate that can be put together from those of parts of the rows: the sums and counts it needs."""
    restarts: bool = False
    """Whether a window starts anew, if it is not told otherwise, for each value of the chart's other dimensions."""
    looks_back: bool = False
    """Whether a window may look behind the shown period."""
    adds_up: AddsUp = AddsUp.NEVER
    """When the values of some groups make up that of all of them together. In a total a window that does so of itself
    is of itself."""
    commutes: bool = False
    """Whether its two arguments can change places."""
    accumulates: bool = False
    """Whether the value of another cell than its own may be that of the latest cell before."""
    compares: bool = False
    """Whether it holds a cell's own value against that of another period, so that both must be there."""
    by_period: bool = False
    """Whether a window that looks back counts the periods of a time axis, also those without rows."""
    counts: bool = False
    """Whether over no rows an aggregate is 0, not empty."""
    of_parts: Callable[[dict[str, pl.Expr]], pl.Expr] | None = None
    """An aggregate's value from its `parts`, where it is not just the one there is."""
    takes_end: Literal["", "first", "last"] = ""
    """Which end of the rows an aggregate takes, in the order that `along` says, or else of the table's own date."""
    so_far: SoFar | None = None
    """How an aggregate without parts is worked out for all rows up to each period from one look at them."""
    share_below: Callable[..., float] | None = None
    """Of a quantile, the share of the values (0 to 1) that lie below it, by the constants behind its first argument."""
    handles_empties: bool = False
    """Whether it gives a value of its own where an argument is empty."""
    asks_times: bool = False
    """Whether `build` also takes `times`."""
    repeats: int = 0
    """How many of the last arguments may be given again and again, as a group."""
    operator: bool = False
    joins: bool = False
    """Whether it joins conditions, so that one that narrows nothing drops out."""
    adds_stocks: bool = False
    """Whether a field's own rule for stocks comes before it over days."""
    format: NumberFormat | None = None
    """How its values are written; None is like those it is made of."""
    instead: str = ""
    """What to write where a value of one row is wanted."""
    folds: bool = False
    """Whether of a constant it is a constant, its negative."""
    counts_rows: bool = False
    """Whether it counts the rows of a table that the rest of its formula, or its field, tells."""

    def build_expression(self, operands: list[Operand | None], times: Times) -> pl.Expr:
        """Its value of operands. Raises FormulaProblem where a constant one cannot be used."""
        return self.build(*operands, times=times) if self.asks_times else self.build(*operands)

    @cached_property
    def uses(self) -> tuple[int, ...]:
        """How often each argument stands in the expression: a formula within a formula is repeated as often."""
        if self.level is not Level.ROW:
            return (1,) * len(self.takes)
        names = [f"argument_{position}" for position in range(len(self.takes))]
        samples: list[Operand | None] = [_sample(*each) for each in zip(self.takes, names, strict=True)]
        counts = Counter(self.build_expression(samples, Times()).meta.root_names())
        return tuple(max(1, counts[name]) for name in names)

    def use_of(self, position: int, count: int) -> int:
        """How often the argument at a position stands in the expression when `count` are given."""
        return self.uses[self.takes.index(self.get_argument(position, count))]

    @property
    def ordered(self) -> bool:
        return bool(self.takes_end)

    @property
    def least(self) -> int:
        return sum(not argument.optional for argument in self.takes)

    @property
    def signature(self) -> str:
        """How it is written: round(number, places?)."""
        if self.operator:
            return self.example[0]
        names = [argument.name + ("?" if argument.optional else "") for argument in self.takes]
        return f"{self.name}({', '.join(names)}{', …' if self.repeats else ''})"

    def get_argument(self, position: int, count: int) -> Argument:
        """The declaration of the argument at a position when `count` are given.

        An optional last argument of a repeating function (its otherwise) is the one that is left over."""
        if not self.repeats:
            return self.takes[position]
        tail = self.takes[-1] if self.takes[-1].optional else None
        group = [a for a in self.takes if a is not tail]
        head = len(group) - self.repeats
        if tail and position == count - 1 and (count - head) % self.repeats:
            return tail
        return group[position] if position < head else group[head + (position - head) % self.repeats]


def _sample(argument: Argument, name: str) -> Operand:
    """Something that fits an argument."""
    kind = min(argument.kinds)
    if argument.options or argument.constant:
        value = argument.options[0] if argument.options else "a" if kind is DataType.TEXT else 1
        return Operand(pl.lit(value), kind, value, True)
    return Operand(pl.col(name), kind)


_functions: dict[str, Function] = {}
THEMES = (
    "Operators",
    "Choice and empties",
    "Numbers",
    "Text",
    "Dates",
    "Conversion",
    "Rows around",
    "Aggregates",
    "Time",
)


def register_function(
    name: str,
    *takes: Argument,
    gives: Gives,
    says: str,
    example: tuple[str, str],
    theme: str,
    empties: str = "Empty if an argument is empty.",
    **more: Any,
) -> Callable[[Callable[..., pl.Expr]], Callable[..., pl.Expr]]:
    """Register a function; what is decorated makes its expression from the operands (and the window, for those)."""

    def register(build: Callable[..., pl.Expr]) -> Callable[..., pl.Expr]:
        if name in _functions:
            raise ValueError(f"The function {name} is registered twice.")
        if theme not in THEMES:
            raise ValueError(f"There is no theme {theme}.")
        _functions[name] = Function(name, takes, gives, says, empties, example, theme, build, **more)
        return build

    return register


@cache
def load_registry() -> dict[str, Function]:
    """All functions and operators by name."""
    for part in ("operators", "choice", "numbers", "texts", "dates", "conversion", "windows", "aggregates", "times"):
        import_module(f"veduta.core.formula.library.{part}")
    return dict(_functions)


def find_number_type(operands: list[Operand]) -> DataType:
    """Whole if all arguments are whole, else decimal."""
    return DataType.WHOLE if all(operand.kind in (DataType.WHOLE, None) for operand in operands) else DataType.DECIMAL


def find_common_type(operands: list[Operand]) -> DataType | None:
    """The kind that all the arguments have, whole numbers becoming decimal and dates date-times beside such."""
    kinds = {operand.kind for operand in operands if operand.kind}
    if len(kinds) <= 1:
        return next(iter(kinds), None)
    if kinds == NUMBER:
        return DataType.DECIMAL
    if kinds == DAY:
        return DataType.DATETIME
    said = " and ".join(sorted(kind.words for kind in kinds))
    raise FormulaProblem(f"These values are of different kinds: {said}.", hint="Convert one, for example with text(…).")


def get_type(operand: Operand) -> DataType:
    """The kind of an operand that the checker let pass because it has a certain one."""
    if operand.kind is None:
        raise FormulaProblem("A bare empty has no kind.")
    return operand.kind


def cast_to(operand: Operand, kind: DataType | None) -> pl.Expr:
    return operand.expression if kind is None or kind is operand.kind else operand.expression.cast(kind.dtype)


def make_same_as(position: int) -> Callable[[list[Operand]], DataType | None]:
    return lambda operands: operands[position].kind

"""A formula's text as a tree of plain nodes, each with its place in the text."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path
from typing import Any

from lark import Lark, Token, Transformer, v_args
from lark.exceptions import UnexpectedInput, VisitError

from veduta.core.formula.problems import FormulaProblem, Span, explain_syntax_error

LONGEST = 5_000
PERIODS = ("year", "quarter", "month", "week", "day", "hour")


class FormulaTooDeep(FormulaProblem):
    def __init__(self) -> None:
        super().__init__("The formula is nested too deeply.", hint="Make a part of it a formula of its own.")


@dataclass(frozen=True)
class Literal:
    """A number, a text, true, false or empty (None)."""

    value: int | float | str | bool | None
    at: Span = field(default=Span(), compare=False)


@dataclass(frozen=True)
class FieldName:
    """A field, of a table if there is one named before the dot."""

    text: str
    table: str = ""
    quoted: bool = field(default=False, compare=False)
    at: Span = field(default=Span(), compare=False)


@dataclass(frozen=True)
class ParameterName:
    name: str
    at: Span = field(default=Span(), compare=False)


@dataclass(frozen=True)
class SortOrder:
    name: FieldName
    descending: bool = False


@dataclass(frozen=True)
class FormulaGrain:
    """`per (…)`: the fields of a grain, dates perhaps at a period (else "").

    `shown` adds the chart's own dimensions, or with `less` all but the fields."""

    dimensions: tuple[tuple[FieldName, str], ...] = ()
    shown: bool = False
    less: bool = False


@dataclass(frozen=True)
class Call:
    """A function or an operator (named by its sign) with its arguments."""

    function: str
    arguments: tuple[Node, ...] = ()
    where: Node | None = None
    along: tuple[SortOrder, ...] = ()
    restart: tuple[FieldName, ...] = ()
    per: FormulaGrain | None = None
    unfiltered: tuple[FieldName, ...] = ()
    at: Span = field(default=Span(), compare=False)
    name_at: Span = field(default=Span(), compare=False)


Node = Literal | FieldName | ParameterName | Call


def parse(text: str) -> Node:
    """The tree of a formula. Raises FormulaProblem with the place of what is wrong."""
    if len(text) > LONGEST:
        raise FormulaProblem(
            f"The formula has {len(text):,} characters; at most {LONGEST:,} are allowed.",
            hint="Make a part of it a formula of its own.",
        )
    if not text.strip():
        raise FormulaProblem("There is no formula yet.", hint="Write one, for example: passengers / capacity")
    try:
        node: Node = _Builder().transform(_load_parser().parse(text))
        return node
    except UnexpectedInput as error:
        raise explain_syntax_error(text, error) from None
    except VisitError as error:
        if isinstance(error.orig_exc, FormulaProblem):
            raise error.orig_exc from None
        if isinstance(error.orig_exc, RecursionError):
            raise FormulaTooDeep from None
        raise FormulaProblem("This formula cannot be read.", hint="Write shorter numbers and names.") from None
    except RecursionError:
        raise FormulaTooDeep from None


@cache
def _load_parser() -> Lark:
    grammar = Path(__file__).with_name("grammar.lark").read_text()
    return Lark(grammar, parser="lalr", propagate_positions=True, maybe_placeholders=True)


def _make_span(meta: Any) -> Span:
    return Span(getattr(meta, "start_pos", 0), getattr(meta, "end_pos", 0))


def _make_token_span(token: Token) -> Span:
    return Span(token.start_pos or 0, token.end_pos or 0)


@v_args(inline=True)
class _Builder(Transformer[Token, Node]):
    """One short method for each rule of the grammar."""

    def start(self, node: Node) -> Node:
        return node

    def number(self, token: Token) -> Literal:
        span = _make_token_span(token)
        value: int | float = float(token)
        if token.isdigit() and len(token) < 20 and int(token) < 2**63:
            value = int(token)
        if value == float("inf"):
            raise FormulaProblem("This number is too large.", at=span)
        return Literal(value, span)

    def text(self, token: Token) -> Literal:
        return Literal(token[1:-1].replace("''", "'"), _make_token_span(token))

    def yes(self, token: Token) -> Literal:
        return Literal(True, _make_token_span(token))

    def no(self, token: Token) -> Literal:
        return Literal(False, _make_token_span(token))

    def empty(self, token: Token) -> Literal:
        return Literal(None, _make_token_span(token))

    def parameter(self, token: Token) -> ParameterName:
        return ParameterName(str(token[1:]), _make_token_span(token))

    def identifier(self, token: Token) -> Token:
        return token

    def field(self, token: Token) -> FieldName:
        return _name(token)

    def table_field(self, table: Token, token: Token) -> FieldName:
        name = _name(token)
        return FieldName(name.text, _name(table).text, name.quoted, Span(_make_token_span(table).start, name.at.end))

    def binary(self, left: Node, operator: Token, right: Node) -> Call:
        return Call(operator.lower(), (left, right), at=_make_between(left, right), name_at=_make_token_span(operator))

    def unary(self, operator: Token, node: Node) -> Call:
        function = {"-": "minus", "+": "plus"}.get(operator, operator.lower())
        return Call(
            function,
            (node,),
            at=Span(_make_token_span(operator).start, node.at.end),
            name_at=_make_token_span(operator),
        )

    def is_empty(self, node: Node, word: Token) -> Call:
        span = _make_token_span(word)
        return Call("is empty", (node,), at=Span(node.at.start, span.end), name_at=span)

    def is_not_empty(self, node: Node, _not: Token, word: Token) -> Call:
        return _negate(self.is_empty(node, word))

    def among(self, node: Node, word: Token, values: tuple[Node, ...]) -> Call:
        return Call("in", (node, *values), at=_make_between(node, values[-1], 1), name_at=_make_token_span(word))

    def not_among(self, node: Node, _not: Token, word: Token, values: tuple[Node, ...]) -> Call:
        return _negate(self.among(node, word, values))

    def between(self, node: Node, word: Token, low: Node, _and: Token, high: Node) -> Call:
        return Call("between", (node, low, high), at=_make_between(node, high), name_at=_make_token_span(word))

    def not_between(self, node: Node, _not: Token, word: Token, low: Node, _and: Token, high: Node) -> Call:
        return _negate(self.between(node, word, low, _and, high))

    def values(self, *nodes: Node) -> tuple[Node, ...]:
        return nodes

    def where(self, node: Node) -> Node:
        return node

    @v_args(meta=True)
    def call(self, meta: Any, parts: list[Any]) -> Call:
        word, values, where, *suffixes = parts
        given = _collect_suffixes(suffixes, meta)
        return Call(
            word.lower(), tuple(values or ()), where=where, at=_make_span(meta), name_at=_make_token_span(word), **given
        )

    def along(self, orders: tuple[SortOrder, ...]) -> tuple[str, Any]:
        return ("along", orders)

    def restart(self, names: tuple[FieldName, ...]) -> tuple[str, Any]:
        return ("restart", names)

    @v_args(meta=True)
    def bracket_per(self, meta: Any, parts: list[Any]) -> Call:
        node, *suffixes = parts
        return Call("coalesce", (node,), at=_make_span(meta), name_at=node.at, **_collect_suffixes(suffixes, meta))

    def per(self, grain: FormulaGrain | None) -> tuple[str, Any]:
        return ("per", grain or FormulaGrain())

    def unfiltered(self, names: tuple[FieldName, ...]) -> tuple[str, Any]:
        return ("unfiltered", names)

    def orders(self, *orders: SortOrder) -> tuple[SortOrder, ...]:
        return orders

    def order(self, name: FieldName, descending: Token | None) -> SortOrder:
        return SortOrder(name, descending is not None)

    def names(self, *names: FieldName) -> tuple[FieldName, ...]:
        return names

    def dimensions(self, *dimensions: tuple[FieldName, str]) -> tuple[tuple[FieldName, str], ...]:
        return dimensions

    def dimension(self, name: FieldName) -> tuple[FieldName, str]:
        return (name, "")

    def truncated(self, word: Token, name: FieldName, text: Token) -> tuple[FieldName, str]:
        unit = text[1:-1]
        if word.lower() != "trunc" or unit not in PERIODS:
            raise FormulaProblem(
                "“per” takes fields, and periods of dates.",
                at=Span(_make_token_span(word).start, _make_token_span(text).end + 1),
                hint=(
                    f"Write trunc(date, '…') with {', '.join(PERIODS)}, or make a formula of the row and name it here."
                ),
            )
        return (name, unit)

    def grain(self, dimensions: tuple[tuple[FieldName, str], ...]) -> FormulaGrain:
        return FormulaGrain(dimensions)

    def shown_grain(self, dimensions: tuple[tuple[FieldName, str], ...] = ()) -> FormulaGrain:
        return FormulaGrain(dimensions, shown=True)

    def shown_except(self, dimensions: tuple[tuple[FieldName, str], ...]) -> FormulaGrain:
        return FormulaGrain(dimensions, shown=True, less=True)


def _collect_suffixes(suffixes: Iterable[tuple[str, Any]], meta: Any) -> dict[str, Any]:
    """What is written behind a call's brackets, each once."""
    given: dict[str, Any] = {}
    for key, value in suffixes:
        if key in given:
            span = _make_span(meta)
            raise FormulaProblem(f"“{key}” is given twice.", at=span, hint="Take one out.")
        given[key] = value
    return given


def _name(token: Token) -> FieldName:
    quoted = token.type == "QUOTED"
    text = token[1:-1].replace('""', '"') if quoted else str(token)
    return FieldName(text, quoted=quoted, at=_make_token_span(token))


def _make_between(left: Any, right: Any, more: int = 0) -> Span:
    return Span(left.at.start, right.at.end + more)


def _negate(call: Call) -> Call:
    return Call("not", (call,), at=call.at, name_at=call.name_at)

"""Check a tree: names, kinds of values, and what a value is one of (a row, many rows, the rows around)."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import polars as pl
from rapidfuzz import process
from rapidfuzz.distance import DamerauLevenshtein

from veduta.core.data.fields import DataField, DataType, Schema
from veduta.core.formula.functions import (
    ANY,
    KINDS_WORDS,
    NUMBER,
    Argument,
    Function,
    Level,
    Operand,
    find_common_type,
    load_registry,
)
from veduta.core.formula.problems import FormulaProblem, Span
from veduta.core.formula.syntax_tree import Call, FieldName, FormulaTooDeep, Literal, Node, ParameterName, parse

MOST_ARGUMENTS = 500
LARGEST = 20_000
"""Nodes of an expression that Polars still plans in moments."""


@dataclass(frozen=True)
class GroupedBy:
    """A grain: fields, each with a period if it is a date grouped by one ("" is a date's day, a date-time's moment).

    `shown` adds the chart's dimensions, or with `less` those but the fields and periods; with `inside` it is the
    dimensions of wherever the value stands. Filters on the fields `without` do not count."""

    dimensions: tuple[tuple[str, str], ...] = ()
    shown: bool = False
    less: bool = False
    periods: tuple[str, ...] = ()
    inside: bool = False
    without: frozenset[str] = frozenset()

    @property
    def fields(self) -> set[str]:
        return {name for name, _ in self.dimensions}


@dataclass(frozen=True)
class TypedExpression:
    """A node with its kind (None is a bare `empty`), level and arguments.

    An optional argument that is left out is None. `field` is the id of a field, `value` that of a constant. `unlimited`
    contains a parameter without a limit: as a condition it filters nothing. A count of rows knows the fields that the
    rest of its formula aggregates, `beside` it."""

    kind: DataType | None
    at: Span = dataclasses.field(compare=False)
    level: Level = Level.ROW
    constant: bool = False
    value: Any = None
    field: str = ""
    function: Function | None = None
    arguments: tuple[TypedExpression | None, ...] = ()
    along: tuple[tuple[str, bool], ...] = ()
    restart: tuple[str, ...] = ()
    where: TypedExpression | None = None
    per: GroupedBy | None = None
    unlimited: bool = False
    beside: frozenset[str] | None = None

    @property
    def call(self) -> Function:
        """The function of a node that is a call."""
        assert self.function is not None, "a constant or a field is no call"
        return self.function

    @property
    def grain(self) -> GroupedBy:
        """The grain of its own of a node that has one."""
        assert self.per is not None, "this has no grain of its own"
        return self.per

    def get_option(self, position: int) -> TypedExpression:
        """An argument that is not left out."""
        argument = self.arguments[position]
        assert argument is not None, "an argument that must be given"
        return argument

    @cached_property
    def fields(self) -> frozenset[str]:
        """The ids of all fields the formula reads."""
        names = {self.field} if self.field else set()
        names |= {name for name, _ in self.along} | set(self.restart)
        names |= self.per.fields if self.per else set()
        inner = [*self.arguments, self.where]
        return frozenset(names.union(*(argument.fields for argument in inner if argument)))

    @cached_property
    def size(self) -> int:
        """How many nodes its expression has, where each argument stands as often as the function uses it."""
        if self.function is None:
            return 1
        count = len(self.arguments)
        uses = [self.function.use_of(position, count) for position in range(count)]
        return 1 + sum(a.size * use for a, use in zip(self.arguments, uses, strict=True) if a)

    @cached_property
    def _hash(self) -> int:
        function = self.function and self.function.name
        return hash((self.kind, self.level, self.value, self.field, function, self.arguments, self.where, self.per))

    def __hash__(self) -> int:
        return self._hash


def check(text: str, schema: Schema) -> TypedExpression:
    """The checked formula of a row: its level is row or window. Raises FormulaProblem with the place."""
    try:
        tree = parse(text)
        checked = Checker(schema).check(tree)
    except RecursionError:
        raise FormulaTooDeep from None
    return checked


def find_field(text: str, schema: Schema) -> DataField | None:
    """The field a name means: exactly, else ignoring case and with underscores for blanks.

    Stored formulas name fields by their ids, as "#fare"."""
    if text.startswith("#") and text[1:] in schema:
        return schema[text[1:]]
    exact = next((field for field in schema if field.name == text), None)
    return exact or next((field for field in schema if _simplify_name(field.name) == _simplify_name(text)), None)


def _simplify_name(name: str) -> str:
    return name.casefold().replace(" ", "_")


def find_nearest(word: str, choices: list[str]) -> str | None:
    """The choice that starts with the word, or that is spelt most like it, if one is close."""
    if starting := [choice for choice in choices if _simplify_name(choice).startswith(_simplify_name(word))]:
        return min(starting, key=len)
    best = process.extractOne(
        _simplify_name(word),
        {choice: _simplify_name(choice) for choice in choices},
        scorer=DamerauLevenshtein.normalized_similarity,
        score_cutoff=0.6,
    )
    return best[2] if best else None


class Checker:
    """Checks formulas that work row by row, over the fields of one table."""

    def __init__(self, schema: Schema) -> None:
        self.schema = schema

    def check(self, node: Node) -> TypedExpression:
        if isinstance(node, Literal):
            return self._check_literal(node)
        if isinstance(node, FieldName):
            return self._name(node)
        if isinstance(node, ParameterName):
            raise FormulaProblem(
                f"Parameters such as :{node.name} are not known in shaping.",
                at=node.at,
                hint="Write the value itself.",
            )
        return self._call(node)

    def _check_literal(self, node: Literal) -> TypedExpression:
        kinds = {bool: DataType.YES_NO, int: DataType.WHOLE, float: DataType.DECIMAL, str: DataType.TEXT}
        return TypedExpression(kinds.get(type(node.value)), node.at, constant=True, value=node.value)

    def find_field(self, node: FieldName) -> DataField | None:
        if node.table:
            raise FormulaProblem(
                f"There is no table “{node.table}” here.",
                at=node.at,
                hint="Bring its columns in with a step, then name the column.",
            )
        return find_field(node.text, self.schema)

    def _name(self, node: FieldName) -> TypedExpression:
        span = node.at
        field = self.find_field(node)
        if field is None:
            if not node.quoted and node.text.lower() in load_registry():
                raise FormulaProblem(
                    f"“{node.text}” is a function; its values stand in brackets.",
                    at=span,
                    hint=f"Write {load_registry()[node.text.lower()].signature}.",
                )
            near = find_nearest(node.text, [field.name for field in self.schema])
            hint = f"Did you mean {quote(near)}?" if near else "Choose a field from the list."
            if node.quoted and not near:
                hint = "Text stands in single quotes: '" + node.text.replace("'", "''") + "'."
            raise FormulaProblem(f"There is no field “{node.text}”.", at=span, hint=hint)
        return TypedExpression(field.kind, node.at, field=field.id)

    def _call(self, node: Call) -> TypedExpression:
        name_place = node.name_at
        function = load_registry().get(node.function)
        if function is None:
            names = [each.name for each in load_registry().values() if not each.operator]
            near = find_nearest(node.function, names)
            raise FormulaProblem(
                f"There is no function “{node.function}”.",
                at=name_place,
                hint=f"Did you mean {near}(…)?" if near else "The reference lists them all.",
            )
        self._refuse_level(function, node)
        given: list[Node | None] = list(node.arguments)
        takes = function.takes
        if takes and takes[0].optional and takes[0].bare and len(given) < len(takes):
            given.insert(0, None)
        self._count(function, len([each for each in given if each]), node)
        arguments = []
        for position, each in enumerate(given):
            declared = function.get_argument(position, len(given))
            arguments.append(self._check_argument(each, declared, function) if each else None)
        self._must_be_alike(function, arguments, node)
        operands = [make_operand(argument) for argument in arguments if argument]
        kind = self._find_result_type(function, operands, node)
        level = self._find_level(function, arguments, node)
        folded = self._fold_constants(function, arguments)
        checked = TypedExpression(
            kind=kind,
            at=node.at,
            level=level,
            function=function,
            constant=folded is not None,
            value=folded and folded.value,
            arguments=tuple(arguments),
            along=tuple((self._check_ordering(order.name), order.descending) for order in node.along),
            restart=tuple(self._name(name).field for name in node.restart),
            where=self._check_where(node),
            per=self._check_per(node),
        )
        if checked.size > LARGEST:
            raise FormulaProblem(
                f"{_describe_function(function)} stands within itself too often to be worked out.",
                at=name_place,
                hint="Make a part of it a column of its own in shaping.",
            )
        return checked

    def _fold_constants(self, function: Function, arguments: list[TypedExpression | None]) -> TypedExpression | None:
        """What a call gives whose value is known already: a number written with its sign is a constant too."""
        argument = arguments[0] if function.folds and arguments else None
        if argument is None or not argument.constant:
            return None
        return replace(argument, value=None if argument.value is None else -argument.value)

    def _find_level(self, function: Function, arguments: list[TypedExpression | None], node: Call) -> Level:
        windowed = function.level is Level.WINDOW or any(a and a.level is Level.WINDOW for a in arguments)
        return Level.WINDOW if windowed else Level.ROW

    def _check_ordering(self, name: FieldName) -> str:
        return self._name(name).field

    def _check_where(self, node: Call) -> TypedExpression | None:
        return None

    def _check_per(self, node: Call) -> GroupedBy | None:
        return None

    def _refuse_level(self, function: Function, node: Call) -> None:
        span = node.name_at
        if function.level is Level.TIME:
            raise FormulaProblem(
                f"{function.name}(…) compares periods of a chart; a formula in shaping works row by row.",
                at=span,
                hint="Write it in the model or in a chart; here previous(…) along (a date) looks at the row before.",
            )
        if function.level is Level.AGGREGATE:
            raise FormulaProblem(
                f"{function.name}(…) makes one value of many rows; a formula in shaping works row by row.",
                at=span,
                hint=function.instead or "For one row per group use the step Group.",
            )
        if node.per is not None or node.where is not None or node.unfiltered:
            word = "per" if node.per is not None else "where" if node.where is not None else "unfiltered"
            raise FormulaProblem(
                f"“{word}” belongs to aggregates such as sum(…).",
                at=span,
                hint=f"Take “{word}” out, or use the step Group.",
            )
        if (node.along or node.restart) and function.level is not Level.WINDOW:
            windows = ", ".join(each.name for each in load_registry().values() if each.level is Level.WINDOW)
            raise FormulaProblem(
                f"{function.name} looks at its own row only, so it takes no “along” or “restart”.",
                at=span,
                hint=f"These do: {windows}.",
            )

    def _count(self, function: Function, count: int, node: Call) -> None:
        most = MOST_ARGUMENTS if function.repeats else len(function.takes)
        if function.least <= count <= most:
            return
        expected = f"{function.least}" if function.least == most else f"{function.least} to {most}"
        if function.repeats:
            expected = f"at least {function.least}"
        plural = "s" if expected not in ("1", "at least 1") else ""
        raise FormulaProblem(
            f"{function.name} takes {expected.replace('0', 'no') if most == 0 else expected} value{plural}, not"
            f" {count or 'none'}.",
            at=node.at,
            hint=f"It is written {function.signature}.",
        )

    def _check_argument(self, node: Node, declared: Argument, function: Function) -> TypedExpression:
        span = node.at
        if declared.options:
            value = node.text if isinstance(node, FieldName) and not node.table else getattr(node, "value", None)
            if value not in declared.options or isinstance(node, FieldName) != declared.bare:
                choices = ", ".join(option if declared.bare else f"'{option}'" for option in declared.options)
                raise FormulaProblem(
                    f"{function.name}: the {declared.name} is one of {choices}.", at=span, hint="Choose one."
                )
            return TypedExpression(DataType.TEXT, node.at, constant=True, value=value)
        argument = self.check(node)
        if declared.constant and (not argument.constant or argument.value is None):
            raise FormulaProblem(
                f"{function.name}: the {declared.name} must be written out, not taken from a field.",
                at=span,
                hint="Write a number." if DataType.TEXT not in declared.kinds else "Write it in single quotes.",
            )
        if argument.kind is None and len(declared.kinds) == 1:
            return replace(argument, kind=next(iter(declared.kinds)))  # a bare "empty" is one of what is wanted
        if argument.kind is not None and argument.kind not in declared.kinds:
            expected = KINDS_WORDS.get(declared.kinds) or " or ".join(sorted(kind.words for kind in declared.kinds))
            raise FormulaProblem(
                f"{_describe_function(function)} needs {expected} here, and this is {_label_type(argument.kind)}.",
                at=span,
                hint=_convert_hint(argument.kind, declared.kinds, function),
            )
        return argument

    def _must_be_alike(self, function: Function, arguments: list[TypedExpression | None], node: Call) -> None:
        alike = [
            argument
            for i, argument in enumerate(arguments)
            if argument and function.get_argument(i, len(arguments)).alike
        ]
        for i in range(1, len(alike)):
            try:
                find_common_type([make_operand(argument) for argument in alike[: i + 1]])
            except FormulaProblem as problem:
                odd = alike[i].at
                hint = problem.hint
                kinds = {argument.kind for argument in alike[: i + 1]}
                if kinds & {DataType.DATE, DataType.DATETIME} and DataType.TEXT in kinds:
                    hint = "Write dates as date('2026-10-31')."
                raise FormulaProblem(problem.message, at=odd, hint=hint) from None

    def _find_result_type(self, function: Function, operands: list[Operand], node: Call) -> DataType | None:
        if isinstance(function.gives, DataType):
            return function.gives
        try:
            return function.gives(operands)
        except FormulaProblem as problem:
            raise FormulaProblem(problem.message, at=node.at, hint=problem.hint) from None


def make_operand(checked: TypedExpression, expression: pl.Expr | None = None) -> Operand:
    return Operand(
        expression if expression is not None else pl.lit(None), checked.kind, checked.value, checked.constant
    )


def quote(name: str) -> str:
    """A field's name as a formula writes it.

    >>> quote("Fare revenue"), quote("route"), quote("in")
    ('"Fare revenue"', 'route', '"in"')
    """
    words = {
        "or",
        "and",
        "not",
        "in",
        "is",
        "between",
        "empty",
        "true",
        "false",
        "desc",
        "along",
        "restart",
        "per",
        "where",
    }
    simple = name.isidentifier() and name.lower() not in words
    return name if simple else '"' + name.replace('"', '""') + '"'


def _label_type(kind: DataType) -> str:
    return {DataType.TEXT: "text", DataType.YES_NO: "yes or no"}.get(kind, f"a {kind.words}")


def _describe_function(function: Function) -> str:
    return f"“{function.name}”" if function.operator else function.name


def _convert_hint(kind: DataType, wanted: frozenset[DataType], function: Function) -> str:
    if function.operator and wanted == NUMBER and kind is DataType.TEXT:
        return "Read it as a number with number(…); text is joined with &."
    if wanted == ANY:
        return ""
    for target, write in (
        (DataType.DECIMAL, "number"),
        (DataType.TEXT, "text"),
        (DataType.DATE, "date"),
        (DataType.YES_NO, "yes_no"),
    ):
        if target in wanted:
            return f"Convert it with {write}(…), or choose another field."
    return "Choose another field."

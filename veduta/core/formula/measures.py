"""Check the formulas of models and charts.

Besides values of a row they have aggregates, grains, windows, periods and parameters. What depends on a chart's
dimensions (a time axis, a grain) is checked when it is answered."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any

from veduta.core.data.fields import DataField, DataType, NumberFormat, Schema
from veduta.core.formula.check import Checker, GroupedBy, TypedExpression, find_field, find_nearest, quote
from veduta.core.formula.functions import Function, Level, load_registry
from veduta.core.formula.problems import FormulaProblem
from veduta.core.formula.syntax_tree import PERIODS, Call, FieldName, FormulaGrain, Literal, Node, ParameterName, parse

COMPARING = ("=", "<>", "<", "<=", ">", ">=", "in", "between")
MANY = (Level.AGGREGATE, Level.WINDOW, Level.TIME)


@dataclass(frozen=True)
class ParameterValue:
    """What a parameter is set to: typed values, or None for no limit."""

    kind: DataType
    values: tuple[Any, ...] | None


Parameters = Mapping[str, ParameterValue]
parsed = lru_cache(maxsize=2_000)(parse)


def check_measure(text: str, schema: Schema, parameters: Parameters | None = None) -> TypedExpression:
    """The checked formula of a model or chart: of a row or of many. Raises FormulaProblem with the place."""
    try:
        return place_beside(MeasureChecker(schema, parameters or {}).check(parsed(text)))
    except RecursionError:
        raise FormulaProblem(
            "The formula is nested too deeply.", hint="Make a part of it a formula of its own."
        ) from None


class MeasureChecker(Checker):
    """Formulas over all fields of a model. Formula fields of many rows stand for their formulas."""

    def __init__(self, schema: Schema, parameters: Parameters) -> None:
        super().__init__(schema)
        self.parameters = parameters
        self.within: list[str] = []

    def check(self, node: Node) -> TypedExpression:
        if isinstance(node, ParameterName):
            return self._check_parameter(node)
        return super().check(node)

    def _check_parameter(self, node: ParameterName) -> TypedExpression:
        span = node.at
        held = self.parameters.get(node.name)
        if held is None:
            near = find_nearest(node.name, list(self.parameters))
            raise FormulaProblem(
                f"There is no parameter :{node.name}.",
                at=span,
                hint=f"Did you mean :{near}?" if near else "Add it to the model's parameters.",
            )
        if held.values is not None and len(held.values) > 1:
            raise FormulaProblem(
                f":{node.name} holds several values.", at=span, hint=f"Use it as a list: … in (:{node.name})."
            )
        value = held.values[0] if held.values else None
        return TypedExpression(held.kind, node.at, constant=True, value=value, unlimited=held.values is None)

    def find_field(self, node: FieldName) -> DataField | None:
        if node.text.startswith("#"):
            return self.schema[node.text[1:]]
        own = [field for field in self.schema if not field.table or field.table == "formula"]
        if not node.table:
            if (field := find_field(node.text, Schema(own))) is not None:
                return field
            rest = [field for field in self.schema if field not in own]
            field = find_field(node.text, Schema(rest))
            alike = [other for other in rest if field and other.name.casefold() == field.name.casefold()]
            if len(alike) > 1:
                ways = " or ".join(write_formula_name(each, self.schema) for each in alike)
                raise FormulaProblem(
                    f"Several tables have a field “{node.text}”.",
                    at=node.at,
                    hint=f"Write {ways}.",
                )
            return field
        table = next((key for key, name in self.schema.tables.items() if _are_same(name, node.table)), None)
        if table is None:
            near = find_nearest(node.table, list(self.schema.tables.values()))
            raise FormulaProblem(
                f"There is no table “{node.table}” in this model.",
                at=node.at,
                hint=f"Did you mean {quote(near)}?" if near else "Join it to the model first.",
            )
        return find_field(node.text, Schema([field for field in self.schema if field.table == table]))

    def _name(self, node: FieldName) -> TypedExpression:
        checked = super()._name(node)
        field = self.schema[checked.field]
        if field.level == "row":
            return checked
        if field.id in self.within:
            raise FormulaProblem(
                f"“{field.name}” is made from itself.",
                at=node.at,
                hint="Take it out of one of the formulas.",
            )
        self.within.append(field.id)
        try:
            inner = place_beside(self.check(parsed(field.formula)))
        except FormulaProblem as problem:
            raise FormulaProblem(
                f"The formula “{field.name}” does not work: {problem.message}",
                at=node.at,
                hint=problem.hint,
            ) from None
        finally:
            self.within.pop()
        return replace(inner, at=node.at)

    def _call(self, node: Call) -> TypedExpression:
        if node.function in COMPARING:
            node = replace(node, arguments=tuple(self._spread(node)))
        if (node.per is not None or node.unfiltered) and node.function in load_registry():
            return self._check_at_grain(node)
        checked = self._limit_parameter(super()._call(node))
        if checked.function and checked.function.adds_stocks:
            checked = self.check_stock(checked)
        return checked

    def _limit_parameter(self, checked: TypedExpression) -> TypedExpression:
        """Drop conditions that contain a parameter without a limit, since these filter nothing.

        They hold, also negated; an “and” goes without them, an “or” holds."""
        function, arguments = checked.function, [argument for argument in checked.arguments if argument]
        if function is None or not any(argument.unlimited for argument in arguments):
            return checked
        if function.joins:
            limited = [argument for argument in arguments if not argument.unlimited]
            return limited[0] if limited else arguments[0]
        if function.handles_empties:
            return checked
        if checked.kind is DataType.YES_NO:
            return TypedExpression(DataType.YES_NO, checked.at, constant=True, value=True, unlimited=True)
        return replace(checked, unlimited=True)

    def _spread(self, node: Call) -> Iterator[Node]:
        """The arguments, a parameter of several values in a list as its values."""
        for position, argument in enumerate(node.arguments):
            listed = node.function == "in" and position and isinstance(argument, ParameterName)
            values = self._list_values(argument) if listed else None
            if values is None or not isinstance(argument, ParameterName):
                yield argument
            else:
                for value in values or (None,):
                    yield _Given(value, argument)

    def _list_values(self, node: Node) -> tuple[Any, ...] | None:
        held = self.parameters.get(node.name) if isinstance(node, ParameterName) else None
        return held.values if held else None

    def _check_at_grain(self, node: Call) -> TypedExpression:
        inner = self.check(replace(node, per=None, unfiltered=()))
        if inner.level not in MANY:
            word = "per" if node.per is not None else "unfiltered"
            raise FormulaProblem(
                f"“{word}” belongs to aggregates such as sum(…).",
                at=node.name_at,
                hint=f"Write it behind an aggregate: sum(…) {word} (…).",
            )
        per = self._check_grain(node.per) if node.per is not None else GroupedBy(shown=True)
        per = replace(per, without=frozenset(super(MeasureChecker, self)._name(name).field for name in node.unfiltered))
        return TypedExpression(inner.kind, node.at, level=Level.GRAIN, arguments=(inner,), per=per)

    def _check_grain(self, grain: FormulaGrain) -> GroupedBy:
        dimensions, periods = [], []
        for name, unit in grain.dimensions:
            if grain.less and not name.quoted and name.text.lower() in PERIODS and self.find_field(name) is None:
                periods.append(name.text.lower())
                continue
            found = super()._name(name)
            self._check_period(found, unit, name)
            dimensions.append((found.field, unit))
        return GroupedBy(tuple(dimensions), grain.shown, grain.less, tuple(periods))

    def _check_period(self, dimension: TypedExpression, unit: str, name: FieldName) -> None:
        known: dict[DataType | None, tuple[str, ...]] = {DataType.DATE: PERIODS[:-1], DataType.DATETIME: PERIODS}
        fits = known.get(dimension.kind, ())
        if unit and unit not in fits:
            what = f"no {unit}s" if fits else "no periods: it is not a date"
            raise FormulaProblem(
                f"“{self.schema[dimension.field].name}” has {what}.",
                at=name.at,
                hint=f"Write one of {', '.join(fits)}." if fits else "Name the field without trunc(…).",
            )

    def _refuse_level(self, function: Function, node: Call) -> None:
        span = node.name_at
        if node.where is not None and function.level is not Level.AGGREGATE:
            raise FormulaProblem(
                "“where” belongs to aggregates such as sum(…).", at=span, hint="Elsewhere use if(test, value)."
            )
        if function.ordered and node.along and not node.restart:
            return
        if (node.along or node.restart) and function.level is not Level.WINDOW:
            windows = ", ".join(each.name for each in load_registry().values() if each.level is Level.WINDOW)
            raise FormulaProblem(
                f"{function.name} takes no “along” or “restart”.", at=span, hint=f"These do: {windows}."
            )

    def _check_where(self, node: Call) -> TypedExpression | None:
        if node.where is None:
            return None
        condition = self.check(node.where)
        span = node.where.at
        if condition.kind not in (DataType.YES_NO, None):
            raise FormulaProblem(
                "“where” needs a condition, something that is yes or no.", at=span, hint="Compare it: where … = …"
            )
        if condition.level in MANY:
            raise FormulaProblem(
                "“where” looks at each row, and this is a value of many rows.",
                at=span,
                hint="Say at which grain: … per (…).",
            )
        return condition

    def _find_level(self, function: Function, arguments: list[TypedExpression | None], node: Call) -> Level:
        given = [argument for argument in arguments if argument and not argument.constant]
        if function.level is Level.AGGREGATE:
            if deep := next((argument for argument in given if argument.level in MANY), None):
                raise FormulaProblem(
                    f"{function.name} is given a value that already stands for many rows.",
                    at=deep.at,
                    hint=(
                        "Say at which grain it is worked out first: "
                        f"{function.name}(sum(…) per (shown, …)), or take {function.name} away."
                    ),
                )
            return Level.AGGREGATE
        rows = next((argument for argument in given if argument.level is Level.ROW), None)
        many = [argument for argument in given if argument.level in MANY]
        if function.level in (Level.WINDOW, Level.TIME):
            if rows:
                raise FormulaProblem(
                    f"{function.name} works on the chart's numbers, and this is a value of each row.",
                    at=rows.at,
                    hint=f"Make it an aggregate first: {function.name}(sum(…), …).",
                )
            return function.level
        if rows and many:
            raise FormulaProblem(
                "This is a value of each row, and what it stands beside is one of many rows.",
                at=rows.at,
                hint="Make it an aggregate too, such as sum(…), min(…) or max(…).",
            )
        for level in (Level.TIME, Level.WINDOW, Level.AGGREGATE):
            if any(argument.level is level for argument in many):
                return level
        return Level.GRAIN if given and not rows else Level.ROW

    def _check_ordering(self, name: FieldName) -> str:
        return super()._name(name).field

    def check_stock(self, checked: TypedExpression) -> TypedExpression:
        """The sum of a stock: over days its last (first, mean, highest) day's sum is taken."""
        argument = checked.get_option(0)
        field = self.schema[argument.field] if argument.field else None
        if field is None or not field.over_dates:
            return checked
        day = next((other for other in self.schema if other.table == field.table and other.kind.is_date), None)
        if day is None:
            return checked
        grained = TypedExpression(
            checked.kind,
            checked.at,
            level=Level.GRAIN,
            arguments=(checked,),
            per=GroupedBy(((day.id, "day"),), shown=True, inside=True),
        )
        over = load_registry()[field.over_dates]
        return TypedExpression(checked.kind, checked.at, level=Level.AGGREGATE, function=over, arguments=(grained,))


def place_beside(node: TypedExpression) -> TypedExpression:
    """The formula with its counts of rows knowing which fields the rest of it aggregates."""

    def aggregated(each: TypedExpression) -> frozenset[str]:
        if each.function is not None and each.function.level is Level.AGGREGATE:
            return frozenset() if each.function.counts_rows else each.fields
        return frozenset().union(*(aggregated(argument) for argument in (*each.arguments, each.where) if argument))

    def placed(each: TypedExpression, beside: frozenset[str]) -> TypedExpression:
        if each.function is not None and each.function.counts_rows and each.beside is None:
            each = replace(each, beside=beside)
        arguments = tuple(argument and placed(argument, beside) for argument in each.arguments)
        where = each.where and placed(each.where, beside)
        return (
            replace(each, arguments=arguments, where=where)
            if (arguments, where) != (each.arguments, each.where)
            else each
        )

    return placed(node, frozenset(aggregated(node)))


class _Given(Literal):
    """A parameter's value in the place of the parameter."""

    def __init__(self, value: Any, node: ParameterName) -> None:
        super().__init__(value, node.at)


def _are_same(a: str, b: str) -> bool:
    return a.casefold().replace(" ", "_") == b.casefold().replace(" ", "_")


def write_formula_name(field: DataField, schema: Schema) -> str:
    """A field as a formula of a model names it.

    >>> field = DataField(id="ports.region", source="", name="Home region", kind="text")
    >>> write_formula_name(field, Schema([], tables={"ports": "Ports"}))
    'Ports."Home region"'
    """
    table = schema.tables.get(field.table) if field.table else None
    return f"{quote(table)}.{quote(field.name)}" if table else quote(field.name)


def iterate_names(node: Node) -> Iterator[FieldName]:
    """All names of fields in a formula's tree."""
    if isinstance(node, FieldName):
        yield node
    if not isinstance(node, Call):
        return
    declared = load_registry().get(node.function)
    for position, argument in enumerate(node.arguments):
        first = declared.takes[0] if declared and declared.takes else None
        if (
            position == 0
            and first
            and first.bare
            and isinstance(argument, FieldName)
            and argument.text in first.options
        ):
            continue
        yield from iterate_names(argument)
    if node.where is not None:
        yield from iterate_names(node.where)
    yield from (order.name for order in node.along)
    yield from node.restart
    yield from (name for name, _ in node.per.dimensions) if node.per else ()
    yield from node.unfiltered


def _iterate_parameters(node: Node | None) -> Iterator[ParameterName]:
    if isinstance(node, ParameterName):
        yield node
    elif isinstance(node, Call):
        for each in (*node.arguments, node.where):
            yield from _iterate_parameters(each)


def list_parameters(text: str) -> set[str]:
    """The names of the parameters a formula reads; none if it is not readable."""
    try:
        return {parameter.name for parameter in _iterate_parameters(parsed(text))}
    except FormulaProblem:
        return set()


def insert_literals(text: str, parameters: Parameters) -> str | None:
    """A stored formula with the values of its parameters as literals.

    None where a parameter has no such value: no limit, several, or a date.

    >>> insert_literals("count_rows() > :most", {"most": ParameterValue(DataType.WHOLE, (5,))})
    'count_rows() > 5'
    """
    for parameter in sorted(_iterate_parameters(parsed(text)), key=lambda each: -each.at.start):
        held = parameters.get(parameter.name)
        value = held.values[0] if held and held.values and len(held.values) == 1 else None
        if not isinstance(value, bool | int | float | str):
            return None
        text = text[: parameter.at.start] + _write_literal(value) + text[parameter.at.end :]
    return text


def _write_literal(value: bool | float | str) -> str:
    if isinstance(value, str):
        return "'" + value.replace("'", "''") + "'"
    if isinstance(value, bool):
        return str(value).lower()
    return f"({value!r})" if value < 0 else repr(value)


def list_formula_fields(text: str) -> set[str]:
    """The ids of the fields a stored formula names; none if it is not readable."""
    try:
        return {name.text[1:] for name in iterate_names(parsed(text)) if name.text.startswith("#")}
    except FormulaProblem:
        return set()


def replace_names_with_ids(text: str, schema: Schema) -> str:
    """The formula as it is stored: fields named by their ids, so that renaming them breaks nothing."""
    checker = MeasureChecker(schema, {})

    def stored(name: FieldName) -> str | None:
        field = checker.find_field(name)
        return f'"#{field.id}"' if field else None

    return _rewrite(text, stored)


def replace_ids_with_names(text: str, schema: Schema) -> str:
    """A stored formula as people read it."""

    def said(name: FieldName) -> str | None:
        known = name.text.startswith("#") and name.text[1:] in schema
        return write_formula_name(schema[name.text[1:]], schema) if known else None

    try:
        return _rewrite(text, said)
    except FormulaProblem:
        return text


def replace_ids(text: str, others: Mapping[str, str]) -> str:
    """A stored formula over other fields, by the ids of those it is over; one that is not readable stays."""

    def other(name: FieldName) -> str | None:
        found = others.get(name.text[1:]) if name.text.startswith("#") else None
        return f'"#{found}"' if found else None

    try:
        return _rewrite(text, other)
    except FormulaProblem:
        return text


def _rewrite(text: str, write: Callable[[FieldName], str | None]) -> str:
    for name in sorted(iterate_names(parsed(text)), key=lambda name: -name.at.start):
        if (new := write(name)) is not None:
            text = text[: name.at.start] + new + text[name.at.end :]
    return text


def format_of(node: TypedExpression, schema: Schema) -> NumberFormat:
    """How a formula's values are written: as its function says, else as the one format of all it is made of."""
    if node.function and node.function.format:
        return node.function.format
    if node.field:
        return schema[node.field].format
    formats = {format_of(argument, schema) for argument in node.arguments if argument and not argument.constant}
    return formats.pop() if len(formats) == 1 else NumberFormat()

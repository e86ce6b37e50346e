"""A formula written out evenly: blanks, brackets only where they are needed, names as the fields have them."""

from __future__ import annotations

from veduta.core.data.fields import Schema
from veduta.core.formula.check import find_field, quote
from veduta.core.formula.syntax_tree import Call, FieldName, FormulaGrain, Literal, Node, ParameterName, parse

BINDING = {
    "or": 1,
    "and": 2,
    "not": 3,
    "=": 4,
    "<>": 4,
    "<": 4,
    "<=": 4,
    ">": 4,
    ">=": 4,
    "in": 4,
    "between": 4,
    "is empty": 4,
    "&": 5,
    "+": 6,
    "-": 6,
    "*": 7,
    "/": 7,
    "minus": 8,
    "plus": 8,
    "^": 9,
}
TIGHTEST = 10


def tidy(text: str, schema: Schema | None = None) -> str:
    """The same formula, evenly written. Raises FormulaProblem if it cannot be read."""
    return write(parse(text), schema)


def write(node: Node, schema: Schema | None = None) -> str:
    return _Writer(schema).write(node)


class _Writer:
    def __init__(self, schema: Schema | None) -> None:
        self.schema = schema

    def write(self, node: Node) -> str:
        if isinstance(node, Literal):
            return _write_literal(node)
        if isinstance(node, ParameterName):
            return f":{node.name}"
        if isinstance(node, FieldName):
            return self._name(node)
        if node.function in BINDING:
            return self._write_operator(node)
        if node.function == "coalesce" and len(node.arguments) == 1 and (node.per is not None or node.unfiltered):
            return f"({self.write(node.arguments[0])}){self._write_suffixes(node)}"
        inside = ", ".join(self.write(argument) for argument in node.arguments)
        if node.where is not None:
            inside += f"{' ' * bool(inside)}where {self.write(node.where)}"
        return f"{node.function}({inside}){self._write_suffixes(node)}"

    def _name(self, node: FieldName) -> str:
        field = find_field(node.text, self.schema) if self.schema and not node.table else None
        # A name that people wrote with underscores stays as it is, if it means a field.
        text = node.text if field is None or not node.quoted else field.name
        return f"{quote(node.table)}.{quote(text)}" if node.table else quote(text)

    def _write_inner(self, node: Node, least: int) -> str:
        binding = BINDING.get(node.function, TIGHTEST) if isinstance(node, Call) else TIGHTEST
        return f"({self.write(node)})" if binding < least else self.write(node)

    def _write_operator(self, node: Call) -> str:
        binding, first = BINDING[node.function], node.arguments[0]
        if node.function == "not":
            if isinstance(first, Call) and first.function in ("in", "between", "is empty"):
                plain = self._write_operator(first)
                word = "empty" if first.function == "is empty" else first.function
                inner = self._write_inner(first.arguments[0], 5)
                rest = plain[len(inner) :]
                return inner + (" is not empty" if word == "empty" else f" not{rest}")
            return f"not {self._write_inner(first, binding)}"
        if node.function in ("minus", "plus"):
            return f"{'-' if node.function == 'minus' else '+'}{self._write_inner(first, binding)}"
        if node.function == "is empty":
            return f"{self._write_inner(first, 5)} is empty"
        if node.function == "in":
            values = ", ".join(self.write(value) for value in node.arguments[1:])
            return f"{self._write_inner(first, 5)} in ({values})"
        if node.function == "between":
            _, low, high = node.arguments
            return f"{self._write_inner(first, 5)} between {self._write_inner(low, 5)} and {self._write_inner(high, 5)}"
        left, right = node.arguments
        if node.function == "^":
            return f"{self._write_inner(left, TIGHTEST)} ^ {self._write_inner(right, 8)}"
        # Comparisons do not chain; the others group to the left.
        before, after = self._write_inner(left, binding + (binding == 4)), self._write_inner(right, binding + 1)
        return f"{before} {node.function} {after}"

    def _write_suffixes(self, node: Call) -> str:
        text = ""
        if node.along:
            orders = (self._name(order.name) + " desc" * order.descending for order in node.along)
            text += f" along ({', '.join(orders)})"
        if node.restart:
            text += f" restart ({', '.join(map(self._name, node.restart))})"
        if node.per is not None:
            text += f" per ({self._write_grain(node.per)})"
        if node.unfiltered:
            text += f" unfiltered ({', '.join(map(self._name, node.unfiltered))})"
        return text

    def _write_grain(self, grain: FormulaGrain) -> str:
        names = ", ".join(
            f"trunc({self._name(name)}, '{unit}')" if unit else self._name(name) for name, unit in grain.dimensions
        )
        if not grain.shown:
            return names
        return f"shown except {names}" if grain.less else ", ".join(filter(None, ["shown", names]))


def _write_literal(node: Literal) -> str:
    if node.value is None:
        return "empty"
    if isinstance(node.value, bool):
        return "true" if node.value else "false"
    if isinstance(node.value, str):
        return "'" + node.value.replace("'", "''") + "'"
    return repr(node.value)

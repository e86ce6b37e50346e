"""A number to show: an aggregate of a field, a formula, or the count of rows."""

from __future__ import annotations

from typing import Literal

from pydantic import Field as Attribute

from veduta.core.data.fields import AGGREGATE_WORDS, Aggregate, Field, Frozen, Kind, NumberFormat, Schema, Total
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.check import Checked
from veduta.core.formula.functions import COUNTED, Level, registry
from veduta.core.formula.measures import MeasureChecker, Parameters, check_measure, fields_in, format_of, with_names
from veduta.core.formula.problems import Span
from veduta.core.model.model import Model
from veduta.core.model.parameters import number_set
from veduta.core.words import in_sentence

NOWHERE = Span()
TOTAL_WORDS = {
    "again": "worked out from the rows",
    "sum": "the sum of the values shown",
    "mean": "the mean of the values shown",
    "min": "the lowest value shown",
    "max": "the highest value shown",
    "none": "not given",
}


class Measure(Frozen):
    """An aggregate of a field, or a formula of this chart's own (its text naming fields by their ids), or the count of
    rows when there is neither. `total` None is the field's own way of totals."""

    field: str | None = None
    aggregate: Aggregate = Aggregate.COUNT
    formula: str = Attribute("", max_length=5_000)
    name: str = Attribute("", max_length=200)
    format: NumberFormat | None = None
    total: Total | None = None

    def same_number(self, other: Measure) -> bool:
        return (self.field, self.aggregate, self.formula) == (other.field, other.aggregate, other.formula)

    def fields(self) -> set[str]:
        return fields_in(self.formula) if self.formula else {self.field} if self.field else set()


class Keep(Frozen):
    """Only the top or bottom `count` values of a dimension by a measure, shown or not.

    `of` is the dimension: the first (by), the last (split), or the last one within each value of those before it. With
    a `parameter` its value is the count, and no limit keeps all. A count in `percent` is of the values there are, at
    least one. With `ties` those that tie with the last one stay; without `empties` rows whose dimension is empty do not
    take a place; with `rest` all others are gathered in one."""

    end: Literal["top", "bottom"] = "top"
    count: int = Attribute(10, ge=1, le=10_000)
    percent: bool = False
    empties: bool = True
    parameter: str = Attribute("", max_length=40)
    by: Measure = Measure()
    of: Literal["by", "split", "within"] = "by"
    ties: bool = False
    rest: bool = False

    def settled(self, parameters: Parameters) -> Keep | None:
        """With its parameter's value; None if that is no limit."""
        if not self.parameter:
            return self
        value = number_set(self.parameter, parameters)
        if value is None:
            return None
        return self.model_copy(update={"count": int(min(max(value, 1), 10_000)), "parameter": ""})

    @property
    def count_words(self) -> str:
        """How many are kept: "5", ":top_n" or "10%"."""
        return f"{f':{self.parameter}' if self.parameter else self.count}{'%' * self.percent}"


def measure_words(measure: Measure, schema: Schema) -> str:
    """A measure as it is said: its own name, the field's name, the formula, or the aggregate and the field."""
    if measure.name:
        return measure.name
    if measure.formula:
        return with_names(measure.formula, schema)
    if measure.field is None:
        return "count of rows"
    field = schema[measure.field]
    is_own = measure.aggregate == field.aggregate and field.role == "measure"
    if is_own or field.level == "aggregate":
        return field.name
    return _with_aggregate(measure, field)


def measure_heading(measure: Measure, schema: Schema) -> str:
    """What the column of a measure is called."""
    words = measure_words(measure, schema)
    return words[0].upper() + words[1:] if not measure.formula or measure.name else words


def _with_aggregate(measure: Measure, field: Field) -> str:
    return f"{AGGREGATE_WORDS[measure.aggregate]} of {in_sentence(field.name)}"


def words_together(measures: tuple[Measure, ...], schema: Schema) -> list[str]:
    """Measures as they are said beside each other, in a sentence: if one says its aggregate, all do that have one, as
    “mean of fare and passengers” would be misread."""
    words = [in_sentence(measure_words(measure, schema)) for measure in measures]
    fields = [schema[each.field] if each.field and not each.name and not each.formula else None for each in measures]
    said = [
        _with_aggregate(measure, field) if field and field.level == "row" else ""
        for measure, field in zip(measures, fields, strict=True)
    ]
    if not any(word == aggregate for word, aggregate in zip(words, said, strict=True)):
        return words
    return [aggregate or word for word, aggregate in zip(words, said, strict=True)]


def counted_tables(node: Checked, model: Model) -> list[str]:
    """The tables of a model whose rows a formula aggregates. Raises FormulaProblem
    where there is none that has its fields.

    A count of rows is about the table that the rest of its formula is about, else the first one; if that lacks a field
    of its condition, about one that has it."""
    if node.function is None or node.function.level is not Level.AGGREGATE or _over_cells(node):
        inner = (argument for argument in (*node.arguments, node.where) if argument)
        return list(dict.fromkeys(home for argument in inner for home in counted_tables(argument, model)))
    if node.arguments:
        return [model.home_of(node.fields, node)]
    return [model.rows_counted(node.beside or frozenset(), node.fields)]


def _over_cells(node: Checked) -> bool:
    return any(argument and argument.level is Level.GRAIN for argument in node.arguments)


def measure_node(measure: Measure, schema: Schema, parameters: Parameters, any_kind: bool = False) -> Checked:
    """The measure as a checked formula of many rows; with `any_kind` also the lowest of texts.

    Raises DefinitionProblem or FormulaProblem if it cannot be one."""
    checker = MeasureChecker(schema, parameters)
    if measure.formula:
        node = check_measure(measure.formula, schema, parameters)
        if node.level is Level.ROW and not node.constant and node.fields:
            raise DefinitionProblem(
                f"“{measure_words(measure, schema)}” is a value of each row.",
                hint="Make it an aggregate, such as sum(…).",
            )
        return node
    if measure.field is None:
        return Checked(Kind.WHOLE, NOWHERE, level=Level.AGGREGATE, function=registry()["count_rows"])
    field = schema[measure.field]
    if field.level == "aggregate":
        return check_measure(f'"#{field.id}"', schema, parameters)
    if measure.aggregate is Aggregate.OWN:
        raise DefinitionProblem(
            f"“{field.name}” is not a formula of many rows.", where=field.id, hint="Choose an aggregate."
        )
    if not any_kind and not _fits(field, measure.aggregate):
        raise DefinitionProblem(
            f"The {measure.aggregate.words} of “{field.name}” cannot be worked out: it holds {field.kind.words}"
            " values.",
            where=field.id,
            hint="Use a count, or change the field's type.",
        )
    function = registry()[measure.aggregate.value]
    kind = function.gives if isinstance(function.gives, Kind) else field.kind
    argument = Checked(field.kind, NOWHERE, field=field.id)
    node = Checked(kind, NOWHERE, level=Level.AGGREGATE, function=function, arguments=(argument,))
    return checker._stock(node) if measure.aggregate is Aggregate.SUM else node


def _fits(field: Field, aggregate: Aggregate) -> bool:
    counts = aggregate in (Aggregate.COUNT, Aggregate.COUNT_DISTINCT)
    return counts or field.kind.is_number or (field.kind.is_date and aggregate in (Aggregate.MIN, Aggregate.MAX))


def measure_kind(measure: Measure, schema: Schema, parameters: Parameters | None = None) -> Kind:
    return measure_node(measure, schema, parameters or {}).kind or Kind.DECIMAL


def measure_format(measure: Measure, schema: Schema, node: Checked | None = None) -> NumberFormat:
    """The measure's own number format, else its field's; a formula takes after what it is made of."""
    if measure.format:
        return measure.format
    if measure.formula:
        return format_of(node, schema) if node else NumberFormat()
    field = schema[measure.field] if measure.field else None
    counts = measure.aggregate in (Aggregate.COUNT, Aggregate.COUNT_DISTINCT)
    if field is None or (counts and field.level == "row"):
        return COUNTED
    return field.format


def total_of(measure: Measure, schema: Schema) -> Total:
    """How the measure's totals are worked out."""
    if measure.total:
        return measure.total
    return schema[measure.field].total if measure.field else "again"

"""A number to show: an aggregate of a field, a formula, or the count of rows."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from veduta.core.data.fields import AGGREGATE_WORDS, Aggregate, DataField, DataType, Frozen, NumberFormat, Schema, Total
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.check import TypedExpression
from veduta.core.formula.functions import COUNTED, Level, load_registry
from veduta.core.formula.measures import (
    MeasureChecker,
    Parameters,
    check_measure,
    format_of,
    list_formula_fields,
    replace_ids_with_names,
)
from veduta.core.formula.problems import Span
from veduta.core.model.model import Model
from veduta.core.model.parameters import get_set_number
from veduta.core.phrases import lower_first

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
    """A measure: an aggregate of a field, a formula, or the count of rows when there is neither.

    The formula is the chart's own and names fields by their ids. `total` None is the field's own way of totals."""

    field: str | None = None
    aggregate: Aggregate = Aggregate.COUNT
    formula: str = Field("", max_length=5_000)
    name: str = Field("", max_length=200)
    format: NumberFormat | None = None
    total: Total | None = None

    def is_same_number(self, other: Measure) -> bool:
        return (self.field, self.aggregate, self.formula) == (other.field, other.aggregate, other.formula)

    def list_fields(self) -> set[str]:
        return list_formula_fields(self.formula) if self.formula else {self.field} if self.field else set()


class TopN(Frozen):
    """Only the top or bottom `count` values of a dimension by a measure, shown or not.

    `of` is the dimension: the first (by), the last (split), or the last one within each value of those before it. With
    a `parameter` its value is the count, and no limit keeps all. A count in `percent` is of the values there are, at
    least one. With `ties` those that tie with the last one stay; without `empties` rows whose dimension is empty do not
    take a place; with `rest` all others are gathered in one."""

    end: Literal["top", "bottom"] = "top"
    count: int = Field(10, ge=1, le=10_000)
    percent: bool = False
    empties: bool = True
    parameter: str = Field("", max_length=40)
    by: Measure = Measure()
    of: Literal["by", "split", "within"] = "by"
    ties: bool = False
    rest: bool = False

    def resolve_parameters(self, parameters: Parameters) -> TopN | None:
        """With its parameter's value; None if that is no limit."""
        if not self.parameter:
            return self
        value = get_set_number(self.parameter, parameters)
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
        return replace_ids_with_names(measure.formula, schema)
    if measure.field is None:
        return "count of rows"
    field = schema[measure.field]
    is_own = measure.aggregate == field.aggregate and field.role == "measure"
    if is_own or field.level == "aggregate":
        return field.name
    return _add_aggregate(measure, field)


def measure_heading(measure: Measure, schema: Schema) -> str:
    """What the column of a measure is called."""
    words = measure_words(measure, schema)
    return words[0].upper() + words[1:] if not measure.formula or measure.name else words


def _add_aggregate(measure: Measure, field: DataField) -> str:
    return f"{AGGREGATE_WORDS[measure.aggregate]} of {lower_first(field.name)}"


def label_measures(measures: tuple[Measure, ...], schema: Schema) -> list[str]:
    """The names of measures beside each other in a sentence.

    If one says its aggregate, all do that have one, as “mean of fare and passengers” would be misread."""
    words = [lower_first(measure_words(measure, schema)) for measure in measures]
    fields = [schema[each.field] if each.field and not each.name and not each.formula else None for each in measures]
    said = [
        _add_aggregate(measure, field) if field and field.level == "row" else ""
        for measure, field in zip(measures, fields, strict=True)
    ]
    if not any(word == aggregate for word, aggregate in zip(words, said, strict=True)):
        return words
    return [aggregate or word for word, aggregate in zip(words, said, strict=True)]


def list_counted_tables(node: TypedExpression, model: Model) -> list[str]:
    """The tables of a model whose rows a formula aggregates.

    Raises FormulaProblem where there is none that has its fields.

    A count of rows is about the table that the rest of its formula is about, else the first one; if that lacks a field
    of its condition, about one that has it."""
    if node.function is None or node.function.level is not Level.AGGREGATE or _is_over_cells(node):
        inner = (argument for argument in (*node.arguments, node.where) if argument)
        return list(dict.fromkeys(home for argument in inner for home in list_counted_tables(argument, model)))
    if node.arguments:
        return [model.find_home(node.fields, node)]
    return [model.find_counted_rows(node.beside or frozenset(), node.fields)]


def _is_over_cells(node: TypedExpression) -> bool:
    return any(argument and argument.level is Level.GRAIN for argument in node.arguments)


def measure_node(measure: Measure, schema: Schema, parameters: Parameters, any_kind: bool = False) -> TypedExpression:
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
        return TypedExpression(DataType.WHOLE, NOWHERE, level=Level.AGGREGATE, function=load_registry()["count_rows"])
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
    function = load_registry()[measure.aggregate.value]
    kind = function.gives if isinstance(function.gives, DataType) else field.kind
    argument = TypedExpression(field.kind, NOWHERE, field=field.id)
    node = TypedExpression(kind, NOWHERE, level=Level.AGGREGATE, function=function, arguments=(argument,))
    return checker.check_stock(node) if measure.aggregate is Aggregate.SUM else node


def _fits(field: DataField, aggregate: Aggregate) -> bool:
    counts = aggregate in (Aggregate.COUNT, Aggregate.COUNT_DISTINCT)
    return counts or field.kind.is_number or (field.kind.is_date and aggregate in (Aggregate.MIN, Aggregate.MAX))


def measure_kind(measure: Measure, schema: Schema, parameters: Parameters | None = None) -> DataType:
    return measure_node(measure, schema, parameters or {}).kind or DataType.DECIMAL


def measure_format(measure: Measure, schema: Schema, node: TypedExpression | None = None) -> NumberFormat:
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


def get_total(measure: Measure, schema: Schema) -> Total:
    """How the measure's totals are worked out."""
    if measure.total:
        return measure.total
    return schema[measure.field].total if measure.field else "again"

"""Steps about columns: choose, rename, describe, change type, formula."""

from __future__ import annotations

from functools import partial
from typing import Any, ClassVar, Literal

import polars as pl

from veduta.core.data.convert import Failures, cast_values, convert
from veduta.core.data.fields import (
    Aggregate,
    DataField,
    DataType,
    FieldRole,
    NumberFormat,
    ParseOptions,
    Schema,
    list_aggregates,
)
from veduta.core.data.options import EMPTY_WORDS
from veduta.core.data.recognise import DATE_SHAPES
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.check import check
from veduta.core.formula.compile import compile_formula
from veduta.core.formula.formatter import tidy
from veduta.core.formula.functions import Operand
from veduta.core.formula.library.conversion import convert_to_text
from veduta.core.formula.problems import FormulaProblem
from veduta.core.shaping.flow import Flow, Run, StepReport, make_field, make_free_name
from veduta.core.shaping.steps.base import ShapingStep, asks, get_step_type, label_fields, name_of


@get_step_type
class ChooseColumns(ShapingStep):
    title, theme = "Choose and order columns", "Columns"
    purpose: ClassVar[str] = "Keep some columns, leave some out, or put some first."
    do: Literal["choose"] = "choose"
    how: Literal["keep", "leave_out", "first"] = asks(
        "What to do",
        "choice",
        "keep",
        options={"keep": "Keep only these, in this order", "leave_out": "Leave these out", "first": "Put these first"},
    )
    fields: tuple[str, ...] = asks("Columns", "fields", min_length=1)

    def apply(self, flow: Flow, run: Run) -> Flow:
        chosen = [flow.schema[field_id] for field_id in dict.fromkeys(self.fields)]
        rest = [field for field in flow.fields if field not in chosen]
        fields = {"keep": chosen, "leave_out": rest, "first": chosen + rest}[self.how]
        if not fields:
            raise DefinitionProblem("Every column is left out.", hint="Keep at least one.")
        return flow.replace_fields(flow.rows.select([field.id for field in fields]), fields)

    def describe(self, schema: Schema, run: Run) -> str:
        how = {"keep": "Keep only", "leave_out": "Leave out", "first": "Put first"}[self.how]
        return f"{how} {label_fields(schema, self.fields)}"


@get_step_type
class RenameColumns(ShapingStep):
    title, theme = "Rename columns", "Columns"
    purpose: ClassVar[str] = "Give columns other names; charts that use them go on working."
    do: Literal["rename"] = "rename"
    names: dict[str, str] = asks("New names", "names", min_length=1)

    def apply(self, flow: Flow, run: Run) -> Flow:
        wanted = {flow.schema[field_id].id: name.strip() for field_id, name in self.names.items()}
        taken = [field.name for field in flow.fields if field.id not in wanted]
        fields = []
        for field in flow.fields:
            name = wanted.get(field.id, "")
            if name:
                if name.casefold() in {each.casefold() for each in taken}:
                    raise DefinitionProblem(f"There is already a column named “{name}”.", hint="Choose another name.")
                taken.append(name)
                field = field.model_copy(update={"name": name[:200], "source": name[:200]})
            fields.append(field)
        return flow.replace_fields(flow.rows, fields)

    def describe(self, schema: Schema, run: Run) -> str:
        pairs = [f"{name_of(schema, key)} to {name}" for key, name in list(self.names.items())[:3]]
        return f"Rename {', '.join(pairs)}{'' if len(self.names) <= 3 else f' and {len(self.names) - 3} more'}"


@get_step_type
class DescribeColumns(ShapingStep):
    title, theme = "Describe a column", "Columns"
    purpose: ClassVar[str] = "Say what a column means, and how it is used and shown."
    do: Literal["describe"] = "describe"
    field: str = asks("Column", "field")
    description: str = asks("Description", "longtext", "", max_length=2_000)
    role: FieldRole | None = asks(
        "Role", "choice", None, options={"": "As it is", "dimension": "Dimension", "measure": "Measure"}
    )
    style: Literal["", "number", "currency", "percent"] = asks(
        "Numbers are shown as",
        "choice",
        "",
        options={"": "As they are", "number": "Plain numbers", "currency": "Euros", "percent": "Percentages"},
    )
    hidden: bool = asks("Hide it from charts and readers", "switch", False)

    def apply(self, flow: Flow, run: Run) -> Flow:
        field = flow.schema[self.field]
        new: dict[str, Any] = {"hidden": self.hidden}
        if self.description:
            new["description"] = self.description
        if self.role and self.role is not field.role:
            usual = list_aggregates(field.kind)[0] if self.role is FieldRole.MEASURE else Aggregate.COUNT
            new |= {"role": self.role, "aggregate": usual}
        if self.style:
            new["format"] = NumberFormat(style=self.style)
        return flow.add_column(flow.rows, field.model_copy(update=new))

    def describe(self, schema: Schema, run: Run) -> str:
        what = [f"as “{self.description}”" if self.description else "", f"as a {self.role}" if self.role else ""]
        what.append("hidden" if self.hidden else "")
        return " ".join(filter(None, [f"Describe {name_of(schema, self.field)}", *what]))


@get_step_type
class RetypeColumns(ShapingStep):
    title, theme = "Change type", "Columns"
    purpose: ClassVar[str] = "Read columns as numbers, dates, yes/no or text; what does not fit is counted and listed."
    do: Literal["retype"] = "retype"
    fields: tuple[str, ...] = asks("Columns", "fields", min_length=1)
    kind: DataType = asks("Type", "choice", options={kind.value: kind.words.capitalize() for kind in DataType})
    decimal: Literal[".", ","] = asks(
        "Decimals are written",
        "choice",
        ".",
        options={".": "1,234.5", ",": "1.234,5"},
        when={"kind": ["decimal", "whole"]},
    )
    order: Literal["ymd", "dmy", "mdy"] = asks(
        "Dates are written",
        "choice",
        "ymd",
        when={"kind": ["date", "datetime"]},
        options={"ymd": "Year, month, day", "dmy": "Day, month, year", "mdy": "Month, day, year"},
    )

    def apply(self, flow: Flow, run: Run) -> Flow:
        report, columns = run.report(self.id), []
        fields = list(flow.fields)
        for field_id in self.fields:
            field = flow.schema[field_id]
            columns.append(self._convert(field, report))
            fields[[each.id for each in fields].index(field.id)] = self.retype_field(field)
        return flow.replace_fields(flow.rows.with_columns(columns), fields)

    def retype_field(self, field: DataField) -> DataField:
        if field.kind is self.kind:
            return field
        role = FieldRole.MEASURE if self.kind.is_number else FieldRole.DIMENSION
        aggregate = list_aggregates(self.kind)[0] if role is FieldRole.MEASURE else Aggregate.COUNT
        number_format = field.format if field.kind.is_number and self.kind.is_number else NumberFormat()
        return field.model_copy(
            update={"kind": self.kind, "role": role, "aggregate": aggregate, "format": number_format}
        )

    def _convert(self, field: DataField, report: StepReport) -> pl.Expr:
        """The column as the new kind; what does not fit is empty and counted when it is worked out."""
        column = pl.col(field.id)
        if field.kind is self.kind:
            return column
        if self.kind is DataType.TEXT:
            return convert_to_text(Operand(column, field.kind)).alias(field.id)
        reading = ParseOptions(decimal=self.decimal, thousands="." if self.decimal == "," else ",", order=self.order)
        if self.kind.is_date:
            reading = reading.model_copy(update={"formats": DATE_SHAPES[self.order]})
        target = field.model_copy(update={"kind": self.kind, "reading": reading, "format": NumberFormat()})
        return column.map_batches(partial(_cast, target, field.kind, report), return_dtype=self.kind.dtype)

    def describe(self, schema: Schema, run: Run) -> str:
        return f"Read {label_fields(schema, self.fields)} as {self.kind.words}"


def _cast(field: DataField, was: DataType, report: StepReport, values: pl.Series) -> pl.Series:
    """The values as `field.kind`, with failures reported under the field's name."""
    failures = Failures()
    if was is DataType.TEXT:
        result = convert(values, field, EMPTY_WORDS, failures)
    else:
        result = cast_values(values, was, field.kind)
        lost = (result.is_null() & values.is_not_null()).arg_true()
        if len(lost):
            failures.add(lost.cast(pl.Int64) + 1, values.gather(lost).cast(pl.String))
    if failures.count:
        report.failures[field.name] = failures
    else:
        report.failures.pop(field.name, None)
    return result


@get_step_type
class FormulaColumn(ShapingStep):
    title, theme = "Formula column", "Columns"
    purpose: ClassVar[str] = "Work out a new column from the others of its row, or from the rows around."
    do: Literal["formula"] = "formula"
    name: str = asks("Name of the column", "text", min_length=1, max_length=200)
    formula: str = asks("Formula", "formula", max_length=5_000)
    replaces: str = asks("Put it in the place of", "field", "", optional="no column: it is a new one", kinds=None)

    def apply(self, flow: Flow, run: Run) -> Flow:
        compiled = compile_formula(check(self.formula, flow.schema))
        if not self.replaces:
            rows = compiled.apply_to(flow.rows, self.id)
            return flow.add_column(rows, make_field(flow, self.id, self.name, compiled.kind))
        old = flow.schema[self.replaces]
        rows = compiled.apply_to(flow.rows, old.id)
        name = make_free_name(self.name, [field.name for field in flow.fields if field.id != old.id])
        new = old.model_copy(update={"name": name, "source": name})
        if compiled.kind is not old.kind:
            new = RetypeColumns(id=self.id, fields=(old.id,), kind=compiled.kind).retype_field(new)
        return flow.add_column(rows, new)

    def describe(self, schema: Schema, run: Run) -> str:
        try:
            formula = tidy(self.formula, schema)
        except FormulaProblem:
            formula = self.formula  # shown as it is, with the problem beside it
        return f"{self.name} = {formula}"

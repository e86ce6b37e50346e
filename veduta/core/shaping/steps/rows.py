"""Steps about rows: filter, sort, first rows, remove duplicates, fill."""

from __future__ import annotations

import datetime as dt
from typing import ClassVar, Literal

import polars as pl

from veduta.core.data.fields import DataType, Frozen, Schema
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.check import check
from veduta.core.formula.compile import compile_formula
from veduta.core.phrases import pluralise
from veduta.core.query.filters import Context, Filter, Value, convert_point_value
from veduta.core.shaping.flow import Flow, Run
from veduta.core.shaping.steps.base import ShapingStep, asks, get_step_type, label_fields, name_of


@get_step_type
class FilterRows(ShapingStep):
    title, theme = "Filter rows", "Rows"
    purpose: ClassVar[str] = "Keep the rows for which conditions hold, or leave them out."
    keeps_rows: ClassVar[bool] = False
    do: Literal["filter"] = "filter"
    filters: tuple[Filter, ...] = asks("Conditions", "filters", (), max_length=50)
    match: Literal["all", "any"] = asks(
        "Rows for which", "choice", "all", options={"all": "all conditions hold", "any": "at least one holds"}
    )
    formula: str = asks("Or a condition as a formula", "formula", "", max_length=5_000)
    exclude: bool = asks("Leave these rows out instead of keeping them", "switch", False)

    def apply(self, flow: Flow, run: Run) -> Flow:
        if not self.filters and not self.formula.strip():
            raise DefinitionProblem("There is no condition yet.", hint="Choose a column, or write a formula.")
        context = self._make_context(flow, run)
        tests = [filter_.build_expression(flow.schema, context) for filter_ in self.filters]
        rows, extra = flow.rows, ""
        if self.formula.strip():
            checked = check(self.formula, flow.schema)
            if checked.kind is not DataType.YES_NO:
                raise DefinitionProblem(
                    "The formula must give yes or no, and it gives something else.",
                    hint="For example: passengers > 100",
                )
            extra = "__condition"
            rows = compile_formula(checked).apply_to(rows, extra)
            tests.append(pl.col(extra))
        holds = (pl.all_horizontal if self.match == "all" else pl.any_horizontal)(tests).fill_null(False)
        rows = rows.filter(~holds if self.exclude else holds)
        return flow.replace_rows(rows.drop(extra) if extra else rows)

    def _make_context(self, flow: Flow, run: Run) -> Context:
        """With the latest dates that relative conditions count back from."""
        fields = {f.get_counting_date() for f in self.filters} - {""}
        fields = {field for field in fields if flow.schema[field].kind.is_date}
        if not fields:
            return run.context
        latest = flow.rows.select(pl.col(sorted(fields)).max().cast(pl.Date)).collect().row(0, named=True)
        return Context(run.context.today, {key: day for key, day in latest.items() if isinstance(day, dt.date)})

    def describe(self, schema: Schema, run: Run) -> str:
        said = [
            filter_.describe(schema) if filter_.list_fields() <= {f.id for f in schema} else "a column that is gone"
            for filter_ in self.filters
        ]
        if self.formula.strip():
            said.append(self.formula.strip())
        joint = " and " if self.match == "all" else " or "
        return f"{'Leave out' if self.exclude else 'Keep'} rows where {joint.join(said) or '…'}"


class Ordering(Frozen):
    field: str
    descending: bool = False


@get_step_type
class SortRows(ShapingStep):
    title, theme = "Sort", "Rows"
    purpose: ClassVar[str] = "Put the rows in order; empties come last both ways, and ties stay as they are."
    do: Literal["sort"] = "sort"
    by: tuple[Ordering, ...] = asks("Sort by", "orders", min_length=1, max_length=10)

    def apply(self, flow: Flow, run: Run) -> Flow:
        names = [flow.schema[order.field].id for order in self.by]
        ways = [order.descending for order in self.by]
        return flow.replace_rows(flow.rows.sort(names, descending=ways, nulls_last=True, maintain_order=True))

    def describe(self, schema: Schema, run: Run) -> str:
        said = [name_of(schema, order.field) + (" (highest first)" if order.descending else "") for order in self.by]
        return f"Sort by {', then '.join(said)}"


@get_step_type
class KeepFirstRows(ShapingStep):
    title, theme = "First rows", "Rows"
    purpose: ClassVar[str] = "Keep only the first or last so many rows, or those of each group."
    keeps_rows: ClassVar[bool] = False
    do: Literal["first"] = "first"
    end: Literal["first", "last"] = asks("Keep the", "choice", "first", options={"first": "first", "last": "last"})
    count: int = asks("How many rows", "number", 100, ge=1, le=1_000_000_000)
    of: tuple[str, ...] = asks("Of each", "fields", (), optional="all rows together")

    def apply(self, flow: Flow, run: Run) -> Flow:
        if self.of:
            parts = [flow.schema[field_id].id for field_id in self.of]
            position = pl.int_range(pl.len()) if self.end == "first" else pl.int_range(pl.len(), 0, -1) - 1
            return flow.replace_rows(flow.rows.filter(position.over(parts) < self.count))
        rows = flow.rows.head(self.count) if self.end == "first" else flow.rows.tail(self.count)
        return flow.replace_rows(rows)

    def describe(self, schema: Schema, run: Run) -> str:
        of = f" of each {label_fields(schema, self.of)}" if self.of else ""
        return f"Keep the {self.end} {'row' if self.count == 1 else pluralise(self.count, 'row')}{of}"


@get_step_type
class DropDuplicates(ShapingStep):
    title, theme = "Remove duplicates", "Rows"
    purpose: ClassVar[str] = "Keep one row of those that are the same in some columns."
    keeps_rows: ClassVar[bool] = False
    do: Literal["dedupe"] = "dedupe"
    fields: tuple[str, ...] = asks("Rows are the same if they agree in", "fields", (), optional="all columns")
    keep: Literal["first", "last", "none"] = asks(
        "Keep",
        "choice",
        "first",
        options={"first": "the first of them", "last": "the last of them", "none": "none of them"},
    )

    def apply(self, flow: Flow, run: Run) -> Flow:
        subset = [flow.schema[field_id].id for field_id in self.fields] or None
        return flow.replace_rows(flow.rows.unique(subset, keep=self.keep, maintain_order=True))

    def describe(self, schema: Schema, run: Run) -> str:
        same = f"the same {label_fields(schema, self.fields)}" if self.fields else "all the same values"
        return f"Of rows with {same} keep {'none' if self.keep == 'none' else f'the {self.keep}'}"


@get_step_type
class FillDown(ShapingStep):
    title, theme = "Fill empties", "Values"
    purpose: ClassVar[str] = "Put the value above or below, or a fixed value, where a column is empty."
    do: Literal["fill"] = "fill"
    fields: tuple[str, ...] = asks("Columns", "fields", min_length=1)
    how: Literal["down", "up", "value"] = asks(
        "With",
        "choice",
        "down",
        options={"down": "the last value above", "up": "the next value below", "value": "a fixed value"},
    )
    value: Value = asks("The value", "text", None, when={"how": ["value"]})
    restart: tuple[str, ...] = asks(
        "Not beyond the rows of the same", "fields", (), optional="no limit", when={"how": ["down", "up"]}
    )

    def apply(self, flow: Flow, run: Run) -> Flow:
        fields = [flow.schema[field_id] for field_id in self.fields]
        if self.how == "value":
            if self.value in (None, ""):
                raise DefinitionProblem("There is no value to fill in yet.", hint="Write one.")
            columns = [
                pl.col(f.id).fill_null(pl.lit(convert_point_value(self.value, f), dtype=f.kind.dtype)) for f in fields
            ]
        else:
            parts = [flow.schema[field_id].id for field_id in self.restart]
            filled = [
                pl.col(f.id).forward_fill() if self.how == "down" else pl.col(f.id).backward_fill() for f in fields
            ]
            columns = [column.over(parts) for column in filled] if parts else filled
        return flow.replace_rows(flow.rows.with_columns(columns))

    def describe(self, schema: Schema, run: Run) -> str:
        within = f" within {label_fields(schema, self.restart)}" if self.restart and self.how != "value" else ""
        how = {"down": "the value above", "up": "the value below", "value": f"“{self.value}”"}[self.how]
        return f"Fill empties of {label_fields(schema, self.fields)} with {how}{within}"

"""Steps that change the form of a table: wide to long, long to wide, group."""

from __future__ import annotations

import re
from fnmatch import translate
from functools import lru_cache, partial
from typing import Any, ClassVar, Literal

import polars as pl

from veduta.core.calendar import Grouping, group_expression
from veduta.core.data.convert import Failures, convert
from veduta.core.data.fields import (
    Aggregate,
    DataField,
    DataType,
    FieldRole,
    Frozen,
    NumberFormat,
    Schema,
    list_aggregates,
)
from veduta.core.data.recognise import DATE_LIKE, recognise_field
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.functions import Operand
from veduta.core.formula.library.conversion import convert_to_text
from veduta.core.number_format import label_value
from veduta.core.phrases import pluralise
from veduta.core.query.filters import label_grouping
from veduta.core.shaping.flow import (
    Flow,
    Run,
    WantedAggregate,
    aggregate_rows,
    find_aggregate_type,
    make_field,
    make_free_name,
    make_part_id,
)
from veduta.core.shaping.steps.base import ShapingStep, asks, get_step_type, label_fields, name_of

MOST_MADE = 500
AGGREGATES = {aggregate.value: aggregate.words for aggregate in Aggregate}


@get_step_type
class WideToLong(ShapingStep):
    title, theme = "Wide to long", "Form"
    purpose: ClassVar[str] = "Turn many columns into one column of names and one of values."
    keeps_rows: ClassVar[bool] = False
    do: Literal["wide_to_long"] = "wide_to_long"
    rule: Literal["others", "dates", "pattern", "chosen"] = asks(
        "Turn",
        "choice",
        "others",
        options={
            "others": "all columns but some",
            "dates": "all columns that are headed by a date",
            "pattern": "all columns whose names fit",
            "chosen": "these columns",
        },
        hint="All but the last take in columns that appear in a later refresh.",
    )
    stay: tuple[str, ...] = asks("Columns that stay", "fields", (), when={"rule": ["others"]})
    pattern: str = asks(
        "Names such as", "text", "", max_length=200, when={"rule": ["pattern"]}, hint="* stands for anything: Count *"
    )
    chosen: tuple[str, ...] = asks("Columns to turn", "fields", (), when={"rule": ["chosen"]})
    names_to: str = asks("Name for the column of names", "text", "Name", min_length=1, max_length=200)
    values_to: str = asks("Name for the column of values", "text", "Value", min_length=1, max_length=200)
    drop_empties: bool = asks("Leave out rows without a value", "switch", False)

    def apply(self, flow: Flow, run: Run) -> Flow:
        turned = self.list_turned(flow.schema)
        if not turned:
            raise DefinitionProblem("No column fits the rule.", hint="Choose which columns stay, or another rule.")
        ids = {field.id for field in turned}
        stay = [field for field in flow.fields if field.id not in ids]
        kind = _find_common_type(turned)
        values = [
            convert_to_text(Operand(pl.col(f.id), f.kind)).alias(f.id)
            if kind is DataType.TEXT
            else pl.col(f.id).cast(kind.dtype)
            for f in turned
        ]
        name_column, value_column = make_part_id(self.id, "name"), make_part_id(self.id, "value")
        name_kind, headings = convert_headings([field.source or field.name for field in turned])
        names = pl.Series(name_column, headings, dtype=name_kind.dtype)
        schema = {field.id: field.kind.dtype for field in stay} | {
            name_column: name_kind.dtype,
            value_column: kind.dtype,
        }
        turn = partial(
            _turn, [field.id for field in turned], [field.id for field in stay], names, value_column, run.most_rows
        )
        rows = flow.rows.with_columns(values).map_batches(
            turn, schema=schema, predicate_pushdown=False, projection_pushdown=False
        )
        if self.drop_empties:
            rows = rows.filter(pl.col(value_column).is_not_null())
        before = flow.replace_fields(rows, stay)
        name = make_field(before, name_column, self.names_to, name_kind, role=FieldRole.DIMENSION)
        before = flow.replace_fields(rows, [*stay, name])
        first = turned[0]
        value = make_field(
            before, value_column, self.values_to, kind, format=first.format if kind.is_number else NumberFormat()
        )
        run.report(self.id).notes.append(f"{pluralise(len(turned), 'column')} turned into rows.")
        return flow.replace_fields(rows, [*stay, name, value])

    @classmethod
    def start(cls, schema: Schema) -> dict[str, Any]:
        if len(list_dated(schema)) > 1:
            return {"rule": "dates", "names_to": "Day"}
        return {"rule": "others", "stay": [field.id for field in schema if not field.kind.is_number]}

    def list_turned(self, schema: Schema) -> list[DataField]:
        """The columns that become rows."""
        if self.rule == "others":
            stay = {schema[field_id].id for field_id in self.stay}
            return [field for field in schema if field.id not in stay]
        if self.rule == "chosen":
            return [schema[field_id] for field_id in self.chosen]
        if self.rule == "dates":
            return list_dated(schema)
        fits = re.compile(translate(self.pattern.strip() or "*"), re.IGNORECASE)
        return [field for field in schema if fits.match(field.source or field.name) or fits.match(field.name)]

    def describe(self, schema: Schema, run: Run) -> str:
        what = {
            "others": f"all columns but {label_fields(schema, self.stay)}" if self.stay else "all columns",
            "dates": "the columns headed by dates",
            "pattern": f"the columns named {self.pattern or '*'}",
            "chosen": label_fields(schema, self.chosen),
        }[self.rule]
        return f"Turn {what} into rows of {self.names_to} and {self.values_to}"


def _turn(
    turned: list[str], stay: list[str], names: pl.Series, value_column: str, most_rows: int, wide: pl.DataFrame
) -> pl.DataFrame:
    """The cells of the first turned column with its name, then those of the next; the stored values are not copied."""
    times = len(turned)
    if wide.height * times > most_rows:
        raise DefinitionProblem(
            f"Turning {times:,} columns of {wide.height:,} rows would make {wide.height * times:,} rows; at most"
            f" {most_rows:,} are possible.",
            hint="Turn fewer columns, or filter the rows first.",
        )
    columns = [pl.concat([wide[key]] * times, rechunk=False) for key in stay]
    columns.append(pl.concat([names[i : i + 1].new_from_index(0, wide.height) for i in range(times)], rechunk=False))
    columns.append(pl.concat([wide[key].rename(value_column) for key in turned], rechunk=False))
    return pl.DataFrame(columns)


def _find_common_type(fields: list[DataField]) -> DataType:
    kinds = {field.kind for field in fields}
    if len(kinds) == 1:
        return kinds.pop()
    if kinds <= {DataType.WHOLE, DataType.DECIMAL}:
        return DataType.DECIMAL
    return DataType.DATETIME if kinds == {DataType.DATE, DataType.DATETIME} else DataType.TEXT


def list_dated(schema: Schema) -> list[DataField]:
    """The columns that are headed by a date."""
    likely = [field for field in schema if DATE_LIKE.match((field.source or field.name).strip())]
    kind, _ = convert_headings([field.source or field.name for field in likely])
    if likely and not kind.is_date:  # some of them only look like one
        return [field for field in likely if convert_headings([field.source or field.name])[0].is_date]
    return likely


def convert_headings(headings: list[str]) -> tuple[DataType, list[Any]]:
    """Headings as dates or numbers if all of them are, else as text."""
    return _convert_names(tuple(headings))


@lru_cache(128)
def _convert_names(names: tuple[str, ...]) -> tuple[DataType, list[Any]]:
    headings = list(names)
    field = recognise_field("name", "", "name", headings).field
    if field.kind in (DataType.TEXT, DataType.YES_NO):
        return DataType.TEXT, headings
    failures = Failures()
    values = convert(pl.Series(headings, dtype=pl.String), field, (), failures)
    return (DataType.TEXT, headings) if failures.count or values.null_count() else (field.kind, values.to_list())


@get_step_type
class LongToWide(ShapingStep):
    title, theme = "Long to wide", "Form"
    purpose: ClassVar[str] = "Make a column of each value that one column has, filled from another."
    keeps_rows: ClassVar[bool] = False
    do: Literal["long_to_wide"] = "long_to_wide"
    names_from: str = asks("A column for each value of", "field")
    values_from: str = asks("Filled from", "field")
    aggregate: Aggregate = asks("Where there are several values, their", "choice", Aggregate.SUM, options=AGGREGATES)
    stay: tuple[str, ...] = asks("One row for each", "fields", (), optional="every combination of the other columns")
    most: int = asks("At most so many columns", "number", 100, ge=1, le=MOST_MADE)

    def apply(self, flow: Flow, run: Run) -> Flow:
        names, values = flow.schema[self.names_from], flow.schema[self.values_from]
        if self.aggregate not in list_aggregates(values.kind):
            raise DefinitionProblem(
                f"{values.kind.words.capitalize()} values such as “{values.name}” have no {self.aggregate.words}.",
                hint="Choose another aggregate.",
            )
        stay = [flow.schema[key] for key in self.stay] or [f for f in flow.fields if f.id not in (names.id, values.id)]
        headings = flow.rows.select(pl.col(names.id).unique()).collect().to_series().sort(nulls_last=True)
        if len(headings) > self.most:
            raise DefinitionProblem(
                f"“{names.name}” has {len(headings):,} different values, and at most {self.most:,} columns are to be"
                " made.",
                hint="Filter the rows first, or raise the number.",
            )
        kind = find_aggregate_type(self.aggregate, values.kind)
        fields, made = list(stay), []
        for heading in headings:
            words = label_value(heading)
            column = make_part_id(self.id, f"v {words}")
            mine = pl.col(names.id).eq_missing(pl.lit(heading, dtype=names.kind.dtype))
            made.append(WantedAggregate(pl.col(values.id).filter(mine), self.aggregate, values.kind, column))
            number_format = values.format if kind == values.kind else NumberFormat()
            before = flow.replace_fields(flow.rows, fields)
            fields.append(make_field(before, column, words[0].upper() + words[1:], kind, format=number_format))
        keys = [field.id for field in stay]
        return flow.replace_fields(aggregate_rows(flow.rows, keys, made, keep_order=True), fields)

    def describe(self, schema: Schema, run: Run) -> str:
        each = f", a row for each {label_fields(schema, self.stay)}" if self.stay else ""
        names, values = name_of(schema, self.names_from), name_of(schema, self.values_from)
        return f"Make a column of each {names} with the {self.aggregate.words} of {values}{each}"


class GroupMeasure(Frozen):
    """An aggregate of a column, or the count of rows when there is no column."""

    field: str = ""
    aggregate: Aggregate = Aggregate.COUNT
    name: str = ""


@get_step_type
class GroupRows(ShapingStep):
    title, theme = "Group", "Form"
    purpose: ClassVar[str] = "Make one row for each group, with sums, means or counts."
    keeps_rows: ClassVar[bool] = False
    do: Literal["group"] = "group"
    by: tuple[Grouping, ...] = asks("One row for each", "groupings", (), max_length=20, optional="all rows together")
    measures: tuple[GroupMeasure, ...] = asks("With", "measures", min_length=1, max_length=100)

    def apply(self, flow: Flow, run: Run) -> Flow:
        fields: list[DataField] = []
        keys = []
        for group in self.by:
            field = flow.schema[group.field]
            grain = group.grain if field.kind.is_date else None
            if field.kind.is_date and grain is None:
                keys.append(pl.col(field.id))
                fields.append(field)
                continue
            plain = grain is None
            column = field.id if grain is None else make_part_id(self.id, f"{field.id}_{grain.value}")
            keys.append(
                group_expression(group, flow.schema)
                .cast((field.kind if plain else _find_grain_type(group)).dtype)
                .alias(column)
            )
            if plain:
                fields.append(field.model_copy(update={"role": FieldRole.DIMENSION}))
            else:
                before = flow.replace_fields(flow.rows, fields)
                words = label_grouping(group, flow.schema)
                fields.append(
                    make_field(
                        before, column, words[0].upper() + words[1:], _find_grain_type(group), role=FieldRole.DIMENSION
                    )
                )
        made = []
        for measure in self.measures:
            before = flow.replace_fields(flow.rows, fields)
            field, wanted = self._measure(measure, flow, before)
            fields.append(field)
            made.append(wanted)
        rows = aggregate_rows(flow.rows, keys, made)
        if keys:
            rows = rows.sort([field.id for field in fields[: len(keys)]], nulls_last=True)
        return flow.replace_fields(rows, fields)

    def _measure(self, measure: GroupMeasure, flow: Flow, before: Flow) -> tuple[DataField, WantedAggregate]:
        if not measure.field:
            column = self._make_free_name(make_part_id(self.id, "rows"), before)
            new = make_field(before, column, measure.name or "Rows", DataType.WHOLE)
            return new, WantedAggregate(None, Aggregate.COUNT, DataType.WHOLE, column)
        field = flow.schema[measure.field]
        if measure.aggregate not in list_aggregates(field.kind):
            raise DefinitionProblem(
                f"{field.kind.words.capitalize()} values such as “{field.name}” have no {measure.aggregate.words}.",
                where=field.id,
                hint="Choose another aggregate.",
            )
        kind = find_aggregate_type(measure.aggregate, field.kind)
        column = self._make_free_name(make_part_id(self.id, f"{measure.aggregate.value}_{field.id}"), before)
        same = measure.aggregate is Aggregate.SUM
        name = measure.name or (field.name if same else f"{measure.aggregate.words.capitalize()} of {field.name}")
        more = (
            {"format": field.format}
            if kind.is_number and measure.aggregate not in (Aggregate.COUNT, Aggregate.COUNT_DISTINCT)
            else {}
        )
        wanted = WantedAggregate(pl.col(field.id), measure.aggregate, field.kind, column)
        return make_field(before, column, name, kind, **more), wanted

    @staticmethod
    def _make_free_name(column: str, before: Flow) -> str:
        return make_free_name(column, [f.id for f in before.fields]).replace(" (", "_").replace(")", "")

    def describe(self, schema: Schema, run: Run) -> str:
        def said(measure: GroupMeasure) -> str:
            if measure.name:
                return measure.name
            return (
                f"{measure.aggregate.words} of {name_of(schema, measure.field)}" if measure.field else "count of rows"
            )

        measures = [said(measure) for measure in self.measures]
        shown = ", ".join(measures[:3]) + (f" and {len(measures) - 3} more" if len(measures) > 3 else "")
        groups = [
            f"{group.grain.words} of {name_of(schema, group.field)}" if group.grain else name_of(schema, group.field)
            for group in self.by
        ]
        return f"One row for {'each ' + ', '.join(groups) if groups else 'all rows'} with {shown}"


def _find_grain_type(group: Grouping) -> DataType:
    if group.period.is_part:
        return DataType.WHOLE
    return DataType.DATETIME if group.period.needs_time else DataType.DATE

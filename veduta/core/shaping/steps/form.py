"""Steps that change the form of a table: wide to long, long to wide, group."""

from __future__ import annotations

import re
from fnmatch import translate
from functools import lru_cache, partial
from typing import Any, ClassVar, Literal

import polars as pl

from veduta.core.calendar import Grouping, group_expression
from veduta.core.data.convert import Failures, convert
from veduta.core.data.fields import Aggregate, Field, Frozen, Kind, NumberFormat, Role, Schema, aggregates_for
from veduta.core.data.recognise import DATE_LIKE, recognise_field
from veduta.core.errors import DefinitionProblem
from veduta.core.formats import value_words
from veduta.core.formula.functions import Operand
from veduta.core.formula.library.conversion import as_text
from veduta.core.query.filters import grouping_words
from veduta.core.shaping.flow import Flow, Run, Wanted, aggregate_kind, aggregated, free_name, new_field, part_id
from veduta.core.shaping.steps.base import Step, asks, name_of, named, step
from veduta.core.words import counted

MOST_MADE = 500
AGGREGATES = {aggregate.value: aggregate.words for aggregate in Aggregate}


@step
class WideToLong(Step):
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
        turned = self.turned(flow.schema)
        if not turned:
            raise DefinitionProblem("No column fits the rule.", hint="Choose which columns stay, or another rule.")
        ids = {field.id for field in turned}
        stay = [field for field in flow.fields if field.id not in ids]
        kind = _common(turned)
        values = [
            as_text(Operand(pl.col(f.id), f.kind)).alias(f.id) if kind is Kind.TEXT else pl.col(f.id).cast(kind.dtype)
            for f in turned
        ]
        name_column, value_column = part_id(self.id, "name"), part_id(self.id, "value")
        name_kind, headings = typed_names([field.source or field.name for field in turned])
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
        before = flow.with_fields(rows, stay)
        name = new_field(before, name_column, self.names_to, name_kind, role=Role.DIMENSION)
        before = flow.with_fields(rows, [*stay, name])
        first = turned[0]
        value = new_field(
            before, value_column, self.values_to, kind, format=first.format if kind.is_number else NumberFormat()
        )
        run.report(self.id).notes.append(f"{counted(len(turned), 'column')} turned into rows.")
        return flow.with_fields(rows, [*stay, name, value])

    @classmethod
    def start(cls, schema: Schema) -> dict[str, Any]:
        if len(dated(schema)) > 1:
            return {"rule": "dates", "names_to": "Day"}
        return {"rule": "others", "stay": [field.id for field in schema if not field.kind.is_number]}

    def turned(self, schema: Schema) -> list[Field]:
        """The columns that become rows."""
        if self.rule == "others":
            stay = {schema[field_id].id for field_id in self.stay}
            return [field for field in schema if field.id not in stay]
        if self.rule == "chosen":
            return [schema[field_id] for field_id in self.chosen]
        if self.rule == "dates":
            return dated(schema)
        fits = re.compile(translate(self.pattern.strip() or "*"), re.IGNORECASE)
        return [field for field in schema if fits.match(field.source or field.name) or fits.match(field.name)]

    def words(self, schema: Schema, run: Run) -> str:
        what = {
            "others": f"all columns but {named(schema, self.stay)}" if self.stay else "all columns",
            "dates": "the columns headed by dates",
            "pattern": f"the columns named {self.pattern or '*'}",
            "chosen": named(schema, self.chosen),
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


def _common(fields: list[Field]) -> Kind:
    kinds = {field.kind for field in fields}
    if len(kinds) == 1:
        return kinds.pop()
    if kinds <= {Kind.WHOLE, Kind.DECIMAL}:
        return Kind.DECIMAL
    return Kind.DATETIME if kinds == {Kind.DATE, Kind.DATETIME} else Kind.TEXT


def dated(schema: Schema) -> list[Field]:
    """The columns that are headed by a date."""
    likely = [field for field in schema if DATE_LIKE.match((field.source or field.name).strip())]
    kind, _ = typed_names([field.source or field.name for field in likely])
    if likely and not kind.is_date:  # some of them only look like one
        return [field for field in likely if typed_names([field.source or field.name])[0].is_date]
    return likely


def typed_names(headings: list[str]) -> tuple[Kind, list[Any]]:
    """Headings as dates or numbers if all of them are, else as text."""
    return _typed_names(tuple(headings))


@lru_cache(128)
def _typed_names(names: tuple[str, ...]) -> tuple[Kind, list[Any]]:
    headings = list(names)
    field = recognise_field("name", "", "name", headings).field
    if field.kind in (Kind.TEXT, Kind.YES_NO):
        return Kind.TEXT, headings
    failures = Failures()
    values = convert(pl.Series(headings, dtype=pl.String), field, (), failures)
    return (Kind.TEXT, headings) if failures.count or values.null_count() else (field.kind, values.to_list())


@step
class LongToWide(Step):
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
        if self.aggregate not in aggregates_for(values.kind):
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
        kind = aggregate_kind(self.aggregate, values.kind)
        fields, made = list(stay), []
        for heading in headings:
            words = value_words(heading, names)
            column = part_id(self.id, f"v {words}")
            mine = pl.col(names.id).eq_missing(pl.lit(heading, dtype=names.kind.dtype))
            made.append(Wanted(pl.col(values.id).filter(mine), self.aggregate, values.kind, column))
            number_format = values.format if kind == values.kind else NumberFormat()
            before = flow.with_fields(flow.rows, fields)
            fields.append(new_field(before, column, words[0].upper() + words[1:], kind, format=number_format))
        keys = [field.id for field in stay]
        return flow.with_fields(aggregated(flow.rows, keys, made, keep_order=True), fields)

    def words(self, schema: Schema, run: Run) -> str:
        each = f", a row for each {named(schema, self.stay)}" if self.stay else ""
        names, values = name_of(schema, self.names_from), name_of(schema, self.values_from)
        return f"Make a column of each {names} with the {self.aggregate.words} of {values}{each}"


class GroupMeasure(Frozen):
    """An aggregate of a column, or the count of rows when there is no column."""

    field: str = ""
    aggregate: Aggregate = Aggregate.COUNT
    name: str = ""


@step
class Group(Step):
    title, theme = "Group", "Form"
    purpose: ClassVar[str] = "Make one row for each group, with sums, means or counts."
    keeps_rows: ClassVar[bool] = False
    do: Literal["group"] = "group"
    by: tuple[Grouping, ...] = asks("One row for each", "groupings", (), max_length=20, optional="all rows together")
    measures: tuple[GroupMeasure, ...] = asks("With", "measures", min_length=1, max_length=100)

    def apply(self, flow: Flow, run: Run) -> Flow:
        fields: list[Field] = []
        keys = []
        for group in self.by:
            field = flow.schema[group.field]
            grain = group.grain if field.kind.is_date else None
            if field.kind.is_date and grain is None:
                keys.append(pl.col(field.id))
                fields.append(field)
                continue
            plain = grain is None
            column = field.id if grain is None else part_id(self.id, f"{field.id}_{grain.value}")
            keys.append(
                group_expression(group, flow.schema)
                .cast((field.kind if plain else _grain_kind(group)).dtype)
                .alias(column)
            )
            if plain:
                fields.append(field.model_copy(update={"role": Role.DIMENSION}))
            else:
                before = flow.with_fields(flow.rows, fields)
                words = grouping_words(group, flow.schema)
                fields.append(
                    new_field(before, column, words[0].upper() + words[1:], _grain_kind(group), role=Role.DIMENSION)
                )
        made = []
        for measure in self.measures:
            before = flow.with_fields(flow.rows, fields)
            field, wanted = self._measure(measure, flow, before)
            fields.append(field)
            made.append(wanted)
        rows = aggregated(flow.rows, keys, made)
        if keys:
            rows = rows.sort([field.id for field in fields[: len(keys)]], nulls_last=True)
        return flow.with_fields(rows, fields)

    def _measure(self, measure: GroupMeasure, flow: Flow, before: Flow) -> tuple[Field, Wanted]:
        if not measure.field:
            column = self._free(part_id(self.id, "rows"), before)
            new = new_field(before, column, measure.name or "Rows", Kind.WHOLE)
            return new, Wanted(None, Aggregate.COUNT, Kind.WHOLE, column)
        field = flow.schema[measure.field]
        if measure.aggregate not in aggregates_for(field.kind):
            raise DefinitionProblem(
                f"{field.kind.words.capitalize()} values such as “{field.name}” have no {measure.aggregate.words}.",
                where=field.id,
                hint="Choose another aggregate.",
            )
        kind = aggregate_kind(measure.aggregate, field.kind)
        column = self._free(part_id(self.id, f"{measure.aggregate.value}_{field.id}"), before)
        same = measure.aggregate is Aggregate.SUM
        name = measure.name or (field.name if same else f"{measure.aggregate.words.capitalize()} of {field.name}")
        more = (
            {"format": field.format}
            if kind.is_number and measure.aggregate not in (Aggregate.COUNT, Aggregate.COUNT_DISTINCT)
            else {}
        )
        wanted = Wanted(pl.col(field.id), measure.aggregate, field.kind, column)
        return new_field(before, column, name, kind, **more), wanted

    @staticmethod
    def _free(column: str, before: Flow) -> str:
        return free_name(column, [f.id for f in before.fields]).replace(" (", "_").replace(")", "")

    def words(self, schema: Schema, run: Run) -> str:
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


def _grain_kind(group: Grouping) -> Kind:
    if group.period.is_part:
        return Kind.WHOLE
    return Kind.DATETIME if group.period.needs_time else Kind.DATE

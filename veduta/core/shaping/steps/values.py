"""Steps about values: replace, trim, change case, split, extract, bins."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import ClassVar, Literal

import polars as pl

from veduta.core.data.fields import DataType, FieldRole, Schema
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.functions import Operand
from veduta.core.formula.library.bounds import replace_pattern, replace_text
from veduta.core.formula.library.texts import check_pattern, extract_pattern, trim_text
from veduta.core.query.filters import convert_point_value
from veduta.core.shaping.flow import Flow, Run, make_field, make_part_id
from veduta.core.shaping.steps.base import (
    NUMBERS,
    TEXT_ONLY,
    ShapingStep,
    asks,
    get_step_type,
    label_fields,
    name_of,
    pick_fields,
)
from veduta.core.value_classes import build_class_expression, count_decimals


@get_step_type
class ReplaceValues(ShapingStep):
    title, theme = "Replace values", "Values"
    purpose: ClassVar[str] = "Put one text in the place of another, in whole cells or inside them."
    do: Literal["replace"] = "replace"
    fields: tuple[str, ...] = asks("Columns", "fields", min_length=1)
    find: str = asks("Find", "text", "", hint="Nothing means empty cells.")
    put: str = asks("Put", "text", "", hint="Nothing makes the cell empty, or takes the part out.")
    how: Literal["whole", "part", "pattern"] = asks(
        "Look at",
        "choice",
        "whole",
        options={"whole": "whole cells", "part": "parts of the text", "pattern": "parts that a pattern finds"},
    )

    def apply(self, flow: Flow, run: Run) -> Flow:
        if self.how == "whole":
            return flow.replace_rows(
                flow.rows.with_columns(self._match_whole(flow.schema, field_id) for field_id in self.fields)
            )
        fields = pick_fields(flow.schema, self.fields, TEXT_ONLY, "searched for parts")
        if not self.find:
            raise DefinitionProblem("There is nothing to find yet.", hint="Write what is to be replaced.")
        if self.how == "pattern":
            pattern = check_pattern(self.find)
            texts = [replace_pattern(pl.col(field.id), pattern, self.put) for field in fields]
        else:
            texts = [replace_text(pl.col(field.id), pl.lit(self.find), pl.lit(self.put)) for field in fields]
        # A text of which nothing is left is empty.
        return flow.replace_rows(flow.rows.with_columns(pl.when(text != "").then(text) for text in texts))

    def _match_whole(self, schema: Schema, field_id: str) -> pl.Expr:
        field, column = schema[field_id], pl.col(schema[field_id].id)
        find = convert_point_value(self.find or None, field)
        put = pl.lit(convert_point_value(self.put or None, field), dtype=field.kind.dtype)
        is_it = column.is_null() if find is None else column == pl.lit(find, dtype=field.kind.dtype)
        return pl.when(is_it).then(put).otherwise(column).alias(field.id)

    def describe(self, schema: Schema, run: Run) -> str:
        find, put = (f"“{text}”" if text else "empty" for text in (self.find, self.put))
        where = {"whole": "", "part": " inside cells", "pattern": " (a pattern)"}[self.how]
        return (
            f"In {label_fields(schema, self.fields)} replace {find}{where} with"
            f" {put if self.put or self.how == 'whole' else 'nothing'}"
        )


@get_step_type
class TrimTexts(ShapingStep):
    title, theme = "Trim blanks", "Values"
    purpose: ClassVar[str] = "Take blanks away at both ends, and double ones inside."
    do: Literal["trim"] = "trim"
    fields: tuple[str, ...] = asks("Columns", "fields", min_length=1, kinds=TEXT_ONLY)

    def apply(self, flow: Flow, run: Run) -> Flow:
        fields = pick_fields(flow.schema, self.fields, TEXT_ONLY, "trimmed")
        trims = [trim_text(Operand(pl.col(field.id), DataType.TEXT)) for field in fields]
        return flow.replace_rows(flow.rows.with_columns(pl.when(text != "").then(text) for text in trims))

    def describe(self, schema: Schema, run: Run) -> str:
        return f"Trim blanks of {label_fields(schema, self.fields)}"


@get_step_type
class ChangeCase(ShapingStep):
    title, theme = "Change case", "Values"
    purpose: ClassVar[str] = "Write text in capitals, in small letters, or with capital first letters."
    do: Literal["case"] = "case"
    fields: tuple[str, ...] = asks("Columns", "fields", min_length=1, kinds=TEXT_ONLY)
    to: Literal["upper", "lower", "title", "sentence"] = asks(
        "Write",
        "choice",
        "title",
        options={
            "title": "Each Word With A Capital",
            "sentence": "First letter as a capital",
            "upper": "ALL IN CAPITALS",
            "lower": "all in small letters",
        },
    )

    def apply(self, flow: Flow, run: Run) -> Flow:
        fields = pick_fields(flow.schema, self.fields, TEXT_ONLY, "written another way")
        changes: dict[str, Callable[[pl.Expr], pl.Expr]] = {
            "upper": lambda t: t.str.to_uppercase(),
            "lower": lambda t: t.str.to_lowercase(),
            "title": lambda t: t.str.to_titlecase(),
            "sentence": lambda t: t.str.head(1).str.to_uppercase() + t.str.slice(1).str.to_lowercase(),
        }
        to = changes[self.to]
        return flow.replace_rows(flow.rows.with_columns(to(pl.col(field.id)) for field in fields))

    def describe(self, schema: Schema, run: Run) -> str:
        how = {
            "upper": "in capitals",
            "lower": "in small letters",
            "title": "with capital words",
            "sentence": "with a capital first",
        }
        return f"Write {label_fields(schema, self.fields)} {how[self.to]}"


@get_step_type
class SplitColumn(ShapingStep):
    title, theme = "Split a column", "Values"
    purpose: ClassVar[str] = "Cut text at a separator into several columns."
    do: Literal["split"] = "split"
    field: str = asks("Column", "field", kinds=TEXT_ONLY)
    by: str = asks("Cut at", "text", "–", min_length=1, max_length=50)
    names: tuple[str, ...] = asks("Names of the parts, one a line", "lines", min_length=1, max_length=20)
    drop: bool = asks("Leave the column itself out", "switch", False)

    def apply(self, flow: Flow, run: Run) -> Flow:
        (field,) = pick_fields(flow.schema, (self.field,), TEXT_ONLY, "split")
        count = len(self.names)
        # The last part takes the rest, so that nothing is lost.
        parts = pl.col(field.id).str.splitn(self.by, count)
        after = field.id
        for number, name in enumerate(self.names, 1):
            column = make_part_id(self.id, str(number))
            text = parts.struct.field(f"field_{number - 1}").str.strip_chars()
            rows = flow.rows.with_columns(pl.when(text != "").then(text).alias(column))
            flow = flow.add_column(rows, make_field(flow, column, name, DataType.TEXT), after)
            after = column
        if not self.drop:
            return flow
        return flow.replace_fields(flow.rows.drop(field.id), [each for each in flow.fields if each.id != field.id])

    def describe(self, schema: Schema, run: Run) -> str:
        return f"Split {name_of(schema, self.field)} at “{self.by}” into {', '.join(self.names)}"


@get_step_type
class ExtractPattern(ShapingStep):
    title, theme = "Extract by pattern", "Values"
    purpose: ClassVar[str] = "Take the part of a text that a pattern finds into a new column."
    do: Literal["extract"] = "extract"
    field: str = asks("Column", "field", kinds=TEXT_ONLY)
    pattern: str = asks(
        "Pattern",
        "text",
        min_length=1,
        max_length=500,
        hint=r"A regular expression: \d+ finds digits, [A-Z]+ capitals; brackets pick a part.",
    )
    name: str = asks("Name of the new column", "text", min_length=1, max_length=200)

    def apply(self, flow: Flow, run: Run) -> Flow:
        (field,) = pick_fields(flow.schema, (self.field,), TEXT_ONLY, "searched")
        part = extract_pattern(
            Operand(pl.col(field.id), DataType.TEXT), Operand(pl.lit(None), DataType.TEXT, self.pattern, True)
        )
        return flow.add_column(
            flow.rows.with_columns(part.alias(self.id)), make_field(flow, self.id, self.name, DataType.TEXT), field.id
        )

    def describe(self, schema: Schema, run: Run) -> str:
        return f"Extract {self.pattern} from {name_of(schema, self.field)} into {self.name}"


@get_step_type
class MakeBins(ShapingStep):
    title, theme = "Bins", "Values"
    purpose: ClassVar[str] = "Sort numbers into ranges: of one width, of equal counts, or with edges of your own."
    do: Literal["bins"] = "bins"
    field: str = asks("Column", "field", kinds=NUMBERS)
    how: Literal["width", "count", "edges"] = asks(
        "Ranges",
        "choice",
        "width",
        options={"width": "of one width", "count": "with equally many rows", "edges": "with these edges"},
    )
    width: float = asks("Width", "number", 10.0, when={"how": ["width"]})
    count: int = asks("How many", "number", 4, ge=2, le=100, when={"how": ["count"]})
    edges: tuple[float, ...] = asks("Edges, one a line", "numbers", (), max_length=200, when={"how": ["edges"]})
    show: Literal["words", "start"] = asks(
        "Show", "choice", "words", options={"words": "the range in words", "start": "the number where it starts"}
    )
    name: str = asks("Name of the new column", "text", min_length=1, max_length=200)

    def apply(self, flow: Flow, run: Run) -> Flow:
        (field,) = pick_fields(flow.schema, (self.field,), NUMBERS, "put into ranges")
        value = pl.col(field.id).cast(pl.Float64)
        if self.how == "width":
            if not self.width > 0 or not math.isfinite(self.width):
                raise DefinitionProblem("The width must be above zero.", hint="Write another width.")
            start = build_class_expression(value, self.width, whole=False)
            end = (start + self.width).round(count_decimals(self.width))
        else:
            edges = sorted(set(self.edges)) if self.how == "edges" else self._compute_quantiles(flow, value)
            if len(edges) < 1:
                raise DefinitionProblem("There are no edges yet.", hint="Write at least one number.")
            bin_number = pl.sum_horizontal((value >= edge).cast(pl.Int32) for edge in edges)
            ends = [None, *edges, None]
            start = bin_number.replace_strict(list(range(len(edges) + 1)), ends[:-1], return_dtype=pl.Float64)
            end = bin_number.replace_strict(list(range(len(edges) + 1)), ends[1:], return_dtype=pl.Float64)
        if self.show == "start":
            made, kind = start, DataType.DECIMAL
        else:
            low, high, kind = _simplify_number(start), _simplify_number(end), DataType.TEXT
            made = (
                pl.when(value.is_null())
                .then(None)
                .when(low.is_null())
                .then(pl.lit("under ") + high)
                .when(high.is_null())
                .then(low + " and more")
                .otherwise(low + " to under " + high)
            )
        new = make_field(flow, self.id, self.name, kind, role=FieldRole.DIMENSION)
        return flow.add_column(flow.rows.with_columns(made.alias(self.id)), new, field.id)

    def _compute_quantiles(self, flow: Flow, value: pl.Expr) -> list[float]:
        shares = [i / self.count for i in range(1, self.count)]
        quantiles = flow.rows.select(
            value.quantile(share, "higher").alias(str(i)) for i, share in enumerate(shares)
        ).collect()
        return sorted({edge for edge in quantiles.row(0) if edge is not None})

    def describe(self, schema: Schema, run: Run) -> str:
        how = {
            "width": f"ranges of {self.width:g}",
            "count": f"{self.count} ranges of equally many rows",
            "edges": f"ranges with edges {', '.join(f'{edge:g}' for edge in self.edges[:5])}",
        }[self.how]
        return f"Put {name_of(schema, self.field)} into {how} as {self.name}"


def _simplify_number(number: pl.Expr) -> pl.Expr:
    whole = (number == number.floor()) & (number.abs() < 2**53)
    rounded = number.round(10)
    return pl.when(whole).then(number.cast(pl.Int64, strict=False).cast(pl.String)).otherwise(rounded.cast(pl.String))

"""Steps that use other datasets: join, map values, append."""

from __future__ import annotations

from typing import ClassVar, Literal

import polars as pl

from veduta.core.data.fields import Aggregate, DataField, DataType, Frozen, NumberFormat, Schema, list_aggregates
from veduta.core.errors import DefinitionProblem, VedutaError
from veduta.core.formula.functions import Operand
from veduta.core.formula.library.conversion import convert_to_text
from veduta.core.phrases import pluralise
from veduta.core.shaping.flow import (
    Flow,
    Run,
    WantedAggregate,
    aggregate_rows,
    find_aggregate_type,
    make_field,
    make_part_id,
)
from veduta.core.shaping.matching import build_key_columns
from veduta.core.shaping.steps.base import TEXT_ONLY, ShapingStep, asks, get_step_type, name_of, pick_fields


class KeyPair(Frozen):
    own: str
    other: str


class JoinedColumn(Frozen):
    """A column to bring in; with an aggregate the other side is first made one row for each key."""

    field: str
    aggregate: Aggregate | None = None
    name: str = ""


@get_step_type
class JoinTables(ShapingStep):
    title, theme = "Bring in columns", "Other data"
    purpose: ClassVar[str] = "Look up columns of another dataset by one or more keys."
    keeps_rows: ClassVar[bool] = False
    do: Literal["join"] = "join"
    dataset: str = asks("From", "dataset")
    keys: tuple[KeyPair, ...] = asks("Where these agree", "keys", min_length=1, max_length=10)
    bring: tuple[JoinedColumn, ...] = asks("Bring in", "brought", (), max_length=500)
    keep: Literal["all", "matched", "unmatched"] = asks(
        "Rows of this table",
        "choice",
        "all",
        options={
            "all": "keep all; what finds no match is empty",
            "matched": "keep only those with a match",
            "unmatched": "keep only those without a match",
        },
    )
    several: Literal["multiply", "aggregate"] = asks(
        "If the other side has several rows for a key",
        "choice",
        "aggregate",
        options={"aggregate": "aggregate them first", "multiply": "make a row for each"},
    )

    def list_datasets(self) -> set[str]:
        return {self.dataset} if self.dataset else set()

    def list_pairs(self) -> tuple[tuple[str, str], ...]:
        return tuple((pair.own, pair.other) for pair in self.keys)

    def apply(self, flow: Flow, run: Run) -> Flow:
        other = run.table(self.dataset)
        left, right = build_key_columns(flow, other, self.list_pairs())
        keys = [f"__k{i}" for i in range(len(left))]
        if self.keep == "unmatched":
            known = other.rows.select(right).drop_nulls()
            return flow.replace_rows(
                flow.rows.join(known, left_on=left, right_on=keys, how="anti", maintain_order="left")
            )
        fields, columns, made = list(flow.fields), [], []
        for brought in self.bring:
            field = other.schema[brought.field]
            aggregate = self._get_aggregate(brought, field)
            kind = find_aggregate_type(aggregate, field.kind) if aggregate else field.kind
            column = make_part_id(self.id, field.id)
            if column in columns:
                raise DefinitionProblem(f"“{field.name}” is brought in twice.", hint="Take one out.")
            new = make_field(flow.replace_fields(flow.rows, fields), column, brought.name or field.name, kind)
            same = {"role": field.role, "aggregate": field.aggregate, "description": field.description}
            fields.append(
                new.model_copy(
                    update={
                        **(same if kind is field.kind else {}),
                        "format": field.format if kind.is_number else NumberFormat(),
                    }
                )
            )
            columns.append(column)
            made.append(WantedAggregate(pl.col(field.id), aggregate or Aggregate.MIN, field.kind, column))
        if self.several == "aggregate":
            side = aggregate_rows(other.rows.with_columns(right), keys, made)
        else:
            side = other.rows.select(*right, *(each.column for each in made))
            self._must_fit(flow, side, left, keys, run)
        how: Literal["left", "inner"] = "left" if self.keep == "all" else "inner"
        rows = flow.rows.join(side, left_on=left, right_on=keys, how=how, maintain_order="left_right")
        return flow.replace_fields(rows.select([field.id for field in fields]), fields)

    def _get_aggregate(self, brought: JoinedColumn, field: DataField) -> Aggregate | None:
        """How several rows of a key become one: as asked for, else the sum of measures and the lowest of others."""
        if self.several == "multiply":
            return None
        aggregate = brought.aggregate or get_usual_aggregate(field)
        if aggregate not in list_aggregates(field.kind) and aggregate not in (Aggregate.MIN, Aggregate.MAX):
            raise DefinitionProblem(f"“{field.name}” has no {aggregate.words}.", hint="Choose another aggregate.")
        return aggregate

    def _must_fit(self, flow: Flow, side: pl.LazyFrame, left: list[pl.Expr], keys: list[str], run: Run) -> None:
        """Refuse a join whose result would be too large, before it is made."""
        counts = side.group_by(keys).agg(m=pl.len()).collect()
        if not counts.height or counts["m"].max() == 1:
            return
        rows = (
            flow.rows.select(key.alias(name) for key, name in zip(left, keys, strict=True))
            .group_by(keys)
            .agg(n=pl.len())
            .join(counts.lazy(), on=keys, how="left")
            .select((pl.col("n").cast(pl.Int64) * pl.col("m").cast(pl.Int64).fill_null(1)).sum())
            .collect()
            .item()
        )
        if rows and rows > run.most_rows:
            raise DefinitionProblem(
                f"This would make {rows:,} rows, because the other side has several rows for a key; at most"
                f" {run.most_rows:,} are possible.",
                hint="Aggregate the other side first, or add a key.",
            )

    def describe(self, schema: Schema, run: Run) -> str:
        keys = " and ".join(dict.fromkeys(name_of(schema, pair.own) for pair in self.keys))
        other = run.table_name(self.dataset)
        if self.keep == "unmatched":
            return f"Keep only rows whose {keys} is not in {other}"
        names = [brought.name or _get_other_name(run, self.dataset, brought.field) for brought in self.bring]
        shown = ", ".join(names[:3]) + (f" and {len(names) - 3} more" if len(names) > 3 else "")
        only_matched = ", only rows with a match" if self.keep == "matched" else ""
        return f"Bring in {shown or 'nothing'} from {other} by {keys}{only_matched}"


def get_usual_aggregate(field: DataField) -> Aggregate:
    """How several values of a key become one unless told otherwise."""
    if field.kind.is_number and field.role == "measure":
        return field.aggregate if field.aggregate in list_aggregates(field.kind) else Aggregate.SUM
    return Aggregate.MIN


def _get_other_name(run: Run, dataset: str, field_id: str) -> str:
    try:
        return name_of(run.table(dataset).schema, field_id)
    except VedutaError:
        return "a column"


class ValuePair(Frozen):
    find: str | None
    put: str | None


@get_step_type
class MapValues(ShapingStep):
    title, theme = "Map values", "Other data"
    purpose: ClassVar[str] = "Give values other spellings, by a list of your own or from another dataset."
    do: Literal["map"] = "map"
    field: str = asks("Column", "field", kinds=TEXT_ONLY)
    pairs: tuple[ValuePair, ...] = asks("Values and what they become", "pairs", (), max_length=20_000)
    dataset: str = asks("And those listed in", "dataset", "", optional="no dataset")
    find_column: str = asks("Its column of values", "other_field", "", when={"dataset": ["*"]})
    put_column: str = asks("Its column of what they become", "other_field", "", when={"dataset": ["*"]})
    otherwise: Literal["keep", "empty"] = asks(
        "Values that are not listed", "choice", "keep", options={"keep": "stay as they are", "empty": "become empty"}
    )
    name: str = asks("Name of a new column", "text", "", max_length=200, hint="Nothing: the column itself is changed.")

    def list_datasets(self) -> set[str]:
        return {self.dataset} if self.dataset else set()

    def build_mapping(self, run: Run) -> dict[str | None, str | None]:
        """All pairs; one's own list goes before the other dataset's. Raises DefinitionProblem if that is not clear."""
        mapping: dict[str | None, str | None] = {}
        if self.dataset:
            other = run.table(self.dataset)
            if not self.find_column or not self.put_column:
                raise DefinitionProblem("Which columns of the other dataset hold the mapping?", hint="Choose both.")
            columns = [other.schema[self.find_column], other.schema[self.put_column]]
            listed = other.rows.select(
                convert_to_text(Operand(pl.col(f.id), f.kind)).alias(str(i)) for i, f in enumerate(columns)
            )
            pairs = listed.unique(maintain_order=True).filter(pl.col("0").is_not_null()).collect()
            double = pairs.filter(pl.col("0").is_duplicated())
            if double.height:
                raise DefinitionProblem(
                    f"“{double['0'][0]}” stands twice in “{columns[0].name}” with different results.",
                    hint="Make the mapping clear first, for example with Remove duplicates.",
                )
            mapping = dict(pairs.iter_rows())
        return mapping | {pair.find: pair.put for pair in self.pairs}

    def apply(self, flow: Flow, run: Run) -> Flow:
        (field,) = pick_fields(flow.schema, (self.field,), TEXT_ONLY, "mapped")
        mapping, column = self.build_mapping(run), pl.col(field.id)
        find, put = list(mapping), [value or None for value in mapping.values()]
        otherwise = column if self.otherwise == "keep" else None
        made = column.replace_strict(find, put, default=otherwise, return_dtype=pl.String) if mapping else column
        if not self.name.strip():
            return flow.replace_rows(flow.rows.with_columns(made.alias(field.id)))
        new = make_field(flow, self.id, self.name, DataType.TEXT)
        return flow.add_column(flow.rows.with_columns(made.alias(self.id)), new, field.id)

    def describe(self, schema: Schema, run: Run) -> str:
        count = len(self.pairs)
        what = [pluralise(count, "value")] if count or not self.dataset else []
        what += [f"those listed in {run.table_name(self.dataset)}"] if self.dataset else []
        into = f" into {self.name}" if self.name else ""
        rest = "" if self.otherwise == "keep" else ", others become empty"
        return f"Map {' and '.join(what)} of {name_of(schema, self.field)}{into}{rest}"


def list_unmapped(step: MapValues, flow: Flow, run: Run) -> list[tuple[str, int]]:
    """The values before the step that its mapping does not name, with their rows, the most frequent first."""
    (field,) = pick_fields(flow.schema, (step.field,), TEXT_ONLY, "mapped")
    named_values = [value for value in step.build_mapping(run) if value is not None]
    counts = flow.rows.select(v=field.id).filter(
        pl.col("v").is_not_null() & ~pl.col("v").is_in(pl.Series(named_values, dtype=pl.String).implode())
    )
    counted = counts.group_by("v").agg(n=pl.len()).sort(["n", "v"], descending=[True, False]).collect()
    return [(value, count) for value, count in counted.iter_rows()]


@get_step_type
class AppendTable(ShapingStep):
    title, theme = "Append rows", "Other data"
    purpose: ClassVar[str] = "Add the rows of another dataset below; columns are matched by their names."
    keeps_rows: ClassVar[bool] = False
    do: Literal["append"] = "append"
    dataset: str = asks("Rows of", "dataset")
    new_columns: Literal["take", "leave"] = asks(
        "Columns that only the other has",
        "choice",
        "take",
        options={"take": "come in, empty for these rows", "leave": "are left out"},
    )
    mark: str = asks(
        "Column that says where a row is from", "text", "", max_length=200, hint="Nothing: no such column."
    )

    def list_datasets(self) -> set[str]:
        return {self.dataset} if self.dataset else set()

    def apply(self, flow: Flow, run: Run) -> Flow:
        other = run.table(self.dataset)
        theirs = {field.name.casefold(): field for field in other.fields}
        ours, fields = [], []
        borrowed = []
        for field in flow.fields:
            match = theirs.pop(field.name.casefold(), None)
            kind = field.kind if match is None else _find_joint_type(field.kind, match.kind)
            ours.append(_convert_field(field, kind).alias(field.id))
            borrowed.append((_convert_field(match, kind) if match else pl.lit(None, dtype=kind.dtype)).alias(field.id))
            fields.append(
                field
                if kind is field.kind
                else field.model_copy(
                    update=(
                        {"kind": kind, "role": "dimension", "aggregate": Aggregate.COUNT}
                        if kind is DataType.TEXT
                        else {"kind": kind}
                    )
                )
            )
        if self.new_columns == "take":
            for field in theirs.values():
                column = make_part_id(self.id, field.id)
                ours.append(pl.lit(None, dtype=field.kind.dtype).alias(column))
                borrowed.append(pl.col(field.id).alias(column))
                fields.append(field.model_copy(update={"id": column}))
        if self.mark.strip():
            new = make_field(flow.replace_fields(flow.rows, fields), self.id, self.mark, DataType.TEXT)
            ours.append(pl.lit("this table").alias(self.id))
            borrowed.append(pl.lit(run.table_name(self.dataset)).alias(self.id))
            fields.append(new)
        return flow.replace_fields(pl.concat([flow.rows.select(ours), other.rows.select(borrowed)]), fields)

    def list_differences(self, flow: Flow, run: Run) -> tuple[list[str], list[str], list[str]]:
        """Names of the columns only here, only there, and of different kinds."""
        theirs = {field.name.casefold(): field for field in run.table(self.dataset).fields}
        ours = {field.name.casefold(): field for field in flow.fields}
        kinds = [field.name for key, field in ours.items() if key in theirs and theirs[key].kind is not field.kind]
        return (
            [f.name for key, f in ours.items() if key not in theirs],
            [f.name for key, f in theirs.items() if key not in ours],
            kinds,
        )

    def describe(self, schema: Schema, run: Run) -> str:
        return f"Append the rows of {run.table_name(self.dataset)}"


def _find_joint_type(a: DataType, b: DataType) -> DataType:
    if a is b:
        return a
    if a.is_number and b.is_number:
        return DataType.DECIMAL
    return DataType.DATETIME if a.is_date and b.is_date else DataType.TEXT


def _convert_field(field: DataField, kind: DataType) -> pl.Expr:
    column = pl.col(field.id)
    return (
        convert_to_text(Operand(column, field.kind))
        if kind is DataType.TEXT and field.kind is not DataType.TEXT
        else column.cast(kind.dtype)
    )

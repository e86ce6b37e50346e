"""Rows on their way through the steps, and what is noted on the way."""

from __future__ import annotations

import dataclasses
import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from hashlib import blake2s
from typing import Any

import polars as pl

from veduta.core.data.convert import Failures
from veduta.core.data.fields import Aggregate, DataField, DataType, FieldRole, Schema, list_aggregates
from veduta.core.errors import DefinitionProblem
from veduta.core.query.filters import Context

MOST_ROWS = 50_000_000
MOST_COLUMNS = 2_000


@dataclass(frozen=True)
class Flow:
    """Rows and what their columns are. The frame's columns are named by the fields' ids."""

    rows: pl.LazyFrame
    schema: Schema

    def __post_init__(self) -> None:
        if len(self.schema.fields) > MOST_COLUMNS:
            raise DefinitionProblem(
                f"This makes {len(self.schema.fields):,} columns; at most {MOST_COLUMNS:,} are possible.",
                hint="Leave out columns first.",
            )

    @property
    def fields(self) -> list[DataField]:
        return self.schema.fields

    def replace_rows(self, rows: pl.LazyFrame) -> Flow:
        return Flow(rows, self.schema)

    def replace_fields(self, rows: pl.LazyFrame, fields: Iterable[DataField]) -> Flow:
        """Other rows with other fields; what is dropped is remembered by its name."""
        fields = list(fields)
        return Flow(rows, Schema(fields, self.schema.gone | {field.id: field.name for field in self.fields}))

    def add_column(self, rows: pl.LazyFrame, field: DataField, after: str = "") -> Flow:
        """The rows with one more field, or with a changed one, whose column they have already."""
        fields = list(self.fields)
        position = next((i for i, each in enumerate(fields) if each.id == field.id), None)
        if position is not None:
            fields[position] = field
        else:
            ids = [each.id for each in fields]
            fields.insert(ids.index(after) + 1 if after in ids else len(fields), field)
        return self.replace_fields(rows.select([each.id for each in fields]), fields)


@dataclass
class StepReport:
    """What a step did.

    Its sentence, rows and columns before and after (None while unknown), values that failed, notes, a problem."""

    words: str = ""
    rows_in: int | None = None
    rows_out: int | None = None
    columns_in: int = 0
    columns_out: int = 0
    failures: dict[str, Failures] = dataclasses.field(default_factory=dict)
    notes: list[str] = dataclasses.field(default_factory=list)
    problem: dict[str, str] | None = None

    @property
    def failed(self) -> int:
        return sum(failures.count for failures in self.failures.values())


@dataclass
class Run:
    """One way through the steps. `table` gives another dataset's rows by its id and raises VedutaError if it may not.

    Nothing is worked out before the last step is reached, except what a step must know to say what columns it makes.
    """

    table: Callable[[str], Flow]
    context: Context
    table_name: Callable[[str], str] = lambda key: key
    most_rows: int = MOST_ROWS
    reports: dict[str, StepReport] = dataclasses.field(default_factory=dict)

    def report(self, step_id: str) -> StepReport:
        return self.reports.setdefault(step_id, StepReport())

    def settle(self, step_id: str, flow: Flow, keeps_rows: bool) -> Flow:
        """Called behind each step; here its rows are counted as they pass."""
        report = self.report(step_id)
        if keeps_rows:
            return flow
        return flow.replace_rows(count_passing(flow.rows, lambda rows: setattr(report, "rows_out", rows)))


def collect_rows(rows: pl.LazyFrame) -> pl.DataFrame:
    """The rows worked out. The streaming engine gives the order of joined rows up, or is slow at keeping it."""
    return rows.collect(engine="in-memory")


def count_passing(rows: pl.LazyFrame, tell: Callable[[int], None]) -> pl.LazyFrame:
    """The same rows; when they are computed, their number is told. Columns and order stay."""

    def pass_on(frame: pl.DataFrame) -> pl.DataFrame:
        tell(frame.height)
        return frame

    return rows.map_batches(pass_on, projection_pushdown=True, predicate_pushdown=False, slice_pushdown=False)


def make_field(flow: Flow, field_id: str, name: str, kind: DataType, **more: Any) -> DataField:
    """A field for a new column: numbers are measures, and a name that is taken gets a number."""
    role = more.pop("role", FieldRole.MEASURE if kind.is_number else FieldRole.DIMENSION)
    aggregate = more.pop("aggregate", list_aggregates(kind)[0] if role is FieldRole.MEASURE else Aggregate.COUNT)
    others = [field.name for field in flow.fields if field.id != field_id]
    name = make_free_name(name, others)
    return DataField(id=field_id, source=name, name=name, kind=kind, role=role, aggregate=aggregate, **more)


def make_free_name(name: str, taken: Iterable[str]) -> str:
    """The name, with a number behind it if it is taken.

    >>> make_free_name("Day", ["day", "Port"])
    'Day (2)'
    """
    name = name.strip()[:190] or "Column"
    used, result, number = {each.casefold() for each in taken}, name, 2
    while result.casefold() in used:
        result, number = f"{name} ({number})", number + 1
    return result


def make_part_id(step_id: str, part: str) -> str:
    """A column's id, made of the step's and something that stays the same from refresh to refresh.

    >>> make_part_id("s2", "c4"), make_part_id("s2", "Outer Light")
    ('s2_c4', 's2_outer_light_8ebb3b')
    """
    slug = re.sub(r"[^a-z0-9]+", "_", part.lower()).strip("_")
    if slug == part and len(step_id) + len(slug) < 40:
        return f"{step_id}_{slug}"
    digest = blake2s(part.encode(), digest_size=3).hexdigest()
    return f"{step_id}_{slug[:24]}_{digest}"[:40]


@dataclass(frozen=True)
class WantedAggregate:
    """An aggregate of an expression's values (or, without one, the count of rows), under a name."""

    values: pl.Expr | None
    aggregate: Aggregate
    kind: DataType
    name: str

    @property
    def column(self) -> pl.Expr:
        """The values as they are, under the name."""
        assert self.values is not None, "a count of rows has no values"
        return self.values.alias(self.name)


def aggregate_rows(
    rows: pl.LazyFrame, keys: list[str] | list[pl.Expr], wanted: list[WantedAggregate], keep_order: bool = False
) -> pl.LazyFrame:
    """One row a combination of the keys (or one for all): the keys' columns, then the aggregates', in no order.

    Empties are skipped; a sum over no values is empty, and so is one that is too large for a whole number."""
    made, final = [], []
    for each in wanted:
        column, name = each.values, each.name
        if column is None:
            made.append(pl.len().alias(name))
            final.append(pl.col(name).cast(pl.Int64))
            continue
        if each.aggregate is not Aggregate.SUM:
            made.append(_build_aggregate(each.aggregate, column).alias(name))
            final.append(pl.col(name).cast(find_aggregate_type(each.aggregate, each.kind).dtype))
            continue
        # Plain aggregates are fast; what they mean together is decided afterwards.
        made += [column.sum().alias(name), column.count().alias(f"{name}__count")]
        fits = pl.col(f"{name}__count") > 0
        if each.kind is DataType.WHOLE:
            made.append(column.cast(pl.Float64).sum().alias(f"{name}__size"))
            fits = fits & (pl.col(f"{name}__size").abs() < 2.0**63)
        final.append(pl.when(fits).then(pl.col(name)).alias(name))
    if not keys:
        return rows.select(made).select(final)
    names = [key if isinstance(key, str) else key.meta.output_name() for key in keys]

    def work(some: pl.LazyFrame) -> pl.LazyFrame:
        return some.group_by(keys, maintain_order=keep_order).agg(made).select(*names, *final)

    if keep_order:
        return work(rows)
    # The order of groups is nobody's, so they are left to the streaming engine, which is three times as fast.
    used = {name for each in [*keys, *made] for name in ([each] if isinstance(each, str) else each.meta.root_names())}
    rows = rows.select(sorted(used)) if used else rows
    schema = work(rows).collect_schema()
    return rows.map_batches(
        lambda frame: work(frame.lazy()).collect(engine="streaming"),
        schema=schema,
        projection_pushdown=False,
        predicate_pushdown=False,
        slice_pushdown=False,
    )


def _build_aggregate(aggregate: Aggregate, column: pl.Expr) -> pl.Expr:
    return {
        Aggregate.MEAN: column.mean(),
        Aggregate.MEDIAN: column.median(),
        Aggregate.MIN: column.min(),
        Aggregate.MAX: column.max(),
        Aggregate.COUNT: column.count(),
        Aggregate.COUNT_DISTINCT: column.drop_nulls().n_unique(),
    }[aggregate]


def find_aggregate_type(aggregate: Aggregate, kind: DataType) -> DataType:
    if aggregate in (Aggregate.COUNT, Aggregate.COUNT_DISTINCT):
        return DataType.WHOLE
    return DataType.DECIMAL if aggregate in (Aggregate.MEAN, Aggregate.MEDIAN) else kind

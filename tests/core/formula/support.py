"""What the formula tests share: a schema, rows, and a formula worked out on them."""

from __future__ import annotations

import datetime as dt
from typing import Any

import polars as pl

from tests.core.support import MemoryTable, context_of, field
from veduta.core.calendar import Grouping
from veduta.core.data.fields import DataType, Schema
from veduta.core.formula.check import check
from veduta.core.formula.compile import compile_formula
from veduta.core.formula.measures import replace_names_with_ids
from veduta.core.model.model import Model
from veduta.core.query.answer import answer
from veduta.core.query.measures import Measure
from veduta.core.query.query import Query

FIELDS = [
    field("Port", DataType.TEXT),
    field("Day", DataType.DATE),
    field("Count", DataType.WHOLE),
    field("Fare revenue", DataType.DECIMAL),
    field("Departure", DataType.DATETIME),
    field("Cancelled", DataType.YES_NO),
]
SCHEMA = Schema(FIELDS)


def frame(rows: list[dict[str, Any]]) -> pl.DataFrame:
    return pl.DataFrame({f.id: pl.Series(f.id, [row.get(f.id) for row in rows], dtype=f.kind.dtype) for f in FIELDS})


FOUR = frame([{"day": dt.date(2026, 10, d), "count": n, "port": "Quay"} for d, n in enumerate((5, 9, 9, 14), 1)])
ONE = FOUR.head(1)


def values(formula: str, rows: pl.DataFrame = ONE) -> list[Any]:
    """The formula's value for each row."""
    return compile_formula(check(formula, SCHEMA)).apply_to(rows.lazy(), "value").collect()["value"].to_list()


def value(formula: str) -> Any:
    return values(formula)[0]


def by_day(formula: str) -> list[Any]:
    """The value of a formula of many rows on each day of the four rows."""
    model = Model.from_table(MemoryTable(FOUR, SCHEMA), SCHEMA)
    query = Query(
        groups=(Grouping(field="day", grain="day"),),
        measures=(Measure(formula=replace_names_with_ids(formula, SCHEMA)),),
    )
    return answer(query, model, context_of(model)).frame["m0"].to_list()

"""Eight questions to 337,000 sailings joined to four tables, asked as one batch, beside Polars by hand: at first, and
under a filter on a joined field."""

from __future__ import annotations

import datetime as dt
from typing import Any

import numpy as np
import polars as pl

from bench.measuring import Figure, Figures, alternately
from tests.core.support import MemoryTable
from veduta.core.calendar import Grouping
from veduta.core.data.fields import DataField, DataType, FieldRole, Schema
from veduta.core.model.definition import JoinKey, ModelDefinition, ModelJoin, ModelTable
from veduta.core.model.model import Model
from veduta.core.query.answer import answers, make_context
from veduta.core.query.batch import ModelQuery, answer_all
from veduta.core.query.filters import Filter, ListFilter
from veduta.core.query.measures import Measure
from veduta.core.query.query import Query

ROWS, DAYS, HOURS = 337_000, 365, 24
FIRST = dt.date(2025, 1, 1)
TYPES = {
    pl.String: DataType.TEXT,
    pl.Int64: DataType.WHOLE,
    pl.Float64: DataType.DECIMAL,
    pl.Date: DataType.DATE,
}
LATE, FARE, SAILINGS = Measure(field="late", aggregate="mean"), Measure(field="fare", aggregate="sum"), Measure()
ASKED = (
    ("", (SAILINGS, FARE)),
    ("", (LATE,)),
    ("companies.named", (LATE, SAILINGS)),
    ("day@month", (SAILINGS, LATE)),
    ("ports.area day@month", (LATE,)),
    ("vessels.yard", (SAILINGS,)),
    ("ports.called", (LATE,)),
    ("vessels.built", (LATE, SAILINGS)),
)
CLICKED = "Company 3"


def run(figures: Figures) -> None:
    frames = make_frames()
    model = make_model(frames)
    clicked = (ListFilter(field="companies.named", values=(CLICKED,)),)
    for words, filters, condition in (
        ("at first", (), pl.lit(True)),
        ("after a click on a joined value", clicked, pl.col("named") == CLICKED),
    ):
        times = alternately(
            lambda filters=filters: ask_all(model, filters), lambda only=condition: ask_by_hand(frames, only), 15
        )
        figures.add(Figure(f"8 questions to {ROWS:,} rows and four joined tables, {words}", *times, "at most 1.5"))


def ask_all(model: Model, filters: tuple[Filter, ...]) -> None:
    answers.clear()
    context = make_context(model, FIRST)
    queries = [Query(groups=make_groups(names), measures=measures, filters=filters) for names, measures in ASKED]
    for give in filter(None, answer_all([lambda query=query: ModelQuery(query, model, context) for query in queries])):
        give[1]()


def make_groups(names: str) -> tuple[Grouping, ...]:
    parts = [name.partition("@") for name in names.split()]
    return tuple(Grouping(field=field, grain=grain or None) for field, _, grain in parts)


def ask_by_hand(frames: dict[str, pl.DataFrame], condition: pl.Expr) -> None:
    rows = frames[""].lazy()
    for name, key in (("vessels", "vessel"), ("ports", "port"), ("companies", "company")):
        rows = rows.join(frames[name].lazy(), on=key, how="left")
    rows = rows.filter(condition)
    late, month = pl.col("late").mean(), pl.col("day").dt.truncate("1mo")
    pl.collect_all(
        [
            rows.select(pl.len(), pl.col("fare").sum()),
            rows.select(late),
            rows.group_by("named").agg(late, pl.len()),
            rows.group_by(month).agg(pl.len(), late),
            rows.group_by("area", month).agg(late),
            rows.group_by("yard").agg(pl.len()),
            rows.group_by("called").agg(late),
            rows.group_by("built").agg(late, pl.len()),
        ]
    )


def make_frames() -> dict[str, pl.DataFrame]:
    """Sailings with their vessels, ports, companies and the weather of each hour."""
    chance = np.random.default_rng(1)
    vessels, ports, companies = ([f"{word} {i}" for i in range(n)] for word, n in (("V", 3_300), ("P", 105), ("C", 16)))

    def pick(names: list[str], most: int) -> list[str]:
        return [names[i] for i in chance.integers(0, most, ROWS)]

    days = pl.date_range(FIRST, FIRST + dt.timedelta(days=DAYS - 1), eager=True)
    sailings: dict[str, Any] = {
        "day": days.gather(chance.integers(0, DAYS, ROWS)),
        "hour": chance.integers(0, HOURS, ROWS),
        "vessel": pick(vessels, 3_300),
        "port": pick(ports, 105),
        "company": pick(companies, 16),
        "late": chance.normal(5, 30, ROWS),
        "fare": chance.normal(50, 10, ROWS),
    }
    return {
        "": pl.DataFrame(sailings),
        "vessels": pl.DataFrame(
            {
                "vessel": vessels,
                "yard": [f"Yard {i % 35}" for i in range(3_300)],
                "built": [1980 + i % 40 for i in range(3_300)],
            }
        ),
        "ports": pl.DataFrame(
            {"port": ports, "called": [f"Port {i}" for i in range(105)], "area": [f"Area {i % 7}" for i in range(105)]}
        ),
        "companies": pl.DataFrame({"company": companies, "named": [f"Company {i}" for i in range(16)]}),
        "weather": days.to_frame("day").join(
            pl.DataFrame({"hour": range(HOURS), "wind": chance.normal(20, 5, HOURS)}), how="cross"
        ),
    }


def make_model(frames: dict[str, pl.DataFrame]) -> Model:
    tables = {name: make_table(frame) for name, frame in frames.items()}
    joins = [("vessels", ("vessel",)), ("ports", ("port",)), ("companies", ("company",)), ("weather", ("day", "hour"))]
    definition = ModelDefinition(
        tables=tuple(ModelTable(id=name, dataset=name, name=name) for name, _ in joins),
        joins=tuple(
            ModelJoin(right=name, keys=tuple(JoinKey(left=key, right=key) for key in keys)) for name, keys in joins
        ),
    )
    return Model(tables, definition, key="joins")


def make_table(frame: pl.DataFrame) -> tuple[MemoryTable, list[DataField]]:
    fields = []
    for name, dtype in frame.schema.items():
        kind = TYPES[dtype.base_type()]
        role = FieldRole.MEASURE if kind is DataType.DECIMAL else FieldRole.DIMENSION
        fields.append(DataField(id=name, source=name, name=name, kind=kind, role=role))
    return MemoryTable(frame, Schema(fields)), fields

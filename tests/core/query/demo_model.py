"""The demo's tables in memory, joined in a model, and the same rows in SQLite."""

from __future__ import annotations

import datetime as dt
import sqlite3
from functools import cache

import polars as pl

from tests.core.support import TODAY, MemoryTable, field
from veduta.core.data.fields import DataType, Schema
from veduta.core.model.definition import JoinKey, ModelDefinition, ModelJoin, ModelTable, ParameterField
from veduta.core.model.model import Model
from veduta.core.query.answer import make_context
from veduta.core.query.filters import Context
from veduta.demo import generate

KINDS = {
    pl.String: DataType.TEXT,
    pl.Int64: DataType.WHOLE,
    pl.Float64: DataType.DECIMAL,
    pl.Boolean: DataType.YES_NO,
    pl.Date: DataType.DATE,
}
JOINS = (
    ModelJoin(right="routes", keys=(JoinKey(left="route", right="route"),)),
    ModelJoin(left="routes", right="ports", keys=(JoinKey(left="from_port", right="port"),)),
    ModelJoin(right="vessels", keys=(JoinKey(left="vessel", right="vessel"),)),
    ModelJoin(
        right="targets", keys=(JoinKey(left="route", right="route"), JoinKey(left="day", right="month", grain="month"))
    ),
    ModelJoin(
        right="bookings",
        keys=(JoinKey(left="route", right="route"), JoinKey(left="day", right="travelled", grain="day")),
    ),
)
PARAMETERS = (
    ParameterField(id="top_n", name="Top n", default=(3,), required=False),
    ParameterField(id="late_after", name="Late after", default=(10,)),
    ParameterField(id="chosen", name="Chosen", kind=DataType.TEXT, several=True, required=False),
)


@cache
def frames() -> dict[str, pl.DataFrame]:
    """The demo's tables with short names and typed columns; sailings with an unknown and an empty route."""
    raw = generate.generate_sailings(5_000)
    sailings = raw.select(
        "route",
        "region",
        "vessel",
        pl.col("sailing_date").alias("day"),
        pl.col("capacity").cast(pl.Int64),
        pl.col("passengers").cast(pl.Int64),
        pl.col("fare_revenue").alias("fare"),
        pl.col("onboard_sales").alias("onboard"),
        pl.col("minutes_late").cast(pl.Int64).alias("late"),
        cancelled=pl.col("cancelled") == "yes",
    )
    odd = [
        {
            "route": "Nowhere–Elsewhere",
            "region": None,
            "vessel": "Knot",
            "day": dt.date(2024, 2, 29),
            "capacity": 10,
            "passengers": 3,
            "fare": -12.5,
            "onboard": None,
            "late": None,
            "cancelled": None,
        },
        {
            "route": None,
            "region": "North Reach",
            "vessel": None,
            "day": None,
            "capacity": None,
            "passengers": 7,
            "fare": 1e6,
            "onboard": 2.0,
            "late": 400,
            "cancelled": False,
        },
    ]
    sailings = pl.concat([sailings, pl.DataFrame(odd, schema=sailings.schema)])
    bookings = generate.generate_bookings(3_000).select(
        "customer",
        pl.col("travel_date").cast(pl.Date).alias("travelled"),
        "route",
        "channel",
        pl.col("party_size").cast(pl.Int64).alias("party"),
        "paid",
    )
    return {
        "": sailings,
        "routes": generate.generate_routes().select(
            "route",
            pl.col("region").alias("area"),
            "from_port",
            pl.col("crossing_minutes").cast(pl.Int64).alias("minutes"),
        ),
        "ports": generate.generate_ports().select("port", pl.col("opened").cast(pl.Int64)),
        "vessels": generate.generate_vessels().select("vessel", pl.col("built").cast(pl.Int64)),
        "targets": generate.generate_targets(generate.generate_sailings(5_000)).select(
            "month", "route", pl.col("revenue").alias("goal")
        ),
        "bookings": bookings,
    }


@cache
def model(fiscal_month: int = 1, beyond: str = "empty") -> tuple[Model, Context]:
    tables = {}
    for name, frame in frames().items():
        fields = [
            field(column.replace("_", " ").capitalize(), KINDS[type(dtype)]).model_copy(update={"id": column})
            for column, dtype in frame.schema.items()
        ]
        tables[name] = (MemoryTable(frame, Schema(fields)), fields)
    definition = ModelDefinition(
        tables=tuple(ModelTable(id=name, dataset=name, name=name.capitalize()) for name in frames() if name),
        joins=JOINS,
        parameters=PARAMETERS,
        fiscal_month=fiscal_month,
        beyond=beyond,
    )
    found = Model(tables, definition, name="Sailings")
    return found, make_context(found, TODAY)


@cache
def database() -> sqlite3.Connection:
    """The same tables in SQLite, sailings as s; days are ISO texts, yes and no 1 and 0."""
    found = sqlite3.connect(":memory:")
    for name, frame in frames().items():
        table = name or "s"
        found.execute(f"create table {table} ({', '.join(frame.columns)})")
        rows = [
            [value.isoformat() if isinstance(value, dt.date) else value for value in row] for row in frame.iter_rows()
        ]
        found.executemany(f"insert into {table} values ({', '.join('?' * frame.width)})", rows)
    return found

"""Steps of shaping on 5 million rows against the same written by hand, and what the shaping screen waits for."""

from __future__ import annotations

import datetime as dt
import json
import statistics

import polars as pl
from django.test import Client

from bench.measuring import Figure, Figures, alternately, once
from veduta.core.data.fields import DataField, DataType, Schema
from veduta.core.query.filters import Context
from veduta.core.shaping.flow import Flow, Run
from veduta.core.shaping.shaping import load_shaping, shape
from veduta.demo.generate import generate_routes, generate_sailings
from veduta.demo.load import load_people
from veduta.web.datasets.models import Dataset, Version
from veduta.web.datasets.store import write_rows


def run(figures: Figures, rows: int) -> None:
    """Six steps on 5 million rows, against the same written by hand."""
    many = rows * 5
    some = generate_sailings(rows).select(
        "route", "sailing_date", pl.col("passengers").cast(pl.String), "fare_revenue", "fuel_cost"
    )
    frame = pl.concat([some] * 5).head(many).rechunk()
    kinds = {
        "route": DataType.TEXT,
        "sailing_date": DataType.DATE,
        "passengers": DataType.TEXT,
        "fare_revenue": DataType.DECIMAL,
        "fuel_cost": DataType.DECIMAL,
    }

    def schema(of: dict[str, DataType]) -> Schema:
        return Schema([DataField(id=name, source=name, name=name, kind=kind) for name, kind in of.items()])

    other = generate_routes().select("route", "region")
    side = Flow(other.lazy(), schema({"route": DataType.TEXT, "region": DataType.TEXT}))
    steps = load_shaping(
        {
            "steps": [
                {"id": "s1", "do": "retype", "fields": ["passengers"], "kind": "whole"},
                {"id": "s2", "do": "formula", "name": "Per head", "formula": "fare_revenue / passengers"},
                {
                    "id": "s3",
                    "do": "formula",
                    "name": "Step",
                    "formula": "difference(passengers) along (sailing_date) restart (route)",
                },
                {
                    "id": "s4",
                    "do": "join",
                    "dataset": "routes",
                    "keys": [{"own": "route", "other": "route"}],
                    "bring": [{"field": "region"}],
                    "several": "multiply",
                },
                {
                    "id": "s5",
                    "do": "wide_to_long",
                    "rule": "chosen",
                    "chosen": ["fare_revenue", "fuel_cost"],
                    "names_to": "What",
                    "values_to": "Amount",
                },
                {
                    "id": "s6",
                    "do": "group",
                    "by": ["s4_region", "s5_name"],
                    "measures": [
                        {"field": "s5_value", "aggregate": "sum"},
                        {"field": "s3", "aggregate": "mean"},
                        {"field": "s2", "aggregate": "mean"},
                        {},
                    ],
                },
            ]
        }
    )
    flow, context = Flow(frame.lazy(), schema(kinds)), Context(dt.date(2026, 10, 31))

    def ours() -> pl.DataFrame:
        return shape(steps, flow, Run(lambda _: side, context)).frame

    def by_hand() -> pl.DataFrame:
        wide = (
            frame.lazy()
            .with_columns(pl.col("passengers").cast(pl.Int64))
            .with_columns(head=pl.when(pl.col("passengers") != 0).then(pl.col("fare_revenue") / pl.col("passengers")))
            .with_columns(
                step=pl.col("passengers") - pl.col("passengers").shift(1).over("route", order_by="sailing_date")
            )
            .join(other.lazy(), on="route", how="left")
        )
        long = wide.unpivot(
            ["fare_revenue", "fuel_cost"],
            index=["route", "sailing_date", "passengers", "head", "step", "region"],
            variable_name="what",
            value_name="amount",
        )
        return (
            long.group_by("region", "what")
            .agg(pl.col("amount").sum(), pl.col("step").mean(), pl.col("head").mean(), pl.len())
            .sort("region", "what")
            .collect()
        )

    mine, theirs = ours(), by_hand()
    assert mine.height == theirs.height and abs(mine["s6_sum_s5_value"].sum() - theirs["amount"].sum()) < 1
    figures.add(Figure(f"Six steps on {many:,} rows", *alternately(ours, by_hand, 7), "at most 1.3"))


def run_preview(figures: Figures, rows: int) -> None:
    """What the shaping screen waits for after an edit, on a dataset of 5 million rows
    (over HTTP's code, without the network)."""
    analyst = load_people()["analyst"]
    frame = pl.concat([generate_sailings(rows)] * 5).select(
        "route", "region", "vessel", "sailing_date", "passengers", "fare_revenue"
    )
    kinds = [DataType.TEXT, DataType.TEXT, DataType.TEXT, DataType.DATE, DataType.WHOLE, DataType.DECIMAL]
    fields = [
        DataField(id=name, source=name, name=name, kind=kind) for name, kind in zip(frame.columns, kinds, strict=True)
    ]
    dumped = [field.model_dump(mode="json") for field in fields]
    dataset = Dataset.objects.create(name="Many sailings", fields=dumped, taken_fields=dumped)
    version = Version.objects.create(dataset=dataset, number=1)
    write_rows(version, frame, fields)
    dataset.current = version
    dataset.save()
    client = Client(SERVER_NAME="localhost")
    client.force_login(analyst, backend="django.contrib.auth.backends.ModelBackend")
    steps = [
        {"id": "s1", "do": "filter", "filters": [{"kind": "range", "field": "passengers", "low": 1}]},
        {"id": "s2", "do": "formula", "name": "Per head", "formula": "fare_revenue / passengers"},
        {
            "id": "s3",
            "do": "formula",
            "name": "Step",
            "formula": "difference(passengers) along (sailing_date) restart (route)",
        },
    ]
    turn = 0

    def edit() -> None:
        nonlocal turn
        turn += 1
        editing = {"id": "s4", "do": "formula", "name": "Load", "formula": f"passengers * {turn}"}
        dataset.refresh_from_db(fields=["draft_revision"])
        data = {"steps": steps, "editing": editing, "base": dataset.draft_revision}
        answer = client.post(
            f"/data/{dataset.pk}/shape/look/",
            json.dumps(data),
            content_type="application/json",
            headers={"X-Veduta": "1"},
        )
        assert answer.status_code == 200 and "step" in answer.json()

    edit()
    took = statistics.median(once(edit) for _ in range(21))
    figures.add(Figure(f"Preview after an edit, {frame.height:,} rows", took, goal="150 ms"))

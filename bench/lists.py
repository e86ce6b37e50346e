"""The list of values of a field with 100,000 of them, with counts: all, some that are searched for, and those under a
filter, beside Polars by hand."""

from __future__ import annotations

import random
from pathlib import Path

import polars as pl

from bench.measuring import Figure, Figures, alternately
from veduta.core.calendar import Grouping
from veduta.core.query.filters import ListFilter
from veduta.core.query.listing import group_values
from veduta.demo.load import import_file, load_people
from veduta.web.modelling.services import load_model_and_context

VALUES = 100_000


def run(figures: Figures, folder: Path, rows: int) -> None:
    model, context = load_model_and_context(
        import_file(load_people()["analyst"], _passes(folder, rows), "Passes"), None
    )
    holder, region = (field.id for field in model.schema)
    frame, group = model.scan([holder, region]).collect(), Grouping(field=holder)
    under = ((ListFilter(field=region, values=("North",)),), context)

    def by_hand(condition: pl.Expr) -> None:
        frame.filter(condition).group_by(holder).agg(n=pl.len()).top_k(200, by="n").rows()

    for words, ours, theirs in (
        ("with their counts", lambda: group_values(model, group), pl.lit(True)),
        ("searched for", lambda: group_values(model, group, "er 0123"), pl.col(holder).str.contains("er 0123")),
        ("under a filter", lambda: group_values(model, group, under=under), pl.col(region) == "North"),
    ):
        times = alternately(ours, lambda condition=theirs: by_hand(condition), 9)
        figures.add(Figure(f"{VALUES:,} values {words}", *times, "100 ms"))


def _passes(folder: Path, rows: int) -> Path:
    chance, path = random.Random(7), folder / "passes.csv"
    with path.open("w") as file:
        file.write("holder,region\n")
        for _ in range(rows):
            file.write(f"Holder {chance.randrange(VALUES):06},{chance.choice(('North', 'South', 'Outer'))}\n")
    return path

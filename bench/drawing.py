"""From a result to a drawing, in every kind, for a thousand marks."""

from __future__ import annotations

import datetime as dt
import statistics
import time
from collections.abc import Iterator

from bench.measuring import Figure, Figures
from tests.core.chart.test_kinds import atlas, model_of
from tests.core.support import context_of
from veduta.core.chart.definition import load_definition
from veduta.core.chart.kinds import KINDS, Asked, Kind
from veduta.core.chart.question import draw, picture_of, work_out

MARKS = 1_000
TURNS = 15
MEASURES = [{"field": "fare", "aggregate": "sum"}, {"field": "passengers", "aggregate": "sum"}, {}]
DAY = {"field": "sailed", "grain": "day"}
MONTH = {"field": "sailed", "grain": "month"}
CLASSES = {"field": "fare", "width": 1}


def rows() -> list[dict]:
    """As many routes and days as there are to be marks, and 40 by 25 of regions and months."""
    first = dt.date(2023, 1, 1)
    return [
        {
            "route": f"Route {i}",
            "region": f"Region {i % 40}",
            "sailed": first + dt.timedelta(days=i),
            "fare": 100.0 + i,
            "passengers": 1 + i % 300,
            "latitude": 57.8 + i % 97 / 60,
            "longitude": -5 + i % 89 / 40,
        }
        for i in range(MARKS)
    ]


def charts(kind: Kind) -> Iterator[dict]:
    """What the kind could be asked for, what makes most marks first."""
    dimensions = ((DAY, None), ("route", None), ("region", MONTH), ("region", None), (CLASSES, None), (None, None))
    for measures in (1, 2, 3):
        for by, split in dimensions:
            yield {
                "dataset": "d",
                "kind": kind.name,
                "show": MEASURES[:measures],
                "by": [by] if by else [],
                "split": split,
            }


def run(figures: Figures) -> None:
    model = model_of(rows())
    context = context_of(model)
    for kind in KINDS.values():
        fitting = (load_definition(parts) for parts in charts(kind))
        definition = next(each for each in fitting if not kind.unfit(Asked(each, model)))
        _, _, result = work_out(definition, model, context)
        took = []
        for _ in range(TURNS):
            start = time.perf_counter()
            draw(picture_of(definition, kind, result, model, context, atlas()), kind)
            took.append(time.perf_counter() - start)
        name = f"{kind.title} ({result.frame.height * len(result.measures):,} marks)"
        figures.add(Figure(name, statistics.median(took), goal="10 ms"))

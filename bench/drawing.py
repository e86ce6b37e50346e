"""From a result to a drawing, in every kind, for a thousand marks; and from the answer until it is painted."""

from __future__ import annotations

import datetime as dt
import json
import statistics
import subprocess
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

from playwright.sync_api import sync_playwright

from bench.measuring import ROOT, Figure, Figures
from tests.browser.support import ARGUMENTS, CHROMIUM
from tests.core.chart.test_kinds import atlas, model_of
from tests.core.support import context_of
from veduta.core.chart.definition import ChartDefinition, load_definition
from veduta.core.chart.kinds import CHART_KINDS, ChartKind, ChartShape
from veduta.core.chart.question import ask, build_picture, draw, work_out
from veduta.core.chart.theme import build_themes
from veduta.core.model.model import Model
from veduta.web.charts.render import make_chart_data

MARKS, MANY = 1_000, 10_000
TURNS = 15
MEASURES = [{"field": "fare", "aggregate": "sum"}, {"field": "passengers", "aggregate": "sum"}, {}]
DAY = {"field": "sailed", "grain": "day"}
MONTH = {"field": "sailed", "grain": "month"}
CLASSES = {"field": "fare", "width": 1}
PAGE = (
    '<div id="host" class="picture" style="width: 900px; height: 460px"></div>'
    '<script type="application/json" id="chart-themes">{themes}</script>'
)
In = Callable[[dict], float]
"""Draws an answer, and says how many seconds it took."""


def rows(number: int) -> list[dict]:
    """As many routes and days as there are to be marks, and 40 by 25 of regions and months."""
    first = dt.date(2000, 1, 1)
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
        for i in range(number)
    ]


def charts(kind: ChartKind) -> Iterator[dict]:
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


@contextmanager
def browser() -> Iterator[In]:
    """Draws answers in a page with nothing else."""
    with tempfile.TemporaryDirectory() as folder, sync_playwright() as playwright:
        bundle = Path(folder) / "in_browser.js"
        esbuild = ROOT / "node_modules/.bin/esbuild"
        subprocess.run([esbuild, "bench/in_browser.js", "--bundle", f"--outfile={bundle}"], cwd=ROOT, check=True)
        chromium = playwright.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS)
        page = chromium.new_page(viewport={"width": 1280, "height": 800})
        page.set_content(PAGE.format(themes=json.dumps(build_themes())))
        page.add_script_tag(path=bundle)
        yield lambda answer: page.evaluate("answer => timed(answer)", answer) / 1e3
        chromium.close()


def definition_for(kind: ChartKind, model: Model) -> ChartDefinition:
    fitting = (load_definition(parts) for parts in charts(kind))
    return next(each for each in fitting if not kind.explain_unsupported(ChartShape(each, model)))


def run(figures: Figures) -> None:
    with browser() as paint:
        model = model_of(rows(MARKS))
        for kind in CHART_KINDS.values():
            figures.add(_measured(kind, model, paint, "10 ms, 60 ms"))
        model = model_of(rows(MANY))
        for name in ("bar", "line", "scatter", "points"):
            figures.add(_measured(CHART_KINDS[name], model, paint, "100 ms, 250 ms"))


def _measured(kind: ChartKind, model: Model, paint: In, goal: str) -> Figure:
    definition, context = definition_for(kind, model), context_of(model)
    _, _, result = work_out(definition, model, context)
    took = []
    for _ in range(TURNS):
        start = time.perf_counter()
        draw(build_picture(definition, kind, result, model, context, atlas()), kind)
        took.append(time.perf_counter() - start)
    name = f"{kind.title} ({result.frame.height * len(result.measures):,} marks)"
    painting = _painting(definition, model, paint)
    return Figure(name, statistics.median(took), goal=goal, beside={"painted": painting})


def _painting(definition: ChartDefinition, model: Model, paint: In) -> float:
    """Seconds from an answer until it is painted."""
    answer = make_chart_data(ask(definition, model, context_of(model), atlas=atlas()))
    paint(answer)
    return statistics.median(paint(answer) for _ in range(5))

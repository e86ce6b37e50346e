"""No drawing says less or other than what is: every label that is drawn is whole, stands free and on its own ground, or
is left out by a rule that keeps the highest. Measured in the browser, for all kinds, in the room that blocks have."""

from __future__ import annotations

import datetime as dt
import random
import unittest
from collections import defaultdict
from pathlib import Path
from typing import Any

from django.test import tag

from tests import NIGHTLY
from tests.browser.easel import easel, measured
from tests.browser.support import CHROMIUM
from tests.core.chart.test_kinds import MONTH, WEEKDAY, atlas, model_of
from tests.core.support import context_of
from veduta.core.chart.definition import load_definition
from veduta.core.chart.kinds import CHART_KINDS, ChartKind, ChartShape
from veduta.core.chart.question import AnsweredChart, ask

SIZES = {
    "a whole line of a page": (1180, 400),
    "a third of a page": (372, 250),
    "a telephone": (342, 300),
    "a line of upright A4": (680, 360),
}
NARROW = ("a third of a page", "a telephone")
REGIONS = ("Inner Sound", "North Reach", "Outer Skerries", "South Banks")
ROUTES = ("Aldgrave – Tern Point", "Skerry Light – Outer Haven", "Morwick – Saltness", "Brannoch Ferry Stage – Lune")


def sailings() -> list[dict[str, Any]]:
    """Two years of sailings whose fares go from some hundreds to millions, with cents."""
    luck = random.Random(33)
    return [
        {
            "latitude": 58.0 + number % 5 / 10,
            "longitude": -3.0 - number % 7 / 8,
            "region": REGIONS[number % 4],
            "route": ROUTES[number % 3 if number % 4 else 3],
            "sailed": dt.date(2024, 1, 1) + dt.timedelta(days=number * 731 // 600),
            "fare": round(luck.lognormvariate(8, 1.6), 2),
            "passengers": luck.randrange(0, 60),
        }
        for number in range(600)
    ]


ROWS = sailings()
MEASURES = [
    [{"field": "fare", "aggregate": "sum"}],
    [{"field": "fare", "aggregate": "sum"}, {"field": "passengers", "aggregate": "mean"}],
]
DIMENSIONS: list[list[Any]] = [
    [],
    ["route"],
    [MONTH],
    [WEEKDAY],
    [{"field": "passengers", "width": 5}],
    ["passengers"],
    [MONTH, "region"],
    ["route", "region"],
    [WEEKDAY, "region"],
    ["region", MONTH],
]
MOST_OF_A_KIND = 3 if NIGHTLY else 1
"""So many charts of a kind are drawn for each number of measures: every one takes its time."""


def drawn(parts: dict[str, Any]) -> AnsweredChart:
    model = model_of(ROWS)
    return ask(load_definition({"dataset": "d", **parts}), model, context_of(model), atlas=atlas())


def fitting(declared: ChartKind) -> list[dict[str, Any]]:
    """The parts of some charts that a kind can draw."""
    found, model = [], model_of(ROWS)
    for measures in MEASURES:
        fit = []
        for dimensions in DIMENSIONS:
            parts = {"show": measures, "by": dimensions[:1], "kind": declared.name}
            if len(dimensions) > 1:
                parts["split"] = dimensions[1]
            if not declared.explain_unsupported(ChartShape(load_definition({"dataset": "d", **parts}), model)):
                fit.append(parts)
        found += fit[:: max(1, len(fit) // MOST_OF_A_KIND)]
    return found


def ways(declared: ChartKind, parts: dict[str, Any]) -> list[dict[str, Any]]:
    """Charts of a kind with each choice of its labels."""
    if "labels" not in declared.settings.model_fields:
        return [parts]
    return [{**parts, "settings": {"labels": which}} for which in ("all", "extremes")]


def faults_of(texts: list[dict[str, Any]]) -> list[str]:
    """What is wrong with the texts of a drawing."""
    found = [f"“{text['said']}” ({text['role']}) {fault}" for text in texts if text["seen"] for fault in text["faults"]]
    found += [
        f"“{text['whole']}” says “{text['said']}”"
        for text in texts
        if text["seen"] and text["said"] != text["whole"] and not is_shortened_name(text)
    ]
    groups: dict[int, list[dict[str, Any]]] = defaultdict(list)
    for text in texts:
        if text["role"] == "mark" and isinstance(text["value"], int | float):
            groups[text["group"]].append(text)
    for labels in groups.values():
        highest = max(labels, key=lambda text: text["value"])
        if any(text["seen"] for text in labels) and not highest["seen"]:
            found.append(f"the highest, “{highest['whole']}”, has no label, others have")
    return found


def is_shortened_name(text: dict[str, Any]) -> bool:
    """Names may be shortened, with a sign; values never."""
    return "…" in text["said"] and not any(letter.isdigit() for letter in text["whole"])


@tag("browser")
@unittest.skipUnless(Path(CHROMIUM).exists(), "Chromium is not installed: run make test")
class Labels(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.page = easel()
        cls.addClassCleanup(cls.page.context.close)

    def check(self, declared: ChartKind, parts: dict[str, Any]) -> None:
        answered = drawn(parts)
        if answered.drawing.spec is None:
            return
        is_plain = len(parts["show"]) == 1 and parts.get("settings") in (None, {"labels": "all"})
        sizes = SIZES if is_plain and NIGHTLY else {size: SIZES[size] for size in NARROW}
        for size, (width, height) in sizes.items():
            with self.subTest(kind=declared.name, size=size, parts=parts):
                height = max(height, answered.drawing.least_height)
                self.assertEqual(faults_of(measured(self.page, answered, width, height)), [])

    def test_each_of_a_few_series_is_named_at_every_size(self):
        for kind, settings in (("line", {}), ("line", {"names": "ends"}), ("bar", {}), ("area", {}), ("lying", {})):
            parts = {"show": MEASURES[0], "by": [MONTH], "split": WEEKDAY, "kind": kind, "settings": settings}
            answered = drawn(parts)
            for size, (width, height) in SIZES.items():
                with self.subTest(kind=kind, settings=settings, size=size):
                    height = max(height, answered.drawing.least_height)
                    texts = measured(self.page, answered, width, height)
                    self.assertEqual(faults_of(texts), [])
                    seen = {text["said"] for text in texts if text["seen"] and text["role"] in ("mark", "legend-label")}
                    self.assertLessEqual({row["series"] for row in answered.drawing.rows}, seen)

    def test_every_label_of_every_kind_is_whole_and_stands_free(self):
        for declared in CHART_KINDS.values():
            for parts in fitting(declared):
                for each in ways(declared, parts):
                    self.check(declared, each)

"""Definitions that are stored: of this version, of earlier and later ones, and damaged."""

from __future__ import annotations

import json
import unittest
from collections.abc import Callable
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ConfigDict

from veduta.core.chart.definition import VERSION as CHART_VERSION
from veduta.core.chart.definition import load_definition
from veduta.core.dashboard.definition import load_dashboard, load_state
from veduta.core.data.sources import load_source
from veduta.core.errors import DefinitionProblem, NewerDefinition
from veduta.core.model.definition import load_model
from veduta.core.shaping.shaping import load_shaping
from veduta.core.stored import load

STORED = Path(__file__).parents[1] / "stored"
LOADERS: dict[str, Callable[[Any], BaseModel]] = {
    "chart": load_definition,
    "dashboard": load_dashboard,
    "link": load_state,
    "model": load_model,
    "source": load_source,
    "steps": load_shaping,
}


def stored(name: str) -> dict[str, Any]:
    return json.loads((STORED / f"{name}.json").read_text())


class Timetable(BaseModel):
    model_config = ConfigDict(extra="forbid")
    version: int = 3
    departures: list[str] = []


def first_to_second(data):
    return {"departures": data["sailings"]}


def second_to_third(data):
    return {"departures": [time.strip() for time in data["departures"]]}


UPGRADES = {1: first_to_second, 2: second_to_third}


def loaded(data) -> Timetable:
    return load(Timetable, data, name="timetable", version=3, hint="Write it anew.", upgrades=UPGRADES)


class Loading(unittest.TestCase):
    def test_what_is_of_the_present_version_stays_as_it_is(self):
        self.assertEqual(loaded({"departures": [" 06:10"]}).departures, [" 06:10"])
        self.assertEqual(loaded('{"version": 3, "departures": ["06:10"]}').departures, ["06:10"])

    def test_earlier_versions_are_brought_up_step_by_step(self):
        self.assertEqual(loaded({"version": 1, "sailings": ["06:10 "]}), Timetable(departures=["06:10"]))
        self.assertEqual(loaded({"version": 2, "departures": ["06:10 "]}), Timetable(departures=["06:10"]))

    def test_a_later_version_is_left_alone(self):
        with self.assertRaises(NewerDefinition) as caught:
            loaded({"version": 4, "anything": 1})
        self.assertIn("newer version", caught.exception.message)

    def test_what_is_damaged_is_said_with_its_place(self):
        for data in ("{", "[]", "null", b"\xff", None, [], 7):
            with self.subTest(data), self.assertRaises(DefinitionProblem) as caught:
                loaded(data)
            self.assertEqual(str(caught.exception), "This timetable is not readable. Write it anew.")
        with self.assertRaises(DefinitionProblem) as caught:
            loaded({"departures": ["06:10", 7]})
        self.assertIn("not usable", caught.exception.message)
        self.assertEqual(caught.exception.where, "departures › 1")


class EveryVersion(unittest.TestCase):
    """Files of tests/stored hold a definition of each kind as each version wrote it."""

    def test_what_earlier_versions_stored_is_read(self):
        files = sorted(STORED.glob("*.json"))
        self.assertEqual({file.stem.split("-")[0] for file in files}, set(LOADERS))
        for file in files:
            with self.subTest(file.name):
                name, written = file.stem.split("-")
                loaded_ = LOADERS[name](stored(file.stem))
                # What is stored anew is read as the same.
                self.assertEqual(LOADERS[name](loaded_.model_dump(mode="json")), loaded_)
                self.assertGreaterEqual(getattr(loaded_, "version", 1), int(written))

    def test_each_version_of_charts_is_there(self):
        written = {int(file.stem.split("-")[1]) for file in STORED.glob("chart-*.json")}
        self.assertEqual(written, set(range(1, CHART_VERSION + 1)))

    def test_the_only_page_of_earlier_dashboards_has_all_their_blocks(self):
        first = stored("dashboard-1")
        pages = [{"id": "p1", "name": "Page 1", "blocks": first["blocks"]}]
        later = {name: value for name, value in first.items() if name not in ("blocks", "version")}
        self.assertEqual(load_dashboard(first), load_dashboard(later | {"pages": pages}))

    def test_charts_of_the_first_version_keep_how_they_stack(self):
        first, second = stored("chart-1"), stored("chart-2")
        expected = load_definition(second | {"layers": []})
        self.assertEqual(load_definition(first), expected)
        self.assertEqual(load_definition(first | {"stacking": "stacked"}).settings, {})

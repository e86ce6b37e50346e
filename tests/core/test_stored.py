"""Definitions that are stored: of this version, of earlier and later ones, and damaged."""

from __future__ import annotations

import unittest

from pydantic import BaseModel, ConfigDict

from veduta.core.errors import DefinitionProblem, NewerDefinition
from veduta.core.stored import load


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

"""Saves put together into sittings."""

from __future__ import annotations

import datetime as dt
from itertools import pairwise
from unittest import TestCase

from hypothesis import given
from hypothesis import strategies as st

from veduta.core.dashboard.log import PAUSE, Save, group_sittings

START = dt.datetime(2024, 2, 28, 23, 50, tzinfo=dt.UTC)


def saves(*each):
    """Saves by who and the minutes since the start."""
    return [Save(number, who, START + dt.timedelta(minutes=minutes)) for number, (who, minutes) in enumerate(each)]


def numbers(found):
    return [[save.number for save in sitting.saves] for sitting in found]


class Sittings(TestCase):
    def test_one_person_without_a_pause_is_one_sitting(self):
        self.assertEqual(numbers(group_sittings(saves((1, 0), (1, 9), (1, 19)))), [[0, 1, 2]])

    def test_a_pause_begins_another(self):
        self.assertEqual(numbers(group_sittings(saves((1, 0), (1, 10), (1, 20.1)))), [[2], [0, 1]])

    def test_so_does_somebody_else(self):
        found = group_sittings(saves((1, 0), (2, 1), (1, 2), (None, 3), (None, 4)))
        self.assertEqual(numbers(found), [[3, 4], [2], [1], [0]])

    @given(st.lists(st.tuples(st.sampled_from([1, 2, None]), st.integers(0, 30))))
    def test_every_save_is_in_one_sitting_and_none_could_be_longer(self, steps):
        at, made = 0, []
        for who, minutes in steps:
            at += minutes
            made.append((who, at))
        found = group_sittings(saves(*made))
        self.assertEqual([save for sitting in reversed(found) for save in sitting.saves], saves(*made))
        for later, earlier in pairwise(found):
            apart = later.first.at - earlier.last.at > PAUSE
            self.assertTrue(apart or later.first.who != earlier.last.who)
        for sitting in found:
            self.assertEqual({save.who for save in sitting.saves}, {sitting.first.who})

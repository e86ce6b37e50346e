"""Answers in pieces."""

from __future__ import annotations

import unittest
from unittest import mock

from veduta.web.common import streaming
from veduta.web.common.streaming import SEND_NOW, take_next_pieces


class Pieces(unittest.TestCase):
    def setUp(self):
        # However slow the machine is.
        self.enterContext(mock.patch.object(streaming, "AT_ONCE", 3_600))

    def test_those_that_come_at_once_are_sent_together(self):
        self.assertEqual(take_next_pieces(iter([b"one ", b"two"])), (b"one two", True))

    def test_what_came_is_sent_before_what_has_to_be_waited_for(self):
        pieces = iter([b"one ", b"two", SEND_NOW.encode(), b"three"])
        self.assertEqual(take_next_pieces(pieces), (b"one two", False))
        self.assertEqual(take_next_pieces(pieces), (b"three", True))

    def test_what_takes_long_is_sent_meanwhile(self):
        with mock.patch.object(streaming, "AT_ONCE", -1):
            self.assertEqual(take_next_pieces(iter([b"one", b"two"])), (b"one", False))

"""Reading needs no writing: while the database takes nothing, dashboards open and people sign in."""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock

import httpx
from django.db import OperationalError
from django.test import tag
from django.urls import reverse

from tests.web.dashboard_support import DashboardTest
from tests.web.running import run_code, signed_in, start_server
from tests.web.test_processes import PREPARE
from veduta.web.accounts.sessions import SIGNED, SessionStore
from veduta.web.dashboards import favourites
from veduta.web.dashboards.session import DashboardSession

SOON = 5.0
"""Seconds: well below the thirty for which writing waits."""


@tag("long")
class WhileNothingCanBeWritten(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = Path(tempfile.mkdtemp(prefix="veduta-read-only-"))
        cls.addClassCleanup(shutil.rmtree, cls.folder, ignore_errors=True)
        environment = os.environ | {"VEDUTA_DATA": str(cls.folder), "VEDUTA_LOG": "ERROR", "VEDUTA_DEBUG": "1"}
        _, cls.dashboard, _ = json.loads(run_code(PREPARE, environment))
        cls.server = start_server(cls, environment)

    def lock(self) -> None:
        """Write, and do not end, as an endless transaction would."""
        writer = sqlite3.connect(self.folder / "veduta.sqlite3", isolation_level=None)
        writer.execute("BEGIN IMMEDIATE")
        self.addCleanup(writer.close)

    def ask(self, client: httpx.Client, address: str) -> httpx.Response:
        started = time.monotonic()
        answer = client.get(f"{self.server}{address}")
        self.assertLess(time.monotonic() - started, SOON, address)
        self.assertEqual(answer.status_code, 200, answer.text[:2_000])
        return answer

    def test_a_reader_opens_what_there_is(self):
        explorer, analyst = (signed_in(self, self.server, name) for name in ("explorer", "analyst"))
        self.lock()
        own = f"/dashboards/{self.dashboard}/"
        for address in (
            "/",
            own,
            f"{own}blocks/",
            f"{own}blocks/bars/",
            "/dashboards/",
            "/dashboards/inbox/",
            "/find/?find=x",
        ):
            with self.subTest(address):
                self.ask(explorer, address)
        lines = [json.loads(line) for line in self.ask(explorer, f"{own}blocks/").text.splitlines() if line.strip()]
        self.assertTrue(any("data" in line for line in lines))
        for address in ("/charts/", "/data/", "/dashboards/", f"{own}edit/"):
            with self.subTest(address):
                self.ask(analyst, address)

    def test_somebody_signs_in_and_out(self):
        self.lock()
        started = time.monotonic()
        explorer = signed_in(self, self.server, "explorer")
        self.assertLess(time.monotonic() - started, 2 * SOON)
        self.assertIn("Season", self.ask(explorer, "/dashboards/").text)


class AFullDisk(DashboardTest):
    def test_an_answer_that_breaks_off_says_why(self):
        full = OperationalError("database or disk is full")
        with mock.patch.object(DashboardSession, "answer_all", side_effect=full), self.assertLogs("veduta", "ERROR"):
            answer = self.client.get(reverse("dashboard-blocks", args=[self.dashboard.pk]))
            lines = [json.loads(line) for line in b"".join(answer.streaming_content).decode().splitlines()]
        self.assertIn("disk is full", lines[-1]["broken"])

    def test_what_is_merely_noted_fails_quietly(self):
        full = OperationalError("database or disk is full")
        with mock.patch.object(favourites.LastVisit.objects, "update_or_create", side_effect=full):
            self.assertEqual(self.client.get(reverse("dashboard", args=[self.dashboard.pk])).status_code, 200)

    def test_a_session_that_cannot_be_kept_stands_in_its_cookie_for_an_hour(self):
        full = OperationalError("database or disk is full")
        self.client.logout()
        with mock.patch.object(SessionStore, "_get_new_session_key", side_effect=full):
            self.client.force_login(self.analyst)
        self.assertTrue(self.client.cookies["sessionid"].value.startswith(SIGNED))
        address = reverse("dashboard", args=[self.dashboard.pk])
        self.assertEqual(self.client.get(address).status_code, 200)
        self.client.cookies["sessionid"] = self.client.cookies["sessionid"].value[:-2] + "xx"
        self.assertRedirects(self.client.get(address), f"{reverse('sign-in')}?next={address}")

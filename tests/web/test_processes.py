"""Two server processes on one database: each keeps answers of its own, and both are right after every change."""

from __future__ import annotations

import contextlib
import json
import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path
from unittest import mock

import httpx
from django.core.management.base import CommandError
from django.test import tag

from tests.web.running import ROOT, run_code, signed_in, start_server
from veduta.web.home.management.commands import serve

# A dataset with a formula, and a published dashboard with its sum by region, which the explorer may see.
PREPARE = """
import json
from django.contrib.auth.models import Group
from django.core.management import call_command
call_command("migrate", verbosity=0)
from tests.core.support import one_page
from tests.web.support import FERRIES, make_user, receive
from veduta.core.chart.definition import load_definition
from tests.core.support import one_page
from veduta.core.dashboard.definition import load_dashboard
from veduta.web.charts import services as charts
from veduta.web.dashboards import publishing
from veduta.web.dashboards import services as dashboards
from veduta.web.datasets.models import Dataset
from veduta.web.imports import services as intake
from veduta.web.jobs import queue
from veduta.web.modelling.changes import change_model
from veduta.web.modelling.services import load_whole_model
analyst, explorer = make_user("analyst", "analyst"), make_user("explorer", "explorer")
group = Group.objects.create(name="Harbour office")
explorer.groups.add(group)
intake.start_import(analyst, receive(analyst, FERRIES))
queue.work_off()
dataset = Dataset.objects.select_related("current").get()
dataset = change_model(analyst, dataset, "save_formula", {"name": "Taken", "text": "sum(fare)"}, 0)
taken = next(field.id for field in load_whole_model(dataset).schema if field.name == "Taken")
region = next(field.id for field in dataset.all_fields if field.source == "region")
definition = load_definition({"dataset": str(dataset.pk), "show": [{"field": taken}], "by": [region]})
chart = charts.create_chart(analyst, dataset, definition, "Taken")
charts.save_chart(analyst, chart, chart.load(), 0)
layout = load_dashboard(one_page({"id": "bars", "kind": "chart", "chart": str(chart.pk)}))
dashboard = dashboards.create_dashboard(analyst, "Season")
dashboards.save_draft(analyst, dashboard, layout, "Season", 0)
publishing.publish(analyst, dashboard)
dashboards.grant(analyst, dashboard, f"group-{group.pk}", "view", True)
print(json.dumps([str(dataset.pk), str(dashboard.pk), dataset.model_definition.formulas[0].id]))
"""
MIGRATE = """
from django.core.management import call_command
call_command("migrate", verbosity=0)
"""
MORE_ROWS = """
from tests.web.support import FERRIES, receive
from veduta.web.accounts.models import User
from veduta.web.datasets.models import Dataset
from veduta.web.imports import services as intake
from veduta.web.jobs import queue
analyst = User.objects.get(username="analyst")
more = FERRIES + "6,2026-03-01,North Reach,Tern–Gull Bank,1000,1,no\\n"
intake.start_import(analyst, receive(analyst, more, dataset=Dataset.objects.get()))
queue.work_off()
"""


@tag("long")
class TwoProcesses(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp(prefix="veduta-processes-"))
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        self.environment = os.environ | {"VEDUTA_DATA": str(self.folder), "VEDUTA_LOG": "ERROR", "VEDUTA_DEBUG": "1"}
        self.dataset, self.dashboard, self.formula = json.loads(run_code(PREPARE, self.environment))
        self.servers = [start_server(self, self.environment), start_server(self, self.environment)]

    def post(self, analyst: httpx.Client, address: str, **how) -> str:
        """What the first process answers to a change of the model."""
        headers = {"X-CSRFToken": analyst.cookies["csrftoken"], "X-Veduta": "1"}
        answer = analyst.post(f"{self.servers[0]}/data/{self.dataset}/model/{address}", headers=headers, **how)
        self.assertEqual(answer.status_code, 200, answer.text)
        return answer.text

    def shown(self, reader: httpx.Client, address: str) -> str:
        answer = reader.get(address, headers={"X-Veduta": "1"})
        self.assertEqual(answer.status_code, 200, answer.text)
        return answer.text

    def sums(self, reader: httpx.Client) -> str:
        """What both processes show by region, which is the same; asked twice, so that the second is a kept answer."""
        shown = [
            self.shown(reader, f"{server}/dashboards/{self.dashboard}/blocks/bars/?table=1")
            for server in self.servers * 2
        ]
        self.assertEqual(len(set(shown)), 1)
        return shown[0]

    def test_what_is_changed_in_one_is_right_in_both(self):
        analyst, explorer = (signed_in(self, self.servers[0], name) for name in ("analyst", "explorer"))
        first = self.sums(explorer)
        self.assertIn("180.5", first)
        formula = {"id": self.formula, "name": "Taken", "text": "sum(fare) * 2", "revision": 1}
        self.post(analyst, "formulas/save/", json=formula)
        self.assertIn("361", self.sums(explorer))
        run_code(MORE_ROWS, self.environment)
        self.assertIn("2,361", self.sums(explorer))
        rule = {"name": "Theirs", "text": "region = 'Inner Sound'", "groups": ["Harbour office"], "revision": 2}
        self.assertIn("/model/", self.post(analyst, "change/", data={"do": "save_rule", **rule}))
        theirs = self.sums(explorer)
        self.assertIn("160", theirs)
        self.assertNotIn("2,361", theirs)
        self.assertIn("2,361", self.sums(analyst))


def children_of(parent: int) -> dict[int, str]:
    """The processes that one has started, with what each does."""
    found = {}
    for status in Path("/proc").glob("[0-9]*/status"):
        with contextlib.suppress(OSError, IndexError):  # it has ended meanwhile
            if f"PPid:\t{parent}\n" in status.read_text():
                found[int(status.parent.name)] = status.with_name("cmdline").read_text().split("\0")[2]
    return found


@tag("killing", "long")
class KilledAgainAndAgain(unittest.TestCase):
    """Processes that die are started anew, however often and however soon."""

    def setUp(self):
        self.folder = Path(tempfile.mkdtemp(prefix="veduta-serve-"))
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        more = {"PORT": str(self.port), "VEDUTA_PROCESSES": "2", "VEDUTA_WORKERS": "1", "VEDUTA_LOG": "ERROR"}
        self.environment = os.environ | {"VEDUTA_DATA": str(self.folder), "VEDUTA_DEBUG": "1", **more}
        run_code(MIGRATE, self.environment)
        self.serve = subprocess.Popen(
            [sys.executable, "manage.py", "serve"], cwd=ROOT, env=self.environment, stdout=subprocess.DEVNULL
        )
        self.addCleanup(self.serve.wait)
        self.addCleanup(self.serve.terminate)
        self.wait_for(lambda: sorted(children_of(self.serve.pid).values()) == ["web", "web", "worker"])
        self.wait_for(self.answers)

    def wait_for(self, holds, seconds: float = 40) -> None:
        until = time.monotonic() + seconds
        while not holds():
            self.assertIsNone(self.serve.poll(), "the whole application has ended")
            self.assertLess(time.monotonic(), until, "it does not come")
            time.sleep(0.05)

    def answers(self) -> bool:
        try:
            return httpx.get(f"http://127.0.0.1:{self.port}/sign-in/", timeout=20).status_code == 200
        except httpx.TransportError:
            return False

    def test_any_process_five_times_in_a_row_while_requests_go_on(self):
        for what in ("web", "worker"):
            for _ in range(5):
                there = children_of(self.serve.pid)
                victim = next(pid for pid, does in sorted(there.items()) if does == what)
                os.kill(victim, signal.SIGKILL)
                self.wait_for(self.answers)
                self.wait_for(
                    lambda gone=victim: (
                        gone not in children_of(self.serve.pid)
                        and sorted(children_of(self.serve.pid).values()) == ["web", "web", "worker"]
                    )
                )

    def test_all_that_answer_at_once(self):
        for pid, does in children_of(self.serve.pid).items():
            if does == "web":
                os.kill(pid, signal.SIGKILL)
        self.wait_for(self.answers)


class Supervised(unittest.TestCase):
    def test_a_process_that_never_is_ready_ends_all_after_a_few_tries(self):
        with mock.patch.object(serve.subprocess, "Popen", self.started):
            child = serve.Child("broken")
            with self.assertRaisesRegex(CommandError, "“broken” does not run"):
                for _ in range(50):
                    child.start_at = min(child.start_at, 1e-9)  # no pause
                    child.look_after()
        self.assertEqual(self.starts, serve.TRIES)

    def test_one_that_was_ready_is_started_for_ever(self):
        self.says = b"1"
        with mock.patch.object(serve.subprocess, "Popen", self.started):
            child = serve.Child("web")
            for _ in range(60):
                child.start_at = min(child.start_at, 1e-9)
                child.look_after()
        self.assertGreater(self.starts, 20)

    def test_pauses_grow_up_to_a_bound(self):
        pauses = [serve.choose_pause(deaths) for deaths in range(1, 12)]
        self.assertEqual(pauses, [0, 0.5, 1, 2, 4, 8, 16, 30, 30, 30, 30])

    starts, says = 0, b""

    def started(self, command, *, env, **more):
        """A process that has ended as soon as it is started, having said something or nothing."""
        self.starts += 1
        if self.says:
            os.write(int(env[serve.READY]), self.says)
        return mock.Mock(poll=lambda: 1)

"""Processes of the whole application killed at random points, while rows are fetched, two people edit a draft together
and readers say things: whatever was acknowledged is there afterwards, whole."""

from __future__ import annotations

import contextlib
import json
import os
import random
import shutil
import signal
import socket
import sqlite3
import subprocess
import sys
import tempfile
import threading
import time
import unittest
from pathlib import Path
from typing import Any

import httpx
from django.test import tag

from tests.web.running import ROOT, START, run_code, signed_in
from tests.web.test_processes import children_of

KILLS = int(os.environ.get("VEDUTA_KILLS", "6"))
"""200 are asked for before a release: `VEDUTA_KILLS=200`."""
ALL = ["web", "web", "worker"]
# What dies again and again is started after growing pauses; here they are short.
SERVE = """
from django.core.management import call_command
from veduta.web.home.management.commands import serve
serve.LONGEST_PAUSE = 0.2
call_command("serve")
"""
PREPARE = """
import json
from django.core.management import call_command
call_command("migrate", verbosity=0)
from tests.core.support import one_page
from tests.web.support import make_user
from veduta.core.dashboard.definition import load_dashboard
from veduta.web.dashboards import publishing
from veduta.web.dashboards import services as dashboards
from veduta.web.datasets.models import Connection, Dataset
from veduta.web.imports import services as intake
from veduta.web.jobs import queue
from veduta.web.sources import services as sources
analyst, steward = make_user("analyst", "analyst"), make_user("steward", "steward")
connection = sources.save_connection(
    steward, Connection(kind="database"), {"name": "Tickets", "address": "sqlite:///" + TICKETS}
)
upload = sources.try_out(steward, {"connection": connection.pk, "query": "select * from sold order by number"})
intake.start_import(steward, upload, "Sold")
queue.work_off()
texts = [{"id": name, "kind": "text", "text": "0", "y": 4 * place} for place, name in enumerate(("analyst", "steward"))]
dashboard = dashboards.create_dashboard(analyst, "Season")
dashboards.save_draft(analyst, dashboard, load_dashboard(one_page(*texts)), "Season", 0)
publishing.publish(analyst, dashboard)
dashboards.grant(analyst, dashboard, f"person-{steward.pk}", "edit", True)
print(json.dumps([str(Dataset.objects.get().pk), str(dashboard.pk)]))
"""


class Somebody(threading.Thread):
    """Somebody who goes on with one thing until they are told to stop, whatever happens to the server.

    What the server has acknowledged is counted, in their own words."""

    def __init__(self, test: KilledWhileInUse, name: str) -> None:
        super().__init__(daemon=True)
        self.test, self.who, self.acknowledged = test, name, 0
        self.client = signed_in(test, test.server, name)
        self.problems: list[str] = []

    def post(self, address: str, data: Any) -> httpx.Response | None:
        """What the server answers; None where it was killed meanwhile, or the answer says that it is busy."""
        headers = {"X-CSRFToken": self.client.cookies["csrftoken"], "X-Veduta": "1"}
        try:
            answer = self.client.post(f"{self.test.server}{address}", json=data, headers=headers)
        except httpx.TransportError:
            time.sleep(0.05)
            return None
        if answer.status_code not in (200, 302, 409):
            self.problems.append(f"{address}: {answer.status_code} {answer.text[:200]}")
            return None
        return answer

    def run(self) -> None:
        while not self.test.over.is_set():
            with contextlib.suppress(httpx.TransportError):
                self.act()

    def act(self) -> None:
        raise NotImplementedError


class Editor(Somebody):
    """Writes the next number into their own block, again and again, as the page does: saved, and brought together with
    what the other saved meanwhile."""

    def __init__(self, test: KilledWhileInUse, name: str) -> None:
        super().__init__(test, name)
        self.base = test.draft()
        self.revision = test.revision()

    def act(self) -> None:
        mine = json.loads(json.dumps(self.base))
        number = self.acknowledged + 1
        block = next(each for each in mine["pages"][0]["blocks"] if each["id"] == self.who)
        block["text"] = str(number)
        state = {"definition": mine, "name": "Season"}
        address = f"/dashboards/{self.test.dashboard}/draft/"
        saved = self.post(address, {**state, "revision": self.revision})
        if saved is not None and saved.status_code == 200:
            self.base, self.revision, self.acknowledged = mine, saved.json()["revision"], number
            return
        wanted = {"base": {"definition": self.base, "name": "Season"}, "revision": self.revision, "states": [state]}
        merged = self.post(f"{address}merge/", {**wanted, "behind": 0})
        if merged is not None and merged.status_code == 200:
            answer = merged.json()
            self.base, self.revision = answer["states"][0]["definition"], answer["revision"]
            self.acknowledged = number


class Talker(Somebody):
    """Says the next number of a view."""

    def act(self) -> None:
        said = {"text": f"Number {self.acknowledged + 1}", "state": {}}
        answer = self.post(f"/dashboards/{self.test.dashboard}/comments/say/", said)
        self.acknowledged += answer is not None and answer.status_code == 200


class Fetcher(Somebody):
    """Sells some more tickets, has the rows fetched anew, and looks at how far that is."""

    def act(self) -> None:
        with contextlib.closing(sqlite3.connect(self.test.tickets, timeout=60)) as sold, sold:
            sold.executemany("insert into sold (fare) values (?)", [(9.5,)] * 50)
        rows = self.test.sold()
        answer = self.post(f"/data/{self.test.dataset}/refresh/", {})
        if answer is not None:
            self.acknowledged = rows
            self.test.over.wait(0.3)


@tag("killing", "long")
class KilledWhileInUse(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="veduta-in-use-"))
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        self.tickets = self.folder / "tickets.sqlite3"
        with sqlite3.connect(self.tickets) as sold:
            sold.execute("create table sold (number integer primary key, fare real)")
            sold.executemany("insert into sold (fare) values (?)", [(9.5,)] * 5_000)
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        more = {"PORT": str(port), "VEDUTA_PROCESSES": "2", "VEDUTA_WORKERS": "1", "VEDUTA_LOG": "CRITICAL"}
        more |= {"VEDUTA_DATA": str(self.folder), "VEDUTA_DATABASE_FOLDERS": str(self.folder), "VEDUTA_DEBUG": "1"}
        self.environment = os.environ | more
        prepared = run_code(f"TICKETS = {str(self.tickets)!r}\n" + PREPARE, self.environment)
        self.dataset, self.dashboard = json.loads(prepared)
        command, quiet = [sys.executable, "-c", START + SERVE], subprocess.DEVNULL
        self.serve = subprocess.Popen(command, cwd=ROOT, env=self.environment, stdout=quiet, stderr=quiet)
        self.addCleanup(self.serve.wait)
        self.addCleanup(self.serve.terminate)
        self.server = f"http://127.0.0.1:{port}"
        self.over = threading.Event()
        self.wait_for(self.answers)
        self.wait_for(self.is_whole)

    def wait_for(self, holds, seconds: float = 90) -> None:
        until = time.monotonic() + seconds
        while not holds():
            self.assertIsNone(self.serve.poll(), "the whole application has ended")
            self.assertLess(time.monotonic(), until, f"{holds.__name__} does not come")
            time.sleep(0.05)

    def answers(self) -> bool:
        try:
            return httpx.get(f"{self.server}/sign-in/", timeout=20).status_code == 200
        except httpx.TransportError:
            return False

    def is_whole(self) -> bool:
        return sorted(children_of(self.serve.pid).values()) == ALL

    def query(self, sql: str) -> list[tuple]:
        with contextlib.closing(sqlite3.connect(self.folder / "veduta.sqlite3", timeout=60)) as database:
            return database.execute(sql).fetchall()

    def draft(self) -> dict[str, Any]:
        return json.loads(self.query("select draft from dashboards_dashboard")[0][0])

    def revision(self) -> int:
        return self.query("select revision from dashboards_dashboard")[0][0]

    def written(self, name: str) -> int:
        """The number that stands in somebody's block."""
        return next(int(each["text"]) for each in self.draft()["pages"][0]["blocks"] if each["id"] == name)

    def sold(self) -> int:
        with contextlib.closing(sqlite3.connect(self.tickets, timeout=60)) as sold:
            return sold.execute("select count(*) from sold").fetchone()[0]

    def rows_of_version(self) -> int:
        """The rows of the current version, each of whose columns is there whole."""
        ((version, rows, state),) = self.query(
            "select v.id, v.rows, v.state from datasets_version v join datasets_dataset d on d.current_id = v.id"
        )
        self.assertEqual(state, "ready")
        columns = self.query(
            f"select count(*), max(position) from datasets_chunk where version_id = {version} group by column"
        )
        self.assertTrue(columns and all(count == last + 1 for count, last in columns))
        return rows

    def check(self, editors: list[Editor], talker: Talker) -> None:
        """Everything that was acknowledged up to now is there."""
        for editor in editors:
            acknowledged = editor.acknowledged
            self.assertGreaterEqual(self.written(editor.who), acknowledged)
        said = talker.acknowledged
        ((there,),) = self.query("select count(distinct text) from dashboards_comment")
        self.assertGreaterEqual(there, said)
        self.rows_of_version()

    def test_what_was_acknowledged_is_there(self) -> None:
        editors = [Editor(self, "analyst"), Editor(self, "steward")]
        talker, fetcher = Talker(self, "steward"), Fetcher(self, "analyst")
        everybody = [*editors, talker, fetcher]
        for each in everybody:
            each.start()
        for _ in range(KILLS):
            time.sleep(random.uniform(0, 0.4))  # the point at which it dies
            victim = random.choice(list(children_of(self.serve.pid)))
            with contextlib.suppress(ProcessLookupError):
                os.kill(victim, signal.SIGKILL)
            self.check(editors, talker)
            self.wait_for(self.answers)
            self.wait_for(self.is_whole)
        self.over.set()
        for each in everybody:
            each.join(120)
        self.check(editors, talker)
        self.assertEqual([each.problems for each in everybody], [[]] * len(everybody))
        self.assertTrue(all(each.acknowledged for each in everybody), [each.acknowledged for each in everybody])
        unfinished = "select count(*) from datasets_refresh where state in ('running', 'queued')"
        self.wait_for(lambda: self.query(unfinished) == [(0,)])
        self.assertGreaterEqual(self.rows_of_version(), fetcher.acknowledged)
        self.assertEqual(self.query("pragma integrity_check"), [("ok",)])
        self.assertEqual(self.query("select count(*) from datasets_version where state = 'loading'"), [(0,)])


if __name__ == "__main__":
    unittest.main()

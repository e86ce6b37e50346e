"""A worker killed at random points of a refresh, again and again: no half version, and none lost."""

from __future__ import annotations

import os
import random
import shutil
import signal
import sqlite3
import subprocess
import sys
import tempfile
import time
import unittest
from contextlib import suppress
from pathlib import Path

from django.test import tag

ROOT = Path(__file__).parents[2]
KILLS = int(os.environ.get("VEDUTA_KILLS", "50"))
PREPARE = """
from pathlib import Path
from django.core.management import call_command
call_command("migrate", verbosity=0)
from veduta.demo.generate import generate_sailings
from veduta.demo.load import import_file, load_people
from veduta.web.datasets.models import Dataset
from veduta.core.shaping.shaping import load_shaping
folder = Path(FOLDER)
generate_sailings(ROWS).write_csv(folder / "sailings.csv")
dataset = import_file(load_people()["analyst"], folder / "sailings.csv", "Sailings")
ids = {f.source: f.id for f in dataset.all_fields}
formula = "difference(passengers) along (departure) restart (route)"
steps = [
    {"id": "s1", "do": "formula", "name": "Step", "formula": formula},
    {"id": "s2", "do": "filter", "filters": [{"kind": "range", "field": ids["capacity"], "low": 0}]},
]
dataset.steps = load_shaping({"steps": steps}).model_dump(mode="json")
dataset.save()
"""
# For each line that comes in, a worker of its own: it puts right what was cut off, then reads the file anew and runs
# the steps. All is imported before, and nothing yet asked of Polars or the database: a fork is as good as a start.
WORKERS = """
import os, sys
from veduta.web.jobs import queue
from veduta.web.datasets.models import Dataset, Refresh, Upload

def work():
    dataset = Dataset.objects.get()
    queue.take_back(0)
    queue.work_off()
    last = dataset.uploads.latest("created_at")
    again = Upload.objects.create(
        dataset=dataset, file_name=last.file_name, path=last.path, size=last.size, options=last.options,
        fields=last.fields, positions=last.positions, width=last.width, state="queued", owner=last.owner,
    )
    Refresh.objects.create(dataset=dataset, cause="file", upload=again)
    queue.work_off()
    print("done", flush=True)

for _ in sys.stdin:
    worker = os.fork()
    if not worker:
        try:
            work()
        finally:
            os._exit(0)
    print(worker, flush=True)
    os.waitpid(worker, 0)
    print("ended", flush=True)
"""
START = "from veduta.web import installation\ninstallation.start()\n"
ROWS = 20_000


@tag("killing")
class Killed(unittest.TestCase):
    def setUp(self):
        self.folder = Path(tempfile.mkdtemp(prefix="veduta-killed-"))
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        self.environment = os.environ | {"VEDUTA_DATA": str(self.folder), "VEDUTA_LOG": "ERROR"}
        code = START + f"FOLDER, ROWS = {str(self.folder)!r}, {ROWS}\n" + PREPARE
        subprocess.run(
            [sys.executable, "-c", code], cwd=ROOT, env=self.environment, check=True, stdout=subprocess.DEVNULL
        )

        code = START + WORKERS
        self.workers = subprocess.Popen(
            [sys.executable, "-c", code],
            cwd=ROOT,
            env=self.environment,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
        )
        self.addCleanup(self.workers.communicate)

    def start(self) -> int:
        """Start a worker; returns its process number."""
        self.workers.stdin.write("start\n")
        self.workers.stdin.flush()
        return int(self.workers.stdout.readline())

    def ended(self) -> list[str]:
        """Wait for the worker's end; returns what it said."""
        return [line.strip() for line in iter(self.workers.stdout.readline, "ended\n")]

    def query(self, sql: str):
        with sqlite3.connect(self.folder / "veduta.sqlite3") as database:
            return database.execute(sql).fetchall()

    def check_whole(self) -> int:
        """The current version is ready and has each of its columns whole; returns its number."""
        (current,) = self.query("select current_id from datasets_dataset")[0]
        state, number, rows = self.query(f"select state, number, rows from datasets_version where id = {current}")[0]
        self.assertEqual((state, rows), ("ready", ROWS + 1))
        columns = self.query(
            f"select column, count(*), max(position) from datasets_chunk where version_id = {current} group by column"
        )
        self.assertTrue(all(count == last + 1 for _, count, last in columns))
        self.assertIn(len(columns), (16, 17))  # before the steps, and with their column
        return number

    def test_no_half_version_and_none_lost(self):
        self.start()
        begun = time.perf_counter()
        self.assertEqual(self.ended(), ["done"])
        lasting = time.perf_counter() - begun
        number, hits = self.check_whole(), 0
        for _ in range(KILLS):
            worker = self.start()
            time.sleep(random.uniform(0, lasting))
            with suppress(ProcessLookupError):  # it was done before
                os.kill(worker, signal.SIGKILL)
            self.ended()
            self.assertGreaterEqual(self.check_whole(), number)
            number = self.check_whole()
            hits += bool(self.query("select 1 from datasets_refresh where state = 'running'"))
        self.start()
        self.assertEqual(self.ended(), ["done"])
        self.assertGreater(self.check_whole(), 1)
        self.assertGreater(hits, KILLS // 10)  # many kills hit a refresh
        self.assertEqual(self.query("select count(*) from datasets_version where state = 'loading'"), [(0,)])
        self.assertEqual(
            self.query("select count(*) from datasets_refresh where state in ('running', 'queued')"), [(0,)]
        )
        self.assertGreater(self.query("select count(*) from datasets_refresh where state = 'interrupted'")[0][0], 0)
        kept = self.query("select count(*) from datasets_version where number is not null")[0][0]
        self.assertLessEqual(kept, 10)

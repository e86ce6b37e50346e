"""The running server: slow, broken and leaving clients hold nobody up, and its processes end with it."""

from __future__ import annotations

import contextlib
import os
import shutil
import signal
import socket
import sqlite3
import subprocess
import sys
import tempfile
import time
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import httpx
from django.test import tag

from tests.web.running import ROOT, run_code, signed_in, start_server, token_of

PEOPLE = """
from django.core.management import call_command
call_command("migrate", verbosity=0)
from tests.web.support import make_user
make_user("analyst", "analyst")
"""
DATABASE = """
import sqlite3
from django.conf import settings
from tests.web.support import make_user
from veduta.web.accounts.models import User
from veduta.web.datasets.models import Connection
from veduta.web.sources.services import save_connection
folder = settings.DATA_DIR / "demo"
folder.mkdir()
sqlite3.connect(folder / "tides.sqlite").close()
data = {"name": "Tides", "address": f"sqlite:///{folder}/tides.sqlite"}
print(save_connection(User.objects.get(), Connection(kind="database"), data).pk)
"""
FROM_WHERE = """
from axes.models import AccessFailureLog
print(AccessFailureLog.objects.get(username="{name}").ip_address)
"""
ENDLESS = "with recursive n(i) as (select 1 union all select i + 1 from n) select sum(i) from n"
HALF_SENT = (
    b"",
    b"GET / HT",
    b"GET / HTTP/1.1\r\nHost: 127.0.0.1\r\nX-Slow: ",
    b"POST /sign-in/ HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 500\r\n\r\nname=",
    b"POST /data/uploads/ HTTP/1.1\r\nHost: 127.0.0.1\r\nTransfer-Encoding: chunked\r\n\r\n5\r\nab",
)
SLOW = 200


@tag("long")
class Running(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.folder = Path(tempfile.mkdtemp(prefix="veduta-server-"))
        cls.addClassCleanup(shutil.rmtree, cls.folder, ignore_errors=True)
        cls.environment = os.environ | {"VEDUTA_DATA": str(cls.folder), "VEDUTA_LOG": "ERROR", "VEDUTA_DEBUG": "1"}
        run_code(PEOPLE, cls.environment)
        cls.server = start_server(cls, cls.environment)
        cls.place = ("127.0.0.1", int(cls.server.rpartition(":")[2]))

    def test_a_backup_is_whole_and_overwrites_nothing(self):
        copy = self.folder / "copy"
        command = [sys.executable, "manage.py", "backup", str(copy)]
        subprocess.run(command, cwd=ROOT, env=self.environment, check=True, stdout=subprocess.DEVNULL)
        with contextlib.closing(sqlite3.connect(copy / "veduta.sqlite3")) as database:
            people = database.execute("select count(*) from accounts_user").fetchone()[0]
        self.assertGreater(people, 0)
        self.assertTrue((copy / "uploads").is_dir())
        again = subprocess.run(command, cwd=ROOT, env=self.environment, capture_output=True, text=True)
        self.assertIn("is there already", again.stderr)

    def half_sent(self, data: bytes) -> socket.socket:
        connection = socket.create_connection(self.place)
        self.addCleanup(connection.close)
        connection.sendall(data)
        return connection

    def answer_of(self, connection: socket.socket) -> str:
        """What comes until the server closes the connection."""
        connection.settimeout(60)
        with contextlib.suppress(ConnectionResetError):
            return b"".join(iter(lambda: connection.recv(4_096), b"")).decode()
        return ""

    def test_many_slow_clients_leave_the_page_of_a_reader_quick(self):
        reader = signed_in(self, self.server, "analyst")
        reader.get(self.server)  # what is loaded once
        slow = [self.half_sent(HALF_SENT[i % len(HALF_SENT)]) for i in range(SLOW)]
        for connection in slow[:50]:
            with contextlib.suppress(OSError):
                connection.sendall(b"a")
        took = []
        for _ in range(5):
            began = time.perf_counter()
            self.assertEqual(reader.get(self.server).status_code, 200)
            took.append(time.perf_counter() - began)
        self.assertLess(min(took), 1, "the page of a reader")

    def test_what_never_comes_to_its_end_is_given_up(self):
        with ThreadPoolExecutor(len(HALF_SENT)) as pool:
            answers = list(pool.map(lambda data: self.answer_of(self.half_sent(data)), HALF_SENT))
        self.assertEqual(answers[:3], ["", "", ""])
        for answer in answers[3:]:
            self.assertIn("408", answer)
            self.assertIn("came too slowly", answer)

    def test_what_is_too_large_is_refused_before_it_is_read(self):
        head = b"POST /data/uploads/ HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 90000000\r\n\r\n"
        answer = self.answer_of(self.half_sent(head))
        self.assertIn("413", answer.splitlines()[0])
        self.assertIn("more than 5 MB", answer)
        long = b"GET /" + b"a" * 70_000 + b" HTTP/1.1\r\n\r\n"
        self.assertIn("400", self.answer_of(self.half_sent(long)).splitlines()[0])

    def test_who_is_signed_in_sends_large_files_but_to_one_address_only(self):
        analyst = signed_in(self, self.server, "analyst")
        headers = {"X-CSRFToken": analyst.cookies["csrftoken"], "X-Veduta": "1", "X-File-Name": "large.csv"}
        rows = b"port,fare\n" + b"Quay,7\n" * 900_000
        answer = analyst.post(f"{self.server}/data/uploads/", content=rows, headers=headers)
        self.assertEqual(answer.status_code, 200, answer.text)
        with contextlib.suppress(httpx.TransportError):  # it may be told so while it still sends
            refused = analyst.post(f"{self.server}/data/paste/", content=rows, headers=headers)
            self.assertEqual((refused.status_code, "more than 5 MB" in refused.text), (413, True))

    def test_a_proxy_is_believed_who_asks_only_if_the_settings_say_so(self):
        for proxied, address in (("1", "203.0.113.5"), ("0", "127.0.0.1")):
            server = start_server(self, self.environment | {"VEDUTA_BEHIND_PROXY": proxied})
            headers = {"X-Forwarded-For": "198.51.100.9, 203.0.113.5"}  # the first is what the sender says of itself
            with httpx.Client(headers=headers, timeout=20) as client:
                form = {"username": f"proxied-{proxied}", "password": "guess", **token_of(client, f"{server}/sign-in/")}
                client.post(f"{server}/sign-in/", data=form)
            asked = run_code(FROM_WHERE.format(name=f"proxied-{proxied}"), self.environment)
            self.assertEqual(asked.strip(), address)

    def test_a_query_ends_when_the_person_who_asked_it_leaves(self):
        number = run_code(DATABASE, self.environment).strip()
        server = start_server(self, self.environment | {"VEDUTA_THREADS": "1"})
        analyst = signed_in(self, server, "analyst")
        headers = {"X-CSRFToken": analyst.cookies["csrftoken"], "X-Veduta": "1"}
        address = f"{server}/data/connections/{number}/try/"
        with self.assertRaises(httpx.ReadTimeout):
            analyst.post(address, json={"sql": ENDLESS}, headers=headers, timeout=1)
        # There is one thread: it would be held by the query for a while yet.
        self.assertEqual(analyst.get(f"{server}/data/", timeout=10).status_code, 200)


@tag("long")
class Family(unittest.TestCase):
    """What `serve` starts."""

    def setUp(self):
        self.folder = Path(tempfile.mkdtemp(prefix="veduta-family-"))
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            self.port = free.getsockname()[1]
        environment = {"VEDUTA_DATA": str(self.folder), "PORT": str(self.port), "VEDUTA_WORKERS": "1"}
        self.environment = os.environ | environment | {"VEDUTA_PROCESSES": "2", "VEDUTA_DEBUG": "1"}
        run_code(PEOPLE, self.environment)
        self.serve = subprocess.Popen(
            [sys.executable, "manage.py", "serve"], cwd=ROOT, env=self.environment, stdout=subprocess.DEVNULL
        )
        self.addCleanup(self.serve.wait)
        self.addCleanup(self.serve.kill)
        self.until(lambda: len(self.children()) == 3 and self.answers(), seconds=180)

    def children(self) -> set[int]:
        listed = subprocess.run(["ps", "-o", "pid=", "--ppid", str(self.serve.pid)], capture_output=True, text=True)
        return {int(number) for number in listed.stdout.split()}

    def answers(self) -> bool:
        with contextlib.suppress(httpx.TransportError):
            return httpx.get(f"http://127.0.0.1:{self.port}/sign-in/", timeout=20).status_code == 200
        return False

    def until(self, holds, seconds: float = 60) -> None:
        end = time.monotonic() + seconds
        while not holds():
            self.assertLess(time.monotonic(), end, "it did not come about in time")
            time.sleep(0.2)

    def test_children_go_when_it_is_killed(self):
        children = self.children()
        self.serve.kill()
        self.until(lambda: not any(Path(f"/proc/{number}").exists() for number in children))

    def test_one_that_dies_is_started_anew_and_the_port_is_said_to_be_taken(self):
        before = self.children()
        os.kill(min(before), signal.SIGKILL)
        self.until(lambda: len(self.children()) == 3 and self.children() != before)
        self.assertTrue(self.answers())
        second = subprocess.run(
            [sys.executable, "manage.py", "serve"], cwd=ROOT, env=self.environment, capture_output=True, text=True
        )
        self.assertIn(f"Port {self.port} cannot be used", second.stderr)
        self.serve.terminate()
        self.assertEqual(self.serve.wait(30), 0)

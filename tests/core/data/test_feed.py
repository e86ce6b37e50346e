"""Fetching from a small server that misbehaves as it is told."""

from __future__ import annotations

import contextlib
import datetime as dt
import json
import threading
from email.utils import format_datetime
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from unittest import mock
from urllib.parse import parse_qs, urlsplit

from tests.core.support import FolderTest
from veduta.core.data.deadline import Deadline, DeadlineExceeded
from veduta.core.data.feed import Feed, FeedProblem, Paging, fetch
from veduta.core.data.hosts import is_public
from veduta.core.data.landing import Landing
from veduta.core.errors import FileProblem, QueryCancelled


class Harbour(BaseHTTPRequestHandler):
    """Answers from `server.script`: a list of (status, headers, body), or a function of the path and query."""

    def do_GET(self):
        parts = urlsplit(self.path)
        self.server.asked.append((parts.path, {k: v[0] for k, v in parse_qs(parts.query).items()}, dict(self.headers)))
        script = self.server.script
        status, headers, body = script(parts.path, parse_qs(parts.query)) if callable(script) else script.pop(0)
        body = body if isinstance(body, bytes) else json.dumps(body).encode()
        self.send_response(status)
        for name, value in {"Content-Length": str(len(body)), **headers}.items():
            self.send_header(name, value)
        self.end_headers()
        with contextlib.suppress(BrokenPipeError, ConnectionResetError):  # who asks may have given up
            self.wfile.write(body)

    def log_message(self, *args):
        """Say nothing."""


class Feeds(FolderTest):
    def setUp(self):
        super().setUp()
        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Harbour)
        self.server.asked, self.server.script = [], []
        threading.Thread(target=self.server.serve_forever, args=(0.01,), daemon=True).start()
        self.addCleanup(self.server.server_close)
        self.addCleanup(self.server.shutdown)
        self.host = f"127.0.0.1:{self.server.server_port}"
        self.waits: list[float] = []

    def fetch(self, script, feed: Feed | None = None, **more):
        self.server.script = script
        self.landing = Landing.begin(self.folder / "landed")
        more = {"allowed": frozenset([self.host]), "sleep": self.waits.append, **more}
        return fetch(feed or Feed(path="counts"), f"http://{self.host}", self.landing, **more)

    def refused(self, script, said: str, feed: Feed | None = None, **more):
        with self.assertRaisesRegex((FeedProblem, FileProblem), said):
            self.fetch(script, feed, **more)

    def rows(self) -> int:
        return self.landing.rows

    def test_pages_by_number_offset_and_next(self):
        records = [{"n": i} for i in range(25)]

        def numbered(path, query):
            page = int(query["page"][0])
            return 200, {}, {"rows": records[(page - 1) * 10 : page * 10]}

        def offset(path, query):
            start = int(query["from"][0])
            return 200, {}, records[start : start + int(query["size"][0])]

        def linked(path, query):
            start = int(query.get("at", ["0"])[0])
            return (
                200,
                {},
                {
                    "rows": records[start : start + 10],
                    "links": {"next": f"/counts?at={start + 10}" if start < 20 else None},
                },
            )

        def marked(path, query):
            start = int(query.get("cursor", ["0"])[0])
            return 200, {}, {"rows": records[start : start + 10], "cursor": str(start + 10) if start < 20 else ""}

        for script, paging in (
            (numbered, Paging(how="page", parameter="page")),
            (offset, Paging(how="offset", parameter="from", start=0, size_parameter="size", size=10)),
            (linked, Paging(how="next", next="links.next")),
            (marked, Paging(how="next", next="cursor", parameter="cursor")),
        ):
            with self.subTest(paging.how):
                self.fetch(script, Feed(path="counts", paging=paging))
                self.assertEqual(self.rows(), 25)
        self.fetch(numbered, Feed(paging=Paging(how="page", parameter="page")), limit=12)
        self.assertEqual(self.rows(), 20)

    def test_an_endless_feed_ends_with_a_message(self):
        self.refused(
            lambda path, query: (200, {}, [{"n": 1}]),
            "would never end",
            Feed(paging=Paging(how="page", parameter="page")),
        )

    def test_csv_and_the_secret_in_a_header(self):
        self.fetch(
            [(200, {}, b"port;n\nQuay;5\nTern;7\n")],
            Feed(path="x", format="csv"),
            headers={"Authorization": "Bearer s"},
        )
        self.assertEqual((self.landing.headings, self.rows()), (["port", "n"], 2))
        self.assertEqual(self.server.asked[0][2]["Authorization"], "Bearer s")

    def test_what_may_pass_is_tried_again(self):
        self.fetch([(503, {}, b""), (429, {"Retry-After": "7"}, b""), (200, {}, [{"n": 1}])])
        self.assertEqual(self.rows(), 1)
        self.assertTrue(1 <= self.waits[0] < 2)
        self.assertEqual(self.waits[1], 7)

    def test_it_waits_until_the_moment_it_is_told(self):
        soon = format_datetime(dt.datetime.now(dt.UTC) + dt.timedelta(seconds=20), usegmt=True)
        self.fetch([(429, {"Retry-After": soon}, b""), (200, {}, [{"n": 1}])])
        self.assertTrue(15 < self.waits[0] <= 20)

    def test_what_does_not_pass_is_said(self):
        for script, said in (
            ([(401, {}, b"")], "refuses us"),
            ([(404, {}, b"")], "nothing at this address"),
            ([(500, {}, b"")] * 4, "answers with an error"),
            ([(429, {}, b"")] * 4, "too often"),
            ([(429, {"Retry-After": "3600"}, b"")], "asks to wait 3,600 seconds"),
            ([(200, {}, b'{"a": [')], "not readable JSON"),
            ([(200, {}, b"<html>")], "not readable JSON"),
            ([(200, {}, {"rows": {"a": 5}})], "nothing at “items”"),
        ):
            with self.subTest(said):
                self.refused(list(script), said, Feed(records="items") if "items" in said else None)
        self.assertEqual(self.landing.rows, 0)

    def test_a_feed_that_is_down_or_slow(self):
        slow = threading.Event()
        self.addCleanup(slow.set)

        def wait(path, query):
            slow.wait(5)
            return 200, {}, []

        self.refused(wait, "did not answer within 0.05 seconds", Feed(timeout=0.05))
        self.server.shutdown()
        self.server.server_close()
        self.refused([], "cannot be reached: the connection was refused")

    def test_an_answer_of_many_megabytes_is_cut_off(self):
        self.refused([(200, {}, b" " * 300_000)], "larger than 0 MB", most_bytes=200_000)

    def test_only_what_changed(self):
        first = self.fetch([(200, {"ETag": '"v1"'}, [{"n": 1}])])
        self.assertEqual(first.marks, {"etag": '"v1"'})
        again = self.fetch([(304, {}, b"")], marks=first.marks)
        self.assertTrue(again.unchanged)
        self.assertEqual(self.server.asked[-1][2]["If-None-Match"], '"v1"')

    def test_the_latest_value_stands_for_last(self):
        self.fetch([(200, {}, [{"n": 1}])], Feed(query={"since": ":last", "all": "yes"}), last="2026-10-30")
        self.assertEqual(self.server.asked[0][1], {"since": "2026-10-30", "all": "yes"})

    def test_private_places_are_not_asked_not_even_by_redirect(self):
        self.refused([], "inside a private network", allowed=frozenset())
        self.assertEqual(self.server.asked, [])
        for target in ("http://169.254.169.254/latest", "http://[::1]/x", "http://10.0.0.1/", "http://0.0.0.0/"):
            self.refused([(302, {"Location": target}, b"")], "inside a private network")
        self.refused([(302, {"Location": "file:///etc/hosts"}, b"")], "not a web address")
        self.refused(lambda path, query: (302, {"Location": "/again"}, b""), "redirects again and again")
        for number in (
            "127.0.0.1",
            "10.1.1.1",
            "192.168.0.9",
            "172.16.0.1",
            "169.254.0.1",
            "::1",
            "fe80::1",
            "::ffff:10.0.0.1",
            "224.0.0.1",
            "0.0.0.0",
            "100.64.0.1",
            "64:ff9b::a00:1",
            "64:ff9b::7f00:1",
            "2002:a00:1::1",
            "2002:7f00:1::",
            "::127.0.0.1",
            "::10.0.0.1",
            "::",
        ):
            self.assertFalse(is_public(number), number)
        for number in ("93.184.216.34", "64:ff9b::5db8:d822", "2002:5db8:d822::1", "2606:4700::1111"):
            self.assertTrue(is_public(number), number)

    def test_an_allowed_port_is_that_port_only(self):
        self.refused([], "inside a private network", allowed=frozenset(["127.0.0.1:1"]))
        self.fetch([(200, {}, [{"n": 1}])], allowed=frozenset(["127.0.0.1"]))

    def test_an_answer_that_trickles_in_for_ever_is_left(self):
        self.refused_with(DeadlineExceeded, [(200, {}, b" " * 300_000)], patience=Deadline(0))
        self.refused_with(QueryCancelled, [(200, {}, [{"n": 1}])], patience=Deadline(wanted=lambda: False))

    def refused_with(self, problem, script, **more):
        with self.assertRaises(problem):
            self.fetch(script, **more)

    def test_a_name_is_looked_up_once_and_that_number_is_asked(self):
        found = [(2, 1, 6, "", ("127.0.0.1", self.server.server_port))]
        with mock.patch("socket.getaddrinfo", return_value=found) as looked:
            self.server.script = [(200, {}, [{"n": 1}])]
            landing = Landing.begin(self.folder / "landed")
            address = f"http://feeds.skerry-sound.example:{self.server.server_port}"
            fetch(Feed(), address, landing, allowed=frozenset(["feeds.skerry-sound.example"]))
        self.assertEqual(looked.call_count, 1 + len([c for c in looked.call_args_list if c.args[0] == "127.0.0.1"]))
        self.assertTrue(self.server.asked[0][2]["Host"].startswith("feeds.skerry-sound.example"))

    def test_no_header_of_ours_follows_a_redirect_to_another_host(self):
        other = f"http://localhost:{self.server.server_port}/elsewhere"
        self.fetch(
            [(302, {"Location": other}, b""), (200, {}, [{"n": 1}])],
            Feed(headers={"X-Harbour": "own"}),
            headers={"Authorization": "Bearer s"},
            marks={"etag": '"v1"'},
            allowed=frozenset([self.host, "localhost"]),
        )
        first, second = (asked[2] for asked in self.server.asked)
        for name in ("Authorization", "X-Harbour", "If-None-Match"):
            self.assertIn(name, first)
            self.assertNotIn(name, second)

    def test_an_empty_list_is_no_rows_and_no_error(self):
        self.fetch([(200, {}, {"rows": []})])
        self.assertEqual(self.rows(), 0)

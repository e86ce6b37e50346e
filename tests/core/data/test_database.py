"""Reading databases: SQLite always, PostgreSQL where its binaries are on the machine."""

from __future__ import annotations

import datetime as dt
import os
import shutil
import socket
import sqlite3
import subprocess
import tempfile
import unittest
from pathlib import Path

from tests.core.support import FolderTest
from veduta.core.data.database import DatabaseProblem, fetch_rows, only_reads, open_engine, tables
from veduta.core.data.landing import Landing


class ReadingQueries(unittest.TestCase):
    def test_only_one_reading_statement(self):
        for query in (
            "select 1",
            "SELECT * FROM t WHERE note = 'delete; update';",
            "with x as (select 1) select * from x",
            "-- note\nselect 1;",
        ):
            self.assertTrue(only_reads(query))
        for query, said in (
            ("", "no query yet"),
            (" ; ", "no query yet"),
            ("select 1; select 2", "one statement"),
            ("delete from t", "change something"),
            ("select 1; drop table t", "one statement"),
            ("update t set a = 1", "change something"),
            ("create table x (a int)", "change something"),
            ("with x as (delete from t returning *) select * from x", "change something"),
            ("select * into y from t", "change something"),
            ("pragma user_version", "change something"),
        ):
            with self.subTest(query), self.assertRaisesRegex(DatabaseProblem, said):
                only_reads(query)


class Sqlite(FolderTest):
    def setUp(self):
        super().setUp()
        path = self.folder / "operations.sqlite"
        with sqlite3.connect(path) as database:
            database.execute("create table requests (id integer, topic text, paid real, mixed, raw blob)")
            database.executemany(
                "insert into requests values (?,?,?,?,?)",
                [(i, f"Topic {i % 3}", i / 2, i if i % 2 else f"x{i}", b"\x01") for i in range(10)],
            )
            database.execute("create view open_requests as select * from requests where id > 7")
        self.engine = open_engine(f"sqlite:///{path}")
        self.addCleanup(self.engine.dispose)

    def landed(self, **what) -> dict[str, list]:
        landing = Landing.begin(self.folder / "landed")
        fetch_rows(self.engine, landing, **what)
        landing.finish()
        frames = [block.frame for block in landing.blocks()]
        return {
            name: [v for frame in frames for v in frame[str(i)].to_list()] for i, name in enumerate(landing.headings)
        }

    def test_tables_queries_and_trying_out(self):
        self.assertEqual(tables(self.engine), ["open_requests", "requests"])
        found = self.landed(table_name="requests")
        self.assertEqual((found["id"], found["paid"][3], found["raw"][0]), (list(range(10)), 1.5, "01"))
        self.assertEqual(found["mixed"][:2], ["x0", "1"])
        self.assertEqual(
            self.landed(query="select id, id as id from requests where id > :last", last=7),
            {"id": [8, 9], "id (2)": [8, 9]},
        )
        self.assertEqual(len(self.landed(table_name="requests", limit=4)["id"]), 4)

    def test_it_cannot_be_written_to_and_says_what_is_wrong(self):
        with self.assertRaisesRegex(DatabaseProblem, "The database says: no such table"):
            self.landed(query="select ':x' from nowhere")
        with self.assertRaisesRegex(DatabaseProblem, "not known"):
            open_engine("oddbase://host/x")
        with self.engine.connect() as connection, self.assertRaisesRegex(Exception, "readonly"):
            connection.exec_driver_sql("delete from requests")


def postgres_folder() -> Path | None:
    folders = [Path(found).parent for found in [shutil.which("initdb")] if found] + sorted(
        Path("/usr/lib/postgresql").glob("*/bin")
    )
    return next((folder for folder in folders if (folder / "initdb").exists()), None)


@unittest.skipUnless(postgres_folder(), "PostgreSQL's binaries are not on this machine")
class Postgres(FolderTest):
    """A throw-away cluster on loopback, run as the user nobody where the tests run as root."""

    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.home = Path(tempfile.mkdtemp(prefix="veduta-pg-"))
        cls.addClassCleanup(shutil.rmtree, cls.home, ignore_errors=True)
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            cls.port = probe.getsockname()[1]
        user = {"user": "nobody"} if os.geteuid() == 0 else {}
        if user:
            shutil.chown(cls.home, "nobody")
            cls.home.chmod(0o700)
        bin_ = postgres_folder()
        quiet = {"check": True, "stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, "cwd": "/", **user}
        try:
            subprocess.run(
                [bin_ / "initdb", "-D", cls.home / "data", "-U", "reader", "--auth=trust", "--no-sync"], **quiet
            )
            options = f"-p {cls.port} -c listen_addresses=127.0.0.1 -c unix_socket_directories={cls.home} -c fsync=off"
            subprocess.run([bin_ / "pg_ctl", "-D", cls.home / "data", "-o", options, "-w", "start"], **quiet)
        except (subprocess.CalledProcessError, PermissionError) as error:
            raise unittest.SkipTest(f"PostgreSQL does not start here: {error}") from None
        cls.addClassCleanup(
            subprocess.run, [bin_ / "pg_ctl", "-D", cls.home / "data", "-m", "immediate", "stop"], **quiet
        )

    def test_rows_of_all_types_and_nothing_is_written(self):
        engine = open_engine(f"postgresql://reader@127.0.0.1:{self.port}/postgres")
        self.addCleanup(engine.dispose)
        with engine.begin() as connection:
            connection.exec_driver_sql(
                "create table fares (id bigint, paid numeric(9,2), day date, at timestamptz, open boolean, note"
                " text, tags text[])"
            )
            connection.exec_driver_sql(
                "insert into fares select i, i * 1.25, date '2026-10-01' + i, timestamptz '2026-10-01 12:00+02',"
                " mod(i, 2) = 0, null, array['a'] from generate_series(1, 120000) i"
            )
        landing = Landing.begin(self.folder / "landed")
        self.assertEqual(tables(engine), ["fares"])
        fetch_rows(engine, landing, table_name="public.fares")
        landing.finish()
        first = next(landing.blocks()).frame.row(0)
        self.assertEqual(first[:6], (1, 1.25, dt.date(2026, 10, 2), dt.datetime(2026, 10, 1, 10), False, None))
        self.assertEqual(landing.rows, 120_000)
        with self.assertRaisesRegex(DatabaseProblem, "read-only"):
            fetch_rows(engine, landing, query="select setval('s', 1) from (select nextval('s')) x") if self._sequence(
                engine
            ) else None
        with self.assertRaisesRegex(DatabaseProblem, "cannot be reached|refused"):
            fetch_rows(open_engine(f"postgresql://reader@127.0.0.1:{self.port + 1}/x"), landing, query="select 1")

    def _sequence(self, engine) -> bool:
        with engine.begin() as connection:
            connection.exec_driver_sql("create sequence s")
        return True

"""A stand-in for the ferry company's other systems: a small web server on loopback and an SQLite operations database.

It serves harbour counts (wide: a new column every day), the weather, and bookings in pages for those who know the
token. It can be told to misbehave: /tell?fail=503&times=2&slow=1.5&days=3&rename=port:harbour. Everything is made up.
"""

from __future__ import annotations

import datetime as dt
import json
import sqlite3
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from urllib.parse import parse_qs, urlsplit

import numpy as np

from veduta.demo.generate import (
    LAST_DAY,
    PORTS,
    SEED,
    SPELT,
    generate_bookings,
    generate_harbour_counts,
    generate_routes,
)

TOKEN = "harbour-light-2026"
PAGE = 200


class StandInReading:
    """How the stand-in was told to behave."""

    def __init__(self) -> None:
        self.fail, self.times, self.slow, self.days, self.rename = 0, 0, 0.0, 0, ""

    def update(self, query: dict[str, list[str]]) -> None:
        for key in ("fail", "times", "days"):
            if key in query:
                setattr(self, key, int(query[key][0]))
        self.slow = float(query.get("slow", [self.slow])[0])
        self.rename = query.get("rename", [self.rename])[0]


class StandIn(ThreadingHTTPServer):
    """Serves so many bookings and the rest; `told` is how it behaves."""

    def __init__(self, port: int, rows: int = 2_000) -> None:
        super().__init__(("127.0.0.1", port), StandInHandler)
        self.told = StandInReading()
        booked = generate_bookings(rows)
        days = {name: booked[name].cast(str) for name in ("booked_on", "travel_date")}
        self.bookings = booked.with_columns(**days).to_dicts()


class StandInHandler(BaseHTTPRequestHandler):
    server_version = "StandIn"
    server: StandIn

    def log_message(self, *args) -> None:
        """Say nothing."""

    def do_GET(self) -> None:
        parts = urlsplit(self.path)
        query = parse_qs(parts.query)
        told = self.server.told
        if parts.path == "/tell":
            told.update(query)
            return self.answer({"told": vars(told)})
        if told.slow:
            time.sleep(told.slow)
        if told.fail and told.times:
            told.times -= 1
            headers = {"Retry-After": "0"} if told.fail == 429 else {}
            return self.answer({"message": "told to fail"}, told.fail, headers)
        pages = {"/harbour-counts": self.counts, "/weather": self.weather, "/bookings": self.bookings}
        if parts.path not in pages:
            return self.answer({"message": "nothing here"}, 404)
        return pages[parts.path](query)

    def counts(self, query: dict) -> None:
        told = self.server.told
        frame = generate_harbour_counts(120 + told.days, LAST_DAY + dt.timedelta(days=told.days))
        if told.rename:
            old, new = told.rename.split(":")
            frame = frame.rename({old: new})
        self.answer({"season": 2026, "gates": {"counts": frame.to_dicts()}})

    def weather(self, query: dict) -> None:
        body = weather().write_csv().encode()
        tag = f'"{len(body)}"'
        if self.headers.get("If-None-Match") == tag:
            return self.send(304, b"", "text/csv", {"ETag": tag})
        return self.send(200, body, "text/csv", {"ETag": tag})

    def bookings(self, query: dict) -> None:
        if self.headers.get("Authorization") != f"Bearer {TOKEN}":
            return self.answer({"message": "Who are you?"}, 401)
        page, since = int(query.get("page", ["1"])[0]), query.get("since", [""])[0]
        rows = [row for row in self.server.bookings if row["booked_on"] > since]
        shown = rows[(page - 1) * PAGE : page * PAGE]
        return self.answer({"page": page, "pages": -(-len(rows) // PAGE), "bookings": shown})

    def answer(self, data, status: int = 200, headers: dict | None = None) -> None:
        self.send(status, json.dumps(data).encode(), "application/json", headers or {})

    def send(self, status: int, body: bytes, kind: str, headers: dict) -> None:
        self.send_response(status)
        for name, value in {"Content-Type": kind, "Content-Length": str(len(body)), **headers}.items():
            self.send_header(name, value)
        self.end_headers()
        self.wfile.write(body)


def weather(days: int = 400):
    """A day and region a row: wind, waves, visibility."""
    import polars as pl

    random = np.random.default_rng(SEED + 7)
    regions = sorted({about[0] for about in PORTS.values()})
    dates = [LAST_DAY - dt.timedelta(days=days - 1 - i) for i in range(days)]
    rows = [(day, region) for day in dates for region in regions]
    wind = random.gamma(4, 2.6, len(rows)).round(1)
    return pl.DataFrame(
        {
            "day": [day for day, _ in rows],
            "region": [region for _, region in rows],
            "wind_m_s": wind,
            "waves_m": (wind * random.uniform(0.08, 0.25, len(rows))).round(2),
            "visibility_km": random.uniform(0.4, 40, len(rows)).round(1),
        }
    )


TOPICS = ["Ticket", "Luggage", "Vehicle deck", "Access", "Catering", "Timetable"]


def write_operations(path: Path, requests: int = 12_000) -> Path:
    """The operations database: service requests, monthly targets, and ports as the pass desk spells them."""
    path.parent.mkdir(parents=True, exist_ok=True)
    path.unlink(missing_ok=True)
    random = np.random.default_rng(SEED + 8)
    names = generate_routes()["route"].to_list()
    with sqlite3.connect(path) as database:
        database.execute(
            "create table service_requests (id integer primary key, opened date, closed date, topic text,"
            " severity text, status text, route text)"
        )
        opened = [LAST_DAY - dt.timedelta(days=int(d)) for d in random.integers(0, 1_100, requests)]
        taken = random.geometric(0.18, requests)
        rows = []
        for i in range(requests):
            closed = opened[i] + dt.timedelta(days=int(taken[i]))
            done = closed <= LAST_DAY
            rows.append(
                (
                    i + 1,
                    opened[i].isoformat(),
                    closed.isoformat() if done else None,
                    TOPICS[int(random.integers(len(TOPICS)))],
                    str(random.choice(["Low", "Medium", "High"], p=[0.55, 0.33, 0.12])),
                    "Closed" if done else "Open",
                    names[int(random.integers(len(names)))],
                )
            )
        database.executemany("insert into service_requests values (?,?,?,?,?,?,?)", rows)
        database.execute("create table targets (month date, route text, passengers integer, revenue real)")
        months = [dt.date(2023 + i // 12, i % 12 + 1, 1) for i in range(46)]
        database.executemany(
            "insert into targets values (?,?,?,?)",
            [
                (
                    m.isoformat(),
                    r,
                    int(random.integers(2_000, 24_000)),
                    round(float(random.uniform(40_000, 600_000)), 2),
                )
                for m in months
                for r in names
            ],
        )
        database.execute("create table port_spellings (spelt text, port text)")
        database.executemany(
            "insert into port_spellings values (?,?)", [(spelt.strip(), port) for port, spelt in SPELT.items()]
        )
    return path

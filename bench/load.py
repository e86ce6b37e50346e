"""Many readers at once: each signs in, opens the dashboard and does something at random (sets a date or a region,
selects a mark, drills into one, looks at the values of a control, starts again), waits for what it changes, looks at
that for some seconds, and goes on."""

from __future__ import annotations

import asyncio
import datetime as dt
import json
import os
import random
import re
import resource
import statistics
import subprocess
import sys
import time
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import httpx

from bench.measuring import Figure, Figures
from veduta.demo import PASSWORD
from veduta.demo.generate import ROUTES, VESSELS

READERS, LOOKS = 50, 3.0
"""How many, and the mean of the seconds that each looks at what came; drawn from an exponential distribution."""
ROWS = int(os.environ.get("BENCH_LOAD_ROWS", 60_000))
SECONDS = float(os.environ.get("BENCH_LOAD_SECONDS", 60))
WARMING = 5.0
"""Seconds whose answers are not counted, in which everybody opens the dashboard at once."""
REGIONS = ("North Reach", "Inner Sound", "South Banks", "Outer Isles")


@dataclass
class Seen:
    """How long all blocks took, each time; what went wrong."""

    took: list[float] = field(default_factory=list)
    by_act: dict[str, list[float]] = field(default_factory=dict)
    asked: int = 0
    errors: list[str] = field(default_factory=list)

    def percentile(self, percent: int) -> float:
        return statistics.quantiles(self.took, n=100)[percent - 1]


async def signed_in(client: httpx.AsyncClient, name: str) -> None:
    page = await client.get("/sign-in/")
    token = re.search(r'name="csrfmiddlewaretoken"\s+value="([^"]+)', page.text)
    assert token
    await client.post("/sign-in/", data={"username": name, "password": PASSWORD, "csrfmiddlewaretoken": token[1]})


@dataclass
class Reader:
    """A person who clicks about; `vessel` is the id of the field that routes are drilled to."""

    chance: random.Random
    vessel: str
    state: dict[str, Any] = field(default_factory=lambda: {"controls": {}, "selections": [], "drills": {}})

    def act(self) -> tuple[str, dict[str, str]]:
        """Does something at random. Returns what is asked for it: a part of the dashboard's address, and more."""
        acts = (self.set_dates, self.set_region, self.select, self.drill, self.open_list, self.start_again)
        return self.chance.choices(acts, weights=(25, 20, 25, 15, 10, 5))[0]()

    def set_dates(self) -> tuple[str, dict[str, str]]:
        start = dt.date(2024, 11, 1) + dt.timedelta(days=self.chance.randrange(600))
        end = start + dt.timedelta(days=self.chance.randrange(14, 365))
        self.state["controls"]["date"] = {"kind": "dates", "start": start.isoformat(), "end": end.isoformat()}
        return "blocks/", {}

    def set_region(self) -> tuple[str, dict[str, str]]:
        self.state["controls"]["region"] = {"values": self.chance.sample(REGIONS, self.chance.choice((1, 2)))}
        return "blocks/", {}

    def select(self) -> tuple[str, dict[str, str]]:
        block, names = self.chance.choice((("b4", list(ROUTES)), ("b8", list(VESSELS))))
        points = [[name] for name in self.chance.sample(names, self.chance.choice((1, 1, 3)))]
        others = [each for each in self.state["selections"] if each["block"] != block]
        mode = self.chance.choice(("focus", "focus", "leave_out", "highlight"))
        if block != "b4" or not self.state["drills"]:  # it shows vessels then
            self.state["selections"] = [*others, {"block": block, "mode": mode, "points": points}]
        return "blocks/", {}

    def drill(self) -> tuple[str, dict[str, str]]:
        into = self.chance.choice((None, [self.chance.choice(list(ROUTES))]))
        self.state["drills"] = {"b4": [{"to": {"field": self.vessel}} | ({"into": into} if into else {})]}
        return "blocks/", {"only": "b4"}

    def open_list(self) -> tuple[str, dict[str, str]]:
        return "controls/vessel/", {}

    def start_again(self) -> tuple[str, dict[str, str]]:
        self.state.update(controls={}, selections=[], drills={})
        return "blocks/", {}


async def reader(
    client: httpx.AsyncClient, path: str, vessel: str, seed: int, began: float, seconds: float, seen: Seen
) -> None:
    person = Reader(random.Random(seed), vessel)
    chance = person.chance
    await asyncio.sleep(chance.random() * LOOKS)
    while (now := time.perf_counter()) < began + seconds:
        part, more = person.act()
        answer = await client.get(f"{path}{part}", params={"v": json.dumps(person.state), **more})
        seen.asked += 1
        took = time.perf_counter() - now
        problems = [line for line in answer.text.splitlines() if '"problem"' in line]
        if answer.status_code != 200 or problems:
            seen.errors.append(f"{answer.status_code} {problems[:1]}")
        elif now > began + WARMING:
            seen.took.append(took)
            seen.by_act.setdefault("drill" if more else part.partition("/")[0], []).append(took)
        await asyncio.sleep(chance.expovariate(1 / LOOKS))


async def read(address: str, path: str, vessel: str, readers: int, seconds: float) -> Seen:
    """So many readers for so long; everybody is a browser of its own, with one sign-in."""
    seen = Seen()
    async with httpx.AsyncClient(base_url=address, timeout=60) as first:
        await signed_in(first, "explorer")
        cookies = dict(first.cookies)
        clients = [httpx.AsyncClient(base_url=address, cookies=cookies, timeout=60) for _ in range(readers)]
        began = time.perf_counter()
        await asyncio.gather(
            *(reader(client, path, vessel, seed, began, seconds, seen) for seed, client in enumerate(clients))
        )
        for client in clients:
            await client.aclose()
    return seen


def processes(address: str) -> list[str]:
    """The processes that serve an address."""
    found = subprocess.run(["pgrep", "--full", "manage.py web --socket"], capture_output=True, text=True)
    port = f"PORT={address.rpartition(':')[2]}"
    return [
        pid
        for pid in found.stdout.split()
        if port in Path(f"/proc/{pid}/environ").read_text(errors="replace").split("\0")
    ]


def run(figures: Figures, address: str, path: str, vessel: str) -> None:
    """Report one reader, and many at once. Ends the run if one of them met an error."""

    def report(name: str, seconds: float, goal: str = "", unit: str = "ms") -> None:
        figures.add(Figure(name, seconds, None, goal, unit=unit))

    alone = asyncio.run(read(address, path, vessel, 1, min(SECONDS, 60)))
    report("One reader who clicks at random, median", alone.percentile(50))
    held, worked = used_by(address)
    report("  memory at the start", held, unit="GB")
    many = asyncio.run(read(address, path, vessel, READERS, SECONDS))
    report(f"{READERS} readers, median", many.percentile(50))
    for act, words in (("blocks", "all blocks"), ("drill", "a drill"), ("controls", "a list of values")):
        report(f"  median of {words}", statistics.median(many.by_act[act]))
    report("  95% of them within", many.percentile(95), goal="1,000 ms")
    report("  answers a second", len(many.took) / (SECONDS - WARMING), goal="13", unit="/s")
    held_then, worked_then = used_by(address)
    report("  processor time for each", (worked_then - worked) / many.asked)
    report("  memory at the end", held_then, unit="GB")
    report("  memory gained meanwhile", held_then - held, goal="flat", unit="GB")
    if many.errors or alone.errors:
        sys.exit(f"{len(many.errors + alone.errors)} errors: {(many.errors + alone.errors)[:3]}")


def used_by(address: str) -> tuple[float, float]:
    """Gigabytes that the processes hold together that serve this address, and seconds they have worked."""
    held, worked = 0, 0
    for pid in processes(address):
        held += int(Path(f"/proc/{pid}/statm").read_text().split()[1]) * resource.getpagesize()
        worked += sum(map(int, Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[11:13]))
    return held / 1024**3, worked / os.sysconf("SC_CLK_TCK")

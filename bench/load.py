"""Many readers at once: each signs in, opens the dashboard, sets a random date and region, waits for all blocks, looks
at them for some seconds, and goes on."""

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
import time
from dataclasses import dataclass, field
from pathlib import Path

import httpx

from veduta.demo import PASSWORD

READERS, LOOKS = 50, 3.0
"""How many, and the mean of the seconds that each looks at what came; drawn from an exponential distribution."""
SECONDS = float(os.environ.get("BENCH_LOAD_SECONDS", 60))
WARMING = 5.0
"""Seconds whose answers are not counted, in which everybody opens the dashboard at once."""
REGIONS = ("North Reach", "Inner Sound", "South Banks", "Outer Isles")


@dataclass
class Seen:
    """How long all blocks took, each time; what went wrong."""

    took: list[float] = field(default_factory=list)
    asked: int = 0
    errors: list[str] = field(default_factory=list)

    def percentile(self, percent: int) -> float:
        return statistics.quantiles(self.took, n=100)[percent - 1]


async def signed_in(client: httpx.AsyncClient, name: str) -> None:
    page = await client.get("/sign-in/")
    token = re.search(r'name="csrfmiddlewaretoken"\s+value="([^"]+)', page.text)
    assert token
    await client.post("/sign-in/", data={"username": name, "password": PASSWORD, "csrfmiddlewaretoken": token[1]})


def random_state(chance: random.Random) -> str:
    """A range of days within the two years of the data, and one or two regions, or one of both."""
    controls: dict = {}
    start = dt.date(2024, 11, 1) + dt.timedelta(days=chance.randrange(600))
    if chance.random() < 0.8:
        end = start + dt.timedelta(days=chance.randrange(14, 365))
        controls["date"] = {"kind": "dates", "start": start.isoformat(), "end": end.isoformat()}
    if chance.random() < 0.6:
        controls["region"] = {"values": chance.sample(REGIONS, chance.choice((1, 2)))}
    return json.dumps({"controls": controls})


async def reader(client: httpx.AsyncClient, path: str, seed: int, began: float, seconds: float, seen: Seen) -> None:
    chance = random.Random(seed)
    await asyncio.sleep(chance.random() * LOOKS)
    while (now := time.perf_counter()) < began + seconds:
        answer = await client.get(f"{path}blocks/", params={"v": random_state(chance)})
        seen.asked += 1
        took = time.perf_counter() - now
        problems = [line for line in answer.text.splitlines() if '"problem"' in line]
        if answer.status_code != 200 or problems:
            seen.errors.append(f"{answer.status_code} {problems[:1]}")
        elif now > began + WARMING:
            seen.took.append(took)
        await asyncio.sleep(chance.expovariate(1 / LOOKS))


async def read(address: str, path: str, readers: int, seconds: float) -> Seen:
    """So many readers for so long; everybody is a browser of its own, with one sign-in."""
    seen = Seen()
    async with httpx.AsyncClient(base_url=address, timeout=60) as first:
        await signed_in(first, "explorer")
        cookies = dict(first.cookies)
        clients = [httpx.AsyncClient(base_url=address, cookies=cookies, timeout=60) for _ in range(readers)]
        began = time.perf_counter()
        await asyncio.gather(*(reader(client, path, seed, began, seconds, seen) for seed, client in enumerate(clients)))
        for client in clients:
            await client.aclose()
    return seen


def used_by(address: str) -> tuple[float, float]:
    """Gigabytes that the processes hold together that serve this address, and seconds they have worked."""
    found = subprocess.run(["pgrep", "--full", "manage.py web --socket"], capture_output=True, text=True)
    held, worked = 0, 0
    for pid in found.stdout.split():
        environment = Path(f"/proc/{pid}/environ").read_text(errors="replace").split("\0")
        if f"PORT={address.rpartition(':')[2]}" in environment:
            held += int(Path(f"/proc/{pid}/statm").read_text().split()[1]) * resource.getpagesize()
            worked += sum(map(int, Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[11:13]))
    return held / 1024**3, worked / os.sysconf("SC_CLK_TCK")

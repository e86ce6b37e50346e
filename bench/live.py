"""Many editors of one dashboard open at once: how long until each hears that its draft has changed, and what the
server needs meanwhile."""

from __future__ import annotations

import asyncio
import json
import statistics
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import httpx

from bench.load import processes, signed_in
from bench.measuring import Figure, Figures
from veduta.web.dashboards.models import Dashboard

PAGES, CHANGES = 50, 20


async def heard(client: httpx.AsyncClient, path: str, at: dict[int, list[float]], ready: asyncio.Event) -> None:
    """Note when each revision of the draft is heard of."""
    async with client.stream("GET", f"{path}live/") as stream:
        async for line in stream.aiter_lines():
            if line.startswith("data: {"):
                ready.set()
                at.setdefault(json.loads(line.removeprefix("data: "))["revision"], []).append(time.perf_counter())


def run(figures: Figures, address: str, path: str, dashboard: Dashboard) -> None:
    found = asyncio.run(measured(address, path, dashboard.draft, dashboard.revision))
    for name, value, goal, unit in (
        (f"{PAGES} open editors: half hear of a change within", found["half"], "2,000 ms", "ms"),
        ("  all of them, at worst", found["last"], "2,000 ms", "ms"),
        ("  threads they add on the server", found["threads"], "0", ""),
        ("  a list of dashboards meanwhile", found["page"], "", "ms"),
    ):
        figures.add(Figure(name, value, None, goal, unit=unit))


async def measured(address: str, path: str, draft: dict[str, Any], revision: int) -> dict[str, float]:
    """Seconds until a change has been heard by half of the pages and by all, the threads that the pages added, and how
    long a page takes meanwhile."""
    at: dict[int, list[float]] = {}
    async with httpx.AsyncClient(base_url=address, timeout=60) as first:
        await signed_in(first, "analyst")
        await first.get(path + "edit/")
        cookies = dict(first.cookies)
        before = _threads(address)
        limits = httpx.Limits(max_connections=2)
        pages = [
            httpx.AsyncClient(base_url=address, cookies=cookies, timeout=None, limits=limits) for _ in range(PAGES)
        ]
        ready = [asyncio.Event() for _ in pages]
        streams = [
            asyncio.create_task(heard(client, path, at, each)) for client, each in zip(pages, ready, strict=True)
        ]
        await asyncio.gather(*(each.wait() for each in ready))
        added = _threads(address) - before
        half, last, lists = [], [], []
        for number in range(CHANGES):
            sent = {"definition": draft, "name": f"Season {number}", "revision": revision + number}
            saved = await first.post(
                f"{path}draft/", json=sent, headers={"X-Veduta": "1", "X-CSRFToken": first.cookies["csrftoken"]}
            )
            done = time.perf_counter()
            await _until(lambda now=saved.json()["revision"]: len(at.get(now, ())) == PAGES)
            took = [each - done for each in at[saved.json()["revision"]]]
            half.append(statistics.median(took))
            last.append(max(took))
            began = time.perf_counter()
            await first.get("/dashboards/")
            lists.append(time.perf_counter() - began)
        for stream in streams:
            stream.cancel()
        for client in pages:
            await client.aclose()
    return {
        "half": statistics.median(half),
        "last": max(last),
        "threads": added,
        "page": statistics.median(lists),
    }


async def _until(holds: Callable[[], bool]) -> None:
    while not holds():
        await asyncio.sleep(0.005)


def _threads(address: str) -> int:
    return sum(len(list(Path(f"/proc/{pid}/task").iterdir())) for pid in processes(address))

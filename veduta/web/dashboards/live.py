"""What happens to dashboards while they are edited, told to whoever has them open: that a draft has changed, and who is
there and works on which block.

One task in each process looks at the dashboards that are open there, all in one go; an open page holds neither a thread
nor a connection to the database.
"""

from __future__ import annotations

import asyncio
import datetime as dt
import json
import time
from collections import Counter
from collections.abc import AsyncIterator, Collection
from dataclasses import dataclass
from typing import Any

from asgiref.sync import sync_to_async
from django.db import connection
from django.utils import timezone

from veduta.web.accounts.models import User
from veduta.web.dashboards.models import Dashboard, Present

POLL = 0.5
"""Seconds between two looks."""
PING = 15.0
"""Seconds after which something is sent, so that a connection that is gone is noticed."""
LONGEST = 300.0
"""Seconds after which a page asks anew, and whether it may."""
HERE = dt.timedelta(seconds=45)
"""Who has said nothing for so long is there no longer; pages say something every 20 seconds."""
FORGOTTEN = dt.timedelta(hours=1)


@dataclass(frozen=True)
class Seen:
    """A dashboard at a look: the revision of its draft, and who is there, each page with its block."""

    revision: int
    people: tuple[tuple[str, str, str], ...]
    """The page, the name of the person, the block."""


def look(dashboards: Collection[str]) -> dict[str, Seen]:
    """Dashboards as they are now."""
    revisions = Dashboard.objects.filter(pk__in=dashboards).values_list("pk", "revision")
    there = Present.objects.filter(dashboard__in=dashboards, at__gt=timezone.now() - HERE).select_related("user")
    people: dict[str, list[tuple[str, str, str]]] = {}
    for each in there.order_by("pk"):
        people.setdefault(str(each.dashboard_id), []).append((each.tab, each.user.label, each.block))
    return {str(pk): Seen(revision, tuple(people.get(str(pk), ()))) for pk, revision in revisions}


def _looked(dashboards: Collection[str]) -> dict[str, Seen]:
    try:
        return look(dashboards)
    finally:
        connection.close()  # of a thread that may never look again


class Watch:
    """The dashboards that are open in this process."""

    def __init__(self) -> None:
        self.open: Counter[str] = Counter()
        self.now: dict[str, Seen] = {}
        self.task: asyncio.Task[None] | None = None

    async def told(self, dashboard: str) -> AsyncIterator[bytes]:
        """The events of a dashboard: how it is at first, and then what changes."""
        self.open[dashboard] += 1
        began = sent_at = time.monotonic()
        last: Seen | None = None
        try:
            if self.task is None or self.task.done():
                self.task = asyncio.create_task(self._look())
            while time.monotonic() - began < LONGEST:
                now = self.now.get(dashboard)
                if now is not None and now != last:
                    for event in _events(last, now):
                        yield event
                    last, sent_at = now, time.monotonic()
                elif time.monotonic() - sent_at > PING:
                    sent_at = time.monotonic()
                    yield b": still here\n\n"
                await asyncio.sleep(POLL / 2)
        finally:
            self.open[dashboard] -= 1
            self.open += Counter()  # without those that are not open any more

    async def _look(self) -> None:
        while self.open:
            self.now = await sync_to_async(_looked, thread_sensitive=False)(list(self.open))
            await asyncio.sleep(POLL)
        self.now = {}


def _events(last: Seen | None, now: Seen) -> list[bytes]:
    events = []
    if last is None or last.revision != now.revision:
        events.append(_event("changed", {"revision": now.revision}))
    if last is None or last.people != now.people:
        people = [{"tab": tab, "name": name, "block": block} for tab, name, block in now.people]
        events.append(_event("people", people))
    return events


def _event(name: str, data: Any) -> bytes:
    return f"event: {name}\ndata: {json.dumps(data)}\n\n".encode()


watch = Watch()


def be_present(user: User, dashboard: Dashboard, tab: str, block: str) -> None:
    """Note that somebody has a dashboard open in a page, and works on a block of it."""
    now = timezone.now()
    Present.objects.update_or_create(
        tab=tab, defaults={"dashboard": dashboard, "user": user, "block": block, "at": now}
    )
    Present.objects.filter(at__lt=now - FORGOTTEN).delete()


def leave(user: User, tab: str) -> None:
    Present.objects.filter(tab=tab, user=user).delete()

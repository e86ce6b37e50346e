"""What happens to things while they are edited, told to whoever has them open.

That a thing has changed, and who is there and works on which part. For each kind of thing one task in each process
looks at those that are open there, all in one go; an open page holds neither a thread nor a connection to the database.
"""

from __future__ import annotations

import asyncio
import datetime as dt
import json
import time
from collections import Counter
from collections.abc import AsyncIterator, Callable, Collection
from dataclasses import dataclass
from typing import Annotated, Any

from asgiref.sync import SyncToAsync, sync_to_async
from django.conf import settings
from django.contrib.auth import HASH_SESSION_KEY, SESSION_KEY
from django.db import DatabaseError, connection, connections
from django.db.models import Model, QuerySet
from django.http import StreamingHttpResponse
from django.utils import timezone
from django.utils.module_loading import import_string
from pydantic import StringConstraints

from veduta.core.errors import VedutaError
from veduta.web.accounts.models import User
from veduta.web.collaboration.models import Present
from veduta.web.common.requests import Flag, Line, RequestModel

POLL = 0.5
"""Seconds between two looks."""
PING = 15.0
"""Seconds after which something is sent, so that a connection that is gone is noticed."""
LONGEST = 300.0
"""Seconds after which a page asks anew, and whether it may."""
ASKED_AGAIN = 5.0
"""Seconds after which it is asked again whether somebody may be told what happens."""
HERE = dt.timedelta(seconds=45)
"""Who has said nothing for so long is there no longer; pages say something every 20 seconds."""
FORGOTTEN = dt.timedelta(hours=1)
MOST_OF_ONE = 20
"""So many pages of one person are told in each process what happens."""


@dataclass(frozen=True)
class Person:
    """Somebody in a page, and the part on which they are."""

    tab: str
    user: int
    name: str
    part: str

    def describe_to(self, user: int) -> dict[str, str]:
        """As somebody is told of it: of their own other pages they are told as such."""
        name = "you, in another window" if self.user == user else self.name
        return {"tab": self.tab, "name": name, "part": self.part}


@dataclass(frozen=True)
class WatchedThing:
    """A thing at a look: its revision, and who is there, each page with its part."""

    revision: int
    people: tuple[Person, ...]


def look(model: type[Model], things: Collection[str]) -> dict[str, WatchedThing]:
    """Things of a model, which have a `revision`, as they are now."""
    revisions = model._default_manager.filter(pk__in=things).values_list("pk", "revision")
    people: dict[str, list[Person]] = {}
    for each in _list_present(things).select_related("user").order_by("pk"):
        people.setdefault(each.thing, []).append(Person(each.tab, each.user_id, each.user.label, each.part))
    return {str(pk): WatchedThing(revision, tuple(people.get(str(pk), ()))) for pk, revision in revisions}


def find_who_has_open(thing: str) -> set[int]:
    """The ids of those who have a thing open."""
    return set(_list_present([thing]).values_list("user", flat=True))


def _list_present(things: Collection[str]) -> QuerySet[Present]:
    """Those who have things open."""
    return Present.objects.filter(thing__in=things, at__gt=timezone.now() - HERE)


def _look_up(model: type[Model], things: Collection[str]) -> dict[str, WatchedThing]:
    try:
        return look(model, things)
    finally:
        connection.close()  # of a thread that may never look again


class ThingWatch:
    """The things of a model that are open in this process."""

    def __init__(self, model: type[Model]) -> None:
        self.model = model
        self.open: Counter[str] = Counter()
        self.listening: Counter[int] = Counter()
        self.now: dict[str, WatchedThing] = {}
        self.task: asyncio.Task[None] | None = None

    async def stream(self, thing: str, user: int, may: Callable[[], bool] = lambda: True) -> AsyncIterator[bytes]:
        """The events of a thing for one listener: its state at first, then each change.

        For as long as they `may` see it, which is checked again and again."""
        self.open[thing] += 1
        self.listening[user] += 1
        began = sent_at = asked_at = time.monotonic()
        last: WatchedThing | None = None
        try:
            if self.task is None or self.task.done():
                self.task = asyncio.create_task(self._look())
            while time.monotonic() - began < LONGEST:
                if time.monotonic() - asked_at > ASKED_AGAIN:
                    if not await sync_to_async(_is_still_allowed, thread_sensitive=False)(may):
                        yield _make_event("ended", {})
                        return
                    asked_at = time.monotonic()
                now = self.now.get(thing)
                if now is not None and now != last:
                    for event in _make_events(last, now, user):
                        yield event
                    last, sent_at = now, time.monotonic()
                elif time.monotonic() - sent_at > PING:
                    sent_at = time.monotonic()
                    yield b": still here\n\n"
                await asyncio.sleep(POLL / 2)
        finally:
            self.listening[user] -= 1
            self.open[thing] -= 1
            self.open += Counter()  # without those that are not open any more

    async def _look(self) -> None:
        while self.open:
            self.now = await sync_to_async(_look_up, thread_sensitive=False)(self.model, list(self.open))
            await asyncio.sleep(POLL)
        self.now = {}


def _make_events(last: WatchedThing | None, now: WatchedThing, user: int) -> list[bytes]:
    events = []
    if last is None or last.revision != now.revision:
        events.append(_make_event("changed", {"revision": now.revision}))
    if last is None or last.people != now.people:
        events.append(_make_event("people", [person.describe_to(user) for person in now.people]))
    return events


def _make_event(name: str, data: Any) -> bytes:
    return f"event: {name}\ndata: {json.dumps(data)}\n\n".encode()


class HereSent(RequestModel):
    """A page says that it is there, and on which part, or that it leaves."""

    tab: Annotated[str, StringConstraints(max_length=36)] = ""
    part: Line = ""
    leaves: Flag = False


def be_present(user: User, thing: Model, here: HereSent) -> None:
    """Note that somebody has a thing open in a page, and works on a part of it; or has no longer."""
    if here.leaves:
        Present.objects.filter(tab=here.tab, user=user).delete()
    elif here.tab:
        now = timezone.now()
        noted = {"thing": str(thing.pk), "user": user, "part": here.part[:40], "at": now}
        Present.objects.update_or_create(tab=here.tab, defaults=noted)
        Present.objects.filter(at__lt=now - FORGOTTEN).delete()


async def _let_the_thread_go() -> None:
    """End the thread in which the request was looked at: Django would keep it for as long as the answer lasts."""
    context = SyncToAsync.thread_sensitive_context.get(None)
    executor = SyncToAsync.context_to_thread_executor.pop(context, None) if context else None
    if executor:
        await asyncio.get_running_loop().run_in_executor(executor, connections.close_all)
        executor.shutdown(wait=False)


async def _iterate_events(watch: ThingWatch, thing: str, user: int, may: Callable[[], bool]) -> AsyncIterator[bytes]:
    await _let_the_thread_go()
    async for event in watch.stream(thing, user, may):
        yield event


def _is_still_allowed(may: Callable[[], bool]) -> bool:
    """Whether somebody may still be told; where that cannot be found out, they are told until it can."""
    try:
        return may()
    except DatabaseError:
        return True
    finally:
        connection.close()  # of a thread that may never look again


def _is_still_signed_in(request: Any) -> bool:
    """Whether the session goes on, and is that of somebody who is let in."""
    session = import_string(f"{settings.SESSION_ENGINE}.SessionStore")(request.session.session_key)
    if session.get(SESSION_KEY) != str(request.user.pk):
        return False
    user = User.objects.filter(pk=request.user.pk, is_active=True).first()
    return user is not None and session.get(HASH_SESSION_KEY) == user.get_session_auth_hash()


def stream_response(
    watch: ThingWatch, thing: Model, request: Any, may: Callable[[User], bool]
) -> StreamingHttpResponse:
    """What happens to a thing while somebody has it open, as server-sent events.

    For as long as they are signed in and `may` see it."""
    user = request.user

    def still() -> bool:
        somebody = User.objects.get(pk=user.pk)
        return _is_still_signed_in(request) and may(somebody)

    if watch.listening[user.pk] >= MOST_OF_ONE:
        raise VedutaError("You have very many pages open.", hint="Close some; this one is not told what others do.")
    response = StreamingHttpResponse(
        _iterate_events(watch, str(thing.pk), user.pk, still), content_type="text/event-stream"
    )
    response["Cache-Control"] = "no-store"
    return response

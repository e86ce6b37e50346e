"""What is told to those who have the editor of one dashboard open."""

from __future__ import annotations

import asyncio
import datetime as dt
from collections.abc import Coroutine
from concurrent.futures import ThreadPoolExecutor
from typing import Any, TypeVar
from unittest import mock

from asgiref.sync import SyncToAsync, ThreadSensitiveContext, sync_to_async
from django.utils import timezone

from tests.web.dashboard_support import DashboardTest
from veduta.web.accounts.models import User
from veduta.web.collaboration import live
from veduta.web.collaboration.live import Person, ThingWatch, WatchedThing, look
from veduta.web.collaboration.models import Present
from veduta.web.dashboards.models import Dashboard

T = TypeVar("T")
READER = 1


def run_aside(work: Coroutine[Any, Any, T]) -> T:
    """What asynchronous work gives, in a thread of its own: browser tests leave a loop running in this one."""
    with ThreadPoolExecutor(1) as executor:
        return executor.submit(asyncio.run, work).result()


class Presence(DashboardTest):
    def there(self):
        return look(Dashboard, [str(self.dashboard.pk)])[str(self.dashboard.pk)]

    def say(self, user, tab, **more):
        self.as_(user)
        return self.ask("dashboard-present", self.dashboard.pk, data={"tab": tab, **more})

    def test_who_is_there_and_on_which_block(self):
        self.say(self.analyst, "one", part="bars")
        self.say(self.steward, "two")
        self.say(self.analyst, "one", part="count")
        people = {(person.tab, person.part) for person in self.there().people}
        self.assertEqual(people, {("one", "count"), ("two", "")})

    def test_who_leaves_or_says_nothing_is_not_there(self):
        self.say(self.analyst, "one")
        self.say(self.steward, "one", leaves=True)
        self.assertEqual(len(self.there().people), 1, "only for oneself")
        self.say(self.analyst, "one", leaves=True)
        self.assertEqual(self.there().people, ())
        self.say(self.analyst, "one")
        Present.objects.update(at=timezone.now() - dt.timedelta(minutes=2))
        self.assertEqual(self.there().people, ())

    def test_those_of_long_ago_are_forgotten(self):
        self.say(self.analyst, "one")
        Present.objects.update(at=timezone.now() - dt.timedelta(hours=2))
        self.say(self.analyst, "two")
        self.assertEqual([each.tab for each in Present.objects.all()], ["two"])

    def test_readers_are_not_told(self):
        self.grant()
        self.as_(self.explorer)
        self.assertEqual(self.look("dashboard-live", self.dashboard.pk).status_code, 404)
        self.assertEqual(self.say(self.explorer, "one").status_code, 404)

    def test_a_merge_that_changes_nothing_makes_no_revision(self):
        state = {"definition": self.dashboard.draft, "name": "Season"}
        answer = self.ask("dashboard-draft-merge", self.dashboard.pk, data={"base": state, "states": [state]})
        self.assertEqual(answer.json()["revision"], 1)


class Events(DashboardTest):
    def told(self, *looks: WatchedThing, pages: int = 1) -> list[list[str]]:
        """What each of so many pages is told while a dashboard is seen like this, one look after another."""
        seen = iter(looks)
        last = looks[-1]

        async def page(watch: ThingWatch) -> list[str]:
            events = []
            async for event in watch.stream("d", READER):
                events.append(event.decode().split("\n")[0].removeprefix("event: "))
            return events

        async def all_pages() -> list[list[str]]:
            watch = ThingWatch(Dashboard)
            found = await asyncio.gather(*(page(watch) for _ in range(pages)))
            self.assertEqual(watch.open, {})
            return list(found)

        with (
            mock.patch.object(live, "_look_up", lambda model, things: {"d": next(seen, last)}),
            mock.patch.multiple(live, POLL=0.02, LONGEST=0.4, PING=10.0),
        ):
            return run_aside(all_pages())

    def test_how_it_is_at_first_and_what_changes(self):
        one, two = WatchedThing(1, ()), WatchedThing(2, ())
        three = WatchedThing(2, (Person("tab", READER + 1, "Analyst", "bars"),))
        (found,) = self.told(one, one, two, two, three)
        self.assertEqual(found, ["changed", "people", "changed", "people"])

    def test_it_is_asked_again_whether_they_may_and_ends_with_that(self):
        answers = iter([True, False])

        async def events() -> list[str]:
            watch = ThingWatch(Dashboard)
            told = [event.decode().split("\n")[0] async for event in watch.stream("d", READER, lambda: next(answers))]
            self.assertEqual(watch.listening, {READER: 0})
            return told

        with (
            mock.patch.object(live, "_look_up", lambda model, things: {"d": WatchedThing(1, ())}),
            mock.patch.multiple(live, POLL=0.02, LONGEST=20.0, PING=10.0, ASKED_AGAIN=0.05),
        ):
            self.assertEqual(run_aside(events()), ["event: changed", "event: people", "event: ended"])

    def test_who_is_revoked_switched_off_or_signed_out_may_no_longer(self):
        def ask_again(change) -> bool:
            self.as_(self.analyst)
            request = self.client.get("/sign-in/").wsgi_request
            change()
            return live._is_still_signed_in(mock.Mock(user=self.analyst, session=request.session))

        self.assertTrue(ask_again(lambda: None))
        self.assertFalse(ask_again(self.client.logout))
        self.assertFalse(ask_again(lambda: User.objects.filter(pk=self.analyst.pk).update(password="!")))
        self.assertFalse(ask_again(lambda: User.objects.filter(pk=self.analyst.pk).update(is_active=False)))

    def test_own_pages_are_told_as_such(self):
        mine = Person("tab", READER, "Analyst", "bars")
        self.assertEqual(mine.describe_to(READER)["name"], "you, in another window")
        self.assertEqual(mine.describe_to(READER + 1)["name"], "Analyst")

    def test_many_pages_share_one_look(self):
        found = self.told(WatchedThing(1, ()), pages=50)
        self.assertEqual(found, [["changed", "people"]] * 50)

    def test_nothing_is_told_of_a_dashboard_that_is_gone(self):
        with (
            mock.patch.object(live, "_look_up", lambda model, things: {}),
            mock.patch.multiple(live, POLL=0.02, LONGEST=0.1, PING=0.04),
        ):

            async def pings() -> set[bytes]:
                return {event async for event in ThingWatch(Dashboard).stream("d", READER)}

            self.assertEqual(run_aside(pings()), {b": still here\n\n"})

    def test_a_page_that_is_told_holds_no_thread(self):
        async def threads_held() -> list[bool]:
            async with ThreadSensitiveContext() as context:
                await sync_to_async(lambda: None)()  # as the request is looked at
                before = context in SyncToAsync.context_to_thread_executor
                async for _ in live.stream_response(
                    ThingWatch(Dashboard), self.dashboard, mock.Mock(user=self.analyst), bool
                ):
                    return [before, context in SyncToAsync.context_to_thread_executor]
            return []

        with mock.patch.object(live, "_look_up", lambda model, things: {str(self.dashboard.pk): WatchedThing(1, ())}):
            self.assertEqual(run_aside(threads_held()), [True, False])

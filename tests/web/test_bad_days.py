"""What becomes of damaged rows, of files that were cut off, of pictures made to be slow, of those who ask for very
much at once."""

from __future__ import annotations

import asyncio
import os
import time
from concurrent.futures import ThreadPoolExecutor
from unittest import mock

from django.conf import settings
from django.urls import reverse

from tests.web.dashboard_support import DashboardTest
from tests.web.support import WebTest, receive
from veduta.core.cache import clear_caches
from veduta.core.errors import VedutaError
from veduta.web.asgi import ReaderTurns
from veduta.web.charts.models import Chart
from veduta.web.collaboration import live
from veduta.web.datasets.models import Chunk
from veduta.web.imports import services as intake
from veduta.web.sources import services as sources


class DamagedRows(DashboardTest):
    def test_a_missing_or_broken_column_says_which_dataset_and_what_to_do(self):
        region = Chunk.objects.filter(version=self.dataset.current_id, column=self.ids["region"])
        for damage in (lambda: region.update(data=b"broken"), lambda: region.delete()):
            damage()
            clear_caches()
            answer = self.block()
            self.assertEqual(answer.status_code, 422)
            message = answer.json()["message"]
            self.assertIn(f"“Region” of the dataset “{self.dataset.name}”", message)
            self.assertIn("Refresh the dataset", answer.json()["hint"])
            page = self.look("dataset-rows", self.dataset.pk)
            self.assertContains(page, self.dataset.name, status_code=422)


class Swept(WebTest):
    def old(self, name: str):
        path = settings.UPLOAD_DIR / name
        path.write_bytes(b"half")
        os.utime(path, (time.time() - intake.LEFT_ALONE - 60,) * 2)
        return path

    def test_what_was_cut_off_goes_and_what_is_known_or_new_stays(self):
        known = receive(self.analyst, "port,fare\nQuay,7\n", "fares.csv")
        os.utime(known.file, (0, 0))
        cut_off, folder = self.old("cut-off.txt"), settings.UPLOAD_DIR / "cut-off.landed"
        folder.mkdir()
        os.utime(folder, (0, 0))
        coming = settings.UPLOAD_DIR / "coming.txt"
        coming.write_bytes(b"half")
        self.addCleanup(coming.unlink)
        self.assertGreaterEqual(intake.sweep(), 2)
        self.assertEqual([each.exists() for each in (known.file, coming, cut_off, folder)], [True, True, False, False])


class AtOnce(WebTest):
    def test_as_many_as_may_ask_outside_and_no_more(self):
        with mock.patch.object(sources, "outside", __import__("threading").BoundedSemaphore(1)):
            with sources._limit_outside_questions(), self.assertRaisesRegex(VedutaError, "as many as may be at once"):
                sources.list_connection_tables(self.analyst, mock.Mock())
            with sources._limit_outside_questions():
                pass  # it is free again

    def test_one_person_holds_half_of_the_turns_at_most(self):
        async def look() -> tuple[int, int]:
            turns, running, most, done = ReaderTurns(4), 0, 0, 0

            async def work(who: str, seconds: float) -> None:
                nonlocal running, most, done
                async with turns.take_turns(who):
                    running += 1
                    most = max(most, running)
                    await asyncio.sleep(seconds)
                    running -= 1
                    done += 1

            greedy = [asyncio.create_task(work("greedy", 0.02)) for _ in range(40)]
            await asyncio.sleep(0)
            await work("reader", 0)
            before = done - 1
            await asyncio.gather(*greedy)
            return most, before

        with ThreadPoolExecutor(1) as apart:  # a browser's test may have left a loop running in this thread
            most, before = apart.submit(asyncio.run, look()).result()
        self.assertLessEqual(most, 3)
        self.assertEqual(before, 0, "the reader waits for none of them")

    def test_very_many_open_pages_of_one_person_are_not_all_told(self):
        self.make_dashboard()
        watch = live.ThingWatch(Chart)
        watch.listening[self.analyst.pk] = live.MOST_OF_ONE
        with self.assertRaisesRegex(VedutaError, "very many pages open"):
            live.stream_response(watch, self.dataset.charts.first(), mock.Mock(user=self.analyst), bool)
        live.stream_response(watch, self.dataset.charts.first(), mock.Mock(user=self.steward), bool).close()
        self.as_(self.analyst)
        self.assertEqual(self.client.get(reverse("dashboard", args=[self.dashboard.pk])).status_code, 200)

"""The queue: which job comes next, who holds it, what becomes of it when its worker dies."""

from __future__ import annotations

import datetime as dt
import socket
import subprocess
from unittest import mock

from django.test import override_settings
from django.utils import timezone

from tests.web.support import FERRIES, WebTest, import_now, receive
from veduta.core.errors import QueryCancelled
from veduta.core.shaping.shaping import load_shaping
from veduta.web.datasets import refreshes
from veduta.web.datasets.models import Chunk, Dataset, Refresh, Upload, Version
from veduta.web.jobs import queue
from veduta.web.refreshing import services as refreshing

State = Refresh.State


@override_settings(WORKERS=2)  # so that nothing is done before a test takes it
class Queue(WebTest):
    def setUp(self):
        super().setUp()
        self.datasets = [Dataset.objects.create(name=f"Port {i}", created_by=self.analyst) for i in range(6)]

    def wait(self, dataset: int, asked: bool = False, **more) -> Refresh:
        user = self.analyst if asked else None
        return Refresh.objects.create(dataset=self.datasets[dataset], cause="hand", started_by=user, **more)

    def take(self, worker: str = "first") -> int | None:
        """The dataset whose job a worker takes now, by its place."""
        with mock.patch.object(queue, "get_worker_name", lambda: worker):
            taken = queue.take()
        return taken and self.datasets.index(taken[1].dataset)


class Turns(Queue):
    def test_what_waits_longest_comes_first(self):
        for dataset in (2, 0, 1):
            self.wait(dataset, asked=True)
        self.assertEqual([self.take(), self.take()], [2, 0])

    def test_what_runs_by_itself_leaves_a_worker_to_what_somebody_waits_for(self):
        for dataset in range(4):
            self.wait(dataset)
        self.assertEqual([self.take("first"), self.take("second")], [0, None])
        self.wait(5, asked=True)
        self.assertEqual(self.take("second"), 5)

    @override_settings(WORKERS=1)
    def test_a_single_worker_serves_everything(self):
        self.wait(0)
        self.assertEqual(self.take(), 0)
        self.assertIsNone(self.take())

    @override_settings(WORKERS=5)
    def test_the_kind_with_the_fewest_under_way_is_served_next(self):
        for dataset, asked in ((0, True), (1, True), (2, True), (3, False), (4, False)):
            self.wait(dataset, asked)
        self.assertEqual([self.take() for _ in range(6)], [0, 3, 1, 4, 2, None])

    def test_a_dataset_is_refreshed_once_at_a_time(self):
        self.wait(0, asked=True)
        self.wait(0, asked=True)
        self.wait(1, asked=True)
        self.assertEqual([self.take(), self.take(), self.take()], [0, 1, None])

    @override_settings(WORKERS=9)
    def test_what_is_made_from_another_waits_for_it(self):
        below, middle, top = self.datasets[:3]
        middle.source = {"kind": "dataset", "dataset": str(below.pk)}
        middle.save()
        steps = [{"id": "s1", "do": "append", "dataset": str(middle.pk)}]
        top.steps = load_shaping({"steps": steps}).model_dump(mode="json")
        top.save()
        first = self.wait(0)
        for dataset in (1, 2, 3):
            self.wait(dataset)
        self.assertEqual([self.take(), self.take(), self.take()], [0, 3, None])
        queue.finish(Refresh.objects.get(pk=first.pk), State.FAILED, "No.")
        self.assertEqual([self.take(), self.take()], [1, None])

    def test_what_is_to_come_later_waits(self):
        self.wait(0, asked=True, not_before=timezone.now() + dt.timedelta(minutes=1))
        later = self.wait(1, asked=True, not_before=timezone.now())
        self.assertEqual([self.take(), self.take()], [self.datasets.index(later.dataset), None])


class Leases(Queue):
    def taken(self) -> Refresh:
        return queue.take()[1]

    def test_what_a_living_worker_holds_is_not_taken_back(self):
        self.wait(0, asked=True)
        job = self.taken()
        for second in (0, 15, 30, 45):
            with mock.patch.object(queue.time, "monotonic", lambda now=second: 1e6 + now):
                self.assertEqual(queue.take_back(), 0)
            queue.renew_leases()
        self.assertTrue(queue.holds(job))

    def test_one_whose_heart_stands_still_is_taken_back_whatever_the_time_of_the_day(self):
        self.wait(0, asked=True)
        self.taken()
        yesterday = timezone.now() - dt.timedelta(days=1)
        with mock.patch.object(timezone, "now", lambda: yesterday):
            for second, lost in ((0, 0), (19, 0), (20, 1)):
                with mock.patch.object(queue.time, "monotonic", lambda now=second: 1e6 + now):
                    self.assertEqual(queue.take_back(), lost)

    def test_what_a_process_held_that_is_gone_is_taken_back_at_once(self):
        self.wait(0, asked=True)
        job = self.taken()
        gone = subprocess.Popen(["true"])
        gone.wait()
        Refresh.objects.filter(pk=job.pk).update(held_by=f"{socket.gethostname()[:60]}:{gone.pid}:0")
        self.assertEqual(queue.take_back(), 1)

    def test_stopping_ends_what_no_worker_holds_any_more(self):
        upload = receive(self.analyst, FERRIES, dataset=self.datasets[0])
        self.wait(0, asked=True, upload=upload)
        job = self.taken()
        Refresh.objects.filter(pk=job.pk).update(held_by="")
        refreshes.stop(self.analyst, job)
        job.refresh_from_db()
        self.assertEqual((job.state, job.message), (State.CANCELLED, "Stopped."))
        self.assertFalse(Refresh.objects.filter(state=State.QUEUED).exists(), "it is not done again")
        upload.refresh_from_db()
        self.assertEqual(upload.state, Upload.State.CHECKING)

    def test_what_a_worker_lets_go_is_taken_back_at_once(self):
        self.wait(0, asked=True)
        job = self.taken()
        queue.let_go()
        self.assertEqual(queue.take_back(), 1)
        again = Refresh.objects.get(state=State.QUEUED)
        self.assertEqual((again.cause, again.tries, again.started_by), ("again", 2, self.analyst))
        self.assertFalse(queue.holds(job))

    def test_whoever_lost_a_job_changes_nothing_any_more(self):
        """A worker that slept so long that another took its job back wakes up."""
        dataset = import_now_unqueued(self.analyst)
        upload = receive(self.analyst, FERRIES.replace("North", "Far"), dataset=dataset)
        Refresh.objects.create(dataset=dataset, cause="file", upload=upload, started_by=self.analyst)
        kind, job = queue.take()

        def taken_back(progress, doing, *rest, **more):
            if doing == "Finishing":
                queue.take_back(0)
            return tick(progress, doing, *rest, **more)

        tick = refreshing.Progress.tick
        with mock.patch.object(refreshing.Progress, "tick", taken_back):
            kind.run(job)
        job.refresh_from_db()
        self.assertEqual(job.state, State.INTERRUPTED)
        dataset.refresh_from_db()
        self.assertEqual((dataset.current.number, Version.objects.filter(number=None).count()), (1, 0))
        upload.refresh_from_db()
        self.assertEqual(upload.state, Upload.State.QUEUED)
        self.assertEqual(queue.work_off(), 1)
        dataset.refresh_from_db()
        self.assertEqual(dataset.current.number, 2)

    def test_taking_back_leaves_what_others_are_loading(self):
        self.wait(0, asked=True)
        self.wait(1, asked=True)
        lost, running = self.taken(), self.taken()
        halves = [Version.objects.create(dataset=job.dataset, number=None) for job in (lost, running)]
        for half in halves:
            Chunk.objects.create(version=half, column="c1", position=0, data=b"half")
        Refresh.objects.filter(pk=lost.pk).update(held_by="")
        self.assertEqual(queue.take_back(), 1)
        self.assertEqual(list(Version.objects.all()), halves[1:])

    def test_stopping_is_noticed(self):
        self.wait(0, asked=True)
        job = self.taken()
        queue.tell(job, "Reading", 0.5, rows=3)
        job.refresh_from_db()
        self.assertEqual((job.doing, job.share, job.rows), ("Reading", 0.5, 3))
        Refresh.objects.filter(pk=job.pk).update(stop=True)
        with self.assertRaises(QueryCancelled):
            queue.tell(job, "Reading", 0.6)


def import_now_unqueued(user) -> Dataset:
    with override_settings(WORKERS=0):
        return import_now(user, FERRIES)

from __future__ import annotations

from unittest import mock

from django.core.exceptions import PermissionDenied
from django.db import IntegrityError, transaction
from django.test import override_settings

from tests.web.support import FERRIES, WebTest, import_now, receive
from veduta.core.errors import DefinitionProblem, VedutaError
from veduta.core.shaping.shaping import load_shaping
from veduta.web.catalogue import services as catalogue
from veduta.web.charts.services import answer_chart
from veduta.web.datasets import refreshes
from veduta.web.datasets.models import Chunk, Dataset, Refresh, Upload, Version
from veduta.web.datasets.store import get_table
from veduta.web.datasets.upstream import list_followers, must_not_go_round
from veduta.web.imports import services as intake
from veduta.web.jobs import queue
from veduta.web.shaping import services as shaping

State = Refresh.State


def steps(*definitions: dict):
    return load_shaping({"steps": [{"id": f"s{i}", **each} for i, each in enumerate(definitions, 1)]})


class RefreshTest(WebTest):
    @classmethod
    def setUpTestData(cls):
        super().setUpTestData()
        cls.make_dataset()

    def shape(self, *definitions: dict, dataset: Dataset | None = None) -> Refresh:
        dataset = dataset or self.dataset
        dataset.refresh_from_db()
        shaping.keep_draft(self.analyst, dataset, steps(*definitions), dataset.draft_revision)
        dataset.refresh_from_db()
        refresh = shaping.apply_draft(self.analyst, dataset)
        refresh.refresh_from_db()
        dataset.refresh_from_db()
        return refresh

    def filter(self, low: float = 50) -> dict:
        return {"do": "filter", "filters": [{"kind": "range", "field": self.ids["fare"], "low": low}]}

    def group(self) -> dict:
        return {
            "do": "group",
            "by": [self.ids["region"]],
            "measures": [{"field": self.ids["fare"], "aggregate": "sum"}, {}],
        }

    def rows(self, dataset: Dataset) -> list[tuple]:
        dataset.refresh_from_db()
        return get_table(dataset.current_id).scan([field.id for field in dataset.schema]).collect().rows()


class Steps(RefreshTest):
    def test_steps_make_a_version_from_the_rows_taken_in(self):
        refresh = self.shape(self.filter(), self.group())
        self.assertEqual((refresh.state, refresh.cause, refresh.rows), (State.DONE, "steps", 2))
        self.assertEqual(self.rows(self.dataset), [("Inner Sound", 80.0, 1), ("North Reach", 180.5, 2)])
        self.assertEqual((self.dataset.current.number, self.dataset.current.intake.number), (2, 1))
        reports = self.dataset.current.reports
        self.assertEqual((reports["s1"]["rows_in"], reports["s1"]["rows_out"], reports["s2"]["rows_out"]), (5, 3, 2))

    def test_a_newer_file_goes_through_the_steps(self):
        self.shape(self.filter(), self.group())
        import_now(
            self.analyst, FERRIES + "6,2026-03-01,Outer Skerries,Merrin–Outer Light,99,1,no\n", dataset=self.dataset
        )
        self.assertIn(("Outer Skerries", 99.0, 1), self.rows(self.dataset))
        self.assertEqual(self.dataset.current.number, 3)
        self.assertIsNone(self.dataset.current.intake.number)

    def test_what_is_new_or_missing_in_the_source_is_said_although_the_steps_hide_it(self):
        self.shape(self.group())
        lines = [
            line.rsplit(",", 1)[0] + ("," + ("pier" if i == 0 else "P1")) for i, line in enumerate(FERRIES.splitlines())
        ]
        import_now(self.analyst, "\n".join(lines), dataset=self.dataset)
        changes = Refresh.objects.first().changes
        self.assertEqual(changes["missing"], ["“Cancelled” is missing from the source; no step asks for it."])
        self.assertEqual(changes["added"], ["“Pier” is new in the source."])

    def test_taking_the_steps_out_gives_the_source_rows_again(self):
        self.shape(self.group())
        self.shape()
        self.assertEqual(len(self.rows(self.dataset)), 5)
        self.assertEqual(len(self.dataset.schema.fields), 7)

    def test_a_step_that_fails_changes_nothing_and_says_which_column(self):
        self.shape(self.filter())
        before = self.dataset.current_id
        without_fare = "\n".join(",".join(line.split(",")[:4] + line.split(",")[5:]) for line in FERRIES.splitlines())
        intake.start_import(self.analyst, receive(self.analyst, without_fare, dataset=self.dataset))
        refresh = Refresh.objects.first()
        self.assertEqual(refresh.state, State.FAILED)
        self.assertIn("“Fare” is not there", refresh.message)
        self.dataset.refresh_from_db()
        self.assertEqual(self.dataset.current_id, before)
        self.assertFalse(Version.objects.filter(number=None).exists())

    def test_charts_keep_their_fields_and_names_set_on_the_page_stay(self):
        chart = self.make_chart()
        catalogue.update_field(self.analyst, self.dataset, self.ids["fare"], {"name": "Fares paid"})
        self.shape(
            {"do": "rename", "names": {self.ids["region"]: "Area"}},
            {"do": "formula", "name": "Double", "formula": "passengers * 2"},
        )
        names = [field.name for field in self.dataset.schema]
        self.assertTrue({"Fares paid", "Area", "Double"} <= set(names), names)
        self.assertEqual(answer_chart(self.dataset, chart.load(), None).result.rows_read, 5)
        with self.assertRaisesRegex(VedutaError, "made by steps"):
            catalogue.update_field(self.analyst, self.dataset, self.ids["fare"], {"kind": "text"})

    def test_drafts_are_kept_and_conflicts_said(self):
        shaping.keep_draft(self.analyst, self.dataset, steps(self.group()), 0)
        with self.assertRaisesRegex(VedutaError, "Analyst changed these steps meanwhile"):
            shaping.keep_draft(self.steward, self.dataset, steps(), 0)
        self.dataset.refresh_from_db()
        self.assertEqual(len(self.dataset.drafted.steps), 1)
        self.assertEqual(self.rows(self.dataset)[0][0], 1)
        shaping.discard_draft(self.analyst, self.dataset)
        self.dataset.refresh_from_db()
        self.assertEqual(self.dataset.drafted.steps, ())
        with self.assertRaises(PermissionDenied):
            shaping.keep_draft(self.explorer, self.dataset, steps(), self.dataset.draft_revision)
        with self.assertRaises(PermissionDenied):
            shaping.apply_draft(self.explorer, self.dataset)

    @override_settings(VERSIONS_KEPT=2)
    def test_old_versions_go_but_not_the_rows_a_kept_one_was_made_from(self):
        for low in (10, 20, 30, 40):
            self.shape(self.filter(low))
        numbers = [version.number for version in self.dataset.versions.exclude(number=None)]
        self.assertEqual(numbers, [5, 4])
        self.assertTrue(self.dataset.current.intake.chunks.exists())
        catalogue.bring_back_version(self.analyst, self.dataset, 4)
        self.dataset.refresh_from_db()
        self.assertEqual(self.dataset.current.number, 4)


class Followers(RefreshTest):
    def setUp(self):
        super().setUp()
        self.regions = shaping.derive(self.analyst, self.dataset, "Regions", steps(self.group()))
        self.top = shaping.derive(self.analyst, self.regions, "Top region", steps({"do": "first", "count": 1}))
        join = {
            "do": "join",
            "dataset": str(self.regions.pk),
            "keys": [{"own": self.ids["region"], "other": self.ids["region"]}],
            "bring": [{"field": "s1_rows"}],
        }
        self.joined = shaping.derive(self.analyst, self.dataset, "With counts", steps(join))

    def test_what_is_made_from_a_dataset_is_refreshed_after_it_once_in_order(self):
        self.assertEqual(self.rows(self.top), [("Inner Sound", 80.0, 1)])
        import_now(self.analyst, FERRIES.replace("Inner Sound", "Brack Sound"), dataset=self.dataset)
        self.assertEqual(self.rows(self.top), [("Brack Sound", 80.0, 1)])
        self.assertEqual([row[-1] for row in self.rows(self.joined)], [3, 1, 3, 1, 3])
        root = Refresh.objects.filter(cause="file").first()
        order = list(root.followers.order_by("pk").values_list("dataset__name", flat=True))
        self.assertEqual(sorted(order), ["Regions", "Top region", "With counts"])
        self.assertLess(order.index("Regions"), order.index("Top region"))
        self.assertLess(order.index("Regions"), order.index("With counts"))
        self.assertEqual(
            self.joined.current.inputs if self.joined.refresh_from_db() is None else None,
            {str(d.pk): d.current_id for d in Dataset.objects.filter(name__in=["Ferries", "Regions"])},
        )

    def test_bringing_back_a_version_refreshes_what_is_made_from_it(self):
        import_now(self.analyst, FERRIES.replace("Inner Sound", "Brack Sound"), dataset=self.dataset)
        catalogue.bring_back_version(self.analyst, self.dataset, 1)
        self.assertEqual(self.rows(self.top), [("Inner Sound", 80.0, 1)])
        self.assertEqual(Refresh.objects.filter(root=None, follows=True).count(), 3)

    def test_cycles_are_refused(self):
        self.assertEqual(set(list_followers(self.dataset)), {str(d.pk) for d in (self.regions, self.top, self.joined)})
        for source in (self.regions, self.top, self.dataset):
            with self.assertRaisesRegex(DefinitionProblem, "cannot be a part of it"):
                must_not_go_round(self.dataset, [str(source.pk)])
        with self.assertRaisesRegex(DefinitionProblem, "“Top region” is itself made from “Ferries”"):
            self.shape({"do": "append", "dataset": str(self.top.pk)})

    def test_a_duplicate_starts_from_the_same_rows_with_steps_of_its_own(self):
        copy = shaping.duplicate(self.analyst, self.regions)
        self.assertEqual((copy.name, self.rows(copy)), ("Regions (copy)", self.rows(self.regions)))
        self.shape({"do": "first", "count": 2}, dataset=copy)
        self.assertEqual(len(self.rows(copy)), 2)
        self.assertEqual(len(self.rows(self.regions)), 3)

    def test_a_deleted_source_is_said(self):
        catalogue.delete_dataset(self.analyst, self.regions)
        refresh = refreshes.ask_for(self.analyst, self.top, "hand")
        refresh.refresh_from_db()
        self.assertEqual(refresh.state, State.FAILED)
        self.assertIn("“Regions” was deleted", refresh.message)
        self.assertEqual(len(self.rows(self.top)), 1)


class Running(RefreshTest):
    def test_no_two_refreshes_of_a_dataset_at_once(self):
        first = Refresh.objects.create(dataset=self.dataset, cause="hand", state=State.RUNNING)
        second = refreshes.ask_for(self.analyst, self.dataset, "hand")
        self.assertEqual(queue.work_off(), 0)
        second.refresh_from_db()
        self.assertEqual(second.state, State.QUEUED)
        with self.assertRaises(IntegrityError), transaction.atomic():
            Refresh.objects.create(dataset=self.dataset, cause="hand", state=State.RUNNING)
        self.assertTrue(first.is_open)

    def test_stopping(self):
        upload = receive(self.analyst, FERRIES, dataset=self.dataset)
        before = self.dataset.current_id

        def stop_in_mid_reading(progress, doing, *rest, **more):
            Refresh.objects.filter(pk=progress.refresh.pk).update(stop=True)
            return tick(progress, doing, *rest, **more)

        tick = refreshes.Progress.tick
        with mock.patch.object(refreshes.Progress, "tick", stop_in_mid_reading):
            intake.start_import(self.analyst, upload)
        (refresh,) = Refresh.objects.filter(upload=upload)
        self.assertEqual(
            (refresh.state, refresh.message), (State.CANCELLED, "Stopped. Everything is as it was before.")
        )
        self.dataset.refresh_from_db()
        self.assertEqual((self.dataset.current_id, Version.objects.count()), (before, 1))
        waiting = Refresh.objects.create(dataset=self.dataset, cause="hand")
        refreshes.stop(self.analyst, waiting)
        waiting.refresh_from_db()
        self.assertEqual(waiting.state, State.CANCELLED)
        with self.assertRaises(PermissionDenied):
            refreshes.stop(self.explorer, waiting)

    def test_what_a_crash_cut_off_is_marked_and_done_again(self):
        upload = receive(self.analyst, FERRIES.replace("North", "Far"), dataset=self.dataset)
        Upload.objects.filter(pk=upload.pk).update(state=Upload.State.READING)
        cut = Refresh.objects.create(
            dataset=self.dataset, cause="file", upload=upload, state=State.RUNNING, started_by=self.analyst
        )
        half = Version.objects.create(dataset=self.dataset, number=None)
        Chunk.objects.create(version=half, column="c1", position=0, data=b"half")
        self.assertEqual(queue.take_back(), 1)
        cut.refresh_from_db()
        self.assertEqual(cut.state, State.INTERRUPTED)
        self.assertFalse(Chunk.objects.filter(version_id=half.pk).exists())
        queue.work_off()
        again = Refresh.objects.first()
        self.assertEqual((again.cause, again.state, again.tries), ("again", State.DONE, 2))
        self.assertEqual(self.rows(self.dataset)[0][2], "Far Reach")

    def test_after_three_cuts_somebody_has_to_look(self):
        Refresh.objects.create(dataset=self.dataset, cause="again", state=State.RUNNING, tries=3)
        queue.take_back()
        self.assertFalse(Refresh.objects.filter(state=State.QUEUED).exists())

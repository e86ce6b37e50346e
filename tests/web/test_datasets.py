from __future__ import annotations

import errno
import io
import re
import sqlite3
from unittest import mock

from django.conf import settings
from django.core.exceptions import PermissionDenied
from django.db.utils import OperationalError
from django.test import override_settings, tag
from django.urls import reverse

from tests.core.support import FILES
from tests.web.support import FERRIES, WebTest, import_now, page_of, receive
from veduta.core.cache import Cache
from veduta.core.errors import FileProblem, VedutaError
from veduta.web.catalogue import services as catalogue
from veduta.web.datasets import store
from veduta.web.datasets.models import Chunk, Dataset, Upload, Version
from veduta.web.datasets.store import get_table
from veduta.web.datasets.uses import find_uses
from veduta.web.imports import services as intake
from veduta.web.jobs import queue
from veduta.web.modelling.changes import change_model


class Uploads(WebTest):
    def send(self, content: bytes, name: str = "ferries.csv", **headers):
        address = reverse("upload-receive")
        headers = {"X-Veduta": "1", "X-File-Name": name, **headers}
        return self.client.post(address, content, content_type="application/octet-stream", headers=headers)

    def test_a_file_is_received_looked_at_and_imported(self):
        self.as_(self.analyst)
        answer = self.send(FERRIES.encode(), "F%C3%A4hren_2026.csv")
        upload = Upload.objects.get()
        self.assertEqual(answer.json()["address"], reverse("upload", args=[upload.pk]))
        page = self.client.get(answer.json()["address"])
        self.assertContains(page, "Fähren 2026")
        self.assertContains(page, "Harrow–Tern")
        started = self.ask("upload-start", upload.pk, data={"name": "Fares"})
        self.assertEqual(started.status_code, 200)
        dataset = Dataset.objects.get()
        self.assertEqual((dataset.name, dataset.current.rows, dataset.current.number), ("Fares", 5, 1))
        self.assertRedirects(self.client.get(answer.json()["address"]), reverse("dataset", args=[dataset.pk]))

    def test_files_that_cannot_be_read_are_refused_in_words_and_not_kept(self):
        self.as_(self.analyst)
        for content, words in (
            (b"", "The file is empty"),
            (b"port,fare\n", "no rows under it"),
            (b"PK\x03\x04 and so on", "cut short or damaged"),
            (b"PAR1 and so on", "Parquet file is cut short"),
            (b'[{"port": ', "not readable JSON"),
            (bytes(range(256)) * 10, "binary data"),
            (b",".join(b"d%d" % i for i in range(2_001)) + b"\n" + b"1," * 2_000 + b"1\n", "2,001 columns"),
        ):
            with self.subTest(words=words):
                answer = self.send(content)
                self.assertEqual(answer.status_code, 422)
                self.assertIn(words, answer.json()["message"])
        self.assertEqual((Upload.objects.count(), list(settings.UPLOAD_DIR.iterdir())), (0, []))

    @override_settings(UPLOAD_LIMIT=10)
    def test_a_file_over_the_limit_is_refused_before_it_is_read(self):
        self.as_(self.analyst)
        self.assertIn("larger than", self.send(b"x" * 11).json()["message"])

    def test_an_upload_that_breaks_off_leaves_nothing(self):
        with self.assertRaises(FileProblem) as caught:
            intake.receive(self.analyst, io.BytesIO(b"port,fare\nTern"), 1_000, "a.csv")
        self.assertIn("broke off", caught.exception.message)
        self.assertEqual(list(settings.UPLOAD_DIR.iterdir()), [])

    def test_a_full_disk_is_said_and_nothing_is_kept(self):
        self.as_(self.analyst)
        with mock.patch.object(intake, "_write", side_effect=OSError(errno.ENOSPC, "No space left")):
            answer = self.send(FERRIES.encode())
        self.assertEqual(answer.status_code, 507)
        self.assertIn("disk is full", answer.json()["message"])
        self.assertEqual(Upload.objects.count(), 0)

    def test_names_of_files_are_made_harmless(self):
        upload = receive(self.analyst, FERRIES, "../../etc/pass\x00wd")
        self.assertEqual(upload.file_name, ".._.._etc_pass_wd")
        self.assertEqual(upload.file.parent, settings.UPLOAD_DIR)

    def test_only_builders_bring_in_files(self):
        for user, status in ((None, 401), (self.explorer, 404)):
            if user:
                self.as_(user)
            self.assertEqual(self.send(FERRIES.encode()).status_code, status)
        with self.assertRaises(PermissionDenied):
            receive(self.explorer, FERRIES)


class Checking(WebTest):
    def test_what_was_recognised_can_be_corrected_before_the_import(self):
        self.as_(self.analyst)
        upload = receive(self.analyst, (FILES / "ticket_hut_diary.csv").read_bytes(), "diary.csv")
        kinds = {field.name: field.kind for field in upload.all_fields}
        self.assertEqual((kinds["Day"], kinds["Takings"], kinds["Hut no."]), ("date", "decimal", "text"))
        first = upload.all_fields[0].id
        self.assertContains(self.ask("upload-column", upload.pk, first, data={"kind": "text"}), "04.04.2026")
        self.assertContains(self.ask("upload-options", upload.pk, data={"header_row": 1}), "Column 2")
        self.assertContains(self.ask("upload-options", upload.pk, data={"delimiter": "|"}), "Ticket hut diary")

    def test_settings_that_do_not_work_are_said_and_the_old_ones_kept(self):
        self.as_(self.analyst)
        upload = receive(self.analyst, FERRIES)
        answer = self.ask("upload-options", upload.pk, data={"header_row": 60})
        self.assertContains(answer, "no rows")
        upload.refresh_from_db()
        self.assertEqual(upload.options["header_row"], 1)
        self.assertEqual(self.ask("upload-options", upload.pk, data={"encoding": "klingon"}).status_code, 422)

    def test_an_ambiguous_date_must_be_answered_before_the_import(self):
        self.as_(self.analyst)
        upload = receive(self.analyst, "sailed,fare\n03/04/2026,1\n05/06/2026,2\n")
        self.assertContains(self.client.get(reverse("upload", args=[upload.pk])), "the day or the month first")
        refused = self.ask("upload-start", upload.pk)
        self.assertEqual(refused.status_code, 422)
        self.assertIn("Is the day or the month first in Sailed?", refused.json()["message"])
        answered = self.ask("upload-column", upload.pk, upload.all_fields[0].id, data={"order": "mdy"})
        self.assertContains(answered, "4 Mar 2026")
        self.assertNotContains(answered, "the day or the month first")
        self.assertEqual(self.ask("upload-start", upload.pk).status_code, 200)
        self.assertEqual(Dataset.objects.get().current.profile("c1").lowest, "2026-03-04")

    def test_columns_can_be_left_out(self):
        self.as_(self.analyst)
        upload = receive(self.analyst, FERRIES)
        self.ask("upload-start", upload.pk, data={"leave_out": ["c2", "c5"]})
        self.assertEqual(set(Dataset.objects.get().current.kinds), {"c1", "c3", "c4", "c6", "c7"})
        everything = receive(self.analyst, FERRIES)
        self.assertEqual(
            self.ask("upload-start", everything.pk, data={"leave_out": [f"c{i}" for i in range(1, 8)]}).status_code, 422
        )

    def test_rows_of_totals_and_far_dates_are_remarked_and_left_out_if_one_wants(self):
        days = [f"Tern,2026-01-{day:02},{day}" for day in range(1, 29)]
        self.as_(self.analyst)
        upload = receive(self.analyst, "\n".join(["port,sailed,fare", *days, "Total,,411", "Quay,1900-01-01,5"]))
        page = self.client.get(reverse("upload", args=[upload.pk]))
        self.assertContains(page, "1 sampled row with “Total” in <strong>Port</strong>holds the sum")
        self.assertContains(page, "“1900-01-01” in <strong>Sailed</strong>(1 sampled row) lies far from all")
        fields = {field.source: field.id for field in upload.all_fields}
        left_out = self.ask("upload-column", upload.pk, fields["port"], data={"left_out": ["total"]})
        self.assertContains(left_out, "1 sampled row with “Total” in <strong>Port</strong>is left out")
        self.ask("upload-column", upload.pk, fields["sailed"], data={"empty_words": ["1900-01-01"]})
        refused = self.ask("upload-start", upload.pk, data={"leave_out": [fields["port"]]})
        self.assertEqual(refused.status_code, 422)
        self.assertIn("tells which rows are left out", refused.json()["message"])
        self.ask("upload-start", upload.pk, data={"name": "Fares"})
        dataset = Dataset.objects.get(name="Fares")
        self.assertEqual(dataset.current.rows, 29)
        self.assertEqual(dataset.current.profile(fields["sailed"]).lowest, "2026-01-01")
        # A newer file is read the same way.
        newer = receive(self.analyst, "port,sailed,fare\nTern,2026-02-01,1\nTotal,,1\n", dataset=dataset)
        self.ask("upload-start", newer.pk)
        dataset.refresh_from_db()
        self.assertEqual((dataset.current.number, dataset.current.rows), (2, 1))

    def test_the_aggregate_is_chosen_before_the_import(self):
        self.as_(self.analyst)
        upload = receive(self.analyst, "port,fare\nTern,1\nQuay,2\n")
        fare = next(field.id for field in upload.all_fields if field.source == "fare")
        page = self.ask("upload-column", upload.pk, fare, data={"aggregate": "median"})
        self.assertContains(page, '<option value="median" selected>')
        self.assertContains(self.ask("upload-column", upload.pk, fare, data={"role": "dimension"}), "Role of Fare")
        upload.refresh_from_db()
        self.assertEqual([field.role for field in upload.all_fields], ["dimension", "dimension"])

    def test_a_file_that_disappears_is_said(self):
        self.as_(self.analyst)
        upload = receive(self.analyst, FERRIES)
        upload.file.unlink()
        self.assertContains(self.client.get(reverse("upload", args=[upload.pk])), "no longer there")

    def test_an_upload_can_be_given_up(self):
        self.as_(self.analyst)
        upload = receive(self.analyst, FERRIES)
        self.client.post(reverse("upload-discard", args=[upload.pk]))
        self.assertFalse(upload.file.exists() or Upload.objects.exists())

    def test_duplicate_and_empty_headings(self):
        dataset = import_now(self.analyst, "fare,fare,,Fare\n1,2,3,4\n")
        self.assertEqual([field.name for field in dataset.all_fields], ["Fare", "Fare (2)", "Column 3", "Fare (3)"])


class Imports(WebTest):
    def test_rows_come_back_as_they_were(self):
        dataset = self.make_dataset()
        frame = get_table(dataset.current_id).scan([self.ids["fare"], self.ids["route"]]).collect()
        self.assertEqual(frame[self.ids["fare"]].to_list(), [120.5, 80.0, None, -15.25, 60.0])
        self.assertEqual(frame[self.ids["route"]][3], "Sallow Ness–Quay")

    def fail_after_first_chunk(self, error):
        dataset = self.make_dataset()
        before = (dataset.current_id, dataset.fields)
        upload = receive(self.analyst, FERRIES + "6,2026-03-01,North Reach,Harrow–Tern,1,1,no\n", dataset=dataset)
        with mock.patch.object(store, "profile_column", side_effect=error):
            intake.start_import(self.analyst, upload)
        upload.refresh_from_db()
        dataset.refresh_from_db()
        self.assertEqual((dataset.current_id, dataset.fields), before)
        self.assertEqual((Version.objects.count(), upload.state), (1, Upload.State.FAILED))
        self.assertEqual(Chunk.objects.exclude(version=dataset.current).count(), 0)
        return upload

    def test_a_failed_import_changes_nothing_and_says_why(self):
        self.assertIn("fault on our side", self.fail_after_first_chunk(RuntimeError("boom")).message)

    def test_a_full_disk_in_mid_import_changes_nothing_and_says_so(self):
        for error in (
            OSError(errno.ENOSPC, "full"),
            OperationalError(sqlite3.OperationalError("database or disk is full")),
        ):
            with self.subTest(error=error):
                self.assertIn("disk is full", self.fail_after_first_chunk(error).message)
                Dataset.objects.all().delete()

    def test_a_failed_import_can_be_started_again(self):
        upload = self.fail_after_first_chunk(RuntimeError("boom"))
        intake.start_import(self.analyst, upload)
        self.assertEqual(Dataset.objects.get().current.rows, 6)

    def test_an_upload_is_read_only_once(self):
        upload = receive(self.analyst, FERRIES)
        intake.start_import(self.analyst, upload)
        self.assertEqual(queue.work_off(), 0)
        self.assertEqual(Version.objects.count(), 1)

    def test_a_quote_never_closed_fails_with_its_line(self):
        upload = receive(self.analyst, FERRIES + '6,2026-03-01,"North Reach,x,1,1,no\n')
        intake.start_import(self.analyst, upload)
        upload.refresh_from_db()
        self.assertIn("line 7", upload.message)

    def test_values_that_did_not_convert_are_counted_and_listed(self):
        self.as_(self.analyst)
        dataset = import_now(self.analyst, "sold\n" + "1\n" * 30 + "about 9\n" + "2\n")
        self.assertContains(self.client.get(reverse("dataset", args=[dataset.pk])), "1 value did not convert")
        self.assertContains(self.look("dataset-failures", dataset.pk, "c1"), "about 9")
        self.assertContains(self.look("dataset-failures", dataset.pk, "c1"), ">31<")

    @override_settings(VERSIONS_KEPT=2)
    def test_old_versions_leave(self):
        dataset = self.make_dataset()
        for _ in range(3):
            import_now(self.analyst, FERRIES, dataset=dataset)
        self.assertEqual([v.number for v in dataset.versions.all()], [4, 3])


class NewerFiles(WebTest):
    NEWER = "sailing_id,sailed,region,passengers,cancelled,tonnage\nx9,2026-03-01,North Reach,50,no,7\n"

    @classmethod
    def setUpTestData(cls):
        super().setUpTestData()
        cls.chart = cls.make_chart()

    def setUp(self):
        super().setUp()
        self.as_(self.analyst)

    def test_what_a_newer_file_changes_is_named_with_what_uses_it_before_it_takes_effect(self):
        formula = {"name": "Taken", "text": "sum(Fare)"}
        self.dataset = change_model(self.analyst, self.dataset, "save_formula", formula, 0)
        upload = receive(self.analyst, self.NEWER, dataset=self.dataset)
        page = self.client.get(reverse("upload", args=[upload.pk]))
        words = " ".join(re.sub("<[^>]+>", "", page.content.decode()).split())
        self.assertIn("“Fare” is missing. These use it and will say so: Fares, the formula Taken.", words)
        self.assertContains(page, "“Route” is missing. Nothing uses it.")
        self.assertEqual(find_uses(self.dataset, self.ids["fare"]).describe(), "Fares, and the formula Taken")
        self.assertContains(page, "“Sailing id” was whole number and is now text.")
        self.assertContains(page, "“Tonnage” is new.")
        self.dataset.refresh_from_db()
        self.assertEqual(self.dataset.current.number, 1)

    def test_a_chart_whose_field_went_missing_says_so_and_works_again_later(self):
        import_now(self.analyst, self.NEWER, dataset=self.dataset)
        definition = {"definition": self.chart.definition}
        answer = self.ask("chart-answer", self.chart.pk, data=definition)
        self.assertEqual(answer.status_code, 422)
        self.assertIn("The field “Fare” is missing", answer.json()["message"])
        self.assertContains(self.client.get(reverse("dataset", args=[self.dataset.pk])), "Missing from the newest file")
        import_now(self.analyst, FERRIES, dataset=self.dataset)
        self.assertEqual(self.ask("chart-answer", self.chart.pk, data=definition).status_code, 200)

    def test_names_and_settings_are_kept(self):
        catalogue.update_field(
            self.analyst, self.dataset, self.ids["fare"], {"name": "Takings", "description": "At the till"}
        )
        self.dataset.refresh_from_db()
        again = import_now(self.analyst, FERRIES, dataset=self.dataset)
        self.assertEqual(again.schema[self.ids["fare"]].name, "Takings")

    def test_an_earlier_version_can_be_brought_back(self):
        import_now(self.analyst, self.NEWER, dataset=self.dataset)
        self.client.post(reverse("version-restore", args=[self.dataset.pk, 1]))
        self.dataset.refresh_from_db()
        self.assertEqual((self.dataset.current.number, self.dataset.schema[self.ids["sailing_id"]].kind), (1, "whole"))
        with self.assertRaises(VedutaError):
            catalogue.bring_back_version(self.analyst, self.dataset, 77)


class TheDatasetPage(WebTest):
    @classmethod
    def setUpTestData(cls):
        super().setUpTestData()
        cls.make_dataset()

    def setUp(self):
        super().setUp()
        self.as_(self.analyst)

    def test_profiles_and_rows(self):
        page = self.client.get(reverse("dataset", args=[self.dataset.pk]))
        self.assertContains(page, "−15.25 to 120.50")
        self.assertContains(page, "20%")
        rows = self.look("dataset-rows", self.dataset.pk, sort=self.ids["fare"], descending="1", find="reach")
        self.assertContains(rows, "3 of 5 rows match")
        text = rows.content.decode()
        self.assertLess(text.index("120.50"), text.index("60.00"))

    def test_periods_are_shown_as_they_are_written(self):
        dataset = import_now(self.analyst, "Month,Passengers\n2024-01,3\n2024-02,4\n2024-03,5\n", "monthly.csv")
        self.assertContains(self.client.get(reverse("dataset", args=[dataset.pk])), "Jan 2024 to Mar 2024")
        self.assertContains(self.look("dataset-rows", dataset.pk), "Feb 2024")

    @tag("long")
    def test_a_file_of_two_thousand_columns_is_shown_in_pages(self):
        wide = import_now(
            self.analyst, ",".join(f"day {i}" for i in range(2_000)) + "\n" + ",".join("7" * 2_000) + "\n", "wide.csv"
        )
        address = reverse("dataset", args=[wide.pk])
        self.assertContains(self.client.get(address), "Columns 1 to 60 of 2,000")
        self.assertContains(self.client.get(address, {"find": "day 199"}), "Columns 1 to 11 of 11")
        self.assertContains(self.client.get(address, {"find": "night"}), "No column has that in its name")

    def test_pages_beyond_the_last_show_the_last(self):
        self.assertContains(self.look("dataset-rows", self.dataset.pk, page="99"), "5 rows")
        self.assertEqual(self.look("dataset-rows", self.dataset.pk, page="x").status_code, 422)

    def test_rows_are_downloaded_as_they_are_searched(self):
        answer = self.look("dataset-file", self.dataset.pk, find="south")
        lines = b"".join(answer.streaming_content).decode("utf-8-sig").splitlines()
        self.assertEqual(lines[0], "Sailing id,Sailed,Region,Route,Fare,Passengers,Cancelled")
        self.assertEqual(lines[1:], ["4,2026-02-14,South Banks,Sallow Ness–Quay,-15.25,12,false"])

    def change(self, source, **changes):
        return self.ask("field-update", self.dataset.pk, self.ids[source], data=changes)

    def test_fields_are_changed_and_say_how_to_undo_it(self):
        answer = self.change("fare", role="dimension").json()
        self.assertEqual(answer["undo"], {"role": "measure", "aggregate": "sum"})
        self.change("fare", **answer["undo"])
        self.dataset.refresh_from_db()
        self.assertEqual(self.dataset.schema[self.ids["fare"]].role, "measure")

    def test_a_change_of_type_reads_the_file_again(self):
        answer = self.change("sailing_id", kind="text")
        self.assertEqual(answer.status_code, 200)
        self.dataset.refresh_from_db()
        self.assertEqual(self.dataset.current.number, 2)
        self.assertEqual(
            get_table(self.dataset.current_id).scan([self.ids["sailing_id"]]).collect().to_series().to_list(),
            list("12345"),
        )

    def test_changes_that_do_not_fit_are_refused(self):
        for source, changes, words in (
            ("fare", {"name": "Route"}, "already a field named"),
            ("route", {"aggregate": "sum"}, "have no sum"),
            ("fare", {"kind": "colour"}, ""),
            ("fare", {"id": "c1"}, "does not exist"),
            ("fare", {}, "does not exist"),
        ):
            with self.subTest(changes=changes):
                answer = self.change(source, **changes)
                self.assertEqual(answer.status_code, 422)
                self.assertIn(words, answer.json()["message"])

    def test_hidden_fields_leave_rows_and_downloads(self):
        self.change("fare", hidden=True)
        self.assertNotContains(self.look("dataset-rows", self.dataset.pk), "120.5")

    def test_deleting_can_be_undone_and_its_charts_say_what_happened(self):
        chart = self.make_chart()
        answer = self.ask("dataset-delete", self.dataset.pk).json()
        self.assertEqual(self.look("dataset", self.dataset.pk).status_code, 404)
        self.assertContains(self.client.get(reverse("chart", args=[chart.pk])), "was deleted", status_code=422)
        self.client.post(answer["undo"], headers={"X-Veduta": "1"})
        self.assertEqual(self.client.get(reverse("chart", args=[chart.pk])).status_code, 200)

    def test_the_name_and_description_are_saved(self):
        self.ask("dataset-update", self.dataset.pk, data={"name": "Boats", "description": "All of them"})
        self.dataset.refresh_from_db()
        self.assertEqual((self.dataset.name, self.dataset.description), ("Boats", "All of them"))


class Columns(WebTest):
    def test_the_cache_stays_within_its_bound_and_loads_what_has_left_again(self):
        dataset = self.make_dataset()
        columns = Cache(60, lambda column: column.estimated_size())
        with mock.patch.object(store, "columns", columns):
            for _ in range(2):
                for source in ("fare", "passengers", "route"):
                    self.assertEqual(len(store.read_column(dataset.current_id, self.ids[source])), 5)
        self.assertLess(len(columns), 3)


class Downloads(WebTest):
    def test_texts_like_formulas_are_guarded_unless_that_is_not_wanted(self):
        dataset = import_now(self.analyst, "note,fare\n=1+1,-5\nQuay,7\n", "notes.csv")
        self.as_(self.analyst)
        address = reverse("dataset-file", args=[dataset.pk])
        self.assertEqual(page_of(self.client.get(address)), "\ufeffNote,Fare '=1+1,-5 Quay,7")
        plain = self.client.get(address, {"as_they_are": "1"})
        self.assertEqual(page_of(plain), "\ufeffNote,Fare =1+1,-5 Quay,7")
        page = self.client.get(reverse("dataset", args=[dataset.pk]))
        self.assertContains(page, "a ' goes before texts that a spreadsheet would take for formulas")

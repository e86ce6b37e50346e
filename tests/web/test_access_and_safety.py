from __future__ import annotations

import os
import tempfile
import uuid
from io import StringIO
from pathlib import Path
from unittest import mock

from django.conf import settings
from django.core.management import CommandError, call_command
from django.http import HttpRequest, HttpResponse
from django.test import Client, override_settings, tag
from django.urls import reverse

from tests.web.support import PASSWORD, WebTest
from veduta.demo.load import load_demo
from veduta.web import installation
from veduta.web.accounts.models import User
from veduta.web.accounts.throttle import OF_ADDRESS, OF_NAME


class Ids(WebTest):
    def test_guessed_and_forged_ones_are_not_found(self):
        self.as_(self.steward)
        for name in ("dataset", "chart", "dashboard", "upload", "dashboard-edit", "dataset-rows"):
            self.assertEqual(self.client.get(reverse(name, args=[uuid.uuid4()])).status_code, 404)
        self.assertEqual(self.client.get("/charts/not-an-id/").status_code, 404)


class Commands(WebTest):
    def add(self, *arguments: str, password: str = PASSWORD) -> str:
        with mock.patch("sys.stdin", StringIO(f"{password}\n")):
            out = StringIO()
            call_command("add_person", *arguments, stdout=out)
            return out.getvalue()

    def test_the_first_steward_is_added(self):
        self.assertIn("mara is there now, as steward", self.add("mara", "--first-name", "Mara"))
        self.assertTrue(self.client.login(username="mara", password=PASSWORD, request=HttpRequest()))
        with self.assertRaisesMessage(CommandError, "already exists"):
            self.add("mara")
        with self.assertRaisesMessage(CommandError, "too short"):
            self.add("nell", password="short")


class Safety(WebTest):
    def test_headers(self):
        answer = self.client.get(reverse("sign-in"))
        policy = answer["Content-Security-Policy"]
        self.assertIn("script-src 'self';", policy + ";")
        self.assertNotIn("unsafe", policy)
        self.assertIn("frame-ancestors 'none'", policy)
        self.assertEqual(answer["X-Content-Type-Options"], "nosniff")
        self.assertEqual(answer["X-Frame-Options"], "DENY")
        self.assertEqual(answer["Referrer-Policy"], "same-origin")

    def test_pages_have_no_inline_scripts_or_styles(self):
        self.make_dashboard()
        self.as_(self.analyst)
        chart = self.dataset.charts.first()
        for address in (
            "/",
            "/data/",
            f"/data/{self.dataset.pk}/",
            f"/charts/{chart.pk}/",
            f"/dashboards/{self.dashboard.pk}/",
        ):
            html = self.client.get(address).content.decode()
            with self.subTest(address=address):
                self.assertNotRegex(html, r"<script(?![^>]*(src=|application/json))")
                self.assertNotRegex(html, r"\son[a-z]+=\"")
                self.assertNotRegex(html, r"<[^>]+\sstyle=\"")

    def test_changes_need_the_forms_token(self):
        client = Client(enforce_csrf_checks=True)
        client.force_login(self.analyst, backend="django.contrib.auth.backends.ModelBackend")
        self.assertEqual(client.post(reverse("dashboard-new")).status_code, 403)
        self.assertEqual(
            client.post(reverse("upload-receive"), b"a,b\n1,2\n", content_type="text/csv").status_code, 403
        )

    def test_signing_in_is_throttled(self):
        address = reverse("sign-in")
        for _ in range(settings.AXES_FAILURE_LIMIT):
            last = self.client.post(address, {"username": "analyst", "password": "guess"})
        self.assertContains(last, "Too many tries", status_code=429)
        self.assertEqual(self.client.post(address, {"username": "analyst", "password": PASSWORD}).status_code, 429)

    def failures(self, count: int, names: str, addresses: str) -> None:
        """So many failures to sign in, each with a name and from an address that may be numbered."""
        for i in range(count):
            form = {"username": names.format(i), "password": "guess"}
            self.client.post(reverse("sign-in"), form, REMOTE_ADDR=addresses.format(i % 200))

    def sign_in_from(self, address: str) -> int:
        form = {"username": "analyst", "password": PASSWORD}
        return Client().post(reverse("sign-in"), form, REMOTE_ADDR=address).status_code

    @override_settings(AXES_FAILURE_LIMIT=2)
    def test_an_address_with_many_names_is_throttled(self):
        self.failures(2 * OF_ADDRESS - 1, "somebody-{}", "203.0.113.7")
        self.assertEqual(self.sign_in_from("203.0.113.7"), 302)
        self.failures(1, "somebody-else", "203.0.113.7")
        self.assertEqual(self.sign_in_from("203.0.113.7"), 429)
        self.assertEqual(self.sign_in_from("203.0.113.8"), 302)

    @override_settings(AXES_FAILURE_LIMIT=2)
    def test_a_name_is_throttled_from_many_addresses_but_not_where_the_person_signs_in(self):
        self.assertEqual(self.sign_in_from("203.0.113.9"), 302)
        self.failures(2 * OF_NAME, "analyst", "198.51.100.{}")
        self.assertEqual(self.sign_in_from("203.0.113.10"), 429)
        self.assertEqual(self.sign_in_from("203.0.113.9"), 302)

    def test_what_is_answered_to_somebody_is_kept_nowhere(self):
        self.make_dashboard()
        self.as_(self.analyst)
        for address in ("/", reverse("dataset-file", args=[self.dataset.pk]), "/charts/nothing/"):
            self.assertEqual(self.client.get(address)["Cache-Control"], "private, no-store", address)
        answer = self.look("dashboard-blocks", self.dashboard.pk)
        self.assertEqual(answer["Cache-Control"], "private, no-store")

    def test_nobody_else_on_the_machine_reads_the_data(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        database = Path(folder.name, "veduta.sqlite3")
        database.touch(0o644)
        Path(folder.name).chmod(0o755)
        before = os.umask(0o022)
        self.addCleanup(os.umask, before)
        with mock.patch.multiple(installation, DATA_DIR=Path(folder.name), KEY_FILE=Path(folder.name, "secret_key")):
            installation.prepare()
        Path(folder.name, "new").touch()
        for path in Path(folder.name), *Path(folder.name).iterdir():
            self.assertEqual(path.stat().st_mode & 0o077, 0, path)

    def test_a_file_that_goes_meanwhile_keeps_nobody_from_starting(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        Path(folder.name, "veduta.sqlite3-wal").symlink_to("gone")  # listed, but not there any more
        self.addCleanup(os.umask, os.umask(0o022))
        with mock.patch.multiple(installation, DATA_DIR=Path(folder.name), KEY_FILE=Path(folder.name, "secret_key")):
            installation.prepare()
            self.assertTrue(installation.load_secret_key())

    def test_signing_in_and_out(self):
        wrong = self.client.post(reverse("sign-in"), {"username": "analyst", "password": "guess"})
        self.assertContains(wrong, "do not belong together")
        right = self.client.post(reverse("sign-in"), {"username": "analyst", "password": PASSWORD, "next": "/charts/"})
        self.assertRedirects(right, "/charts/")
        self.client.post(reverse("sign-out"))
        self.assertEqual(self.client.get("/").status_code, 302)

    def test_a_session_that_ran_out_while_editing_is_said_as_such(self):
        chart = self.make_chart()
        answer = self.ask("chart-answer", chart.pk, data={"definition": chart.definition})
        self.assertEqual((answer.status_code, answer.json()["signed_out"]), (401, True))

    def test_no_stack_trace_reaches_a_person(self):
        self.as_(self.analyst)
        self.client.raise_request_exception = False
        with mock.patch("veduta.web.home.views.list_dashboards", side_effect=RuntimeError("secret detail")):
            answer = self.client.get("/")
        self.assertContains(answer, "Something went wrong on our side", status_code=500)
        self.assertNotContains(answer, "secret detail", status_code=500)

    def test_models_and_migrations_agree(self):
        call_command("makemigrations", check=True, dry_run=True, stdout=StringIO())


class OwnPassword(WebTest):
    def change(self, old: str, new: str, again: str = "") -> HttpResponse:
        form = {"old_password": old, "new_password1": new, "new_password2": again or new}
        return self.client.post(reverse("password"), form)

    def test_it_is_changed_and_other_sessions_end(self):
        other = Client()
        other.force_login(self.explorer, backend="django.contrib.auth.backends.ModelBackend")
        self.as_(self.explorer)
        self.assertRedirects(self.change(PASSWORD, "tern-quay-ash"), "/")
        self.assertEqual(other.get("/").status_code, 302)
        self.explorer.refresh_from_db()
        self.assertTrue(self.explorer.check_password("tern-quay-ash"))

    def test_what_is_wrong_is_said(self):
        self.as_(self.explorer)
        for form, said in (
            (("guess", "tern-quay-ash"), "not your present password"),
            ((PASSWORD, "tern-quay-ash", "tern-quay-oak"), "The two do not match"),
            ((PASSWORD, "short"), "too short"),
        ):
            self.assertContains(self.change(*form), said)
        self.explorer.refresh_from_db()
        self.assertTrue(self.explorer.check_password(PASSWORD))


class People(WebTest):
    def setUp(self):
        super().setUp()
        self.as_(self.steward)

    def test_a_person_is_added_changed_and_switched_off(self):
        data = {
            "username": "runa",
            "first_name": "Runa",
            "role": "explorer",
            "groups": "Harbour office, Crew",
            "password1": "tern-quay-ash",
            "password2": "tern-quay-ash",
        }
        self.client.post(reverse("people"), data)
        runa = User.objects.get(username="runa")
        self.assertEqual(sorted(runa.groups.values_list("name", flat=True)), ["Crew", "Harbour office"])
        self.client.post(
            reverse("person", args=[runa.pk]),
            {"role": "analyst", "groups": "Crew", "new_password": "another-long-one", "is_active": "on"},
        )
        runa.refresh_from_db()
        self.assertTrue(runa.builds and runa.check_password("another-long-one"))
        self.client.post(reverse("person", args=[runa.pk]), {"role": "analyst"})
        answer = Client().post(reverse("sign-in"), {"username": "runa", "password": "another-long-one"})
        self.assertContains(answer, "do not belong together")

    def test_weak_passwords_are_refused_in_words(self):
        answer = self.client.post(
            reverse("people"), {"username": "x", "role": "analyst", "password1": "short", "password2": "short"}
        )
        self.assertContains(answer, "too short")
        answer = self.client.post(
            reverse("person", args=[self.analyst.pk]), {"role": "analyst", "new_password": "1234"}
        )
        self.assertContains(answer, "too short")

    def test_the_last_steward_stays(self):
        answer = self.client.post(reverse("person", args=[self.steward.pk]), {"role": "explorer", "is_active": "on"})
        self.assertContains(answer, "at least one active steward")
        self.steward.refresh_from_db()
        self.assertTrue(self.steward.is_steward)


class Pages(WebTest):
    def test_home_and_find_show_each_what_is_theirs(self):
        self.make_dashboard()
        for user, sees in ((self.analyst, True), (self.explorer, False)):
            self.as_(user)
            for page in (self.client.get("/"), self.client.get(reverse("find"), {"find": "fares"})):
                self.assertEqual("Fares" in page.content.decode(), sees)

    def test_every_page_of_the_guide_opens(self):
        self.as_(self.explorer)
        from veduta.web.home.views import list_guide_pages

        self.assertGreaterEqual(len(list_guide_pages()), 3)
        for slug, title in list_guide_pages():
            self.assertContains(self.client.get(reverse("guide-page", args=[slug])), f"<h1>{title}</h1>")

    @tag("long")
    def test_the_demo_loads_once(self):
        first = load_demo(settings.DATA_DIR / "demo", rows=400)
        self.assertEqual(load_demo(settings.DATA_DIR / "demo", rows=400), first)
        self.assertEqual(len(first.published.load().blocks), 8)
        self.as_(User.objects.get(username="explorer"))

"""Pictures that the workspace keeps, and tables that show them beside values."""

from __future__ import annotations

from urllib.parse import quote

from tests.web.support import WebTest
from veduta.web.images.models import KeptPicture

PNG = b"\x89PNG\r\n\x1a\n and what is on it"
WEBP = b"RIFF1234WEBP and what is on it"


class Pictures(WebTest):
    def send(self, name, content=PNG):
        headers = {"X-Veduta": "1", "X-File-Name": quote(name)}
        sent = {"content_type": "application/octet-stream", "headers": headers}
        return self.client.post("/data/pictures/receive/", content, **sent)

    def setUp(self):
        super().setUp()
        self.as_(self.analyst)

    def test_an_svg_is_made_safe_and_may_neither_run_nor_load(self):
        drawn = b'<svg xmlns="http://www.w3.org/2000/svg"><script>alert(1)</script><rect onload="alert(1)"/></svg>'
        option = self.send("Quay.svg", drawn).json()["html"]
        self.assertIn('data-picture="Quay"', option)
        answer = self.client.get(KeptPicture.objects.get(name="Quay").address)
        self.assertEqual(answer["Content-Type"], "image/svg+xml")
        self.assertIn("sandbox", answer["Content-Security-Policy"])
        self.assertIn(b"<rect", answer.content)
        self.assertNotIn(b"alert", answer.content)
        self.assertContains(self.send("Broken.svg", b"<svg"), "cannot be read", status_code=422)

    def test_what_is_no_picture_is_refused_and_says_so(self):
        for content in (b"<html>", b"GIF89a", b"", b"RIFF1234WAVE"):
            with self.subTest(content=content):
                answer = self.send("Gannet.png", content)
                self.assertEqual(answer.status_code, 422)
                self.assertIn("PNG", answer.json()["message"] + answer.json()["hint"])
        self.assertContains(self.send("Large.png", PNG + bytes(5 * 2**20)), "larger than 5 MB", status_code=422)
        self.assertEqual(KeptPicture.objects.count(), 0)

    def test_one_is_kept_as_its_file_is_called_and_sent_as_what_it_is(self):
        for name, content, kept, kind in (
            ("Gannet.png", PNG, "Gannet", "image/png"),
            ("Outer Light.webp", WEBP, "Outer Light", "image/webp"),
            ("../a/b\x00<b>.jpg", b"\xff\xd8\xff", ".. a b <b>", "image/jpeg"),
        ):
            with self.subTest(name=name):
                self.assertEqual(self.send(name, content).status_code, 200)
                picture = KeptPicture.objects.get(name=kept)
                self.as_(self.explorer)
                answer = self.look("picture", picture.pk)
                self.assertEqual((answer.content, answer["Content-Type"]), (content, kind))
                self.as_(self.analyst)
        self.assertContains(self.look("pictures"), ".. a b &lt;b&gt;")
        self.assertNotContains(self.client.get("/data/pictures/?find=outer"), 'value="Gannet"')

    def test_one_of_the_same_name_goes_into_its_place(self):
        self.send("Gannet.png")
        before = KeptPicture.objects.get().address
        KeptPicture.objects.update(updated_at="2026-01-01T00:00Z")
        self.assertNotEqual(KeptPicture.objects.get().address, before)
        self.send("GANNET.webp", WEBP)
        self.assertEqual(bytes(KeptPicture.objects.get().content), WEBP)

    def test_one_is_described_deleted_and_brought_back(self):
        self.send("Gannet.png")
        self.send("Petrel.png")
        gannet = KeptPicture.objects.get(name="Gannet")
        self.assertEqual(self.ask("picture-describe", gannet.pk, data={"name": "petrel"}).status_code, 422)
        self.assertEqual(self.ask("picture-describe", gannet.pk, data={"name": " "}).status_code, 422)
        self.ask("picture-describe", gannet.pk, data={"name": "Fulmar", "words": "The Fulmar at sea"})
        self.assertContains(self.look("pictures"), 'alt="The Fulmar at sea"')
        undo = self.ask("picture-delete", gannet.pk).json()["undo"]
        self.assertEqual(self.look("picture", gannet.pk).status_code, 404)
        self.send("Fulmar.png")
        self.assertEqual(self.client.post(undo, headers={"X-Veduta": "1"}).status_code, 422)  # its name is taken
        KeptPicture.objects.filter(name="Fulmar").exclude(pk=gannet.pk).delete()
        self.assertEqual(self.client.post(undo, headers={"X-Veduta": "1"}).status_code, 200)
        self.assertEqual(self.look("picture", gannet.pk).status_code, 200)

    def test_tables_show_them_beside_values_and_lead_where_they_are_told(self):
        self.send("north REACH.png")
        chart = self.make_chart()
        region = self.ids["region"]

        def table(**look):
            values = [{"field": region, **look}]
            definition = chart.definition | {"kind": "table", "by": [{"field": region}], "look": {"values": values}}
            return self.ask("chart-answer", chart.pk, data={"definition": definition}).json()["chart"]["html"]

        address = KeptPicture.objects.get().address
        beside = table(pictures="beside")
        self.assertIn("North Reach", beside)
        self.assertEqual(beside.count("<img"), 1)
        self.assertIn(f'src="{address}"', beside)
        instead = table(pictures="instead", address="https://ships.example/{value}")
        self.assertIn('alt="north REACH"', instead)
        self.assertIn('href="https://ships.example/North%20Reach"', instead)
        self.assertIn('rel="noopener noreferrer"', instead)
        self.assertIn("Inner Sound", instead)  # of which there is no picture
        wrong = {"edit": "set_values", "clause": "by", "changes": {"address": "javascript:alert(1)"}}
        refused = self.ask("chart-answer", chart.pk, data={"definition": chart.definition, "edits": [wrong]})
        self.assertEqual(refused.status_code, 422)
        self.assertIn("https://", refused.json()["message"])

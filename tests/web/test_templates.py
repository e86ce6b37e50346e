"""Chart templates in the workspace: made, described, exchanged, used and drawn like."""

from __future__ import annotations

import base64
import json

from tests.web.support import WebTest, import_now
from veduta.web.chart_templates.models import ChartTemplate

PNG = base64.b64encode(b"\x89PNG\r\n\x1a\n a picture").decode()
WORKS = "depot,opened,hours\nQuay,2026-01-04,3\nTern,2026-02-04,8\n"


class Templates(WebTest):
    @classmethod
    def setUpTestData(cls):
        super().setUpTestData()
        cls.chart = cls.make_chart()

    def setUp(self):
        super().setUp()
        self.as_(self.analyst)

    def words(self, **changes):
        made = [{"name": f"Place {i}", "needed": True, "guidance": f"Number {i}"} for i in range(2)]
        return {"name": "Ranking", "description": "For lists", "places": made} | changes

    def kept(self, **changes):
        answer = self.ask("template-keep", self.chart.pk, data=self.words(**changes))
        self.assertEqual(answer.status_code, 200, answer.content)
        return ChartTemplate.objects.latest("created_at")

    def bring(self, content):
        return self.client.post(
            "/templates/receive/",
            content if isinstance(content, bytes) else json.dumps(content),
            content_type="application/octet-stream",
            headers={"X-Veduta": "1"},
        )

    def test_a_chart_becomes_a_template_of_ones_own_words(self):
        page = self.look("template-begin", self.chart.pk).content.decode()
        self.assertIn("Left behind", page)
        kept = self.kept()
        template = kept.load()
        self.assertEqual((template.name, template.description, template.author), ("Ranking", "For lists", "Analyst"))
        self.assertEqual(
            [(p.name, p.guidance) for p in template.places], [("Place 0", "Number 0"), ("Place 1", "Number 1")]
        )
        self.assertEqual(bytes(kept.picture), b"")
        self.assertNotIn(str(self.dataset.pk), json.dumps(kept.content))

    def test_what_is_before_one_makes_the_template_with_the_drafts_changes(self):
        draft = self.chart.definition | {"kind": "table"}
        self.ask("chart-draft", self.chart.pk, data={"definition": draft, "revision": 1})
        self.assertEqual(self.kept().load().design.kind, "table")

    def test_a_picture_is_kept_only_when_asked_for(self):
        self.assertEqual(bytes(self.kept(picture=PNG).picture), b"")
        kept = self.kept(picture=PNG, with_picture=True)
        answer = self.look("template-picture", kept.pk)
        self.assertEqual((answer["Content-Type"], answer.content), ("image/png", base64.b64decode(PNG)))
        refused = self.ask(
            "template-keep",
            self.chart.pk,
            data=self.words(picture=base64.b64encode(b"<svg onload=x>").decode(), with_picture=True),
        )
        self.assertEqual(refused.status_code, 422)
        self.assertIn("no PNG", refused.json()["message"])

    def test_a_file_goes_out_and_comes_back(self):
        kept = self.kept(picture=PNG, with_picture=True)
        content = self.look("template-file", kept.pk).content
        answer = self.bring(content)
        self.assertEqual(answer.status_code, 200, answer.content)
        again = ChartTemplate.objects.latest("created_at")
        self.assertEqual((again.content, bytes(again.picture)), (kept.content, bytes(kept.picture)))
        self.assertEqual(self.look("template-schema").json()["title"], "Template")

    def test_what_is_no_template_changes_nothing_and_says_so(self):
        good = json.loads(self.look("template-file", self.kept().pk).content)
        for content, words in (
            (b"\xff\xfe\x00", "not readable"),
            (b"", "not readable"),
            ([good], "not readable"),
            ({**good, "version": 7}, "newer version"),
            ({**good, "places": []}, "no place"),
            (b"{" * 3_000_000, "larger than 2 MB"),
        ):
            with self.subTest(words=words):
                answer = self.bring(content)
                self.assertEqual(answer.status_code, 422)
                self.assertIn(words, answer.json()["message"])
        self.assertEqual(ChartTemplate.objects.count(), 1)

    def test_using_one_makes_a_chart_of_other_data(self):
        works = import_now(self.analyst, WORKS, "works.csv")
        ids = {field.source: field.id for field in works.schema}
        kept = self.kept()
        keys = [place.key for place in kept.load().places]
        page = self.look("template", kept.pk, dataset=works.pk).content.decode()
        self.assertIn("Make the chart", page)
        missing = self.ask("template-use", kept.pk, data={"source": str(works.pk), "fields": {keys[0]: ids["hours"]}})
        self.assertEqual(missing.status_code, 422)
        self.assertIn("“Place 1”", missing.json()["message"])
        fields = dict(zip(keys, (ids["hours"], ids["depot"]), strict=True))
        made = self.ask("template-use", kept.pk, data={"source": str(works.pk), "fields": fields})
        self.assertEqual(made.status_code, 200, made.content)
        chart = works.charts.get()
        self.assertEqual([measure.field for measure in chart.load().show], [ids["hours"]])
        self.assertIn(str(chart.pk), made.json()["address"])
        self.assertIn(str(chart), self.look("template", kept.pk).content.decode())

    def test_words_can_be_changed_and_must_be_whole(self):
        kept = self.kept(picture=PNG, with_picture=True)
        self.assertEqual(self.ask("template-words", kept.pk, data=self.words(name="Other")).status_code, 200)
        kept.refresh_from_db()
        self.assertEqual((kept.name, bool(kept.picture)), ("Other", True))
        for words in ({"name": " "}, {"places": []}, {"places": [{"name": ""}, {"name": "x"}]}):
            with self.subTest(words=words):
                self.assertEqual(self.ask("template-words", kept.pk, data=self.words(**words)).status_code, 422)

    def test_a_chart_is_drawn_like_another_one(self):
        other = self.make_chart()
        other.definition |= {"kind": "table", "look": {"table": {"numbered": True}}}
        other.save()
        design = self.look("template-design-of-chart", other.pk).json()["template"]
        sent = {"definition": self.chart.definition, "edits": [{"edit": "draw_like", "template": design}]}
        got = self.ask("chart-answer", self.chart.pk, data=sent).json()["definition"]
        self.assertEqual((got["kind"], got["look"]["table"]["numbered"]), ("table", True))
        self.assertEqual(got["show"], self.chart.load().model_dump(mode="json")["show"])
        listed = self.look("template-likes").content.decode()
        self.assertIn(str(other), listed)

    def test_deleting_can_be_undone(self):
        kept = self.kept()
        undo = self.ask("template-delete", kept.pk).json()["undo"]
        self.assertEqual(self.look("template", kept.pk).status_code, 404)
        self.client.post(undo, headers={"X-Veduta": "1"})
        self.assertEqual(self.look("template", kept.pk).status_code, 200)

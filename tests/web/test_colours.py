"""Colours of values in the workspace: given, set, brought in and taken along."""

from __future__ import annotations

import json

from tests.web.support import FERRIES, WebTest, import_now
from tests.web.test_models import ROUTES, ModelTest
from veduta.core.chart.definition import load_definition
from veduta.core.chart.palettes import SERIES_COLOURS
from veduta.web.charts import services as charts
from veduta.web.palettes.models import Palette, ValueColour

REGIONS = ["Inner Sound", "North Reach", "South Banks"]


class OnDashboards(WebTest):
    def test_a_dashboards_colours_go_before_the_workspaces_and_a_charts_before_those(self):
        dashboard = self.make_dashboard(published=False)
        self.as_(self.analyst)
        rows = [{"fields": "Region", "values": value, "colour": "#0A0B0C"} for value in REGIONS[:2]]
        taken = self.ask("dashboard-colours", dashboard.pk, data={"rows": rows}).json()
        definition = dashboard.load_draft()
        chart = definition.find_block("bars").chart
        source = self.dataset.charts.get(pk=chart)
        own = [{"fields": [self.ids["region"]], "colours": [{"values": [REGIONS[0]], "colour": "#00FF00"}]}]
        source.definition |= {"kind": "pie", "colours": own, "only": []}
        source.save()

        def drawn(**parts):
            changed = definition.model_copy(update=parts)
            sent = {"definition": changed.model_dump(mode="json") | taken | parts, "name": "Season", "revision": None}
            sent["revision"] = dashboard.revision
            self.assertEqual(self.ask("dashboard-draft", dashboard.pk, data=sent).status_code, 200)
            dashboard.refresh_from_db()
            data = self.look("dashboard-block", dashboard.pk, "bars", draft=1).json()
            scale = data["spec"]["layer"][0]["encoding"]["color"]["scale"]
            return dict(zip(scale["domain"], scale["range"], strict=True))

        self.assertEqual([drawn()[name] for name in REGIONS[:2]], ["#00FF00", "#0A0B0C"])
        refused = self.ask("dashboard-colours", dashboard.pk, data={"rows": [rows[0] | {"colour": "reddish"}]})
        self.assertEqual(refused.status_code, 422)


class Colours(WebTest):
    @classmethod
    def setUpTestData(cls):
        super().setUpTestData()
        cls.chart = cls.make_chart()

    def setUp(self):
        super().setUp()
        self.as_(self.analyst)

    def drawn(self, **parts):
        definition = self.chart.definition | {"split": {"field": self.ids["region"]}, "kind": "bar", **parts}
        definition["by"] = [{"field": self.ids["route"]}]
        chart = self.ask("chart-answer", self.chart.pk, data={"definition": definition}).json()["chart"]
        spec = chart["spec"]
        unit = next(each for each in spec.get("layer", [spec]) if "color" in each["encoding"])
        scale = unit["encoding"]["color"]["scale"]
        return dict(zip(scale["domain"], scale["range"], strict=True))

    def bring(self, content):
        headers = {"X-Veduta": "1"}
        data = content if isinstance(content, bytes) else content.encode()
        return self.client.post(
            "/data/colours/receive/", data, content_type="application/octet-stream", headers=headers
        )

    def test_values_are_given_colours_once_and_keep_them_when_others_come(self):
        before = self.drawn()
        self.assertEqual(before, dict(zip(REGIONS, SERIES_COLOURS[:3], strict=True)))
        self.assertEqual(ValueColour.objects.count(), 3)
        more = FERRIES.replace("5,2026-02-14,North Reach", "5,2026-02-14,East Deeps")
        import_now(self.analyst, more, dataset=self.dataset)
        after = self.drawn()
        self.assertEqual(after, before | {"East Deeps": SERIES_COLOURS[3]})

    def test_a_colour_is_set_for_all_charts_and_goes_back_to_the_one_given(self):
        self.drawn()
        row = ValueColour.objects.get(values='["North Reach"]')
        self.assertContains(self.look("colours-list", row.pk), "Inner Sound")
        self.assertEqual(self.ask("colours-set", row.pk, data={"colour": "rebeccapurple"}).status_code, 200)
        self.assertEqual(self.drawn()["North Reach"], "#663399")
        self.assertEqual(self.drawn(own_colours=True)["North Reach"], SERIES_COLOURS[1])
        self.ask("colours-set", row.pk, data={"colour": ""})
        self.assertEqual(self.drawn()["North Reach"], SERIES_COLOURS[1])
        refused = self.ask("colours-set", row.pk, data={"colour": "purplish"})
        self.assertEqual(refused.status_code, 422)
        self.assertIn("“purplish” is no colour", refused.json()["message"])

    def test_a_value_is_added_before_it_occurs_and_taken_out(self):
        self.drawn()
        row = ValueColour.objects.first()
        self.ask("colours-set", row.pk, data={"colour": "#00aa00", "value_0": "East Deeps"})
        more = FERRIES.replace("5,2026-02-14,North Reach", "5,2026-02-14,East Deeps")
        import_now(self.analyst, more, dataset=self.dataset)
        self.assertEqual(self.drawn()["East Deeps"], "#00AA00")
        added = ValueColour.objects.get(values='["East Deeps"]')
        self.ask("colours-forget", added.pk)
        self.assertFalse(ValueColour.objects.filter(pk=added.pk).exists())

    def test_a_list_of_combinations_is_begun_with_its_first_value(self):
        sent = {"fields": "Cancelled, Region", "value_0": "yes", "value_1": "storm", "colour": "teal"}
        address = self.ask("colours-new", data=sent).json()["address"]
        self.assertContains(self.client.get(address), "yes · storm")
        self.assertEqual(self.ask("colours-new", data=sent | {"value_1": ""}).status_code, 422)
        self.assertEqual(self.ask("colours-new", data=sent | {"fields": "a,b,c,d"}).status_code, 422)
        self.assertContains(self.look("colours"), "Cancelled · Region")

    def test_they_go_out_and_come_in_again_as_json_and_as_csv(self):
        self.drawn()
        row = ValueColour.objects.get(values='["North Reach"]')
        self.ask("colours-set", row.pk, data={"colour": "#123456"})
        as_json = self.look("colours-file").content.decode()
        as_csv = self.look("colours-list-file", row.pk).content.decode()
        self.assertEqual(as_csv.splitlines()[:2], ["Region,colour", f"Inner Sound,{SERIES_COLOURS[0]}"])
        for content in (as_json, as_csv, "﻿" + as_csv):
            ValueColour.objects.all().delete()
            self.assertEqual(self.bring(content).status_code, 200)
            self.assertEqual(self.drawn()["North Reach"], "#123456")

    def test_files_that_are_none_say_why_and_change_nothing(self):
        unusable = {"fields": ["a"], "colours": [{"values": ["x"], "colour": "?"}]}
        for content, words in (
            ("{", "no list of colours"),
            ('{"version": 2}', "newer version"),
            ('{"version": 1}', "no list of colours"),
            (json.dumps({"version": 1, "colours": [unusable]}), "“?” is no colour"),
            ("region\nNorth Reach", "no table of colours"),
            ("region,colour\nNorth Reach,red\nInner Sound,reddish", "reddish"),
            ("region,colour\nNorth Reach", "cannot be used"),
            (b"\xff\xfe", "UTF-8"),
            ("", "no table of colours"),
            ("region,colour\n" + "x" * 400 + ",red", "longer than 300 letters"),
        ):
            with self.subTest(content=content):
                answer = self.bring(content)
                self.assertEqual(answer.status_code, 422)
                self.assertIn(words, answer.json()["message"])
        self.assertFalse(ValueColour.objects.exists())

    def test_the_legends_popover_sets_them_in_this_chart(self):
        definition = self.chart.definition | {"split": {"field": self.ids["region"]}, "kind": "bar"}
        definition["by"] = [{"field": self.ids["route"]}]
        edit = {"edit": "set_value_colour", "values": ["South Banks"], "colour": "hsl(0 100% 50%)"}
        changed = self.ask("chart-answer", self.chart.pk, data={"definition": definition, "edits": [edit]}).json()
        sent = {"definition": changed["definition"], "clause": "look", "field": "legend", "way": "names"}
        page = self.ask("chart-clause", self.chart.pk, data=sent)
        self.assertContains(page, "Colours in this chart")
        self.assertContains(page, 'value="#FF0000"')
        self.assertNotIn("#FF0000", self.drawn().values())  # the chart itself was not saved so
        self.assertEqual(self.drawn(colours=changed["definition"]["colours"])["South Banks"], "#FF0000")


class Palettes(WebTest):
    OWN = "#112233, #AA5500, hsl(120 60% 30%)"

    @classmethod
    def setUpTestData(cls):
        super().setUpTestData()
        cls.chart = cls.make_chart()

    def make(self, **changes):
        self.as_(self.steward)
        sent = {"kind": "series", "name": "Company", "colours": self.OWN} | changes
        return self.ask("palettes-save", data=sent)

    def drawn(self):
        definition = self.chart.definition | {"split": {"field": self.ids["region"]}, "kind": "bar"}
        return str(self.ask("chart-answer", self.chart.pk, data={"definition": definition}).json()["chart"]["spec"])

    def test_charts_are_drawn_with_the_palette_in_use_and_go_back(self):
        self.assertEqual(self.make().status_code, 200)
        palette = Palette.objects.get()
        self.as_(self.analyst)
        self.assertNotIn("#AA5500", self.drawn())
        self.as_(self.steward)
        self.ask("palettes-use", data={"number": palette.pk})
        self.as_(self.analyst)
        self.assertIn("#AA5500", self.drawn())
        self.assertIn("#AA5500", self.look("chart", self.chart.pk).content.decode())
        self.as_(self.steward)
        self.ask("palettes-use", data={"kind": "series"})
        self.as_(self.analyst)
        self.assertNotIn("#AA5500", self.drawn())

    def test_only_stewards_make_and_use_them(self):
        self.make()
        palette = Palette.objects.get()
        for person, status in ((self.analyst, 404), (self.explorer, 404)):
            self.as_(person)
            for name, data in (("palettes-save", {"kind": "series"}), ("palettes-use", {"number": palette.pk})):
                self.assertEqual(self.ask(name, data=data).status_code, status)
        self.as_(self.analyst)
        self.assertContains(self.look("palettes"), "Company")

    def test_what_is_written_is_looked_at_before_it_is_kept(self):
        self.as_(self.analyst)
        page = self.ask("palettes-check", data={"kind": "series", "colours": "#B8433A, #B8453A"}).content.decode()
        self.assertIn("look alike to everybody", page)
        self.assertIn("data-instead", page)
        refused = self.ask("palettes-check", data={"kind": "series", "colours": "reddish, teal"})
        self.assertEqual(refused.status_code, 422)
        for data in ({"kind": "other"}, {"name": " "}, {"colours": "<b>"}):
            with self.subTest(data=data):
                self.assertEqual(self.make(**data).status_code, 422)
        self.assertEqual(Palette.objects.count(), 0)

    def test_a_colours_counterpart_in_the_dark_theme_is_set_and_worked_out_again(self):
        first, own = SERIES_COLOURS[0], "#ABCDEF"

        def dark_of_first():
            answer = self.ask("chart-answer", self.chart.pk, data={"definition": self.chart.definition}).json()
            return answer["chart"]["dark"].get(first)

        for person, status in ((self.analyst, 404), (self.explorer, 404), (self.steward, 200)):
            self.as_(person)
            sent = {"light": first.lower(), "dark": "rgb(171 205 239)"}
            self.assertEqual(self.ask("palettes-dark", data=sent).status_code, status)
        self.assertEqual(dark_of_first(), own)
        streamed = self.look("dashboard-blocks", self.make_dashboard().pk)
        self.assertIn(own, b"".join(streamed).decode())
        self.assertContains(self.look("palettes"), f"{first} is {own}")
        self.assertEqual(self.ask("palettes-dark", data={"light": first, "dark": "darkish"}).status_code, 422)
        self.ask("palettes-dark", data={"light": "#111111", "dark": "#202C30"})
        self.assertContains(self.look("palettes"), "hardly stands out")
        self.ask("palettes-dark", data={"light": first})
        self.assertIsNone(dark_of_first())

    def test_one_is_changed_deleted_and_brought_back(self):
        self.make()
        palette = Palette.objects.get()
        self.ask("palettes-use", data={"number": palette.pk})
        self.make(number=palette.pk, name="Other", colours="teal, navy")
        palette.refresh_from_db()
        self.assertEqual((palette.name, palette.colours, palette.in_use), ("Other", ["#008080", "#000080"], True))
        undo = self.ask("palettes-delete", palette.pk).json()["undo"]
        self.assertNotContains(self.look("palettes"), "Other")
        self.client.post(undo, headers={"X-Veduta": "1"})
        palette.refresh_from_db()
        self.assertTrue(palette.in_use)

    def test_the_company_is_seen_on_dashboards(self):
        dashboard = self.make_dashboard()
        self.as_(self.steward)
        png = b"\x89PNG\r\n\x1a\n logo"
        headers = {"X-Veduta": "1"}
        for content, status in ((b"<svg onload=x>", 422), (b"x" * 400_000, 422), (png, 200)):
            sent = {"content_type": "application/octet-stream", "headers": headers}
            self.assertEqual(self.client.post("/data/palettes/logo/receive/", content, **sent).status_code, status)
        self.assertEqual(self.ask("palettes-company", data={"accent": "reddish"}).status_code, 422)
        self.ask("palettes-company", data={"name": "Skerry & Sound", "accent": "#AA5500"})
        page = self.look("dashboard", dashboard.pk).content.decode()
        self.assertIn('alt="Skerry &amp; Sound"', page)
        self.assertIn("--color-lagoon:light-dark(#", page)
        answer = self.look("company-logo")
        self.assertEqual((answer.content, answer["Content-Type"]), (png, "image/png"))
        self.ask("palettes-drop")
        self.assertEqual(self.look("company-logo").status_code, 404)
        self.ask("palettes-company", data={"name": "", "accent": ""})
        self.assertNotIn("--color-lagoon:", self.look("dashboard", dashboard.pk).content.decode())


class OfJoinedTables(ModelTest):
    def test_a_value_that_new_rows_of_a_joined_table_bring_gets_its_colour_at_once(self):
        pier = self.join()
        parts = {"show": [self.fare], "by": [self.ids["region"]], "split": {"field": pier}, "kind": "bar"}
        definition = load_definition({"dataset": str(self.dataset.pk), **parts})
        chart = charts.create_chart(self.analyst, self.now(), definition, "By pier")
        charts.save_chart(self.analyst, chart, definition, 0)
        before = {row.words: row.given for row in ValueColour.objects.all()}
        self.assertGreater(len(before), 1)
        import_now(self.analyst, ROUTES.replace(",East,", ",Brackish,"), "routes.csv", self.routes)
        after = {row.words: row.given for row in ValueColour.objects.all()}
        self.assertEqual(after, before | {"Brackish": after["Brackish"]})

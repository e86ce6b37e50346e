from __future__ import annotations

import json

from django.core.exceptions import PermissionDenied
from django.urls import reverse

from tests.web.support import WebTest, import_now
from veduta.core.chart.definition import load_definition
from veduta.core.model.definition import load_model
from veduta.web.charts import services
from veduta.web.charts.filter_forms import FORMS
from veduta.web.charts.models import Chart, Draft
from veduta.web.collaboration.live import look
from veduta.web.datasets.models import Dataset


class ChartTest(WebTest):
    @classmethod
    def setUpTestData(cls):
        super().setUpTestData()
        cls.chart = cls.make_chart()

    def setUp(self):
        super().setUp()
        self.as_(self.analyst)

    def answer(self, edit=None, **parts):
        definition = self.chart.definition | parts
        return self.ask("chart-answer", self.chart.pk, data={"definition": definition, "edits": [edit] if edit else []})


class Answers(ChartTest):
    def test_the_workbench_opens_with_the_fields_and_the_definition(self):
        page = self.client.get(reverse("chart", args=[self.chart.pk]))
        self.assertContains(page, 'data-field-id="c5"')
        self.assertContains(page, '"revision": 1')

    def test_an_answer_has_the_sentence_the_drawing_and_the_rows(self):
        data = self.answer().json()
        self.assertIn("region", data["sentence"])
        self.assertEqual(
            {row["name"]: row["value"] for row in data["chart"]["rows"]},
            {"North Reach": 180.5, "Inner Sound": 80.0, "South Banks": -15.25},
        )
        self.assertEqual(data["chart"]["sentence"], "Show fare as vertical bars by region.")
        self.assertIn("−15", data["rows"])
        self.assertIn("3 rows from 5 of 5 records", data["counted"])
        self.assertEqual(data["used"], [self.ids["region"], self.ids["fare"]])

    def test_a_table_shows_its_rows_once_and_sorts_by_its_headings(self):
        data = self.answer({"edit": "set_kind", "kind": "table"}).json()
        self.assertEqual(data["rows"], "")
        self.assertIn('data-sort-column="-m0"', data["chart"]["html"])
        definition = data["definition"]
        edit = {"edit": "sort_by_column", "column": "-m0"}
        again = self.ask("chart-answer", self.chart.pk, data={"definition": definition, "edits": [edit]}).json()
        self.assertIn('aria-sort="descending"', again["chart"]["html"])

    def test_a_new_chart_offers_others_to_begin_with(self):
        new = services.create_chart(self.analyst, self.dataset)
        found = self.look("chart-openings", new.pk).json()["openings"]
        self.assertEqual(len(found), 3)
        self.assertNotIn(new.definition, [each["definition"] for each in found])
        self.assertTrue(all(each["chart"]["title"] for each in found))
        self.as_(self.explorer)
        self.assertEqual(self.look("chart-openings", new.pk).status_code, 404)

    def test_an_edit_comes_back_with_the_new_definition(self):
        data = self.answer(
            {"edit": "set_group", "clause": "by", "index": 0, "field": self.ids["sailed"], "grain": "month"}
        ).json()
        self.assertEqual(data["chart"]["kind"], "line")
        self.assertEqual(
            data["definition"]["by"], [{"field": self.ids["sailed"], "grain": "month", "width": None, "together": []}]
        )

    def test_a_filter_survives_the_way_to_the_browser_and_back(self):
        filter_ = {"kind": "list", "field": self.ids["region"], "values": ["North Reach"]}
        data = self.answer({"edit": "set_filter", "filter": filter_}).json()
        again = self.ask("chart-answer", self.chart.pk, data={"definition": data["definition"]}).json()
        self.assertEqual([row["name"] for row in again["chart"]["rows"]], ["North Reach"])

    def test_every_kind_is_answered(self):
        for kind in ("figure", "bar", "lying", "line", "area", "table", "crosstab"):
            with self.subTest(kind=kind):
                by = (
                    []
                    if kind == "figure"
                    else [{"field": self.ids["sailed"], "grain": "month"}, {"field": self.ids["region"]}]
                )
                data = self.answer(kind=kind, by=by).json()["chart"]
                self.assertEqual(data["kind"], kind)
                self.assertTrue(data.get("html") or data.get("rows"))

    def test_bad_requests_are_explained_and_never_break(self):
        for data in (
            "not an object",
            {},
            {"definition": {"dataset": "another"}},
            {"definition": {"dataset": str(self.dataset.pk), "version": 9}},
            {"definition": {"dataset": str(self.dataset.pk), "by": [{"field": "zz"}]}},
            {"definition": self.chart.definition, "edits": [{"edit": "nonsense"}]},
        ):
            with self.subTest(data=data):
                answer = self.ask("chart-answer", self.chart.pk, data=data)
                self.assertEqual(answer.status_code, 422)
                self.assertTrue(answer.json()["message"])

    def test_a_question_that_a_newer_one_replaced_is_no_fault(self):
        answers = [
            self.ask("chart-answer", self.chart.pk, data={"definition": definition, "page": "page", "turn": turn})
            for turn, definition in ((2, self.chart.definition), (1, self.chart.definition | {"kind": "table"}))
        ]
        self.assertEqual([answer.status_code for answer in answers], [200, 200])
        self.assertIn("chart", answers[0].json())
        self.assertEqual(answers[1].json(), {"stopped": True})

    def test_a_definition_of_a_newer_version_is_kept_and_said(self):
        Chart.objects.filter(pk=self.chart.pk).update(
            definition={"version": 7, "dataset": str(self.dataset.pk), "new": 1}
        )
        page = self.client.get(reverse("chart", args=[self.chart.pk]))
        self.assertContains(page, "newer version", status_code=422)
        self.assertEqual(Chart.objects.get().definition["new"], 1)

    def test_rows_behind_a_mark_and_behind_the_chart(self):
        for points, count in (
            (None, "5 rows"),
            ([["North Reach"]], "3 of 5 rows match"),
            ([["Nowhere"]], "No rows match"),
        ):
            answer = self.ask("chart-rows", self.chart.pk, data={"definition": self.chart.definition, "points": points})
            self.assertContains(answer, count)
        for points in ("North", [5], [["a", "b", "c"]], [[]], [[{"x": 1}]]):
            with self.subTest(points=points):
                answer = self.ask(
                    "chart-rows", self.chart.pk, data={"definition": self.chart.definition, "points": points}
                )
                self.assertEqual(answer.status_code, 422)

    def test_the_charts_rows_as_a_file(self):
        address = reverse("chart-rows-file", args=[self.chart.pk])
        answer = self.client.post(address, {"definition": json.dumps(self.chart.definition)})
        lines = b"".join(answer.streaming_content).decode("utf-8-sig").splitlines()
        self.assertEqual(lines, ["Region,Fare", "North Reach,180.5", "Inner Sound,80.0", "South Banks,-15.25"])

    def test_the_drawing_as_a_file_that_others_can_draw(self):
        address = reverse("chart-specification", args=[self.chart.pk])
        answer = self.client.post(address, {"definition": json.dumps(self.chart.definition)})
        self.assertIn(".vl.json", answer["Content-Disposition"])
        spec = answer.json()
        self.assertEqual(spec["$schema"], "https://vega.github.io/schema/vega-lite/v6.json")
        self.assertEqual([row["value"] for row in spec["data"]["values"]], [180.5, 80.0, -15.25])
        self.assertEqual((spec["description"], spec["width"]), ("Show fare as vertical bars by region.", 760))
        self.assertNotIn("container", json.dumps(spec))
        table = self.chart.definition | {"kind": "table"}
        refused = self.client.post(address, {"definition": json.dumps(table)}, headers={"accept": "application/json"})
        self.assertEqual(refused.status_code, 422)
        self.assertIn("not drawn in the chart grammar", refused.content.decode())
        self.as_(self.explorer)
        self.assertEqual(self.client.post(address, {"definition": json.dumps(table)}).status_code, 404)


class Looks(ChartTest):
    def test_an_answer_tells_the_parts_and_their_popovers_set_them(self):
        data = self.answer().json()
        parts = [part["name"] for part in data["chart"]["parts"]]
        self.assertEqual(parts, ["title", "series", "labels", "value", "along", "whole"])
        sent = {"definition": data["definition"], "clause": "look", "field": "value", "way": "values"}
        page = self.ask("chart-clause", self.chart.pk, data=sent)
        self.assertContains(page, "Value axis")
        self.assertNotContains(page, "All as usual")
        edit = {"edit": "set_look", "part": "value", "changes": {"title": "Takings <b>", "low": -20}}
        again = self.answer(edit).json()
        axis = again["chart"]["spec"]["encoding"]["y"]
        self.assertEqual((axis["axis"]["title"], axis["scale"]["domainMin"]), ("Takings <b>", -20))
        page = self.ask("chart-clause", self.chart.pk, data=sent | {"definition": again["definition"]})
        self.assertContains(page, "Takings &lt;b&gt;")
        self.assertContains(page, "All as usual")
        self.assertEqual(self.ask("chart-clause", self.chart.pk, data=sent | {"field": "nothing"}).status_code, 422)

    def test_title_and_note_tell_values_and_are_written_with_the_names_of_fields(self):
        data = self.answer({"edit": "set_title", "title": "{highest} earns <b> {=sum(Fare)}"}).json()
        self.assertEqual(data["chart"]["title"], "North Reach earns <b> 245.2")
        self.assertEqual(data["title"], "{highest} earns <b> {=sum(Fare)}")
        sent = {"definition": data["definition"], "clause": "look", "field": "title", "way": "names"}
        page = self.ask("chart-clause", self.chart.pk, data=sent)
        self.assertContains(page, "{highest} earns &lt;b&gt; {=sum(Fare)}")
        self.assertContains(page, 'data-put="{highest value}"')
        saved = {"definition": data["definition"], "revision": self.chart.revision}
        self.assertEqual(self.ask("chart-save", self.chart.pk, data=saved).status_code, 200)
        self.chart.refresh_from_db()
        # Lists are read by others, who may see other rows.
        self.assertEqual(str(self.chart), "… earns <b> … · Fare by region")
        refused = self.answer({"edit": "set_note", "note": "as {nothing}"})
        self.assertEqual(refused.status_code, 422)
        self.assertIn("“{nothing}” in the text", refused.json()["message"])

    def test_values_are_named_in_the_popover_of_their_dimension(self):
        edit = {"edit": "name_value", "clause": "by", "value": "North Reach", "name": "<i>North</i>"}
        data = self.answer(edit).json()
        self.assertIn("<i>North</i>", [row["name"] for row in data["chart"]["rows"]])
        sent = {"definition": data["definition"], "clause": "by", "index": 0}
        page = self.ask("chart-clause", self.chart.pk, data=sent)
        self.assertContains(page, 'value="&lt;i&gt;North&lt;/i&gt;"')
        self.assertContains(page, 'aria-label="Name of South Banks"')

    def test_what_cannot_be_set_is_said(self):
        answer = self.answer({"edit": "set_look", "part": "value", "changes": {"low": 5, "high": 1}})
        self.assertEqual(answer.status_code, 422)
        self.assertIn("the axis ends before it begins", answer.json()["message"])

    def test_cells_of_a_table_draw_what_is_asked_for(self):
        self.chart.definition |= {"kind": "table"}
        sent = {"definition": self.chart.definition, "clause": "show", "index": 0}
        self.assertContains(self.ask("chart-clause", self.chart.pk, data=sent), "Beside its numbers")
        plain = self.answer().json()["chart"]["html"]
        self.assertNotIn("cell-bar", plain)
        drawn = self.answer({"edit": "set_column", "index": 0, "draws": "bar", "grain": "month"}).json()
        self.assertIn('class="cell-bar"', drawn["chart"]["html"])
        self.assertIn('aria-label="by month, Jan 2026 to Feb 2026"', drawn["chart"]["html"])
        shaded = self.answer({"edit": "set_column", "index": 0, "draws": "shade"}).json()["chart"]["html"]
        self.assertIn("shaded rise-9 strong", shaded)
        edits = [
            {"edit": "set_column", "index": 0, "draws": "shade", "changes": {"shade_first": True}},
            {"edit": "add_condition"},
            {"edit": "set_condition", "index": 0, "changes": {"test": "there"}},
        ]
        sent = {"definition": self.chart.definition, "edits": edits}
        both = self.ask("chart-answer", self.chart.pk, data=sent).json()
        self.assertIn("shaded rise-9 strong", both["chart"]["html"])
        sent = {"definition": both["definition"], "clause": "show", "index": 0}
        self.assertContains(self.ask("chart-clause", self.chart.pk, data=sent), "Where it meets a condition shows")
        self.chart.definition |= {"kind": "bar"}
        sent = {"definition": self.chart.definition, "clause": "show", "index": 0}
        self.assertNotContains(self.ask("chart-clause", self.chart.pk, data=sent), "Beside its numbers")


class ConditionalFormats(ChartTest):
    def setUp(self):
        super().setUp()
        self.chart.definition |= {"kind": "table"}
        self.edits = [
            {"edit": "add_condition", "index": 0},
            {"edit": "set_condition", "index": 0, "changes": {"test": "there", "sign": "up", "said": "<b>there</b>"}},
            {"edit": "set_look", "part": "whole", "changes": {"lists_conditions": True}},
        ]

    def changed(self, *edits):
        sent = {"definition": self.chart.definition, "edits": [*self.edits, *edits]}
        return self.ask("chart-answer", self.chart.pk, data=sent).json()

    def test_a_sign_stands_before_bars_and_lines_so_that_it_moves_none(self):
        drawn = self.changed({"edit": "set_column", "index": 0, "draws": "bar", "grain": "month"})["chart"]["html"]
        self.assertIn('class="sign"', drawn)
        cells = [cell for cell in drawn.split("<td") if 'class="sign"' in cell and 'class="cell-bar"' in cell]
        self.assertTrue(cells)
        for cell in cells:
            self.assertLess(cell.index('class="sign"'), cell.index("<svg"))

    def popover(self, definition, clause):
        sent = {"definition": definition, "clause": clause, "index": 0}
        return self.ask("chart-clause", self.chart.pk, data=sent)

    def test_cells_say_their_colours_for_both_themes_and_what_holds_of_them(self):
        chart = self.changed()["chart"]
        self.assertIn('data-ground="#F8DFDC #', chart["html"])
        self.assertIn("▲", chart["html"])
        self.assertIn("&lt;b&gt;there&lt;/b&gt;: </span>", chart["html"])
        self.assertIn("&lt;b&gt;there&lt;/b&gt;", chart["key"])
        self.assertNotIn("style=", chart["html"] + chart["key"])

    def test_they_are_listed_and_each_is_set_in_a_popover_of_its_own(self):
        definition = self.changed()["definition"]
        page = self.popover(definition, "conditions")
        self.assertContains(page, "&lt;b&gt;there&lt;/b&gt;")
        self.assertContains(page, "Listed beside the chart")
        self.assertContains(self.popover(definition, "condition"), "Where")
        self.assertEqual(self.popover(self.chart.definition, "condition").status_code, 422)
        for changes, words in (
            ({"test": "between"}, 'id="condition-high"'),
            ({"test": "highest"}, 'id="condition-count"'),
            ({"test": "above", "against": "percentile"}, 'id="condition-percent"'),
            ({"test": "above", "against": "measure"}, 'id="condition-other"'),
            ({"tests": "formula"}, 'id="condition-formula"'),
            ({"tests": "dimension", "dimension": {"field": self.ids["region"]}, "test": "is"}, "<datalist"),
            ({"ground": "#FFFFFF", "colour": "#FFFF00"}, "Too pale to read here"),
        ):
            edit = {"edit": "set_condition", "index": 0, "changes": changes}
            with self.subTest(changes=changes):
                self.assertContains(self.popover(self.changed(edit)["definition"], "condition"), words)

    def test_drawings_send_the_dark_counterparts_of_their_colours(self):
        self.chart.definition |= {"kind": "bar"}
        edit = {"edit": "set_condition", "index": 0, "changes": {"ground": "#7A00CC"}}
        self.assertEqual(list(self.changed(edit)["chart"]["dark"]), ["#7A00CC"])

    def test_how_it_is_worked_out_says_them_in_their_order(self):
        page = self.ask("chart-explain", self.chart.pk, data={"definition": self.changed()["definition"]})
        self.assertContains(page, "First “&lt;b&gt;there&lt;/b&gt;”: where fare not empty.")


class Popovers(ChartTest):
    def popover(self, clause, index=0, **more):
        definition = load_definition(
            self.chart.definition
            | {
                "split": {"field": self.ids["route"]},
                "only": [
                    {"kind": "list", "field": self.ids["region"], "values": ["North Reach", "Old Bay"]},
                    {"kind": "relative", "field": self.ids["sailed"]},
                ],
                "sort": {"by": "own", "values": ["South Banks"]},
                "references": [
                    {"of": "groups", "statistic": "percentile"},
                    {"of": "number", "value": 20, "high": 30},
                    {"of": "dates", "start": "2026-01-05"},
                ],
            }
        )
        data = {"definition": definition.model_dump(mode="json"), "clause": clause, "index": index, **more}
        return self.ask("chart-clause", self.chart.pk, data=data)

    def test_every_clause_has_one(self):
        for clause, index, more, words in (
            ("show", 0, {}, "distinct count"),
            ("show", 1, {}, "Show another measure"),
            ("by", 0, {}, "Swap with the split"),
            ("split", 0, {}, "Swap with the first dimension"),
            ("only", 0, {}, "not in the data now"),
            ("only", 1, {}, "That is 1 Mar 2025 to 28 Feb 2026"),
            ("only", 1, {"way": "dates"}, "In the data: 5 Jan 2026 to 14 Feb 2026"),
            ("only", 2, {}, "Only rows where"),
            ("only", 2, {"field": self.ids["fare"]}, "At least"),
            ("only", 2, {"field": self.ids["route"], "way": "text"}, "starts with"),
            ("only", 2, {"field": self.ids["route"], "way": "empty"}, "Not empty"),
            ("only", 2, {"field": self.ids["cancelled"]}, "yes"),
            ("as", 0, {}, "Side by side"),
            ("keep", 0, {}, "the split"),
            ("sort", 0, {}, "Move South Banks up"),
            ("compare", 0, {}, "Percent of them below"),
            ("compare", 1, {}, "20 to 30"),
            ("compare", 2, {}, "5 Jan 2026"),
            ("compare", 3, {}, "The value over all rows shown"),
            ("compare", 3, {"way": "groups"}, "their median"),
            ("layer", 0, {}, "Another colour by a test"),
        ):
            with self.subTest(clause=clause, more=more):
                self.assertContains(self.popover(clause, index, **more), words)

    def test_every_kind_of_filter_opens_with_what_it_says(self):
        region, fare, sailed = self.ids["region"], self.ids["fare"], self.ids["sailed"]
        filters = {
            "list": ({"field": region, "values": ["North Reach"]}, "North Reach"),
            "range": ({"field": fare, "low": 7.5}, 'value="7.5"'),
            "dates": ({"field": sailed, "start": "2026-01-07"}, 'data-day="2026-01-07" value="7 Jan 2026"'),
            "relative": ({"field": sailed, "unit": "year", "count": 3}, 'value="3"'),
            "text": ({"field": region, "match": "ends", "text": "banks"}, 'value="banks"'),
            "empty": ({"field": region, "exclude": True}, 'id="empty-no" checked'),
            "member": ({"field": region, "keep": {"count": 4, "by": {"field": fare, "aggregate": "sum"}}}, 'value="4"'),
            "having": ({"field": region, "measure": {"field": fare, "aggregate": "sum"}, "low": 77}, 'value="77"'),
            "measure": ({"measure": {"field": fare, "aggregate": "sum"}, "high": 99}, 'value="99"'),
            "points": ({"groups": [{"field": region}], "points": [["North Reach"]]}, "Region is North Reach"),
        }
        self.assertEqual(filters.keys(), FORMS.keys())
        for name, (settings, words) in filters.items():
            kind = FORMS[name].makes
            self.chart.definition["only"] = [{"kind": kind, **settings}]
            data = {"definition": self.chart.definition, "clause": "only", "index": 0}
            with self.subTest(name):
                page = " ".join(self.ask("chart-clause", self.chart.pk, data=data).content.decode().split())
                self.assertIn(words, page)
                self.assertIn(f'name="filter.kind" value="{kind}"', page)
                self.assertIn('"clause":"only","index":0', page)

    def test_a_bound_that_a_parameter_gives_stays_when_the_other_is_changed(self):
        parameter = {"id": "fair", "name": "Fair", "kind": "decimal", "default": [10]}
        definition = load_model({"parameters": [parameter]}).model_dump(mode="json")
        Dataset.objects.filter(pk=self.dataset.pk).update(model=definition)
        only = [{"kind": "range", "field": self.ids["fare"], "low_parameter": "fair", "high": 99}]
        data = {"definition": self.chart.definition | {"only": only}, "clause": "only", "index": 0}
        page = " ".join(self.ask("chart-clause", self.chart.pk, data=data).content.decode().split())
        self.assertIn('<option value="fair" selected>', page)

    def test_values_are_searched(self):
        answer = self.popover("only", 2, field=self.ids["route"], find="tern–")
        self.assertContains(answer, "Tern–Gull Bank")
        self.assertNotContains(answer, "Stack Point")

    def test_ticked_values_stay_while_one_searches_for_others(self):
        self.assertContains(
            self.popover("only", 0, find="south"),
            'type="hidden" name="filter.values" data-as="json" data-list value="&quot;North Reach&quot;"',
        )

    def test_an_unknown_clause_is_refused(self):
        self.assertEqual(self.popover("colour").status_code, 422)
        self.assertEqual(self.popover("layer", 9).status_code, 422)


class Saving(ChartTest):
    def test_a_draft_is_ones_own(self):
        other = self.chart.definition | {"title": "Mine"}
        self.ask("chart-draft", self.chart.pk, data={"definition": other, "revision": 1})
        self.assertContains(self.client.get(reverse("chart", args=[self.chart.pk])), '"title": "Mine"')
        self.as_(self.steward)
        self.assertNotContains(self.client.get(reverse("chart", args=[self.chart.pk])), '"title": "Mine"')

    def save(self, user, title, revision, **more):
        self.as_(user)
        data = {"definition": self.chart.definition | {"title": title}, "revision": revision, **more}
        return self.ask("chart-save", self.chart.pk, data=data)

    def test_what_others_saved_meanwhile_is_not_saved_over(self):
        self.assertEqual(self.save(self.steward, "Theirs", 1).json()["revision"], 2)
        conflict = self.save(self.analyst, "Mine", 1)
        self.assertEqual(conflict.status_code, 409)
        self.assertEqual(conflict.json()["message"], "Steward changed this chart meanwhile.")
        self.chart.refresh_from_db()
        self.assertEqual(self.chart.name, "Theirs")

    def together(self, *states, revision=1):
        self.as_(self.analyst)
        sent = {"revision": revision, "states": [{"definition": self.chart.definition | state} for state in states]}
        answer = self.ask("chart-draft-merge", self.chart.pk, data=sent)
        self.assertEqual(answer.status_code, 200, answer.content[:300])
        together = answer.json()
        return together | {"states": [each["definition"] for each in together["states"]]}

    def edited(self, definition, edit):
        answer = self.ask("chart-answer", self.chart.pk, data={"definition": definition, "edits": [edit]})
        return answer.json()["definition"]

    def test_what_two_changed_of_different_parts_is_brought_together_with_the_states_of_undoing(self):
        self.save(self.steward, "Theirs", 1)
        answer = self.together({"kind": "line"}, {})
        found = [(each["title"], each["kind"]) for each in answer["states"]]
        self.assertEqual(found, [("Theirs", "line"), ("Theirs", None)])
        self.assertEqual((answer["revision"], answer["who"], answer["won"], answer["lost"]), (2, "Steward", "", ""))
        self.assertFalse(answer["saved"])
        self.assertTrue(self.together({}, revision=1)["saved"], "nothing of one's own")

    def test_of_a_part_that_both_changed_ones_own_holds_and_theirs_can_be_had(self):
        self.save(self.steward, "Theirs", 1)
        answer = self.together({"title": "Mine", "kind": "line"})
        self.assertEqual(answer["won"], "Steward changed its title, too. It is as you have it.")
        self.assertEqual(answer["states"][0]["title"], "Mine")
        taken = self.edited(answer["states"][0], answer["theirs"])
        self.assertEqual((taken["title"], taken["kind"]), ("Theirs", "line"))

    def test_who_saved_a_part_that_another_has_changed_since_is_told(self):
        self.save(self.analyst, "Mine", 1)
        self.save(self.steward, "Theirs", 2)
        answer = self.together({"title": "Mine"}, revision=2)
        self.assertEqual(answer["lost"], "Steward changed its title, too. It is as they have it.")
        taken = self.edited(answer["states"][0] | {"kind": "line"}, answer["mine"])
        self.assertEqual((answer["states"][0]["title"], taken["title"], taken["kind"]), ("Theirs", "Mine", "line"))

    def test_the_log_says_who_saved_what_and_a_state_can_be_gone_on_from(self):
        self.save(self.steward, "Theirs", 1)
        page = self.look("chart-log", self.chart.pk)
        self.assertContains(page, "Its title")
        self.assertContains(page, "As it was before that")
        self.assertContains(page, "saved now", count=1)
        self.assertEqual(self.look("chart-revision", self.chart.pk, 1).json()["definition"]["title"], "Fares")
        self.assertEqual(self.look("chart-revision", self.chart.pk, 9).status_code, 422)

    def test_who_has_a_chart_open_is_seen(self):
        self.as_(self.steward)
        self.ask("chart-present", self.chart.pk, data={"tab": "one"})
        (seen,) = look(Chart, [str(self.chart.pk)]).values()
        self.assertEqual((seen.revision, [each.name for each in seen.people]), (1, ["Steward"]))
        self.as_(self.explorer)
        self.assertEqual(self.look("chart-live", self.chart.pk).status_code, 404)

    def test_differences_are_said_clause_by_clause(self):
        mine = load_definition(self.chart.definition)
        theirs = load_definition(
            self.chart.definition | {"kind": "area", "split": {"field": self.ids["route"]}, "title": "T"}
        )
        found = services.list_differences(mine, theirs, self.dataset.schema)
        self.assertEqual(
            [(d["clause"], d["mine"], d["theirs"]) for d in found],
            [("As", "chosen by Veduta", "stacked area"), ("Split by", "nothing", "route"), ("Title", "Fares", "T")],
        )

    def test_saving_ends_the_draft(self):
        self.ask("chart-draft", self.chart.pk, data={"definition": self.chart.definition, "revision": 1})
        self.assertEqual(Draft.objects.count(), 1)
        self.save(self.analyst, "Saved", 1)
        self.assertEqual(Draft.objects.count(), 0)

    def test_a_draft_can_be_given_up(self):
        self.ask(
            "chart-draft", self.chart.pk, data={"definition": self.chart.definition | {"title": "No"}, "revision": 1}
        )
        self.ask("chart-draft-drop", self.chart.pk)
        self.assertNotContains(self.client.get(reverse("chart", args=[self.chart.pk])), '"title": "No"')


class Keeping(ChartTest):
    def test_a_new_chart_shows_something_sensible_at_once(self):
        self.client.post(reverse("chart-new"), {"dataset": str(self.dataset.pk)})
        new = Chart.objects.exclude(pk=self.chart.pk).get()
        self.assertEqual(
            (new.revision, new.load().by[0].field, new.load().show[0].field), (0, self.ids["sailed"], self.ids["fare"])
        )

    def test_duplicate_rename_delete_and_undo(self):
        self.client.post(reverse("chart-duplicate", args=[self.chart.pk]))
        copy = Chart.objects.exclude(pk=self.chart.pk).get()
        self.assertEqual(copy.name, "Fares (copy)")
        self.ask("chart-save", copy.pk, data={"definition": copy.definition | {"title": "Takings"}, "revision": 0})
        answer = self.ask("chart-delete", copy.pk).json()
        self.assertNotContains(self.client.get(reverse("charts")), "Takings")
        self.assertEqual(self.client.get(reverse("chart", args=[copy.pk])).status_code, 404)
        self.client.post(answer["undo"], headers={"X-Veduta": "1"})
        self.assertContains(self.client.get(reverse("charts")), "Takings")

    def test_a_chart_without_a_title_is_called_what_its_sentence_says(self):
        untitled = self.chart.definition | {"title": ""}
        self.ask("chart-save", self.chart.pk, data={"definition": untitled, "revision": 1})
        self.chart.refresh_from_db()
        self.assertEqual(self.chart.name, "Fare by region")

    def test_a_chart_of_a_dataset_with_one_column(self):
        dataset = import_now(self.analyst, "port\nTern\nQuay\n", "ports.csv")
        chart = services.create_chart(self.analyst, dataset)
        data = self.ask("chart-answer", chart.pk, data={"definition": chart.definition}).json()
        self.assertEqual(len(data["chart"]["rows"]), 2)

    def test_services_check_who_asks(self):
        for action in (
            lambda: services.create_chart(self.explorer, self.dataset),
            lambda: services.save_chart(self.explorer, self.chart, self.chart.load(), 1),
            lambda: services.keep_draft(self.explorer, self.chart, self.chart.load(), 1),
            lambda: services.duplicate_chart(self.explorer, self.chart),
            lambda: services.delete_chart(self.explorer, self.chart),
            lambda: services.restore_chart(self.explorer, self.chart),
            lambda: services.drop_draft(self.explorer, self.chart),
        ):
            with self.assertRaises(PermissionDenied):
                action()

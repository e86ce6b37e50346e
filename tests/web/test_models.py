"""Models on screen: joins, formulas, parameters, rules of who sees which rows; what breaks charts is named first."""

from __future__ import annotations

import json
import re
from urllib.parse import urlencode

from django.contrib.auth.models import Group
from django.http import QueryDict
from django.urls import reverse

from tests.web.support import WebTest, import_now, page_of
from veduta.core.chart.definition import load_definition
from veduta.core.errors import VedutaError
from veduta.core.model.edits import edit
from veduta.web.charts import services as charts
from veduta.web.dashboards import publishing
from veduta.web.dashboards import services as dashboards
from veduta.web.datasets.models import Dataset
from veduta.web.modelling.changes import change_model
from veduta.web.modelling.forms import read_arguments
from veduta.web.modelling.services import load_whole_model

ROUTES = """route,pier,minutes
Harrow–Tern,East,40
Stack Point–Quay,West,25
Tern–Gull Bank,East,55
Sallow Ness–Quay,,30
Merrin–Marram,West,90
"""


class ModelTest(WebTest):
    @classmethod
    def setUpTestData(cls):
        super().setUpTestData()
        cls.make_dataset()
        cls.routes = import_now(cls.analyst, ROUTES, "routes.csv")

    def setUp(self):
        super().setUp()
        self.as_(self.analyst)

    def now(self) -> Dataset:
        return Dataset.objects.select_related("current").get(pk=self.dataset.pk)

    def change(self, do: str, follow: bool = False, **sent):
        address = reverse("model-change", args=[self.dataset.pk])
        return self.client.post(address, {"do": do, "revision": self.now().model_revision, **sent}, follow=follow)

    def formula(self, name: str, text: str, **sent) -> str:
        change_model(
            self.analyst, self.now(), "save_formula", {"name": name, "text": text, **sent}, self.now().model_revision
        )
        return next(f.id for f in load_whole_model(self.now()).schema if f.name == name)

    def parameter(self, **sent) -> None:
        change_model(self.analyst, self.now(), "save_parameter", sent, self.now().model_revision)

    def join(self) -> str:
        """Join the routes; the id of their pier."""
        self.change("add_table", dataset=str(self.routes.pk), name="Routes")
        self.change("set_join", left="", right="routes", left0=self.ids["route"], right0="c1")
        return next(f.id for f in load_whole_model(self.now()).schema if f.name == "Pier" and f.table)

    def values(self, reader=None, **parts) -> dict:
        """A chart's first measure by its first dimension."""
        definition = load_definition({"dataset": str(self.dataset.pk), **parts})
        frame = charts.answer_chart(self.now(), definition, reader or self.analyst).result.frame
        return (
            {row[0]: row[len(definition.groups)] for row in frame.iter_rows()}
            if definition.by
            else {"": frame["m0"][0]}
        )

    @property
    def fare(self) -> dict:
        return {"field": self.ids["fare"], "aggregate": "sum"}


class Joining(ModelTest):
    def test_a_dataset_is_joined_by_the_likeliest_keys_and_its_fields_group(self):
        pier = self.join()
        [join] = self.now().model_definition.joins
        self.assertEqual([(k.left, k.right) for k in join.keys], [(self.ids["route"], "c1")])
        self.assertEqual(self.values(show=[self.fare], by=[pier]), {"East": 180.5, "West": 80.0, None: -15.25})
        page = page_of(self.look("model", self.dataset.pk))
        self.assertIn("many to one", page)
        self.assertIn("Merrin–Marram (1)", page)  # a key without a match

    def test_keys_are_proposed_with_their_match_and_saved_only_when_somebody_says_so(self):
        page = page_of(self.change("add_table", dataset=str(self.routes.pk), name="Routes", follow=True))
        self.assertIn("is not joined yet", page)
        self.assertIn("Proposed: by Route", page)
        self.assertIn("many to one", page)
        self.assertIn("one row for each", page)
        self.assertEqual(self.now().model_definition.joins, ())
        [form] = [form for form in re.findall(r"<form.*?</form>", page, re.S) if "Join by these keys" in form]
        chosen = dict(re.findall(r'<select[^>]*name="(\w+)"[^>]*>.*?<option value="([^"]*)" selected', form, re.S))
        self.assertEqual(chosen, {"left0": self.ids["route"], "right0": "c1"})

    def test_each_form_of_the_page_sends_what_its_edit_takes(self):
        self.join()
        self.formula("Twice", "sum(fare) * 2")
        self.parameter(name="Least", kind="whole", default=["1"])
        self.change("save_rule", name="Theirs", text="fare > 0")
        self.change("save_path", name="Where", field0=self.ids["region"], field1=self.ids["route"])
        page = page_of(self.look("model", self.dataset.pk))
        tried = set()
        for form in re.findall(r"<form.*?</form>", page):
            names = re.findall(r'name="(\w+)"', form)
            if do := re.search(r'name="do" value="(\w+)"', form):
                sent = QueryDict(urlencode([(name, do[1] if name == "do" else "") for name in names]))
                try:
                    arguments = set(read_arguments(sent))
                except VedutaError:
                    arguments = set()  # an empty form is refused before the edit
                self.assertLessEqual(arguments, edit.takes(do[1]), do[1])
                tried.add(do[1])
        self.assertGreaterEqual(tried, {"set_join", "remove_join", "save_parameter", "save_rule", "save_path"})

    def test_the_first_model_needs_nothing(self):
        page = self.look("model", self.dataset.pk)
        self.assertContains(page, "One table.")
        self.assertEqual(self.values(show=[self.fare]), {"": 245.25})

    def test_measures_of_a_joined_table_are_not_repeated(self):
        self.join()
        minutes = next(f.id for f in load_whole_model(self.now()).schema if f.name == "Minutes")
        found = self.values(show=[{"field": minutes, "aggregate": "sum"}], by=[self.ids["route"]])
        self.assertEqual(found["Harrow–Tern"], 40)  # two sailings, one route
        self.assertEqual(self.values(show=[{"field": minutes, "aggregate": "sum"}]), {"": 240})

    def test_taking_a_table_out_names_the_charts_that_break(self):
        pier = self.join()
        definition = load_definition({"dataset": str(self.dataset.pk), "show": [self.fare], "by": [pier]})
        chart = charts.create_chart(self.analyst, self.now(), definition, "Fares by pier")
        charts.save_chart(self.analyst, chart, chart.load(), 0)
        asked = self.change("remove_table", table="routes", follow=True)
        self.assertEqual(asked.status_code, 409)
        self.assertContains(asked, "Fares by pier", status_code=409)
        self.assertEqual(len(self.now().model_definition.tables), 1)
        self.change("remove_table", table="routes", anyway="1")
        self.assertEqual(self.now().model_definition.tables, ())
        earlier = self.now().model_revision - 1
        self.client.post(reverse("model-back", args=[self.dataset.pk, earlier]))
        self.assertEqual(len(self.now().model_definition.tables), 1)

    def test_a_model_changed_meanwhile_is_not_overwritten(self):
        self.join()
        answer = self.change("settings", fiscal_month="4", revision=0, follow=True)
        self.assertContains(answer, "changed this model meanwhile")
        self.assertEqual(self.now().model_definition.fiscal_month, 1)

    def test_keys_that_do_not_exist_are_refused_in_words(self):
        self.join()
        answer = self.change("set_join", left="", right="routes", left0="", right0="c1", follow=True)
        self.assertContains(answer, "Choose at least one column on each side.")


class Formulas(ModelTest):
    def test_a_formula_is_kept_shown_and_survives_renaming(self):
        name = self.formula("Fare each", "sum(fare) / sum(passengers)", folder="Results")
        shown = {"field": name, "aggregate": "own"}
        before = self.values(show=[shown])
        self.ask("field-update", self.dataset.pk, self.ids["fare"], data={"name": "Money taken"})
        self.assertEqual(self.values(show=[shown]), before)
        self.assertContains(self.look("model", self.dataset.pk), "sum(&quot;Money taken&quot;) / sum(Passengers)")

    def test_a_new_formula_looks_like_what_it_is_made_of(self):
        self.ask(
            "field-update", self.dataset.pk, self.ids["fare"], data={"format": {"style": "currency", "currency": "EUR"}}
        )
        plain = {"style": "number", "currency": "EUR", "decimals": None, "thousands": True, "shorten": False}
        found = {}
        for name, text in (
            ("Twice", "sum(fare) * 2"),
            ("Growth", "growth(sum(fare), 'year')"),
            ("All", "sum(fare) per ()"),
        ):
            made = self.formula(name, text, format=plain)
            found[name] = load_whole_model(self.now()).schema[made].format.style
        self.assertEqual(found, {"Twice": "number", "Growth": "percent", "All": "currency"})

    def test_a_formula_of_rows_groups(self):
        name = self.formula("Size", "if(passengers > 25, 'large', 'small')")
        self.assertEqual(self.values(show=[], by=[name]), {"large": 2, "small": 3})

    def test_what_is_typed_is_tried_out_or_explained(self):
        def check(formula: str, **more) -> dict:
            return self.ask(
                "model-formula-check", self.dataset.pk, data={"formula": formula, "caret": len(formula), **more}
            ).json()

        found = check("sum(fare)", by=self.ids["sailed"], grain="month")
        self.assertEqual((found["kind"], found["level"]), ("decimal number", "many rows"))
        self.assertEqual([row[0] for row in found["sample"]], ["Jan 2026", "Feb 2026"])
        self.assertEqual(check("passengers > 25")["level"], "each row")
        problem = check("growth(sum(fare), 'week')", by=self.ids["sailed"], grain="month")["problem"]
        self.assertIn("finer than the chart's months", problem["message"])
        self.assertEqual((problem["start"], problem["end"]), (0, 26))
        self.assertIn("Did you mean Fare?", check("sum(fares)")["problem"]["hint"])
        self.assertEqual(check("gro")["suggestions"][0]["label"], "growth(value, period, days?)")

    def test_a_formula_is_saved_as_its_page_sends_it(self):
        sent = {"id": "", "name": "Twice", "text": "sum(fare) * 2", "by": self.ids["region"], "grain": "", "total": ""}
        answer = self.ask("model-formula-save", self.dataset.pk, data=sent | {"revision": self.now().model_revision})
        self.assertEqual(answer.json()["id"], "formula.twice")

    def test_a_formula_cannot_be_made_from_itself(self):
        name = self.formula("Twice", "sum(fare) * 2")
        answer = self.ask(
            "model-formula-save",
            self.dataset.pk,
            data={
                "id": name.partition(".")[2],
                "name": "Twice",
                "text": "Twice + 1",
                "revision": self.now().model_revision,
            },
        )
        self.assertEqual(answer.status_code, 422)
        self.assertIn("made from itself", answer.json()["message"])

    def test_a_used_formula_is_not_removed_unasked(self):
        name = self.formula("Twice", "sum(fare) * 2")
        self.formula("Four times", "Twice * 2")
        self.assertContains(
            self.change("remove_formula", id=name.partition(".")[2], follow=True),
            "It is used in the formula “Four times”.",
        )
        page = self.look("model-formula", self.dataset.pk, name.partition(".")[2])
        self.assertContains(page, "Four times")

    def test_variations_write_formulas(self):
        chart = charts.create_chart(
            self.analyst,
            self.now(),
            load_definition(
                {
                    "dataset": str(self.dataset.pk),
                    "show": [self.fare],
                    "by": [{"field": self.ids["sailed"], "grain": "month"}],
                }
            ),
        )
        definition = chart.definition
        for how in (
            "growth",
            "share",
            "running",
            "rank",
            "less_mean",
            "before",
            "moving",
            "to_date",
            "year_before",
            "change",
        ):
            answer = self.ask(
                "chart-answer",
                chart.pk,
                data={"definition": definition, "edits": [{"edit": "vary_measure", "index": 0, "how": how}]},
            )
            self.assertEqual(answer.status_code, 200, answer.content)
        found = self.ask(
            "chart-answer",
            chart.pk,
            data={"definition": definition, "edits": [{"edit": "vary_measure", "index": 0, "how": "running"}]},
        ).json()
        self.assertIn("Running fare", found["rows"])
        self.assertIn("245", found["rows"])
        own = {"edit": "set_formula", "index": 1, "formula": "sum(fare) / count_rows()", "name": "Fare a sailing"}
        answer = self.ask("chart-answer", chart.pk, data={"definition": definition, "edits": [own]}).json()
        stored = answer["definition"]["show"][1]
        self.assertEqual(stored["formula"], f'sum("#{self.ids["fare"]}") / count_rows()')

    def test_a_question_explains_itself(self):
        definition = {
            "dataset": str(self.dataset.pk),
            "show": [self.fare],
            "by": [self.ids["region"]],
            "only": [{"kind": "list", "field": self.ids["cancelled"], "values": [False]}],
        }
        chart = charts.create_chart(self.analyst, self.now(), load_definition(definition))
        page = self.ask("chart-explain", chart.pk, data={"definition": definition}).content.decode()
        self.assertIn("5 rows", page)
        self.assertIn("only not Cancelled: 4 rows left.", page)
        self.assertIn("3 groups in the end", page)


class Parameters(ModelTest):
    def setUp(self):
        super().setUp()
        self.parameter(name="Top n", kind="whole", default=["1"], low=1, high=5)
        keep = {"parameter": "top_n", "by": self.fare}
        self.definition = {
            "dataset": str(self.dataset.pk),
            "show": [self.fare],
            "by": [self.ids["region"]],
            "keep": keep,
        }

    def test_a_chart_sets_it_and_no_limit_keeps_all(self):
        chart = charts.create_chart(self.analyst, self.now(), load_definition(self.definition))

        def answer(values) -> dict:
            edit = {"edit": "set_value", "parameter": "top_n", "values": values}
            return self.ask("chart-answer", chart.pk, data={"definition": self.definition, "edits": [edit]})

        self.assertIn("top n 2", answer([2]).json()["chart"]["sentence"])
        self.assertEqual(len(answer([2]).json()["chart"]["rows"]), 2)
        self.assertEqual(len(answer(None).json()["chart"]["rows"]), 3)
        self.assertIn("top n no limit", answer(None).json()["chart"]["sentence"])
        self.definition["title"] = "The :top_n that earn most, at 10:15"
        self.assertEqual(answer([2]).json()["chart"]["title"], "The 2 that earn most, at 10:15")
        self.assertIn("goes from 1 to 5", answer([9]).json()["message"])

    def test_one_is_made_where_a_number_is_set(self):
        made = self.ask("model-number", self.dataset.pk, data={"of": "Region", "count": 2}).json()
        self.assertEqual((made["id"], made["revision"]), ("top_n_of_region", self.now().model_revision))
        self.definition["keep"]["parameter"] = made["id"]
        asked = {"definition": self.definition, "edits": []}
        chart = charts.create_chart(self.analyst, self.now(), load_definition(self.definition))
        self.assertEqual(len(self.ask("chart-answer", chart.pk, data=asked).json()["chart"]["rows"]), 2)
        self.assertEqual(
            self.ask("model-number", self.dataset.pk, data={"of": "Region"}).json()["id"], "top_n_of_region_2"
        )
        self.assertEqual(self.ask("model-number", self.dataset.pk, data={"count": 0}).status_code, 422)
        self.as_(self.explorer)
        self.assertIn(self.ask("model-number", self.dataset.pk, data={}).status_code, (403, 404))

    def test_a_control_of_a_dashboard_sets_it_for_readers(self):
        chart = charts.create_chart(self.analyst, self.now(), load_definition(self.definition), "Top")
        charts.save_chart(self.analyst, chart, chart.load(), 0)
        dashboard = dashboards.create_dashboard(self.analyst, "Regions")
        dashboards.place_chart(self.analyst, dashboard, chart)
        dashboard.refresh_from_db()
        control = dashboards.make_control(self.now(), "", "top_n")
        draft = dashboard.load_draft().model_copy(update={"controls": (control,)})
        dashboards.save_draft(self.analyst, dashboard, draft, "Regions", dashboard.revision)
        publishing.publish(self.analyst, dashboard)
        dashboards.grant(self.analyst, dashboard, f"person-{self.explorer.pk}", "view", download=False)
        self.as_(self.explorer)
        block = draft.blocks[0].id

        def rows(state: dict) -> int:
            found = self.look("dashboard-block", dashboard.pk, block, v=json.dumps(state))
            return len(found.json()["rows"])

        self.assertEqual(rows({}), 1)
        self.assertEqual(rows({"controls": {control.id: {"set": [2]}}}), 2)
        self.assertEqual(rows({"controls": {control.id: None}}), 3)
        self.assertContains(self.look("dashboard-control", dashboard.pk, control.id), "No limit")
        page = self.look("dashboard", dashboard.pk, v=json.dumps({"controls": {control.id: {"set": [2]}}}))
        self.assertContains(page, "<strong>2</strong>")


class Rules(ModelTest):
    def setUp(self):
        super().setUp()
        group = Group.objects.create(name="Harbour masters")
        self.explorer.groups.add(group)
        self.explorer.attributes = {"regions": ["North Reach", "South Banks"]}
        self.explorer.save()
        self.change("save_rule", name="Their regions", text="region in (:person_regions)", groups=["Harbour masters"])

    def test_each_person_sees_their_rows_whatever_was_asked_before(self):
        by_region = {"show": [self.fare], "by": [self.ids["region"]]}
        for _ in range(2):  # the second answers come from memory
            self.assertEqual(set(self.values(**by_region)), {"North Reach", "Inner Sound", "South Banks"})
            self.assertEqual(set(self.values(self.explorer, **by_region)), {"North Reach", "South Banks"})

    def test_who_lacks_the_attribute_sees_nothing(self):
        self.explorer.attributes = {}
        self.explorer.save()
        self.assertEqual(self.values(self.explorer, show=[], by=[self.ids["region"]]), {})

    def test_rows_behind_lists_and_files_obey_it(self):
        definition = load_definition({"dataset": str(self.dataset.pk), "show": [self.fare], "by": [self.ids["route"]]})
        chart = charts.create_chart(self.analyst, self.now(), definition, "Routes")
        charts.save_chart(self.analyst, chart, chart.load(), 0)
        dashboard = dashboards.create_dashboard(self.analyst, "Routes")
        dashboards.place_chart(self.analyst, dashboard, chart)
        dashboard.refresh_from_db()
        control = dashboards.make_control(self.now(), self.ids["region"])
        draft = dashboard.load_draft().model_copy(update={"controls": (control,)})
        dashboards.save_draft(self.analyst, dashboard, draft, "Routes", dashboard.revision)
        publishing.publish(self.analyst, dashboard)
        dashboards.grant(self.analyst, dashboard, f"person-{self.explorer.pk}", "view", download=True)
        self.as_(self.explorer)
        block = draft.blocks[0].id
        for page in (
            self.look("dashboard-block", dashboard.pk, block).content,
            self.look("dashboard-rows", dashboard.pk, block).content,
            b"".join(self.look("dashboard-rows-file", dashboard.pk, block).streaming_content),
            self.look("dashboard-control", dashboard.pk, control.id).content,
        ):
            self.assertNotIn("Inner Sound", page.decode())
            self.assertNotIn("Stack Point", page.decode())
        self.assertIn("North Reach", self.look("dashboard-control", dashboard.pk, control.id).content.decode())

    def test_a_rule_that_is_no_condition_is_refused(self):
        self.assertContains(
            self.change("save_rule", name="Wrong", text="region", follow=True), "something that is yes or no"
        )
        self.assertEqual(len(self.now().model_definition.rules), 1)

    def test_stewards_set_attributes(self):
        self.as_(self.steward)
        data = {
            "first_name": "Runa",
            "role": "explorer",
            "is_active": "on",
            "attributes": "regions = Inner Sound; South Banks\npier = East",
        }
        self.client.post(reverse("person", args=[self.explorer.pk]), data)
        self.explorer.refresh_from_db()
        self.assertEqual(self.explorer.attributes, {"regions": ["Inner Sound", "South Banks"], "pier": "East"})
        wrong = self.client.post(reverse("person", args=[self.explorer.pk]), data | {"attributes": "no sign"})
        self.assertContains(wrong, "is not readable")


class Stocks(ModelTest):
    def test_a_stock_is_not_added_over_days(self):
        counts = import_now(
            self.analyst,
            "day,port,waiting\n2026-01-30,Quay,5\n2026-01-31,Quay,9\n2026-01-31,Tern,4\n2026-02-02,Quay,7\n",
            "waiting.csv",
        )
        ids = {field.source: field.id for field in counts.all_fields}
        self.ask("field-update", counts.pk, ids["waiting"], data={"over_dates": "last"})
        definition = load_definition(
            {
                "dataset": str(counts.pk),
                "show": [{"field": ids["waiting"], "aggregate": "sum"}],
                "by": [{"field": ids["day"], "grain": "month"}],
                "kind": "table",
            }
        )
        result = charts.answer_chart(
            Dataset.objects.select_related("current").get(pk=counts.pk), definition, self.analyst
        ).result
        self.assertEqual(result.frame["m0"].to_list(), [13, 7])
        self.assertEqual(result.totals[()]["m0"].to_list(), [7])

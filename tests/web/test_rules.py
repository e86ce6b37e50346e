"""Rules of who sees which rows, tried by an analyst whom one binds on every way to the rows."""

from __future__ import annotations

import html
import json
import re

from django.contrib.auth.models import Group
from django.core.exceptions import PermissionDenied
from django.test import Client, tag
from django.urls import get_resolver, reverse
from django.utils import timezone

from tests.web.support import FERRIES, import_now, make_user, page_of, receive
from tests.web.test_models import ROUTES, ModelTest
from tests.web.test_templates import PNG
from veduta.core.cache import clear_caches
from veduta.core.chart.definition import load_definition
from veduta.core.errors import RowAccessDenied, VedutaError
from veduta.core.shaping.shaping import load_shaping
from veduta.web.accounts.models import Deed
from veduta.web.catalogue import services as catalogue
from veduta.web.chart_templates.models import ChartTemplate
from veduta.web.charts import services as charts
from veduta.web.datasets.models import Connection, Dataset, Refresh
from veduta.web.imports import services as intake
from veduta.web.modelling.changes import bring_back_model, change_model
from veduta.web.modelling.services import load_model_and_context, load_model_for
from veduta.web.palettes.models import ValueColour
from veduta.web.shaping import services as shaping
from veduta.web.sources import services as sources
from veduta.web.urls import DATA

HIDDEN = ("Inner Sound", "South Banks", "Stack Point", "Sallow Ness", "-15.25", "−15.25")


class Bounded(ModelTest):
    """`nell` is an analyst who may see the North Reach only."""

    def setUp(self):
        super().setUp()
        self.nell = make_user("nell", "analyst")
        self.nell.groups.add(Group.objects.create(name="Harbour masters"))
        self.nell.attributes = {"regions": ["North Reach"]}
        self.nell.save()
        self.change("save_rule", name="Their regions", text="region in (:person_regions)", groups=["Harbour masters"])
        self.as_(self.nell)

    def assert_hidden(self, text: str, where: str) -> None:
        for value in HIDDEN:
            self.assertNotIn(value, text, where)

    def revise(self, user, do: str, **sent) -> None:
        change_model(user, self.now(), do, sent, self.now().model_revision)


class EveryWay(Bounded):
    @tag("long")
    def test_no_page_that_can_be_opened_shows_a_hidden_row(self):
        definition = load_definition({"dataset": str(self.dataset.pk), "show": [self.fare], "by": [self.ids["region"]]})
        chart = charts.create_chart(self.analyst, self.now(), definition, "Regions")
        charts.save_chart(self.analyst, chart, chart.load(), 0)
        opened = 0
        for pattern in (
            each for name in (*DATA, "charts") for each in get_resolver(f"veduta.web.{name}.urls").url_patterns
        ):
            known = {
                "pk": chart.pk if pattern.name.startswith("chart") else self.dataset.pk,
                "number": 1,
                "field_id": self.ids["region"],
                "formula_id": "x",
                "kind": "feed",
                "digest": "0",
            }
            arguments = {name: known[name] for name in pattern.pattern.converters}
            address = reverse(pattern.name, kwargs=arguments)
            for response in (
                self.client.get(address),
                self.client.post(address, "{}", content_type="application/json", headers={"X-Veduta": "1"}),
            ):
                if getattr(response, "is_async", False):
                    continue  # goes on for minutes, and tells of people and numbers of revisions only
                body = b"".join(response.streaming_content) if response.streaming else response.content
                self.assert_hidden(body.decode(), pattern.name)
                self.assertLess(response.status_code, 500, pattern.name)
                opened += response.status_code == 200
            self.dataset.refresh_from_db()
        self.assertGreater(opened, 15)

    def test_how_many_rows_there_are_is_told_only_to_whoever_sees_them_all(self):
        count = f"{self.dataset.current.rows} rows"
        model = reverse("model", args=[self.dataset.pk])
        self.assertNotIn(count, self.client.get(model).content.decode())
        self.as_(self.steward)
        self.assertIn(count, self.client.get(model).content.decode())
        self.dataset.refreshes.update(rows=98_765)
        self.dataset.versions.update(rows=98_765)
        clear_caches()
        refresh = self.dataset.refreshes.first().pk
        for name, arguments in (
            ("dataset", [self.dataset.pk]),
            ("dataset-refreshes", [self.dataset.pk]),
            ("refresh-state", [refresh]),
            ("data", []),
            ("lineage", []),
        ):
            for person, shown in ((self.nell, False), (self.steward, True)):
                self.as_(person)
                page = self.client.get(reverse(name, args=arguments)).content.decode()
                self.assertEqual("98,765" in page or "98765" in page, shown, f"{name} for {person}")

    def test_lists_bounds_and_kinds_are_of_what_may_be_seen(self):
        definition = {"dataset": str(self.dataset.pk), "show": [self.fare], "by": [self.ids["region"]]}
        chart = charts.create_chart(self.nell, self.now(), load_definition(definition), "Mine")
        for clause in (
            {"clause": "only", "field": self.ids["region"], "way": "list"},
            {"clause": "only", "field": self.ids["fare"], "way": "range"},
            {"clause": "only", "field": self.ids["sailed"], "way": "dates"},
            {"clause": "only", "field": self.ids["sailed"], "way": "relative"},
            {"clause": "sort"},
            {"clause": "as"},
        ):
            found = self.ask("chart-clause", chart.pk, data={**clause, "definition": definition})
            self.assertEqual(found.status_code, 200)
            self.assert_hidden(found.content.decode(), str(clause))
        answered = self.ask("chart-answer", chart.pk, data={"definition": definition}).json()
        self.assertIn(
            "You see only some rows, by the rule “Their regions”: 1 of 3 in Region.", answered["chart"]["notes"]
        )
        self.assert_hidden(json.dumps(answered), "answer")
        explained = self.ask("chart-explain", chart.pk, data={"definition": definition}).content.decode()
        self.assertIn("3 rows", explained)

    def test_names_and_colours_are_listed_of_the_values_that_may_be_seen(self):
        definition = {"dataset": str(self.dataset.pk), "show": [self.fare], "by": [self.ids["region"]], "kind": "pie"}
        chart = charts.create_chart(self.nell, self.now(), load_definition(definition), "Mine")
        asked = {"clause": "by", "index": 0, "definition": definition}
        self.ask("chart-answer", chart.pk, data={"definition": definition})  # gives each region its colour
        row = ValueColour.objects.get(values='["Inner Sound"]')
        pages = {
            "popover": lambda: self.ask("chart-clause", chart.pk, data=asked),
            "list": lambda: self.look("colours-list", row.pk),
            "file": lambda: self.look("colours-file"),
            "list's file": lambda: self.look("colours-list-file", row.pk),
        }
        for name, opened in pages.items():
            page = opened().content.decode()
            self.assert_hidden(page, name)
            self.assertIn("North Reach", page, name)
        self.as_(self.steward)
        for name, opened in pages.items():
            if name != "popover":
                self.assertIn("Inner Sound", opened().content.decode(), name)

    def test_mere_suggestions_give_no_colours(self):
        chart = charts.create_chart(
            self.nell, self.now(), load_definition({"dataset": str(self.dataset.pk), "show": [{}]}), "Mine"
        )
        self.assertEqual(self.look("chart", chart.pk).status_code, 200)
        self.assertTrue(charts.suggest_other_charts(self.nell, chart, chart.load()))
        self.assertFalse(ValueColour.objects.exists())

    def test_a_templates_picture_is_for_whoever_sees_all_its_rows(self):
        definition = load_definition({"dataset": str(self.dataset.pk), "show": [self.fare], "by": [self.ids["region"]]})
        chart = charts.create_chart(self.analyst, self.now(), definition, "Regions")
        charts.save_chart(self.analyst, chart, definition, 0)
        self.as_(self.steward)
        kept = {"name": "Ranking", "description": "", "places": [], "with_picture": True, "picture": PNG}
        made = self.look("template-begin", chart.pk)
        self.assertEqual(made.status_code, 200)
        places = [{"name": f"Place {i}", "needed": True, "guidance": ""} for i in range(2)]
        self.assertEqual(self.ask("template-keep", chart.pk, data=kept | {"places": places}).status_code, 200)
        template = ChartTemplate.objects.get()
        for person, status in ((self.steward, 200), (self.nell, 404)):
            self.as_(person)
            self.assertEqual(self.look("template-picture", template.pk).status_code, status)
            for name in ("template", "template-file"):
                page = self.look(name, template.pk).content.decode()
                is_there = "picture.png" in page or PNG in page
                self.assertEqual(is_there, status == 200, f"{name} for {person}")
        self.ask("template-words", template.pk, data=kept | {"places": places, "name": "Bars"})
        template.refresh_from_db()
        self.assertEqual((template.name, bool(template.picture)), ("Bars", True), "what one may not see stays")

    def test_a_formula_that_is_tried_out(self):
        for text in ("min(fare)", "max(region)", "fare * 2", "first(route)"):
            found = self.ask("model-formula-check", self.dataset.pk, data={"formula": text, "by": self.ids["region"]})
            self.assert_hidden(found.content.decode(), text)

    def test_the_latest_date_is_that_of_the_rows_that_may_be_seen(self):
        self.assertEqual(str(load_model_and_context(self.now(), self.nell)[1].latest[self.ids["sailed"]]), "2026-02-14")
        self.nell.attributes = {"regions": ["Inner Sound"]}
        self.nell.save()
        self.assertEqual(str(load_model_and_context(self.now(), self.nell)[1].latest[self.ids["sailed"]]), "2026-01-20")
        recent = {"kind": "relative", "field": self.ids["sailed"], "unit": "month", "count": 1}
        self.assertEqual(self.values(self.nell, by=[self.ids["region"]], only=[recent]), {"Inner Sound": 1})

    def test_blank_attributes_are_lacking_also_where_a_rule_says_not(self):
        self.revise(self.steward, "remove_rule", name="Their regions")
        self.revise(self.steward, "save_rule", name="Not theirs", text="not (region in (:person_regions))")
        for attributes, seen in (
            ({"regions": ["North Reach"]}, 2),
            ({"regions": []}, 0),
            ({"regions": ""}, 0),
            ({"regions": [" "]}, 0),
            ({}, 0),
        ):
            self.nell.attributes = attributes
            self.nell.save()
            self.assertEqual(load_model_for(self.now(), self.nell).rows, seen, attributes)

    def test_whoever_sees_no_rows_is_told_why_in_place_of_the_drawing(self):
        self.nell.attributes = {}
        self.nell.save()
        self.as_(self.nell)
        definition = {"dataset": str(self.dataset.pk), "by": [self.ids["region"]]}
        made = charts.create_chart(self.nell, self.now(), load_definition(definition), "Regions")
        chart = self.ask("chart-answer", made.pk, data={"definition": definition}).json()["chart"]
        self.assertIn("you lack an attribute that the rule “Their regions” asks for", chart["html"])

    def test_the_files_of_others_are_not_looked_into(self):
        upload = receive(self.analyst, FERRIES, "ferries.csv", self.now())
        self.assert_hidden(self.client.get(reverse("upload", args=[upload.pk])).content.decode(), "upload")


class Reaching(Bounded):
    def test_what_a_rule_leaves_whole_is_named_and_a_field_that_reaches_it_offered(self):
        rows = "route,region\nHarrow–Tern,North Reach\nStack Point–Quay,Inner Sound\n"
        areas = import_now(self.analyst, rows, "areas.csv")
        self.as_(self.analyst)
        self.change("add_table", dataset=str(areas.pk), name="Areas")
        [table] = self.now().model_definition.tables
        key = next(f.id for f in areas.all_fields if f.source == "route")
        self.change("set_join", left="", right=table.id, left0=self.ids["route"], right0=key)
        page = page_of(self.client.get(reverse("model", args=[self.dataset.pk])))
        self.assertIn("All rows of Areas are seen: its fields do not reach there.", page)
        self.assertIn("Rule by it instead", page)
        [form] = [each for each in re.findall(r"<form.*?</form>", page, re.S) if "Rule by it instead" in each]
        sent = dict(re.findall(r'name="(\w+)" value="([^"]*)"', form))
        text = html.unescape(sent["text"])
        self.assertEqual(text, "Areas.Region in (:person_regions)")
        self.change("save_rule", name="Their regions", text=text, groups=["Harbour masters"])
        page = page_of(self.client.get(reverse("model", args=[self.dataset.pk])))
        self.assertNotIn("Rule by it instead", page)


class Changing(Bounded):
    def test_whoever_is_bound_changes_neither_rules_nor_what_they_rest_on(self):
        self.as_(self.analyst)
        pier = self.join()
        self.revise(self.steward, "save_formula", name="Home", text="if(region = 'North Reach', 'yes', 'no')")
        self.revise(self.steward, "save_rule", name="Home only", text="Home = 'yes'", groups=["Harbour masters"])
        joined = self.now().model_definition.tables[0].id
        before = self.now().model
        for do, sent in (
            ("remove_rule", {"name": "Their regions"}),
            ("save_rule", {"name": "Their regions", "text": "1 = 1"}),
            ("save_rule", {"name": "Mine", "text": "fare > 0"}),
            ("save_formula", {"id": "home", "name": "Home", "text": "'yes'"}),
            ("remove_table", {"table": joined}),
            ("remove_join", {"left": "", "right": joined}),
            (
                "set_join",
                {"left": "", "right": joined, "keys": [{"left": self.ids["region"], "right": pier.partition(".")[2]}]},
            ),
        ):
            with self.subTest(do), self.assertRaises(RowAccessDenied):
                self.revise(self.nell, do, **sent)
        with self.assertRaises(RowAccessDenied):
            bring_back_model(self.nell, self.now(), 0)
        self.assertEqual(self.now().model, before)
        self.revise(self.nell, "save_formula", name="Twice", text="sum(fare) * 2")

    def test_whoever_is_bound_makes_no_datasets_from_it(self):
        for make in (
            lambda: shaping.derive(self.nell, self.now(), "Mine", load_shaping({})),
            lambda: shaping.duplicate(self.nell, self.now()),
            lambda: shaping.keep_draft(self.nell, self.now(), load_shaping({}), 0),
            lambda: shaping.apply_draft(self.nell, self.now()),
        ):
            with self.assertRaises(RowAccessDenied):
                make()
        step = {"do": "append", "id": "s1", "dataset": str(self.dataset.pk)}
        looked = self.ask("shape-look", self.routes.pk, data={"steps": [step], "at": "s1"})
        self.assertNotIn("Inner Sound", looked.content.decode())
        self.assertIn("You may see only some rows", looked.content.decode())

    def test_a_derived_dataset_is_closed_until_a_steward_releases_it(self):
        derived = shaping.derive(self.analyst, self.now(), "All of it", load_shaping({}))
        further = shaping.derive(self.analyst, Dataset.objects.get(pk=derived.pk), "Further", load_shaping({}))
        for dataset in (derived, further):
            with self.assertRaisesRegex(RowAccessDenied, "is made from “Ferries”"):
                load_model_for(Dataset.objects.get(pk=dataset.pk), self.nell)
            self.assert_hidden(self.look("dataset", dataset.pk).content.decode(), "derived")
            self.assert_hidden(self.look("dataset-rows", dataset.pk).content.decode(), "derived")
        self.assertEqual(
            self.client.post(reverse("dataset-release", args=[derived.pk]), {"released": "1"}).status_code, 404
        )
        self.as_(self.steward)
        self.assertContains(self.look("dataset", derived.pk), "They cannot see this one.")
        self.client.post(reverse("dataset-release", args=[derived.pk]), {"released": "1"})
        self.assertEqual(load_model_for(Dataset.objects.get(pk=derived.pk), self.nell).rows, 5)
        self.assertEqual(load_model_for(Dataset.objects.get(pk=further.pk), self.nell).rows, 5)

    def test_joined_to_another_dataset_the_rows_are_narrowed_by_their_own_rules(self):
        change_model(self.nell, self.routes, "add_table", {"dataset": str(self.dataset.pk), "name": "Sailings"}, 0)
        routes = Dataset.objects.select_related("current").get(pk=self.routes.pk)
        route = next(f.id for f in load_model_for(routes, self.steward).schema if f.name == "Route" and not f.table)
        keys = {"left": "", "right": routes.model_definition.tables[0].id}
        keys["keys"] = [{"left": route, "right": self.ids["route"]}]
        change_model(self.nell, routes, "set_join", keys, 1)
        routes = Dataset.objects.select_related("current").get(pk=self.routes.pk)
        table = routes.model_definition.tables[0].id
        region = f"{table}.{self.ids['region']}"
        definition = load_definition(
            {
                "dataset": str(routes.pk),
                "by": [region],
                "show": [{"field": f"{table}.{self.ids['fare']}", "aggregate": "count"}],
            }
        )
        seen = charts.answer_chart(routes, definition, self.nell).result.frame
        self.assertEqual(seen.rows(), [("North Reach", 2)])
        self.assertEqual(charts.answer_chart(routes, definition, self.analyst).result.frame.height, 3)
        self.assert_hidden(self.look("model", routes.pk).content.decode(), "model")

    def test_events_of_another_dataset_are_those_its_rules_let_pass(self):
        days = import_now(self.analyst, "day,boats\n2026-01-05,3\n2026-08-20,4\n", "boats.csv")
        ids = {field.name: field.id for field in days.schema}
        events = {"dataset": str(self.dataset.pk), "start": self.ids["sailed"], "words": self.ids["route"]}
        definition = load_definition(
            {
                "dataset": str(days.pk),
                "kind": "line",
                "by": [{"field": ids["Day"], "grain": "day"}],
                "references": [{"of": "events", "events": events}],
            }
        )
        seen = charts.answer_chart(days, definition, self.nell)
        self.assert_hidden(json.dumps(seen.drawing.spec), "events")
        self.assertIn("Harrow", json.dumps(seen.drawing.spec))
        self.assertIn("Stack Point", json.dumps(charts.answer_chart(days, definition, self.analyst).drawing.spec))
        Dataset.objects.filter(pk=self.dataset.pk).update(deleted_at=timezone.now())
        gone = charts.answer_chart(days, definition, self.analyst)
        self.assertIn("Events to compare with are not drawn. Their dataset does not exist any more.", gone.notes)


class Breaking(Bounded):
    """A rule on a joined table's field holds, or nothing is shown."""

    def setUp(self):
        super().setUp()
        self.as_(self.analyst)
        self.join()
        self.revise(self.steward, "remove_rule", name="Their regions")
        self.revise(
            self.steward, "save_rule", name="East pier", text="Routes.pier = 'East'", groups=["Harbour masters"]
        )

    def test_it_narrows_while_the_join_holds(self):
        self.assertEqual(load_model_for(self.now(), self.nell).rows, 3)

    def test_rows_that_would_break_it_are_not_taken_and_it_is_named(self):
        upload = receive(self.analyst, ROUTES + "Harrow–Tern,West,41\n", "routes.csv", self.routes)
        with self.captureOnCommitCallbacks(execute=True):
            intake.start_import(self.analyst, upload)
        refresh = Refresh.objects.filter(dataset=self.routes).latest("pk")
        self.assertEqual(refresh.state, Refresh.State.FAILED)
        self.assertIn("the rule “East pier” of “Ferries” could not be applied", refresh.message)
        self.assertEqual(load_model_for(self.now(), self.nell).rows, 3)

    def test_changes_that_would_break_it_are_refused(self):
        table = self.now().model_definition.tables[0].id
        for do, sent in (("remove_join", {"left": "", "right": table}), ("remove_table", {"table": table})):
            with self.assertRaisesRegex(VedutaError, "East pier"):
                self.revise(self.analyst, do, **sent)

    def test_where_it_broke_all_the_same_nobody_but_stewards_sees_rows(self):
        catalogue.delete_dataset(self.analyst, self.routes)
        nell = Client()
        nell.force_login(self.nell, backend="django.contrib.auth.backends.ModelBackend")
        with self.assertRaisesRegex(RowAccessDenied, "East pier"):
            _ = load_model_for(self.now(), self.nell).rows
        for name in ("dataset", "dataset-rows", "dataset-file"):
            self.assert_hidden(nell.get(reverse(name, args=[self.dataset.pk])).content.decode(), name)
        steward = self.steward
        steward.groups.add(Group.objects.get(name="Harbour masters"))
        self.assertEqual(load_model_for(self.now(), steward).rows, 5)
        self.assertIn("cannot be applied", load_model_for(self.now(), steward).ruling.describe()[0])


class Rights(Bounded):
    """Rules, and what people made, belong to whoever made the dataset and to stewards."""

    def setUp(self):
        super().setUp()
        self.other, self.dataset = make_user("other", "analyst"), self.now()

    def test_another_analyst_neither_takes_a_rule_away_nor_brings_back_a_model_without_it(self):
        revision = self.dataset.model_revision
        new = {"name": "New", "text": "fare > 0"}
        for do, sent in (("remove_rule", {"name": "Their regions"}), ("save_rule", new)):
            with self.assertRaisesRegex(PermissionDenied, "Only whoever made"):
                change_model(self.other, self.dataset, do, sent, revision)
        with self.assertRaisesRegex(PermissionDenied, "Only whoever made"):
            bring_back_model(self.other, self.dataset, 0)
        change_model(self.analyst, self.dataset, "remove_rule", {"name": "Their regions"}, revision)
        self.assertEqual(Deed.objects.first().what, Deed.What.RULED)
        self.assertIn("“Their regions”", Deed.objects.first().words)

    def test_another_analyst_deletes_neither_datasets_nor_charts(self):
        chart = self.make_chart()
        self.as_(self.other)
        for name, thing in (("dataset-delete", self.dataset), ("chart-delete", chart)):
            self.assertEqual(self.client.post(reverse(name, args=[thing.pk])).status_code, 403)
            thing.refresh_from_db()
            self.assertIsNone(thing.deleted_at)
        self.assertNotContains(self.client.get(reverse("data")), reverse("dataset-delete", args=[self.dataset.pk]))
        for person in (self.analyst, self.steward):
            self.as_(person)
            self.assertContains(self.client.get(reverse("data")), reverse("dataset-delete", args=[self.dataset.pk]))
        self.client.post(reverse("chart-delete", args=[chart.pk]))
        self.assertEqual((Deed.objects.first().what, Deed.objects.first().user), ("deleted", self.steward))


class AtTheSource(Bounded):
    """A rule does not end at the connection that its dataset comes through."""

    def setUp(self):
        super().setUp()
        self.connection = Connection.objects.create(
            name="Feeds", kind="feed", address="http://127.0.0.1:1", created_by=self.analyst
        )
        self.dataset = self.now()
        self.dataset.source = {"kind": "feed", "connection": self.connection.pk, "feed": {"path": "x"}}
        self.dataset.save()
        self.free = make_user("free", "analyst")

    def test_whom_a_rule_binds_sees_and_uses_no_connection_that_feeds_its_dataset(self):
        self.assertEqual(sources.list_usable(self.nell), [])
        self.assertEqual(sources.list_usable(self.free), [self.connection])
        self.as_(self.nell)
        for name in ("connection", "connection-rows"):
            self.assertEqual(self.look(name, self.connection.pk).status_code, 404)
        self.assertNotContains(self.client.get(reverse("connections")), "Feeds")
        tried = self.ask("connection-try", self.connection.pk, data={"feed": {"path": "x"}})
        self.assertEqual(tried.status_code, 404)
        with self.assertRaises(PermissionDenied):
            sources.try_out(self.nell, {"connection": self.connection.pk, "feed": {"path": "x"}})

    def test_a_connection_is_for_those_it_is_granted(self):
        sources.set_access(self.analyst, self.connection, True, [], [])
        self.assertEqual([sources.may_use(each, self.connection) for each in (self.free, self.analyst)], [False, True])
        self.as_(self.analyst)
        address = reverse("connection-access", args=[self.connection.pk])
        self.client.post(address, {"only_granted": "1", "people": [self.free.pk, self.explorer.pk]})
        self.assertEqual([each.username for each in self.connection.granted_people.all()], ["free"])
        self.assertTrue(sources.may_use(self.free, self.connection))
        self.as_(self.free)
        self.assertEqual(self.client.post(address, {}).status_code, 403)
        self.assertFalse(sources.may_use(self.explorer, self.connection))
        self.assertIn("free", Deed.objects.first().words)

    def test_files_of_others_that_are_for_no_dataset_are_not_found(self):
        upload = receive(self.analyst, FERRIES, "new.csv")
        for person, status in ((self.free, 404), (self.analyst, 200), (self.steward, 200)):
            self.as_(person)
            self.assertEqual(self.look("upload", upload.pk).status_code, status)
        self.as_(self.free)
        self.assertEqual(self.client.post(reverse("upload-discard", args=[upload.pk])).status_code, 404)

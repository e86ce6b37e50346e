from __future__ import annotations

import datetime as dt

from django.urls import reverse
from django.utils import timezone

from tests.web.support import FERRIES, WebTest, import_now, make_user
from veduta.core.schedule import schedule_from
from veduta.core.shaping.shaping import load_shaping
from veduta.core.shaping.steps import kinds
from veduta.web.catalogue import services as catalogue
from veduta.web.datasets.models import Dataset, Refresh
from veduta.web.lineage import drawing
from veduta.web.refreshing import schedules
from veduta.web.shaping import services as shaping


class Screen(WebTest):
    @classmethod
    def setUpTestData(cls):
        super().setUpTestData()
        cls.make_dataset()

    def setUp(self):
        super().setUp()
        self.as_(self.analyst)

    def look(self, steps=(), **more) -> dict:
        self.dataset.refresh_from_db()
        answer = self.ask(
            "shape-look", self.dataset.pk, data={"steps": list(steps), "base": self.dataset.draft_revision, **more}
        )
        self.assertEqual(answer.status_code, 200, answer.content[:300])
        return answer.json()

    def group(self) -> dict:
        return {
            "id": "s1",
            "do": "group",
            "by": [{"field": self.ids["region"]}],
            "measures": [{"field": self.ids["fare"], "aggregate": "sum"}],
        }

    def test_an_unfinished_step_does_not_hold_up_others(self):
        unfinished = {"do": "filter", "id": "s1", "filters": []}
        for do in ("replace", "group", "retype", "formula"):
            editing = {"do": do, "id": "s2"}
            answer = self.look([unfinished], editing=editing, opening=True, fresh=True)
            self.assertIn("<form", answer["form"], do)
            self.assertIn("There is no condition yet", answer["list"], do)

    def test_a_look_keeps_the_draft_and_shows_rows_and_sentences(self):
        data = self.look([self.group()])
        self.assertIn("One row for each Region with sum of Fare", data["list"])
        self.assertIn("180.50", data["table"])
        self.dataset.refresh_from_db()
        self.assertEqual((self.dataset.draft["steps"][0]["do"], data["revision"]), ("group", 1))
        self.assertContains(self.client.get(reverse("dataset", args=[self.dataset.pk])), "not in force yet")
        self.assertEqual(self.look([self.group()])["revision"], 1)

    def test_every_step_has_a_form_that_can_be_opened_and_sent_back(self):
        for do in kinds:
            with self.subTest(do):
                data = self.look(editing={"id": "s9", "do": do}, fresh=True, opening=True)
                self.assertIn(kinds[do].title, data["form"])
                self.assertTrue("unfinished" in data or data["step"]["do"] == do)

    def test_a_form_becomes_a_step(self):
        sent = {
            "id": "s1",
            "do": "group",
            "by": {
                "0": {"on": True, "field": self.ids["sailed"], "grain": "month"},
                "1": {"on": False, "field": self.ids["region"]},
            },
            "measures": {
                "0": {"on": True, "field": self.ids["fare"], "aggregate": "mean", "name": "Usual fare"},
                "1": {"on": False, "field": ""},
            },
        }
        data = self.look(editing=sent)
        self.assertEqual(
            data["step"]["measures"], [{"field": self.ids["fare"], "aggregate": "mean", "name": "Usual fare"}]
        )
        self.assertIn("Usual fare", data["table"])
        rows = self.ask(
            "shape-rows", self.dataset.pk, data={"steps": data["steps"], "at": "s1", "values": ["2026-01-01"]}
        )
        self.assertContains(rows, "2 rows in this group")
        filters = {
            "0": {"field": self.ids["region"], "kind": "list", "values": ["North Reach"], "exclude": True},
            "1": {"field": ""},
        }
        kept = self.look(
            editing={"id": "s1", "do": "filter", "filters": filters, "match": "all", "formula": "", "exclude": False}
        )
        self.assertIn("<strong>2 rows</strong>", kept["table"])

    def test_what_is_unfinished_or_wrong_is_said_in_its_place(self):
        data = self.look(editing={"id": "s1", "do": "trim", "fields": []})
        self.assertEqual(data["unfinished"], "“Columns” is not filled in yet.")
        broken = {"id": "s1", "do": "formula", "name": "X", "formula": "frae * 2"}
        self.assertIn("Did you mean Fare?", self.look([broken])["table"])
        self.assertContains(self.ask("shape-apply", self.dataset.pk), "Did you mean Fare?", status_code=422)
        self.assertContains(
            self.ask("shape-look", self.dataset.pk, data={"steps": [{"do": "waltz"}]}), "no such step", status_code=422
        )
        for wrong in (
            {"steps": "x"},
            {"page": "two"},
            {"base": [1]},
            {"editing": {"do": "trim", "id": "s1", "fields": ["c1"]}, "place": "here"},
        ):
            self.assertContains(
                self.ask("shape-look", self.dataset.pk, data={"explore": "base" not in wrong, **wrong}),
                "not readable",
                status_code=422,
            )

    def test_failures_are_listed(self):
        steps = [{"id": "s1", "do": "retype", "fields": [self.ids["route"]], "kind": "date"}]
        self.assertIn("5 values did not convert", self.look(steps)["list"])
        self.assertContains(
            self.ask("shape-failures", self.dataset.pk, data={"steps": steps, "at": "s1"}), "Tern–Gull Bank"
        )

    def test_a_formula_is_checked_while_it_is_typed(self):
        def ask(formula, **more):
            return self.ask(
                "shape-formula", self.dataset.pk, data={"formula": formula, "caret": len(formula), **more}
            ).json()

        found = ask("fare / passengers")
        self.assertEqual(
            (found["kind"], found["headings"], found["sample"][0][-1]),
            ("decimal number", ["Fare", "Passengers"], "3.01"),
        )
        self.assertEqual(found["empties"], 1)
        wrong = ask("fare / pasengers")["problem"]
        self.assertEqual((wrong["start"], wrong["end"], wrong["hint"]), (7, 16, "Did you mean Passengers?"))
        self.assertEqual(ask("pas")["suggestions"][0]["insert"], "Passengers")
        self.assertIn("round(number, places?)", ask("round(")["around"]["signature"])
        self.assertContains(self.client.get(reverse("formula-reference")), "difference(value)")

    def test_a_join_shows_its_match_share_over_all_rows(self):
        ports = import_now(
            self.analyst, "region,manager\nNorth Reach,Ailsa Marr\nnorth reach,Bran Skene\n", "regions.csv"
        )
        region = next(iter(ports.schema)).id
        join = {
            "id": "s1",
            "do": "join",
            "dataset": str(ports.pk),
            "keys": {"0": {"own": self.ids["region"], "other": region}},
            "bring": {},
        }
        data = self.look(editing=join)
        for words in (
            "Rows here that find a match",
            "3 of 5 rows",
            "1 of 2 rows",
            "Inner Sound",
            "2 keys here without a match",
        ):
            self.assertIn(words, data["form"])
        self.assertIn("60%", data["form"])
        suggested = self.look(editing={"id": "s1", "do": "join", "dataset": str(ports.pk)})
        self.assertIn("Region = Region", suggested["form"])

    def test_exploring_keeps_nothing_until_it_becomes_a_dataset(self):
        page = self.client.get(reverse("shape-explore", args=[self.dataset.pk]))
        self.assertContains(page, "Make a dataset of this")
        data = self.look([self.group()], explore=True, column="s1_sum_" + self.ids["fare"])
        self.assertIn("different values", data["table"])
        self.dataset.refresh_from_db()
        self.assertIsNone(self.dataset.draft)
        answer = self.ask("shape-derive", self.dataset.pk, data={"steps": [self.group()], "name": "By region"})
        made = Dataset.objects.get(name="By region")
        self.assertEqual((made.current.rows, made.source_id), (3, str(self.dataset.pk)))
        self.assertRedirects(self.client.get(answer.json()["address"]), reverse("dataset", args=[made.pk]))
        self.assertContains(self.client.get(reverse("dataset", args=[made.pk])), "One row for each Region")

    def test_putting_into_force_discarding_and_duplicating(self):
        self.look([self.group()])
        self.client.post(reverse("shape-discard", args=[self.dataset.pk]))
        self.dataset.refresh_from_db()
        self.assertIsNone(self.dataset.draft)
        self.look([self.group()])
        self.ask("shape-apply", self.dataset.pk)
        self.dataset.refresh_from_db()
        self.assertEqual(self.dataset.current.rows, 3)
        self.client.post(reverse("shape-duplicate", args=[self.dataset.pk]))
        self.assertTrue(Dataset.objects.filter(name="Ferries (copy)").exists())


class Refreshes(WebTest):
    @classmethod
    def setUpTestData(cls):
        super().setUpTestData()
        cls.make_dataset()
        steps = load_shaping({"steps": [{"id": "s1", "do": "first", "count": 2}]})
        cls.made = shaping.derive(cls.analyst, cls.dataset, "First two", steps)

    def setUp(self):
        super().setUp()
        self.as_(self.analyst)

    def test_the_history_and_versions_compared(self):
        import_now(self.analyst, FERRIES.replace("120.5", "220.5"), dataset=self.dataset)
        page = self.client.get(reverse("dataset-refreshes", args=[self.dataset.pk]))
        self.assertContains(page, "Sum of Fare")
        self.assertContains(page, "+100")
        self.assertContains(page, "First two")
        other = self.client.get(reverse("dataset-refreshes", args=[self.made.pk]))
        self.assertContains(other, "Its source changed")
        self.assertContains(
            self.client.get(reverse("dataset-refreshes", args=[self.dataset.pk]) + "?before=1&after=9"),
            "not kept any more",
            status_code=422,
        )

    def test_a_schedule_is_set_due_and_ended(self):
        self.client.post(
            reverse("dataset-schedule", args=[self.made.pk]),
            {"often": "weekdays", "clock": "06:00", "zone": "Europe/London"},
        )
        self.made.refresh_from_db()
        self.assertGreater(self.made.next_run, timezone.now())
        self.assertEqual(schedules.start_due(), 0)
        due = self.made.next_run + dt.timedelta(minutes=1)
        self.assertEqual(schedules.start_due(due), 1)
        self.assertEqual(self.made.refreshes.first().cause, Refresh.Cause.SCHEDULE)
        self.made.refresh_from_db()
        self.assertGreater(self.made.next_run, due)
        self.assertEqual(schedules.start_due(due), 0)
        self.assertContains(
            self.client.get(reverse("dataset-refreshes", args=[self.made.pk])), "on weekdays at 06:00 (Europe/London)"
        )
        self.client.post(reverse("dataset-schedule", args=[self.made.pk]), {"often": ""})
        self.made.refresh_from_db()
        self.assertIsNone(self.made.next_run)
        answer = self.client.post(
            reverse("dataset-schedule", args=[self.made.pk]), {"often": "daily", "clock": "6", "zone": "Nowhere"}
        )
        self.assertEqual(answer.status_code, 422)
        schedules.set_schedule(self.analyst, self.made, schedule_from("daily", "06:00", "UTC"))

    def test_refreshing_by_hand_and_watching_it(self):
        answer = self.client.post(reverse("refresh-start", args=[self.made.pk]))
        refresh = self.made.refreshes.first()
        self.assertRedirects(answer, reverse("refresh", args=[refresh.pk]), fetch_redirect_response=False)
        self.assertEqual(self.client.get(reverse("refresh-state", args=[refresh.pk])).json()["state"], "done")
        Refresh.objects.filter(pk=refresh.pk).update(state="failed", message="The feed refuses us.")
        self.assertContains(self.client.get(reverse("refresh", args=[refresh.pk])), "The feed refuses us.")
        waiting = Refresh.objects.create(dataset=self.made, cause="hand")
        self.assertContains(self.client.get(reverse("refresh", args=[waiting.pk])), "A new version is being made")
        self.assertEqual(self.ask("refresh-stop", waiting.pk).status_code, 200)

    def test_lineage_draws_everything_or_what_belongs_to_one(self):
        self.make_dashboard()
        other = import_now(self.analyst, FERRIES, "others.csv")
        page = self.client.get(reverse("lineage"))
        for words in ("Ferries", "First two", "Season", "Others"):
            self.assertContains(page, words)
        colleague = make_user("colleague", "analyst")
        theirs = [box for box in drawing.draw(colleague).boxes if box.what == "dashboard"]
        self.assertEqual([(box.name, box.address) for box in theirs], [("A dashboard", "")])
        drawn = drawing.draw(self.analyst, self.made)
        self.assertEqual({box.name for box in drawn.boxes}, {"ferries.csv", "Ferries", "First two"})
        levels = {box.name: box.level for box in drawn.boxes}
        self.assertEqual((levels["Ferries"], levels["First two"], len(drawn.curves)), (1, 2, 2))
        self.assertEqual(len(drawing.draw(self.analyst, other).boxes), 2)
        for number in range(drawing.FOLDED_FROM):
            self.make_chart(f"Fares {number}")
        self.assertIn(f"{drawing.FOLDED_FROM + 2} charts", {box.name for box in drawing.draw(self.analyst).boxes})
        group = next(box for box in drawing.draw(self.analyst).boxes if box.name.endswith(" charts"))
        self.assertIn("Fares 0", group.found_by)
        self.assertContains(self.client.get(group.address), "Fares 0")
        self.assertIn("Fares 0", {box.name for box in drawing.draw(self.analyst, unfolded=True).boxes})
        catalogue.delete_dataset(self.analyst, self.made)
        self.assertNotIn("First two", {box.name for box in drawing.draw(self.analyst).boxes})

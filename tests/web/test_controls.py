"""Controls of a dashboard as readers set them: numbers, texts, buttons, lists that depend on one another."""

from __future__ import annotations

import json
import re
from html import unescape
from unittest import mock

from tests.web.dashboard_support import DashboardTest
from veduta.core.errors import VedutaError
from veduta.web.dashboards import services


class Controls(DashboardTest):
    def add(self, field, **shape):
        """A control on a field, shaped; answers with its id."""
        made = services.make_control(self.dataset, self.ids[field]).model_copy(update={"id": field.replace("_", "")})
        self.edited(edit="add_control", control=made.model_dump(mode="json"))
        if shape:
            self.edited(edit="shape_control", control=made.id, **shape)
        return made.id

    def form(self, control, **controls):
        state = {"controls": {"date": None} | controls}
        return self.look(
            "dashboard-control", self.dashboard.pk, control, draft="1", v=json.dumps(state)
        ).content.decode()

    def shown(self, **controls):
        return self.values(state={"controls": {"date": None} | controls}, draft="1")

    def trail(self, **controls):
        state = {"controls": {"date": None} | controls}
        return self.look("dashboard-trail", self.dashboard.pk, draft="1", v=json.dumps(state)).json()["trail"]

    def test_numbers_are_set_over_their_distribution(self):
        control = self.add("fare")
        self.assertEqual(self.dashboard.load_draft().controls[-1].kind, "range")
        form = self.form(control)
        self.assertEqual(form.count("<rect"), 30)
        everything, dear = self.shown(), self.shown(**{control: {"low": 100.0}})
        self.assertLess(sum(dear.values()), sum(everything.values()))
        self.assertIn("at least 100", self.trail(**{control: {"low": 100.0}}))

    def test_a_range_the_wrong_way_round_is_refused(self):
        control = self.add("fare")
        state = {"controls": {control: {"low": 9, "high": 1}}}
        self.assertEqual(self.block(state=state, draft="1").status_code, 422)

    def test_texts_are_narrowed_by_a_part_of_them(self):
        self.edited(edit="shape_control", control="region", kind="text")
        found = self.shown(region={"match": "contains", "text": "north"})
        self.assertEqual(set(found), {"North Reach"})
        self.assertIn("contains “north”", self.trail(region={"match": "contains", "text": "north"}))
        self.assertIn('name="choice.match"', self.form("region"))

    def test_dates_step_to_what_is_earlier_and_later_and_to_a_year_before(self):
        month = {"kind": "dates", "start": "2026-03-01", "end": "2026-03-31"}
        steps = re.findall(r'data-set-control="date"\s+data-choice="([^"]+)"', self.trail(date=month))
        self.assertEqual([json.loads(unescape(step))["start"] for step in steps], ["2026-02-01", "2026-04-01"])
        self.assertNotIn('data-set-control="date"', self.trail(date=None))
        (before,) = re.findall(r'data-set-control="date"\s+data-choice="([^"]+)"', self.form("date", date=month))
        self.assertEqual(json.loads(unescape(before))["end"], "2025-03-31")
        recent = {"kind": "relative", "unit": "year", "count": 1, "to_date": True}
        self.assertIn("the latest year to date", self.trail(date=recent))
        self.assertEqual(self.trail(date=recent).count('data-set-control="date"'), 1)  # nothing is later
        self.assertIn("Year to date", self.form("date", date=recent))

    def test_a_list_stands_as_buttons(self):
        self.edited(edit="shape_control", control="region", single=True, buttons=True)
        trail = self.trail(region={"values": ["North Reach"]})
        words = re.findall(r'aria-pressed="(\w+)"\s*>\s*(.*?)\s*<', trail)
        self.assertIn(("true", "North Reach"), words)
        self.assertIn(("false", "All"), words)
        self.edited(edit="add_block", id="shown", kind="control", control="region")
        page = self.look("dashboard", self.dashboard.pk, draft="1").content.decode()
        self.assertEqual(page.count('data-set-control="region"'), 2 * len(words))

    def test_one_value_at_a_time_is_chosen_by_radio_buttons(self):
        self.edited(edit="shape_control", control="region", single=True)
        form = self.form("region")
        self.assertIn('type="radio"', form)
        self.assertNotIn("Leave", form)

    def test_one_day_at_a_time(self):
        self.edited(edit="shape_control", control="date", single=True)
        form = self.form("date")
        self.assertIn("data-one-day", form)
        self.assertNotIn("choice.end", form)
        self.assertIn("The latest there is: 14 Feb 2026", form)

    def test_one_that_is_required_always_holds_a_value(self):
        self.edited(edit="set_control", control="region", choice={"values": ["North Reach"]})
        self.edited(edit="shape_control", control="region", required=True)
        for given in (None, {"values": []}):
            self.assertEqual(set(self.shown(region=given)), {"North Reach"})
        self.assertNotIn("Show all", self.form("region"))

    def test_one_that_depends_offers_only_what_still_occurs(self):
        control = self.add("route")
        narrowed = {"region": {"values": ["North Reach"]}}
        free = self.form(control, **narrowed).count("choice.values")
        self.edited(edit="shape_control", control=control, depends=True)
        depending = self.form(control, **narrowed)
        self.assertLess(depending.count("choice.values"), free)
        own = self.form(control, **{control: {"values": ["No such route"]}})
        self.assertIn("not in", own, "what is ticked stays to be taken away")


class TopN(DashboardTest):
    def test_one_number_narrows_every_block(self):
        model = self.dataset.model | {
            "parameters": [{"id": "top_n", "name": "Top n", "kind": "whole", "required": False}]
        }
        self.dataset.model = model
        self.dataset.save()
        fares = {"field": self.ids["fare"], "aggregate": "sum"}
        best = {
            "kind": "member", "field": self.ids["region"], "keep": {"count": 1, "by": fares, "parameter": "top_n"},
        }  # fmt: skip
        control = services.make_control(self.dataset, "", "top_n").model_copy(update={"id": "topn"})
        self.edited(edit="add_control", control=control.model_dump(mode="json"))
        everything = self.values(state={"controls": {"date": None}}, draft="1")
        self.edited(edit="add_filter", id="best", dataset=str(self.dataset.pk), filter=best)
        ranked = sorted(everything, key=everything.get, reverse=True)
        for count in (1, 2):
            found = self.values(state={"controls": {"date": None, "topn": {"set": [count]}}}, draft="1")
            self.assertEqual(found, {name: everything[name] for name in ranked[:count]})
        self.assertEqual(self.values(state={"controls": {"date": None, "topn": None}}, draft="1"), everything)


class Choosers(DashboardTest):
    def offered(self, of):
        data = {"dataset": str(self.dataset.pk), "of": of}
        page = self.ask("dashboard-chooser", self.dashboard.pk, data=data).content.decode()
        return [json.loads(unescape(each)) for each in re.findall(r'name="options"[^>]*?value="([^"]+)"', page)]

    def make(self, of, *names):
        options = [each for each in self.offered(of) if each["name"] in names]
        data = {"dataset": str(self.dataset.pk), "of": of, "options": options}
        made = self.ask("dashboard-chooser-made", self.dashboard.pk, data=data)
        if made.status_code == 200:
            self.edited(edit="add_control", control=made.json() | {"id": "choice"})
        return made

    def chosen(self, option):
        return self.block(state={"controls": {"date": None, "choice": option}}, draft="1").json()

    def test_readers_choose_the_measure(self):
        names = [each["name"] for each in self.offered("measure")]
        self.make("measure", *names[:2])
        titles = [self.chosen({"option": place})["title"] for place in (0, 1)]
        self.assertEqual(
            [name.casefold() in title.casefold() for name, title in zip(names, titles, strict=False)], [True] * 2
        )
        self.assertEqual(self.chosen(None)["title"], self.block(draft="1").json()["title"], "as it was made")

    def test_readers_choose_what_it_is_by(self):
        self.make("by", "Region", "Route")
        regions, routes = ({row["name"] for row in self.chosen({"option": place})["rows"]} for place in (0, 1))
        self.assertNotEqual(regions, routes)
        trail = self.look("dashboard", self.dashboard.pk, draft="1").content.decode()
        self.assertIn("What it is by: as made", " ".join(trail.split()).replace("<span>", ""))

    def test_they_stand_as_buttons_too(self):
        self.make("grain", "Weeks", "Months")
        self.edited(edit="shape_control", control="choice", buttons=True)
        trail = self.look("dashboard-trail", self.dashboard.pk, draft="1").json()["trail"]
        self.assertEqual(re.findall(r'aria-pressed="\w+"\s*>\s*(.*?)\s*<', trail), ["Weeks", "Months", "As made"])

    def test_one_option_is_no_choice(self):
        self.assertEqual(self.make("grain", "Weeks").status_code, 422)
        data = {"dataset": str(self.dataset.pk), "of": "moons"}
        self.assertEqual(self.ask("dashboard-chooser", self.dashboard.pk, data=data).status_code, 422)


class WhenTheyCome(DashboardTest):
    def begin(self, **shape):
        self.edited(edit="shape_control", control="region", **shape)

    def regions(self, **controls):
        answer = self.look(
            "dashboard-blocks", self.dashboard.pk, draft="1", v=json.dumps({"controls": {"date": None} | controls})
        )
        lines = [json.loads(line) for line in b"".join(answer.streaming_content).splitlines()]
        (bars,) = (line["data"] for line in lines if line.get("block") == "bars")
        return {row["name"] for row in bars["rows"]}

    def test_it_is_what_is_said_of_the_reader(self):
        self.begin(first="reader", attribute="region")
        self.assertGreater(len(self.regions()), 1, "nothing is said of this one")
        self.analyst.attributes = {"region": "North Reach"}
        self.analyst.save()
        self.assertEqual(self.regions(), {"North Reach"})
        self.assertGreater(len(self.regions(region=None)), 1, "and may be set to all")

    def test_it_is_what_they_had_last_time(self):
        self.begin(first="last")
        self.look("dashboard", self.dashboard.pk, draft="1")
        self.assertEqual(self.regions(region={"values": ["South Banks"]}), {"South Banks"})
        self.assertEqual(self.regions(), {"South Banks"})

    def test_it_is_the_highest_value_there_is(self):
        everything = self.regions()
        self.begin(first="highest")
        self.assertEqual(self.regions(), {max(everything)})
        trail = self.look("dashboard-trail", self.dashboard.pk, draft="1").json()["trail"]
        self.assertIn(f"<strong>{max(everything)}</strong>", trail)


class Gone(DashboardTest):
    def test_buttons_whose_data_are_gone_do_not_keep_the_page_from_opening(self):
        self.edited(edit="shape_control", control="region", single=True, buttons=True)
        with mock.patch(
            "veduta.web.dashboards.control_forms.load_model_and_context",
            side_effect=VedutaError("That dataset is gone."),
        ):
            page = self.look("dashboard", self.dashboard.pk, draft="1")
        self.assertEqual(page.status_code, 200)
        self.assertContains(page, 'data-control="region"')

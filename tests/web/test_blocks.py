"""Blocks of dashboards and their pages: looks, clicks, numbers in texts, pictures, telephones and paper."""

from __future__ import annotations

import json
import re
import uuid
from urllib.parse import urlencode

from django.urls import reverse

from tests.web.dashboard_support import DashboardTest
from tests.web.support import spaced_alike
from veduta.web.charts import services as charts
from veduta.web.charts.models import Chart
from veduta.web.dashboards import publishing, services
from veduta.web.dashboards.models import Dashboard
from veduta.web.datasets.models import Dataset
from veduta.web.images.services import delete, receive

PNG = b"\x89PNG\r\n\x1a\n and what is on it"


class Looking(DashboardTest):
    """Blocks with texts, grounds and clicks of their own."""

    def change(self, **change):
        return self.ask(
            "dashboard-change", self.dashboard.pk, data={"definition": self.dashboard.draft, "change": change}
        )

    def dress(self, block="bars", title="", look=None, click=None):
        """Set a block's look in the draft, and publish it."""
        changed = self.change(edit="set_look", block=block, title=title, look=look or {}, click=click or {})
        self.dashboard.draft = changed.json()["definition"]
        self.dashboard.save()
        publishing.publish(self.analyst, self.dashboard)
        self.dashboard.refresh_from_db()

    def test_texts_have_values_and_formulas(self):
        look = {"subtitle": "{=sum(fare)} of {total}", "note": "{rows} sailings", "parts": ["title", "dates"]}
        self.dress(title="Fares, {dates}", look=look)
        stored = self.dashboard.load_draft().find_block("bars").look.subtitle
        self.assertIn(f"#{self.ids['fare']}", stored)
        data = self.block(state={"controls": {"date": None}}).json()
        self.assertEqual(data["title"], "Fares, all up to 14 Feb 2026")
        self.assertEqual(data["note"].splitlines()[1], "all up to 14 Feb 2026")
        first, total = data["note"].splitlines()[0].split(" of ")
        self.assertEqual(first.replace("€", ""), total.replace("€", ""))
        self.assertEqual(data["foot"], "5 sailings")
        form = self.ask(
            "dashboard-look", self.dashboard.pk, data={"definition": self.dashboard.draft, "block": "bars"}
        ).content.decode()
        self.assertIn("{=sum(Fare)} of {total}", form.replace("&quot;", ""))

    def test_a_value_that_nobody_knows_is_told(self):
        answer = self.change(edit="set_look", block="bars", look={"note": "as {nothing}"})
        self.assertEqual(answer.status_code, 422)
        self.assertIn("{nothing}", answer.json()["message"])

    def test_grounds_and_borders_are_styles(self):
        self.dress(look={"ground": "#0B5D62", "border": "line"})
        page = self.client.get(reverse("dashboard", args=[self.dashboard.pk])).content.decode()
        self.assertRegex(page, r"#block-bars \{ background: light-dark\(#[0-9A-F]{6}, #[0-9A-F]{6}\)")
        self.assertIn("block-chart in-dark", " ".join(page.split()))

    def test_a_click_opens_an_address_of_the_clicked_values(self):
        self.dress(click={"does": "address", "address": "https://quay.example/{Region}"})
        points = json.dumps([["South Banks"]])
        shown = self.look("dashboard-address", self.dashboard.pk, "bars", points=points)
        self.assertContains(shown, 'href="https://quay.example/South%20Banks"')
        self.assertContains(self.look("dashboard-address", self.dashboard.pk, "bars", points="[[]]"), "leads nowhere")
        self.assertContains(self.look("dashboard-address", self.dashboard.pk, "count", points="[[]]"), "leads nowhere")

    def test_what_was_clicked_is_carried_to_another_dashboard(self):
        first = self.dashboard
        second = services.duplicate_dashboard(self.analyst, first)
        publishing.publish(self.analyst, second)
        self.dashboard = Dashboard.objects.get(pk=second.pk)
        carried = {"block": "bars", "dashboard": str(first.pk), "points": [["South Banks"]]}
        state = {"selections": [carried], "controls": {"date": None}}
        self.assertIn(">1<", spaced_alike(self.block("count", state).json()["html"]))
        rows = self.block("bars", state).json()["rows"]
        self.assertEqual([row["name"] for row in rows], ["South Banks"])
        page = self.client.get(reverse("dashboard", args=[second.pk]), {"v": json.dumps(state)})
        self.assertContains(page, "Region is South Banks")
        services.grant(self.analyst, self.dashboard, f"person-{self.explorer.pk}", "view", download=False)
        self.as_(self.explorer)  # who may not see the first one
        self.assertIn(">5<", spaced_alike(self.block("count", state).json()["html"]))

    def test_it_opens_with_what_like_controls_are_set_to(self):
        second = services.duplicate_dashboard(self.analyst, self.dashboard)
        publishing.publish(self.analyst, second)
        selection = {"block": "bars", "by": [{"field": self.ids["region"]}], "points": [["South Banks"]]}
        state = {"controls": {"date": None, "region": {"values": ["South Banks", "North Reach"]}}}
        address = reverse("dashboard-onward", args=[self.dashboard.pk, second.pk])
        query = urlencode({"v": json.dumps(state)})
        sent = json.dumps({"selection": selection})
        answer = self.client.post(f"{address}?{query}", sent, content_type="application/json")
        page = self.client.get(answer.json()["address"])
        self.assertContains(page, "South Banks or North Reach")
        self.assertContains(page, "Region is South Banks")
        self.as_(self.explorer)
        again = self.client.post(f"{address}?{query}", sent, content_type="application/json")
        self.assertEqual(again.status_code, 404)

    def test_a_chart_that_was_deleted_is_told_to_who_makes_the_dashboard(self):
        data = {"definition": self.dashboard.draft, "blocks": ["bars"]}
        charts.delete_chart(self.analyst, Chart.objects.get(pk=self.dashboard.load_draft().find_block("bars").chart))
        face = self.ask("dashboard-faces", self.dashboard.pk, data=data).json()["faces"]["bars"]
        self.assertIn("Its chart was deleted.", face)
        self.assertEqual(self.block().status_code, 200)  # readers see what was published

    def test_a_click_that_leads_nowhere_is_told_at_once(self):
        def problem(click):
            self.dress(click=click)
            data = {"definition": self.dashboard.draft, "blocks": ["bars"]}
            return self.ask("dashboard-faces", self.dashboard.pk, data=data).json()["faces"]["bars"]

        self.assertIn("The page that a click opens is gone.", problem({"does": "page", "page": "gone"}))
        self.assertIn("there is none", problem({"does": "address"}))
        self.assertIn("is gone", problem({"does": "dashboard", "dashboard": "gone"}))
        other = services.duplicate_dashboard(self.analyst, self.dashboard)
        self.assertIn("not published yet", problem({"does": "dashboard", "dashboard": str(other.pk)}))
        publishing.publish(self.analyst, other)
        self.assertNotIn("notice-problem", problem({"does": "dashboard", "dashboard": str(other.pk)}))
        services.grant(self.analyst, self.dashboard, f"person-{self.explorer.pk}", "view", download=False)
        self.assertIn("may see this dashboard, but not", problem({"does": "dashboard", "dashboard": str(other.pk)}))


class Paging(DashboardTest):
    def setUp(self):
        super().setUp()
        for change in (
            {"edit": "add_page", "id": "p2", "name": "Quays"},
            {"edit": "move_to_page", "blocks": ["bars"], "page": "p2"},
            {"edit": "add_page", "id": "p3", "name": "Behind"},
            {"edit": "set_page", "page": "p3", "hidden": True},
            {"edit": "add_block", "id": "trail", "kind": "control", "control": "region", "page": "p3"},
            {"edit": "add_block", "id": "later", "kind": "place", "text": "Winter", "page": "p2"},
        ):
            data = {"definition": self.dashboard.draft, "change": change}
            self.dashboard.draft = self.ask("dashboard-change", self.dashboard.pk, data=data).json()["definition"]
        self.dashboard.save()
        publishing.publish(self.analyst, self.dashboard)

    def page(self, **query):
        return self.client.get(reverse("dashboard", args=[self.dashboard.pk]), query)

    def lines(self, **query):
        answer = self.client.get(reverse("dashboard-blocks", args=[self.dashboard.pk]), query)
        return [json.loads(line) for line in b"".join(answer.streaming_content).splitlines()]

    def test_each_page_shows_and_asks_for_its_own_blocks(self):
        first, second = self.page(), self.page(page="p2")
        self.assertContains(first, 'data-block="count"')
        self.assertNotContains(first, 'data-block="bars"')
        self.assertContains(second, 'data-block="bars"')
        self.assertEqual([line.get("block") for line in self.lines(page="p2")], [None, "bars"])
        self.assertNotContains(second, "Winter")  # nothing stands there yet

    def test_a_hidden_page_has_a_tab_only_while_it_is_read(self):
        self.assertNotContains(self.page(), "Behind")
        self.assertContains(self.page(page="p3"), "Behind")

    def test_controls_on_a_page_say_what_they_are_set_to(self):
        self.assertContains(self.page(page="p3"), 'data-control="region"', 2)
        state = json.dumps({"controls": {"region": {"values": ["South Banks"]}}})
        control = next(line for line in self.lines(page="p3", v=state) if "control" in line)
        self.assertIn("South Banks", control["html"])

    def test_a_page_that_is_gone_says_so_and_shows_the_first(self):
        gone = self.page(page="p9")
        self.assertContains(gone, "That page is not there any more.")
        self.assertContains(gone, 'data-block="count"')


class Numbers(DashboardTest):
    """Numbers in texts."""

    def made(self, **more):
        data = {"dataset": str(self.dataset.pk), "measure": {"field": self.ids["fare"], "aggregate": "sum"}, **more}
        return self.ask("dashboard-number-made", self.dashboard.pk, data=data)

    def put(self, text, *numbers):
        change = {"edit": "set_block", "block": "words", "text": text, "numbers": numbers}
        data = {"definition": self.dashboard.draft, "change": change}
        self.dashboard.draft = self.ask("dashboard-change", self.dashboard.pk, data=data).json()["definition"]
        self.dashboard.save()
        publishing.publish(self.analyst, self.dashboard)

    def said(self, state=None):
        query = {"v": json.dumps(state)} if state else {}
        answer = self.client.get(reverse("dashboard-blocks", args=[self.dashboard.pk]), query)
        lines = [json.loads(line) for line in b"".join(answer.streaming_content).splitlines()]
        return next(line["numbers"] for line in lines if line.get("text") == "words")

    def test_they_are_worked_out_under_the_filters_and_open_their_rows(self):
        everywhere = self.made().json()["number"]
        banks = self.made(field=self.ids["region"], value="south banks").json()["number"]
        self.assertEqual((everywhere["name"], banks["name"]), ("Fare", "Fare, South Banks"))
        self.put("{Fare} in all, {fare, south banks} there, {Berths} nowhere.", everywhere, banks)
        page = self.client.get(reverse("dashboard", args=[self.dashboard.pk]))
        self.assertContains(page, 'class="number" data-number="1"')
        self.assertContains(page, "{Berths} nowhere.")
        all_, there = self.said({"controls": {"date": None}})
        self.assertNotEqual(all_, there)
        self.assertEqual(self.said({"controls": {"region": {"values": ["South Banks"]}, "date": None}}), [there, there])
        rows = self.look("dashboard-rows", self.dashboard.pk, "words", number=1, v='{"controls": {"date": null}}')
        self.assertContains(rows, "South Banks")
        self.assertNotContains(rows, "North Reach")
        self.assertEqual(self.look("dashboard-rows", self.dashboard.pk, "words", number=9).status_code, 404)

    def test_whoever_may_not_see_rows_has_no_button(self):
        self.put("{Fare}", self.made().json()["number"])
        services.grant(self.analyst, self.dashboard, f"person-{self.explorer.pk}", "view", download=False)
        self.as_(self.explorer)
        page = self.client.get(reverse("dashboard", args=[self.dashboard.pk]))
        self.assertContains(page, '<span class="number"')
        self.assertEqual(self.look("dashboard-rows", self.dashboard.pk, "words", number=0).status_code, 404)

    def test_the_form_offers_measures_fields_and_values(self):
        form = self.look("dashboard-numbers", self.dashboard.pk, dataset=str(self.dataset.pk))
        self.assertContains(form, "Count of rows")
        self.assertContains(form, ">Region<")
        of_region = {"dataset": str(self.dataset.pk), "field": self.ids["region"]}
        values = self.look("dashboard-number-values", self.dashboard.pk, **of_region, find="south")
        self.assertContains(values, 'value="South Banks"')
        self.assertNotContains(values, "North Reach")
        refused = self.made(field=self.ids["region"], value="Atlantis")
        self.assertIn("No row has “Atlantis” in Region.", refused.json()["message"])
        self.assertEqual(self.made(dataset="gone").status_code, 422)
        self.assertEqual(self.made(measure={"field": "gone", "aggregate": "sum"}).status_code, 422)

    def test_the_data_of_the_dashboards_charts_come_first(self):
        other = Dataset.objects.get(pk=self.dataset.pk)
        other.pk, other.name = uuid.uuid4(), "Another that comes before by name"
        other.save(force_insert=True)
        form = self.look("dashboard-numbers", self.dashboard.pk)
        offered = re.findall(r'<option value="([^"]+)"', form.content.decode())
        self.assertEqual(offered[:2], [str(self.dataset.pk), str(other.pk)])

    def test_a_number_can_be_a_formula_of_its_own(self):
        number = self.made(formula="sum(fare) / count(fare)", named="Fare of a sailing").json()["number"]
        mean = {"field": self.ids["fare"], "aggregate": "mean", "name": "Mean"}
        self.put("{Fare of a sailing}, {Mean}", number, self.made(measure=mean).json()["number"])
        shown, expected = self.said({"controls": {"date": None}})
        self.assertEqual(shown, expected)
        refused = self.made(formula="sum(fair) / 2")
        self.assertEqual(refused.status_code, 422)
        self.assertIn("fair", refused.json()["message"])


class Pictures(DashboardTest):
    def setUp(self):
        super().setUp()
        self.picture = receive(self.analyst, "Quay.png", PNG)
        self.edited(edit="add_block", id="quay", kind="image", picture="quay", text="The quay at dawn")
        publishing.publish(self.analyst, self.dashboard)
        self.dashboard.refresh_from_db()

    def address(self, **query):
        page = self.look("dashboard", self.dashboard.pk, **query).content.decode()
        return re.search(r'class="block-picture"\s+src="([^"]+)"\s+alt="The quay at dawn"', page)[1]

    def test_what_is_published_stays_as_it_was(self):
        published = self.address()
        told = self.look("dashboard-before-publishing", self.dashboard.pk)
        self.assertContains(told, "Nothing: the draft is as they see it now.")
        receive(self.analyst, "Quay.png", PNG + b" anew")
        self.assertEqual(self.client.get(published).content, PNG)
        self.assertEqual(self.client.get(self.address(draft="1")).content, PNG + b" anew")
        told = self.look("dashboard-before-publishing", self.dashboard.pk)
        self.assertContains(told, "its picture changes")
        delete(self.analyst, self.picture)
        self.assertEqual(self.client.get(published).content, PNG)

    def test_in_the_editor_one_that_is_gone_is_told(self):
        delete(self.analyst, self.picture)
        data = {"definition": self.dashboard.draft, "blocks": ["quay"]}
        face = self.ask("dashboard-faces", self.dashboard.pk, data=data).json()["faces"]["quay"]
        self.assertIn("The picture “quay” is gone.", face)


class OnATelephone(DashboardTest):
    def test_blocks_have_an_order_heights_and_may_be_hidden(self):
        self.edited(edit="move_on_narrow", block="title", to=0)
        self.edited(edit="set_on_narrow", block="bars", height=300)
        self.edited(edit="set_on_narrow", block="count", hidden=True)
        page = self.look("dashboard", self.dashboard.pk, draft="1").content.decode()
        self.assertIn("#block-title { order: 0 }", page)
        self.assertIn("#block-bars { order: 1; height: 300px; min-height: 0 }", page)
        self.assertIn("#block-count { display: none }", page)
        data = {"definition": self.dashboard.draft, "page": "p1"}
        listed = self.ask("dashboard-narrow", self.dashboard.pk, data=data).content.decode()
        names = re.findall(r'data-narrow-block="(\w+)"', listed)
        self.assertEqual(names, ["title", "bars", "count", "words"])

    def test_the_draft_is_framed_by_the_editor_only(self):
        answer = self.look("dashboard", self.dashboard.pk, draft="1")
        self.assertEqual(answer["X-Frame-Options"], "SAMEORIGIN")
        self.assertIn("frame-ancestors 'self'", answer["Content-Security-Policy"])
        self.assertContains(answer, "Draft")
        services.grant(self.analyst, self.dashboard, f"person-{self.explorer.pk}", "view", download=False)
        self.as_(self.explorer)
        self.assertEqual(self.look("dashboard", self.dashboard.pk, draft="1").status_code, 404)


class OnPaper(DashboardTest):
    def asked(self, **change):
        if change:
            self.edited(**change)
        data = {"definition": self.dashboard.draft, "page": "p1"}
        return self.ask("dashboard-paper", self.dashboard.pk, data=data).json()

    def test_what_a_sheet_would_cut_has_ways_out(self):
        answer = self.asked(edit="size_block", block="count", w=6, h=15)
        self.assertEqual(answer["begins"], [14])
        self.assertIn("Begin a new sheet before it", answer["html"])
        self.assertIn('data-h="14"', answer["html"])
        answer = self.asked(edit="set_on_paper", block="count", goes_on=True)
        self.assertNotIn("would be cut", answer["html"])
        self.assertIn("Set by hand: Sailings", " ".join(answer["html"].split()))

    def test_readers_print_on_that_paper(self):
        paper = {"size": "A3", "direction": "lying", "header": 'Season, {page} "<b>\\', "footer": "Data to {date}"}
        self.asked(edit="set_paper", paper=paper)
        self.asked(edit="set_on_paper", block="words", breaks=True)
        page = self.look("dashboard", self.dashboard.pk, draft="1").content.decode()
        self.assertIn("@page { size: 420mm 297mm; margin: 14mm;", page)
        self.assertIn("#block-words { break-before: page }", page)
        self.assertIn('content: "Season\\00002c\\000020Page', page)
        self.assertIn("14\\000020Feb\\0000202026", page)
        self.assertNotIn("<b>", page.split("</style>")[0])

    def test_no_name_gets_into_the_styles(self):
        draft = self.dashboard.draft
        draft["pages"][0]["breaks"] = ["x } </style><script>alert(1)</script>"]
        draft["pages"][0]["narrow"]["order"] = ["y } </style><script>alert(2)</script>"]
        data = {"definition": draft, "name": "Season", "revision": self.dashboard.revision}
        self.ask("dashboard-draft", self.dashboard.pk, data=data)
        page = self.look("dashboard", self.dashboard.pk, draft="1").content.decode()
        self.assertNotIn("<script>alert", page)

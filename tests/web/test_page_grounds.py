"""What lies behind a dashboard's pages, its palettes and its letters."""

from __future__ import annotations

from tests.web.dashboard_support import DashboardTest
from veduta.web.dashboards import publishing
from veduta.web.images.services import delete, get_pictures, receive
from veduta.web.palettes.models import Palette

PNG = b"\x89PNG\r\n\x1a\n and what is on it"


class Grounds(DashboardTest):
    def setUp(self):
        super().setUp()
        self.picture = receive(self.analyst, "Harbour.png", PNG)

    def set(self, ground=None, **more):
        self.edited(edit="set_ground", page="p1", ground=ground or {}, **more)

    def page(self, **query):
        return self.look("dashboard", self.dashboard.pk, **query).content.decode()

    def form(self):
        data = {"definition": self.dashboard.draft, "page": "p1"}
        return self.ask("dashboard-ground", self.dashboard.pk, data=data)

    def test_a_picture_lies_faded_behind_the_blocks(self):
        self.set({"picture": "Harbour", "lies": "repeat", "position": "top", "fade": 80}, gap=16, widest=1100)
        page, address = self.page(draft="1"), get_pictures(["Harbour"])["harbour"].address
        self.assertIn(f'url("{address}") top / auto repeat', page)
        self.assertIn("light-dark(#EFF2F1, #10191C) 80%, transparent", page)
        self.assertIn('[data-ground-of="p1"] #board { gap: 16px; grid-auto-rows: 41px; max-width: 1100px', page)
        self.assertNotIn(address, self.page(), "readers see it once it is published")

    def test_telephones_may_have_another_one(self):
        self.set({"colour": "#ddeeff"}, on_narrow={"colour": "#ffeedd"})
        page = self.page(draft="1")
        wide, narrow = page.index("light-dark(#DDEEFF"), page.index("light-dark(#FFEEDD")
        self.assertGreater(narrow, wide)
        self.assertIn("@media screen and (max-width: 48rem) { [data-ground-of", page[wide:narrow])

    def test_what_is_published_keeps_its_picture(self):
        self.set({"picture": "Harbour"})
        publishing.publish(self.analyst, self.dashboard)
        delete(self.analyst, self.picture)
        published = self.page()
        address = published.split('url("')[1].split('"')[0]
        self.assertEqual(self.client.get(address).content, PNG)
        self.assertNotIn('url("', self.page(draft="1"), "in the draft it is gone")
        self.assertContains(self.form(), "The picture “Harbour” is gone.")

    def test_texts_that_may_not_be_read_are_told_with_the_way_out(self):
        self.edited(edit="set_look", block="words", look={"ground": "none"})
        self.set({"picture": "Harbour", "fade": 20})
        self.assertContains(self.form(), "1 block without a ground of its own stands on the picture")
        self.set({"picture": "Harbour", "fade": 70})
        self.assertNotContains(self.form(), "Texts may not be read")

    def test_a_page_that_is_gone_is_told(self):
        answer = self.ask(
            "dashboard-ground", self.dashboard.pk, data={"definition": self.dashboard.draft, "page": "p9"}
        )
        self.assertEqual(answer.status_code, 422)


class Palettes(DashboardTest):
    def setUp(self):
        super().setUp()
        self.dunes = Palette.objects.create(name="Dunes", kind="series", colours=["#AA5500", "#557700"])

    def colour(self, **query):
        return str(self.block(**query, state={"controls": {"date": None}}).json()["spec"])

    def test_a_dashboard_takes_one_that_is_not_in_use(self):
        self.assertNotIn("#AA5500", self.colour(draft="1"))
        self.edited(edit="set_colours", palettes={"series": "Dunes", "rising": ""})
        self.assertIn("#AA5500", self.colour(draft="1"))
        self.assertNotIn("#AA5500", self.colour())

    def test_what_is_published_keeps_its_colours(self):
        self.edited(edit="set_colours", palettes={"series": "Dunes"})
        publishing.publish(self.analyst, self.dashboard)
        self.dunes.delete()
        self.assertIn("#AA5500", self.colour())
        self.assertNotIn("#AA5500", self.colour(draft="1"), "in the draft it is gone, and the one in use is taken")
        told = self.look("dashboard-before-publishing", self.dashboard.pk)
        self.assertContains(told, "palettes")

    def test_letters_of_charts_are_of_its_size_unless_they_set_one(self):
        self.edited(edit="set_colours", letters="large")
        self.assertContains(self.look("dashboard", self.dashboard.pk, draft="1"), 'data-letters="large"')
        self.assertEqual(self.block(draft="1").json()["sheet"]["letters"], "large")
        self.edited(edit="set_own", block="bars", own={"look.whole": {"size": "small"}})
        self.assertEqual(self.block(draft="1").json()["sheet"]["letters"], "small")

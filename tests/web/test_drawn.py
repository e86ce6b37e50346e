"""Drawings are made once, and made anew when anything they depend on changes."""

from __future__ import annotations

from unittest import mock

from tests.web.dashboard_support import DashboardTest
from tests.web.support import FERRIES, import_now
from veduta.web.charts import services
from veduta.web.charts.drawn import drawings
from veduta.web.palettes.models import DarkColour, Palette

NORTH = {"selections": [{"block": "bars", "points": [["North Reach"]]}]}
ONLY_NORTH = {"controls": {"region": {"values": ["North Reach"]}}}


class Kept(DashboardTest):
    def setUp(self):
        super().setUp()
        asked = mock.patch.object(services, "ask", wraps=services.ask)
        self.asked = asked.start()
        self.addCleanup(asked.stop)

    def count_drawn(self, *args, **query) -> int:
        """How many charts had to be drawn for a block."""
        before = self.asked.call_count
        self.assertEqual(self.block(*args, **query).status_code, 200)
        return self.asked.call_count - before

    def set_chart(self, **parts) -> None:
        chart = self.dataset.charts.get(pk=self.dashboard.load_draft().find_block("bars").chart)
        chart.definition |= parts
        chart.save()

    def test_a_block_asked_for_again_is_not_drawn_again_and_says_the_same(self):
        first = self.block().json()
        self.assertEqual(self.count_drawn(), 0)
        self.assertEqual(self.block().json(), first)
        self.as_(self.steward)
        self.assertEqual(self.count_drawn(), 0, "readers with the same rows share drawings")

    def test_each_state_has_its_own(self):
        for state in (None, NORTH, ONLY_NORTH):
            self.assertEqual([self.count_drawn(state=state), self.count_drawn(state=state)], [1, 0], state)

    def test_what_a_drawing_depends_on_has_it_drawn_anew(self):
        def new_rows():
            import_now(self.analyst, FERRIES + "6,2026-02-15,East Deeps,Tern–Quay,3,1,no\n", dataset=self.dataset)

        for change in (
            new_rows,
            lambda: Palette.objects.create(name="Dusk", kind="series", colours=["#112233"], in_use=True),
            lambda: DarkColour.objects.create(light="#112233", dark="#AABBCC"),
        ):
            self.block(draft=1)
            change()
            self.assertEqual([self.count_drawn(draft=1), self.count_drawn(draft=1)], [1, 0])

    def test_what_else_was_read_is_read_again(self):
        events = {"dataset": str(self.dataset.pk), "start": self.ids["sailed"], "words": self.ids["route"]}
        self.set_chart(
            kind="line",
            by=[{"field": self.ids["sailed"], "grain": "month"}],
            references=[{"of": "events", "events": events}],
        )
        self.assertEqual([self.count_drawn(draft=1), self.count_drawn(draft=1)], [1, 1])

    def test_nothing_that_is_set_for_one_block_reaches_another_of_the_chart(self):
        first = self.block().json()
        self.edited(edit="set_look", block="bars", look={"parts": ["chart"]})
        draft = self.block(draft=1).json()
        self.assertEqual((first["title_look"]["hidden"], draft["title_look"]["hidden"]), (False, True))
        self.assertEqual(self.block().json(), first)

    def test_they_are_bounded(self):
        drawings.set_limit(100)
        self.addCleanup(drawings.set_limit, 8 * 1024 * 1024)
        self.assertEqual([self.count_drawn(), self.count_drawn()], [1, 1])

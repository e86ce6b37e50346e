"""Marks that are selected by labels, boxes and lines, and what is done with them."""

from __future__ import annotations

import re

from playwright.sync_api import Locator, expect

from tests.browser.support import BrowserTest


class Selecting(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in("analyst")

    def drag(self, place: Locator, *corners: tuple[float, float], held: str = "") -> None:
        """Drags from one corner to the next, each a share of the width and of the height of a place."""
        box = place.bounding_box()
        assert box
        on_screen = [(box["x"] + x * box["width"], box["y"] + y * box["height"]) for x, y in corners]
        if held:
            self.page.keyboard.down(held)
        self.page.mouse.move(*on_screen[0])
        self.page.mouse.down()
        for corner in on_screen[1:]:
            self.page.mouse.move(*corner, steps=4)
        self.page.mouse.up()
        if held:
            self.page.keyboard.up(held)

    def test_labels_are_added_to_one_another_and_put_together(self):
        page = self.page
        self.go("/dashboards/")
        page.get_by_role("link", name="Season at a glance", exact=True).first.click()
        self.sees("[data-drawn]")
        block = page.get_by_role("group", name="Fare revenue by route, highest first")
        for index, modifier in ((0, None), (1, "Control")):
            label = block.locator(".role-axis-label").last.locator("text").nth(index)
            box = label.bounding_box()
            assert box
            if modifier:
                page.keyboard.down(modifier)
            page.mouse.click(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
            if modifier:
                page.keyboard.up(modifier)
            expect(page.locator("[data-selection]")).to_have_count(1)
        self.has_text("[data-selection]", " or ")
        page.locator("[data-selection]").click()
        popover = page.locator(".popover:visible")
        expect(popover.locator("[data-without]")).to_have_count(2)
        popover.get_by_label("What these are called together").fill("Both")
        page.keyboard.press("Enter")
        expect(block.locator(".block-title")).to_have_text("Fare revenue by route with Both put together")
        expect(page.locator("[data-selection]")).to_have_count(0)

    def test_a_line_round_marks_and_setting_them_off(self):
        page = self.page
        self.go("/dashboards/")
        page.get_by_role("link", name="Season at a glance", exact=True).first.click()
        self.sees("[data-drawn]")
        picture = page.get_by_role("group", name="Fare revenue by month and region").locator(".picture")
        self.drag(picture, (0.3, 0.1), (0.7, 0.1), (0.7, 0.6), (0.3, 0.6), held="Alt")
        self.has_text("[data-selection]", "Sailing date and Region is")
        page.locator("[data-selection]").click()
        page.locator(".popover:visible").get_by_role("button", name="Set these off").click()
        self.has_text("[data-selection]", "set off")

    def test_in_the_workbench_what_is_marked_writes_the_sentence(self):
        page = self.page
        self.open_saved_chart("Fare revenue by route, highest first")
        picture = page.locator("[x-ref=picture]")
        expect(picture.locator("[role=graphics-symbol].reachable")).to_have_count(8)
        self.drag(picture, (0.3, 0.02), (0.35, 0.33))
        bar = page.get_by_role("toolbar", name="What is marked")
        expect(bar.get_by_role("status")).to_have_text("3 marks")
        bar.get_by_label("Put together as").fill("The largest")
        page.keyboard.press("Enter")
        self.has_text("[x-ref=sentence]", "by route with The largest put together")
        expect(bar).to_be_hidden()
        marks = picture.locator("[role=graphics-symbol].reachable")
        marks.nth(1).click(modifiers=["Shift"])
        marks.nth(2).click(modifiers=["Shift"])
        expect(bar.get_by_role("status")).to_have_text("2 marks")
        bar.get_by_role("button", name="Leave out").click()
        self.has_text("[x-ref=sentence]", "only route is not")

    def test_what_a_drawing_refers_to_is_found_when_the_address_changes(self):
        page = self.page
        self.go("/dashboards/")
        page.get_by_role("link", name="Season in pictures", exact=True).first.click()
        block = page.get_by_role("group", name="Where passengers go aboard, and what they pay")
        block.locator("[role=graphics-symbol].reachable").nth(1).click()
        self.has_text("[data-selection]", "From port is")
        expect(block.locator("svg .role-legend-gradient path")).to_have_attribute("fill", re.compile(r"^url\(#"))

"""Drilling: by the pointer and by the keyboard, on a dashboard and in the workbench."""

from __future__ import annotations

from playwright.sync_api import Locator, expect

from tests.browser.support import BrowserTest


class Drilling(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in("analyst")

    def open_season(self) -> None:
        self.go("/dashboards/")
        self.page.get_by_role("link", name="Season at a glance", exact=True).first.click()
        self.sees("[data-drawn]")

    def block(self, name: str) -> Locator:
        return self.page.get_by_role("group", name=name)

    def marks(self, block: Locator) -> Locator:
        return block.locator("[role=graphics-symbol].reachable")

    def into_first(self, place: Locator) -> None:
        self.marks(place).first.click(button="right")
        menu = self.page.get_by_role("dialog", name="What can be done")
        menu.get_by_role("button").filter(has_text=", by vessel").click()

    def test_into_a_mark_to_its_neighbour_and_back(self):
        self.open_season()
        block = self.block("Fare revenue by route, highest first")
        self.into_first(block)
        expect(block.locator(".block-title")).to_contain_text("Fare revenue by vessel, only route is ")
        crumb = block.locator("[data-drill-members]")
        first = crumb.inner_text()
        self.has_text("[x-ref=trail]", f"{first} by vessel")
        block.get_by_role("button", name=f"The one after {first}").click()
        expect(crumb).not_to_have_text(first)
        crumb.click()
        self.page.locator(".popover").get_by_role("button", name="Stack Point–Quay").click()
        expect(crumb).to_have_text("Stack Point–Quay")
        block.get_by_role("button", name="Route", exact=True).click()
        expect(block.locator(".crumbs")).to_be_hidden()
        expect(block.locator(".block-title")).to_have_text("Fare revenue by route, highest first")

    def test_the_name_on_an_area_of_a_map_leads_where_the_area_does(self):
        self.open_saved_chart("Fare revenue by sea area in 2026")
        self.sees("[x-ref=picture] .reachable")
        box = self.page.locator("[x-ref=picture] .mark-text text").filter(has_text="North Reach").bounding_box()
        self.page.mouse.click(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2, button="right")
        self.page.get_by_role("dialog", name="What can be done").get_by_text("Into North Reach, by route").click()
        self.has_text("[x-ref=sentence]", "by route")
        self.has_text("[x-ref=sentence]", "region is North Reach")

    def test_by_the_keyboard_down_up_and_to_any_dimension(self):
        self.open_season()
        block = self.block("Fare revenue by month and region")
        self.marks(block).first.focus()
        self.page.keyboard.press("Alt+ArrowDown")
        said = "Fare revenue by week of sailing date, split by region, only sailing date is "
        expect(block.locator(".block-title")).to_contain_text(said)
        self.marks(block).first.focus()
        self.page.keyboard.press("Alt+ArrowUp")
        expect(block.locator(".crumbs")).to_be_hidden()
        block.get_by_role("button", name="More about").press("Enter")
        block.get_by_role("button", name="Drill").press("Enter")
        find = self.page.get_by_label("Find a dimension")
        expect(find).to_be_focused()
        find.fill("vess")
        self.page.keyboard.press("Enter")
        expect(block.locator(".block-title")).to_have_text("Fare revenue by vessel, split by region")

    def test_in_the_workbench_a_drill_writes_the_sentence(self):
        self.open_saved_chart("Fare revenue by route, highest first")
        picture = self.page.locator("[x-ref=picture]")
        self.into_first(picture)
        self.has_text("[x-ref=sentence]", "by vessel")
        self.has_text("[x-ref=sentence]", "route is")
        picture.locator("[role=graphics-symbol].reachable").first.click(button="right")
        self.page.get_by_role("button", name="Break down by …").click()
        self.page.locator(".popover").get_by_role("button", name="Region", exact=True).first.click()
        self.has_text("[x-ref=sentence]", "by region")
        self.page.keyboard.press("Control+z")
        self.has_text("[x-ref=sentence]", "by vessel")

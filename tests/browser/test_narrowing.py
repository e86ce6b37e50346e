"""What narrows a dashboard, set by an analyst and used by a reader: the top so many, buttons, and what waits."""

from __future__ import annotations

from playwright.sync_api import Locator, expect

from tests.browser.support import BrowserTest

FILTER = "A filter of the dashboard"


class Narrowing(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in("analyst")

    def new_dashboard(self, *charts: str) -> None:
        self.go("/dashboards/")
        self.page.click("button:text-is('New dashboard')")
        self.has_text("[role=status]", "not published yet")
        for count, chart in enumerate(charts, 1):
            self.page.get_by_role("toolbar", name="Blocks and controls").get_by_text("Chart", exact=True).click()
            self.page.locator("dialog").get_by_text(chart, exact=False).first.click()
            expect(self.page.locator(".block-chart")).to_have_count(count)

    def dialog(self, name: str) -> Locator:
        return self.page.get_by_role("dialog", name=name)

    def add_control(self, name: str, called: str = "") -> None:
        self.page.click("button:text-is('Add a control')")
        self.page.locator("dialog [data-find], dialog [data-filters]").first.fill(name)
        self.page.locator("dialog").get_by_role("button").filter(has_text=name).first.click()
        expect(self.page.locator("[data-control]").filter(has_text=called or name)).to_have_count(1)

    def publish(self) -> None:
        self.page.get_by_role("button", name="Publish").click()
        self.page.locator("dialog").get_by_role("button", name="Publish").click()
        self.page.wait_for_url(lambda url: "/edit/" not in url)
        self.sees("[data-drawn]")

    def bars(self) -> Locator:
        """The values that stand beside the bars of the first block."""
        return self.page.locator(".block-chart").first.locator("svg .mark-rect path")

    def test_one_number_narrows_every_block_to_the_first_so_many(self):
        page = self.page
        self.new_dashboard("Fare revenue by route, highest first", "Fare revenue by month and region")
        page.click("button:text-is('Add a filter')")
        dialog = self.dialog(FILTER)
        dialog.locator("[data-field]").filter(has_text="Route").first.click()
        dialog.get_by_role("tab", name="Ranked").click()
        dialog.locator("#member-by").select_option(label="Fare revenue")
        dialog.locator("#member-count").fill("5")
        dialog.get_by_role("button", name="Let readers set it").click()
        self.has_text(".chip-fixed", "among the top :top_n_of_route by fare revenue")
        dialog.get_by_role("button", name="Done").click()
        self.has_text("[x-ref=controls]", "Top n of Route")
        self.publish()
        self.has_text("[x-ref=trail]", "among the top 5 by fare revenue")

        page.locator("[x-ref=trail] [data-control]").click()
        expect(self.bars()).to_have_count(5)
        box = page.locator(".popover #parameter-value")
        box.fill("3")
        box.press("Enter")
        expect(self.bars()).to_have_count(3)
        page.locator(".popover").get_by_label("No limit").check()
        expect(self.bars()).to_have_count(8)
        expect(page.locator("[x-ref=trail] .chip-fixed")).to_have_count(0)

    def test_members_by_a_condition_narrow_a_dashboard(self):
        self.new_dashboard("Fare revenue by route, highest first")
        self.page.click("button:text-is('Add a filter')")
        dialog = self.dialog(FILTER)
        dialog.locator("[data-field]").filter(has_text="Route").first.click()
        dialog.get_by_role("tab", name="Condition").click()
        dialog.locator("#having-formula").fill("sum(fare_revenue where year(sailing_date) = 2025)")
        dialog.locator("[name='filter.low']").fill("250000")
        dialog.get_by_role("button", name="Apply").click()
        self.has_text(".chip-fixed", "Route is among those with")
        dialog.get_by_role("button", name="Done").click()
        expect(self.bars()).not_to_have_count(8)
        self.sees("svg .mark-rect path")

    def test_buttons_stand_side_by_side_and_what_waits_is_applied_together(self):
        page = self.page
        self.new_dashboard("Fare revenue by route, highest first")
        self.add_control("Region")
        self.add_control("Vessel")
        page.get_by_role("button", name="Which blocks Region reaches").click()
        dialog = self.dialog("What it reaches")
        dialog.get_by_label("One value at a time").check()
        dialog.get_by_label("As buttons side by side").check()
        dialog.get_by_role("button", name="Set it").click()
        expect(dialog).to_have_count(0)
        page.get_by_role("button", name="Trail", exact=True).click()
        self.dialog("The trail").get_by_label("once they apply it").check()
        self.dialog("The trail").get_by_role("button", name="Set it").click()
        self.publish()
        drawn = page.locator("[data-drawn]")
        before = drawn.get_attribute("data-drawn")

        group = page.get_by_role("group", name="Region")
        group.get_by_text("North Reach").click()
        self.has_text(".apply-bar", "1 change waits")
        expect(group.get_by_text("North Reach")).to_have_attribute("aria-pressed", "true")
        expect(drawn).to_have_attribute("data-drawn", before)
        page.get_by_role("button", name="Discard").click()
        expect(group.get_by_text("All")).to_have_attribute("aria-pressed", "true")
        group.get_by_text("South Banks").click()
        self.has_text(".apply-bar", "1 change waits")
        page.keyboard.press("Control+Enter")
        expect(page.locator(".apply-bar")).to_be_hidden()
        expect(drawn).not_to_have_attribute("data-drawn", before)
        expect(group.get_by_text("South Banks")).to_have_attribute("aria-pressed", "true")

    def test_a_mark_in_the_workbench_writes_the_sentence(self):
        page = self.page
        self.open_saved_chart("Fare revenue by route, highest first")
        bar = page.locator("[x-ref=picture] .mark-rect path").nth(1)
        bar.click(button="right")
        menu = page.get_by_role("dialog", name="What can be done")
        menu.get_by_text("Leave this out").click()
        self.has_text("[x-ref=sentence]", "route is not Harrow–Tern")
        page.locator("[x-ref=picture] .mark-rect path").first.click(button="right")
        menu.get_by_text("Show only this").click()
        expect(page.locator("[x-ref=picture] .mark-rect path")).to_have_count(1)
        page.keyboard.press("Control+z")
        expect(page.locator("[x-ref=picture] .mark-rect path")).to_have_count(8)

    def test_a_block_is_left_alone_and_says_why(self):
        page = self.page
        self.new_dashboard("Fare revenue by route, highest first", "Passengers by weekday")
        self.add_control("Region")
        block = page.locator(".block-chart").last
        block.click(button="right", position={"x": 30, "y": 12})
        page.get_by_role("dialog", name="What can be done").get_by_text("What narrows it…").click()
        self.dialog("What narrows this block").get_by_label("Region").uncheck()
        self.dialog("What narrows this block").get_by_role("button", name="Close").click()
        self.publish()
        page.locator("[x-ref=trail] [data-control]").click()
        page.locator(".popover").get_by_label("North Reach").check()
        self.has_text("[x-ref=trail]", "North Reach")
        page.keyboard.press("Escape")
        page.locator(".block-chart").last.get_by_role("button", name="More about").click()
        page.locator("[data-narrowings-of]:visible").click()
        self.has_text("dialog", "it is set not to")

"""Colours of values: set in one chart, for the workspace, and on a dashboard."""

from __future__ import annotations

from playwright.sync_api import expect

from tests.browser.support import BrowserTest

CHART = "Fare revenue by month and region"
ENTRY = "[x-ref=picture] .role-legend-symbol path"


class Colours(BrowserTest):
    def setUp(self):
        super().setUp()
        self.sign_in("analyst")

    def chart(self):
        self.open_chart(CHART)
        self.sees(ENTRY)

    def test_a_value_is_coloured_in_one_chart_and_goes_back(self):
        self.chart()
        self.page.click("button:text-is('Looks')")
        self.page.click("[x-ref=popover] .option:text-is('Legend')")
        own = self.page.locator("[x-ref=picture] [stroke='#663399']")
        self.page.fill("#value-written-2", "rebeccapurple")
        self.page.keyboard.press("Enter")
        expect(own.first).to_be_visible()
        expect(self.page.locator("#recent-colours option").first).to_have_attribute("value", "rebeccapurple")
        self.page.fill("#value-written-2", "")
        self.page.keyboard.press("Enter")
        expect(own).to_have_count(0)

    def test_the_workspaces_colour_is_everywhere_and_a_dashboards_goes_before_it(self):
        self.chart()
        self.go("/data/colours/")
        self.page.click("main a:text-is('Region')")
        row = self.page.locator("tr:has-text('Inner Sound')")
        row.locator("[name=colour]").fill("#123456")
        row.locator("button:text-is('Set')").click()
        self.sees("tr:has-text('Inner Sound') [data-ground^='#123456']")
        self.chart()
        expect(self.page.locator("[x-ref=picture] [stroke='#123456']").first).to_be_visible()
        self.go("/dashboards/")
        self.page.click("main a:text-is('Season at a glance')")
        self.page.click("a:text-is('Edit')")
        self.sees(".block-title:has-text('Fare revenue by month')")
        self.page.click("button:text-is('Colours and letters')")
        for name, value in (("fields", "Region"), ("values", "Inner Sound"), ("colour", "reddish")):
            self.page.fill(f"dialog [name={name}]", value)
        self.page.click("dialog [data-take]")
        self.has_text(".toast", "“reddish” is no colour")
        self.complaints.clear()
        self.page.fill("dialog [name=colour]", "#654321")
        self.page.click("dialog [data-take]")
        expect(self.page.locator(".board-block [stroke='#654321']").first).to_be_visible()
        self.page.click("button:text-is('Undo')")
        expect(self.page.locator(".board-block [stroke='#123456']").first).to_be_visible()

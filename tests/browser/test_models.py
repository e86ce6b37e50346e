"""Calculating in the browser: a formula written with its editor, joins, parameters on a dashboard."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from tests.browser.support import BrowserTest


class Calculating(BrowserTest):
    def open_model(self, dataset: str) -> None:
        self.go("/data/")
        self.page.goto(self.server + self.page.get_attribute(f"a:text-is('{dataset}')", "href") + "model/")

    def test_an_analyst_writes_a_formula_for_everybody_and_compares_it(self):
        page = self.page
        self.sign_in("analyst")
        self.open_model("Sailings")
        page.click("text=New formula")
        page.fill("[name=name]", "Onboard share")
        page.click("#in-formula")
        page.keyboard.type('sum("Onboard')
        self.has_text("[data-suggestions]", "Onboard sales")
        page.keyboard.press("Tab")
        page.keyboard.type(") / sum(Fair)")
        self.has_text("#formula-said", "There is no field “Fair”.")
        page.keyboard.press("Backspace")
        for _ in "Fair":
            page.keyboard.press("Backspace")
        page.click("[data-put='\"Fare revenue\"']")
        page.keyboard.type(")")
        self.has_text("#formula-said", "It gives a decimal number, one of many rows.")
        self.has_text("#formula-said", "Oct 2026")
        page.click("text=Save formula")
        page.wait_for_url("**/model/#formulas")
        self.has_text("#formulas", "Onboard share")

        # In a chart of its own it is a measure like any other, and is varied by one click.
        self.go("/charts/")
        page.select_option("[name=dataset]", label="Sailings")
        page.click("text=Make a chart")
        self.sees("[x-ref=sentence] .clause")
        page.click("[data-clause=show]")
        page.locator("[x-ref=popover] [data-filters]").fill("Onboard share")
        page.keyboard.press("Enter")
        self.has_text("[x-ref=sentence]", "Show onboard share")
        page.click("[x-ref=popover] summary:has-text('Compare it')")
        page.click("[x-ref=popover] >> text=The same period a year before")
        self.has_text("[x-ref=sentence]", "and onboard share a year before")
        page.click("button:text-is('More')")
        page.click("text=How this is worked out")
        self.has_text("dialog", "It looks at other periods, counted from the periods of month of")

    def test_totals_open_the_rows_behind(self):
        page = self.page
        self.sign_in("analyst")
        self.go("/charts/?find=Regions+and+vessels")
        page.click("main a:text-is('Regions and vessels in 2026, with subtotals')")
        page.locator("[x-ref=picture] td.subtotal").nth(1).click()
        self.has_text("dialog", "Inner Sound")
        expect(page.locator("dialog tbody tr").filter(has_text="North Reach")).to_have_count(0)
        page.keyboard.press("Escape")
        page.locator("[x-ref=picture] tfoot [data-total]").first.click()
        self.has_text("dialog", "North Reach")

    def test_a_dataset_is_joined_in_the_diagram_and_taken_out_again(self):
        page = self.page
        self.sign_in("analyst")
        self.open_model("Vessels")
        page.select_option("select[name=dataset]", label="Routes")
        page.click("text=Join it")
        self.has_text("#tables", "Routes is not joined yet. It has no column in common")
        page.select_option("[name=left0]", label="Vessel")
        page.select_option("[name=right0]", label="Route")
        page.click("button:text-is('Join by these keys')")
        self.has_text("#tables", "of Vessels and 0% of Routes match")
        page.click("summary:has-text('Names of the tables')")
        page.click("text=Take it out of the model")
        self.has_text("#tables", "One table.")

    def test_an_explorer_sets_a_parameter_of_a_dashboard(self):
        page = self.page
        self.sign_in("explorer")
        self.go("/dashboards/")
        page.click("a:text-is('Calculated')")
        page.wait_for_url(re.compile("/dashboards/[0-9a-f-]{36}/"))
        table = page.locator("table:has-text('Share of revenue')").first
        expect(table.locator("tbody tr")).to_have_count(6)
        page.click("[data-control=topn]")
        page.fill("#parameter-value", "2")
        page.keyboard.press("Tab")
        expect(page.locator("table:has-text('Share of revenue')").first.locator("tbody tr")).to_have_count(3)
        self.has_text("[data-control=topn]", "Top n: 2")
        page.check("#parameter-none")
        self.has_text("[data-control=topn]", "no limit")
        expect(page.locator("table:has-text('Share of revenue')").first.locator("tbody tr")).to_have_count(21)

"""A design made from one chart, carried in a file, and used on other data; a chart drawn like another."""

from __future__ import annotations

import json
import re

from playwright.sync_api import expect

from tests.browser.support import BrowserTest

DRAWN = "[x-ref=picture] svg [role=graphics-symbol]"
NAME = "Means in the order of their size"


class Templates(BrowserTest):
    def setUp(self):
        super().setUp()
        self.sign_in("analyst")

    def chart(self, name):
        self.open_chart(name)
        self.sees("[x-ref=picture] > *")

    def test_a_design_goes_from_a_chart_through_a_file_to_other_data(self):
        self.chart("Mean minutes late by vessel")
        self.sees(DRAWN)
        self.page.click("button:has-text('More')")
        self.page.click("button:text-is('Save as a template')")
        self.page.wait_for_url("**/templates/of/**")
        self.page.fill("#template-name", NAME)
        self.page.check("[name=with_picture]")
        self.page.click("button:text-is('Save the template')")
        self.page.wait_for_url(re.compile(r"/templates/[0-9a-f-]+/$"))
        image = self.page.locator("main img")
        expect(image).to_be_visible()
        self.assertGreater(image.evaluate("image => image.naturalWidth"), 200)
        with self.page.expect_download() as download:
            self.page.click("a:text-is('Download (JSON)')")
        content = download.value.path().read_bytes()
        design = json.loads(content) | {"name": f"{NAME}, again"}
        self.go("/templates/")
        file = {"name": "t.json", "mimeType": "application/json", "buffer": json.dumps(design).encode()}
        self.page.set_input_files("input[type=file]", {**file, "buffer": b"{"})
        self.has_text("[role=alert]", "not readable")
        self.complaints.clear()
        self.page.set_input_files("input[type=file]", file)
        self.page.wait_for_url(re.compile(r"/templates/[0-9a-f-]+/$"))
        self.page.select_option("[name=dataset]", label="Bookings")
        self.page.click("button:text-is('Choose fields')")
        self.page.wait_for_url("**dataset=**")
        self.page.select_option("#field-place_1", label="Paid")
        self.page.select_option("#field-place_2", label="Channel")
        self.page.click("button:text-is('Make the chart')")
        self.page.wait_for_url("**/charts/**")
        expect(self.page.locator("[x-ref=rows] tbody tr")).to_have_count(4)
        expect(self.page.locator("[x-ref=sentence]")).to_contain_text("paid")

    def test_a_chart_takes_the_design_of_another_and_gives_it_back(self):
        self.chart("Mean minutes late by vessel")
        self.sees(DRAWN)
        self.page.click("button:has-text('Draw like')")
        self.page.fill("dialog input[data-filters]", "lateness by vessel")
        self.page.keyboard.press("Enter")
        self.sees("[x-ref=picture] table")
        expect(self.page.locator("[x-ref=sentence]")).to_contain_text("a table by vessel")
        self.page.click("button:text-is('Undo')")
        self.sees(DRAWN)

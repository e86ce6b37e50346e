"""Two analysts who make one dashboard at the same time."""

from __future__ import annotations

from playwright.sync_api import Page, expect

from tests.browser.support import PATIENCE, BrowserTest, browser


class Together(BrowserTest):
    def second_page(self, address: str) -> Page:
        """The editor in the browser of a second person."""
        first, self.page = self.page, browser().new_context(viewport=self.viewport, reduced_motion="reduce").new_page()
        self.addCleanup(self.page.context.close)
        self.page.set_default_timeout(PATIENCE)
        self.sign_in("steward")
        self.page.goto(address)
        second, self.page = self.page, first
        expect(second.locator("[role=status]").filter(has_text="not published yet")).to_be_visible()
        return second

    def add(self, page: Page, what: str) -> None:
        page.get_by_role("toolbar", name="Blocks and controls").get_by_text(what, exact=True).click()
        expect(page.locator("[role=status]").filter(has_text="draft saved")).to_be_visible()

    def test_what_both_do_arrives_and_undo_takes_back_ones_own(self):
        self.sign_in("analyst")
        self.go("/dashboards/")
        self.page.click("button:text-is('New dashboard')")
        self.has_text("[role=status]", "not published yet")
        other = self.second_page(self.page.url)
        expect(self.page.get_by_role("group", name="Who else is here")).to_contain_text("Ailsa Marr")
        self.add(self.page, "Heading")
        expect(other.locator(".block-heading")).to_have_count(1)
        self.add(other, "Divider")
        expect(self.page.locator(".block-divider")).to_have_count(1)
        other.keyboard.press("Escape")
        other.get_by_role("button", name="Undo").click()
        for page in (other, self.page):
            expect(page.locator(".block-divider")).to_have_count(0)
            expect(page.locator(".block-heading")).to_have_count(1)
        self.page.locator(".block-heading").focus()
        expect(other.locator(".block-heading")).to_have_attribute("data-others", "Jonas Tern")

"""Two analysts who make one dashboard at the same time."""

from __future__ import annotations

from playwright.sync_api import Page, expect

from tests.browser.support import PATIENCE, BrowserTest, browser


class Together(BrowserTest):
    def second_page(self, address: str, is_told: bool = True, is_open: str = "not published yet") -> Page:
        """The same page in the browser of a second person, who may not be told of what others do before they save."""
        first, self.page = self.page, browser().new_context(viewport=self.viewport, reduced_motion="reduce").new_page()
        self.addCleanup(self.page.context.close)
        self.page.set_default_timeout(PATIENCE)
        self.sign_in("steward")
        if not is_told:
            self.page.route("**/live/", lambda route: route.abort())
        self.page.goto(address)
        second, self.page = self.page, first
        expect(second.locator("[role=status]").filter(has_text=is_open)).to_be_visible()
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

    def title(self, page: Page, words: str) -> None:
        page.locator(".block-heading").dblclick()
        page.get_by_role("textbox", name="Heading").fill(words)
        page.keyboard.press("Enter")

    def test_of_one_setting_the_later_holds_and_both_are_told(self):
        self.sign_in("analyst")
        self.go("/dashboards/")
        self.page.click("button:text-is('New dashboard')")
        self.has_text("[role=status]", "not published yet")
        self.add(self.page, "Heading")
        self.title(self.page, "Mine")
        expect(self.page.locator(".block-heading")).to_contain_text("Mine")
        other = self.second_page(self.page.url, is_told=False)
        self.title(self.page, "Mine again")
        expect(self.page.locator("[role=status]").filter(has_text="draft saved")).to_be_visible()
        self.title(other, "Theirs")
        said = "Jonas Tern changed Heading “Theirs”, its text, too. It is as you have it."
        expect(other.get_by_text(said)).to_be_visible()
        expect(self.page.locator(".block-heading")).to_contain_text("Theirs")
        self.page.get_by_role("button", name="Bring mine back").click()
        expect(self.page.locator(".block-heading")).to_contain_text("Mine again")

    def test_undoing_leaves_what_the_other_changed_since_and_offers_it(self):
        self.sign_in("analyst")
        self.go("/dashboards/")
        self.page.click("button:text-is('New dashboard')")
        self.has_text("[role=status]", "not published yet")
        self.add(self.page, "Heading")
        other = self.second_page(self.page.url)
        own, theirs = self.page.locator(".block-heading"), other.locator(".block-heading")
        self.title(self.page, "Mine")
        expect(theirs).to_contain_text("Mine")
        self.title(other, "Theirs")
        expect(own).to_contain_text("Theirs")
        self.page.get_by_role("button", name="Undo").first.click()
        said = "Ailsa Marr changed Heading “Theirs”, its text, too. It stays as they have it."
        expect(self.page.get_by_text(said)).to_be_visible()
        for heading in (own, theirs):
            expect(heading).to_contain_text("Theirs")
        self.page.get_by_role("button", name="Take it back nevertheless").click()
        for heading in (own, theirs):
            expect(heading).not_to_contain_text("Theirs")

    def test_an_earlier_state_is_brought_back_from_the_log(self):
        self.sign_in("analyst")
        self.go("/dashboards/")
        self.page.click("button:text-is('New dashboard')")
        self.has_text("[role=status]", "not published yet")
        self.add(self.page, "Divider")
        self.page.locator(".block-divider").focus()
        self.page.keyboard.press("Delete")
        expect(self.page.locator(".block-divider")).to_have_count(0)
        self.page.get_by_role("button", name="Log").click()
        self.page.get_by_role("button", name="One by one").click()
        earlier = self.page.locator("li li").filter(has_text="Divider is new")
        earlier.get_by_role("button", name="Bring it back").click()
        expect(self.page.locator(".block-divider")).to_have_count(1)
        self.page.get_by_role("button", name="Undo").first.click()
        expect(self.page.locator(".block-divider")).to_have_count(0)

    def test_of_a_chart_what_others_save_arrives_and_goes_together_with_ones_own(self):
        self.sign_in("analyst")
        self.open_chart("Fare revenue by route, highest first")
        with self.page.expect_navigation():
            self.page.get_by_role("button", name="More", exact=True).click()
            self.page.get_by_role("button", name="Duplicate").click()
        self.page.get_by_role("button", name="Save chart").click()
        self.has_text("[role=status]", "saved")
        other = self.second_page(self.page.url, is_open="saved")
        expect(self.page.get_by_role("group", name="Who else is here")).to_contain_text("Ailsa Marr")
        own = self.page.get_by_role("textbox", name="Title of the chart")
        own.fill("Why sailings were cancelled")
        own.press("Enter")
        expect(self.page.locator("[role=status]").filter(has_text="draft saved")).to_be_visible()
        title = other.get_by_role("textbox", name="Title of the chart")
        title.fill("Reasons")
        title.press("Enter")
        expect(other.locator("[role=status]").filter(has_text="draft saved")).to_be_visible()
        other.get_by_role("button", name="Save chart").click()
        said = "Ailsa Marr changed its title, too. It is as you have it."
        expect(self.page.get_by_text(said)).to_be_visible()
        self.page.get_by_role("button", name="Save chart").click()
        expect(title).to_have_value("Why sailings were cancelled")
        other.get_by_role("button", name="Bring mine back").click()
        expect(title).to_have_value("Reasons")

    def test_edits_of_a_chart_wait_for_a_connection(self):
        self.sign_in("analyst")
        self.open_saved_chart("Share of cancelled sailings by month")
        self.page.context.set_offline(True)
        title = self.page.get_by_role("textbox", name="Title of the chart")
        for words in ("Once", "Twice"):
            title.fill(words)
            title.press("Enter")
        self.has_text("[role=status]", "no connection: 2 edits wait")
        self.page.locator(".head").get_by_role("button", name="Undo").click()
        self.has_text("[role=status]", "no connection: an edit waits")
        self.page.context.set_offline(False)
        self.has_text("[role=status]", "draft saved")
        expect(title).to_have_value("Once")
        self.complaints.clear()

    def test_what_is_done_without_a_connection_is_brought_together_once_there_is_one(self):
        self.sign_in("analyst")
        self.go("/dashboards/")
        self.page.click("button:text-is('New dashboard')")
        self.has_text("[role=status]", "not published yet")
        other = self.second_page(self.page.url)
        self.page.context.set_offline(True)
        for what in ("Divider", "Gap"):
            self.page.get_by_role("toolbar", name="Blocks and controls").get_by_text(what, exact=True).click()
        self.has_text("[role=status]", "no connection: 2 edits wait")
        self.add(other, "Heading")
        self.page.context.set_offline(False)
        for page in (self.page, other):
            for block in ("heading", "divider", "gap"):
                expect(page.locator(f".block-{block}")).to_have_count(1)
        self.complaints.clear()

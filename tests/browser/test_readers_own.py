"""What readers have of their own: views that they keep and give, a presentation, copies of blocks."""

from __future__ import annotations

from playwright.sync_api import expect

from tests.browser.support import BrowserTest


class ReadersOwn(BrowserTest):
    def open_season(self) -> None:
        self.go("/dashboards/")
        self.page.get_by_role("link", name="Season at a glance", exact=True).first.click()
        self.sees("[data-drawn]")

    def test_a_view_is_kept_given_and_opened_by_somebody_else(self):
        page = self.page
        self.sign_in("analyst")
        self.open_season()
        block = page.get_by_role("group", name="Fare revenue by route, highest first")
        block.locator("[role=graphics-symbol].reachable").first.click(button="right")
        page.get_by_role("dialog", name="What can be done").get_by_role("button").filter(has_text=", by vessel").click()
        expect(block.locator(".crumbs")).to_be_visible()
        page.get_by_role("button", name="Views").click()
        page.get_by_label("The name of the view").fill("Its vessels")
        page.keyboard.press("Enter")
        expect(page.get_by_role("button", name="View: Its vessels")).to_be_visible()
        page.get_by_role("button", name="View: Its vessels").click()
        page.get_by_label("What can be done with Its vessels").click()
        page.get_by_role("button", name="Give it to others").click()
        page.get_by_label("everybody who may see the dashboard").check()
        page.get_by_role("dialog", name="Give a view to others").get_by_role("button", name="Give").click()
        self.has_text("#toasts", "is given to those you chose")
        link = page.get_by_role("button", name="View: Its vessels")
        link.click()
        address = page.locator(".kept-view > a").get_attribute("href")

        page.context.clear_cookies()
        self.sign_in("explorer")
        self.go(address)
        self.sees("[data-drawn]")
        expect(page.get_by_role("group", name="Fare revenue by route").locator(".crumbs")).to_be_visible()
        page.get_by_role("button", name="View: Its vessels").click()
        self.has_text(".popover", "Given to you")

    def test_it_is_presented_and_its_blocks_are_copied(self):
        page = self.page
        page.context.grant_permissions(["clipboard-read", "clipboard-write"])
        self.sign_in("explorer")
        self.open_season()
        page.get_by_role("button", name="Present it, or keep it up to date").click()
        page.get_by_role("button", name="Over the whole screen").click()
        frame = page.frame_locator(".stage iframe.shown")
        expect(frame.locator("[data-drawn]")).to_be_visible()
        expect(frame.locator(".nav")).to_be_hidden()
        page.keyboard.press("Escape")
        expect(page.locator(".stage")).to_have_count(0)
        block = page.get_by_role("group", name="Passengers by weekday")
        block.get_by_role("button", name="More about").click()
        block.get_by_role("button", name="Copy", exact=True).click()
        page.get_by_role("button", name="As rows").click()
        self.has_text("#toasts", "The rows are copied.")
        text = page.evaluate("() => navigator.clipboard.readText()")
        self.assertEqual(len(text.splitlines()), 8)
        self.assertTrue(text.startswith("Weekday of sailing date\tPassengers\nMonday\t"), text[:80])

    def test_a_comment_on_a_mark_mentions_somebody_who_finds_it_in_the_inbox(self):
        page = self.page
        self.sign_in("explorer")
        self.open_season()
        block = page.get_by_role("group", name="Fare revenue by route, highest first")
        block.locator("[role=graphics-symbol].reachable").first.click(button="right")
        page.get_by_role("dialog", name="What can be done").get_by_text("Comment on this").click()
        expect(page.get_by_label("A comment")).to_be_focused()
        page.keyboard.type("@jon")
        expect(page.locator(".mention-list [data-mention]")).to_have_text(["Jonas Tern"])
        page.keyboard.press("Enter")
        page.keyboard.type("is this the new ramp?")
        page.keyboard.press("Control+Enter")
        self.has_text(".comments-panel", "@Jonas Tern is this the new ramp?")
        expect(block.locator(".commented")).to_have_count(1)

        page.context.clear_cookies()
        self.sign_in("analyst")
        self.go("/dashboards/inbox/")
        page.locator(".notice-line").filter(has_text="is this the new ramp?").click()
        self.has_text(".comments-panel", "@Jonas Tern is this the new ramp?")
        expect(block.locator(".commented")).to_have_count(1)

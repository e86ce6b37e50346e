"""The dashboard editor: blocks are arranged, changed and brought back."""

from __future__ import annotations

from playwright.sync_api import expect

from tests.browser.support import BrowserTest


class Editor(BrowserTest):
    def test_blocks_are_arranged_with_the_keyboard_and_undone(self):
        page = self.page
        self.sign_in("analyst")
        self.go("/dashboards/")
        page.click("button:text-is('New dashboard')")
        self.has_text("[role=status]", "not published yet")
        page.click("button:text-is('Heading')")
        page.locator(".block-title input").fill("Summer")
        page.keyboard.press("Enter")
        self.has_text(".block-title", "Summer")
        block = page.locator(".grid-stack-item")
        block.focus()
        page.keyboard.press("Shift+ArrowLeft")
        page.keyboard.press("ArrowRight")
        expect(block).to_have_attribute("gs-w", "11")
        expect(block).to_have_attribute("gs-x", "1")
        page.keyboard.press("Control+d")
        expect(page.locator(".grid-stack-item")).to_have_count(2)
        page.keyboard.press("Delete")
        expect(page.locator(".grid-stack-item")).to_have_count(1)
        page.locator(".head").get_by_role("button", name="Undo").click()
        expect(page.locator(".grid-stack-item")).to_have_count(2)
        block.first.click(button="right")
        page.click("button:text-is('Make its row even')")
        expect(block.first).to_have_attribute("gs-w", "12")
        self.has_text("[role=status]", "draft saved")
        page.reload()
        expect(page.locator(".grid-stack-item")).to_have_count(2)

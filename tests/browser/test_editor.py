"""The dashboard editor: blocks and pages are arranged, changed, brought back and read."""

from __future__ import annotations

from playwright.sync_api import Locator, expect

from tests.browser.support import BrowserTest

BLOCKS = "#board > [data-id]"


class Editor(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in("analyst")

    def new_dashboard(self) -> None:
        self.go("/dashboards/")
        self.page.click("button:text-is('New dashboard')")
        self.has_text("[role=status]", "not published yet")

    def add_heading(self, words: str) -> None:
        self.page.click("button:text-is('Heading')")
        self.page.get_by_role("textbox", name="Heading").fill(words)
        self.page.keyboard.press("Enter")
        self.has_text(".block-title", words)

    def add(self, kind: str, count: int) -> None:
        """Add a block, which is the last of so many."""
        self.page.click(f"button:text-is('{kind}')")
        expect(self.page.locator("[data-id]")).to_have_count(count)

    def menu(self, block: Locator, choice: str) -> None:
        block.click(button="right", position={"x": 30, "y": 20})
        self.page.get_by_role("dialog", name="What can be done").get_by_text(choice, exact=True).click()

    def drag(self, block: Locator, to: Locator, x: float, y: float) -> None:
        """Press on a block's upper left and move over another one, to a place by shares of its size."""
        start, end = block.bounding_box(), to.bounding_box()
        self.page.mouse.move(start["x"] + 20, start["y"] + 10)
        self.page.mouse.down()
        self.page.mouse.move(start["x"] + 40, start["y"] + 14)
        self.page.mouse.move(end["x"] + x * end["width"], end["y"] + y * end["height"], steps=4)

    def stands(self, block: Locator, columns: str, rows: str) -> None:
        """Wait until a block has a place, each as the line where it begins and the number it spans."""
        expect(block).to_have_css("grid-column", columns)
        expect(block).to_have_css("grid-row", rows)

    def test_blocks_are_arranged_with_the_keyboard_and_undone(self):
        page = self.page
        self.new_dashboard()
        self.add_heading("Summer")
        block = page.locator(BLOCKS)
        block.focus()
        page.keyboard.press("Shift+ArrowLeft")
        page.keyboard.press("ArrowRight")
        self.stands(block, "2 / span 11", "1 / span 1")
        self.has_text("[role=status]", "columns 2 to 12, rows 1 to 1")
        page.keyboard.press("Control+d")
        expect(block).to_have_count(2)
        page.keyboard.press("Delete")
        expect(block).to_have_count(1)
        page.locator(".head").get_by_role("button", name="Undo").click()
        expect(block).to_have_count(2)
        self.menu(block.first, "Make its row even")
        self.stands(block.first, "1 / span 12", "1 / span 1")
        self.has_text("[role=status]", "draft saved")
        page.reload()
        expect(block).to_have_count(2)

    def test_a_block_is_dragged_to_where_a_line_and_words_say(self):
        page = self.page
        self.new_dashboard()
        for count in (1, 2, 3):
            self.add("Empty place", count)
        names = page.locator(BLOCKS).evaluate_all("blocks => blocks.map((block) => block.dataset.id)")
        first, beside, second = (page.locator(f'[data-id="{name}"]') for name in names)
        self.stands(beside, "7 / span 6", "1 / span 5")
        self.drag(second, first, 0.9, 0.5)
        self.has_text(".drop-words", "at its right: each has half of its place")
        page.keyboard.press("Escape")
        page.mouse.up()
        self.stands(second, "1 / span 6", "6 / span 5")
        self.drag(second, first, 0.9, 0.5)
        page.mouse.up()
        self.stands(second, "4 / span 3", "1 / span 5")
        edge = first.locator("[data-edge=right]").bounding_box()
        page.mouse.move(edge["x"] + 3, edge["y"] + 40)
        page.mouse.down()
        page.mouse.move(edge["x"] + 90, edge["y"] + 44, steps=3)
        page.mouse.move(edge["x"] + 105, edge["y"] + 44)
        self.has_text(".drop-words", "4 of 12 columns")
        page.mouse.up()
        self.stands(first, "1 / span 4", "1 / span 5")
        self.stands(second, "5 / span 2", "1 / span 5")

    def test_blocks_are_grouped_locked_and_copied_to_another_dashboard(self):
        page = self.page
        page.context.grant_permissions(["clipboard-read", "clipboard-write"])
        self.new_dashboard()
        self.add_heading("Quays")
        self.add("Gap", 2)
        page.keyboard.press("Enter")
        self.has_text("dialog h2", "How this block looks")
        page.keyboard.press("Escape")
        page.locator("#board [data-kind=heading]").click()
        page.locator("#board [data-kind=gap]").click(modifiers=["Shift"])
        self.has_text(".chosen-bar", "2 blocks chosen")
        page.locator(".chosen-bar").get_by_role("button", name="Group").click()
        group = page.locator("[data-kind=group]")
        expect(group.locator("[data-id]")).to_have_count(2)
        group.focus()
        page.keyboard.press("Enter")
        page.get_by_role("textbox", name="Title of the group").fill("At the quay")
        page.keyboard.press("Enter")
        self.has_text(".group-title", "At the quay")
        page.keyboard.press("Control+c")
        self.has_text("#toasts", "The block is copied.")
        page.locator("#toasts").get_by_role("button", name="Close").click()
        self.menu(group, "Copy")
        self.has_text("#toasts", "The block is copied.")
        self.menu(group, "Lock")
        group.focus()
        page.keyboard.press("Delete")
        self.has_text("#toasts", "That block is locked.")
        self.complaints.clear()  # the browser logs what the server refuses
        self.new_dashboard()
        page.locator("h1 input").evaluate("box => box.blur()")
        page.keyboard.press("Control+v")
        expect(page.locator("[data-kind=group] [data-id]")).to_have_count(2)
        self.has_text(".group-title", "At the quay")

    def test_pages_are_made_filled_and_read(self):
        page = self.page
        self.new_dashboard()
        self.add_heading("Routes")
        self.add_heading("Vessels")
        page.click("button:text-is('Add a page')")
        page.locator("dialog [name=name]").fill("Fleet")
        page.locator("dialog").get_by_role("button", name="Set it").click()
        self.has_text("[role=tab][aria-selected=true]", "Fleet")
        page.get_by_role("tab", name="Page 1").click()
        vessels = page.locator("[data-id]").filter(has_text="Vessels")
        self.menu(vessels, "Move or copy to a page…")
        page.locator("dialog").get_by_role("button", name="Move there").click()
        expect(vessels).to_have_count(0)
        page.get_by_role("tab", name="Fleet").click()
        expect(vessels).to_have_count(1)
        page.get_by_role("button", name="Publish").click()
        page.locator("dialog").get_by_role("button", name="Publish").click()
        page.wait_for_url(lambda url: "/edit/" not in url)
        self.has_text(".board h2", "Routes")
        page.get_by_role("navigation", name="Pages").get_by_text("Fleet").click()
        self.has_text(".board h2", "Vessels")
        page.keyboard.press("Alt+PageUp")
        self.has_text(".board h2", "Routes")

        # Presented, the pages turn by themselves, each once it is drawn.
        page.clock.install()
        page.get_by_role("button", name="Present it, or keep it up to date").click()
        page.get_by_role("button", name="every 15 seconds").click()
        for words in ("Routes", "Vessels", "Routes"):
            expect(page.frame_locator(".stage iframe.shown").locator(".board h2")).to_have_text(words)
            expect(page.locator(".stage iframe")).to_have_count(1)
            page.clock.fast_forward(15_000)

    def test_a_chart_is_changed_in_one_block_only(self):
        page = self.page
        self.go("/dashboards/")
        page.get_by_role("link", name="Season at a glance").first.click()
        page.get_by_role("link", name="Edit").click()
        block = page.locator("#block-b6")
        expect(block.locator("svg")).to_be_visible()
        self.menu(block, "Change it here only…")
        page.locator("dialog").get_by_role("button", name="Change it here only").click()
        self.has_text(".here-only", "one block of Season at a glance only")
        page.get_by_label("Title of the chart").fill("When people sail")
        page.keyboard.press("Enter")
        expect(page).to_have_title("When people sail · Veduta")
        page.locator(".sentence [data-clause=as]").click()
        page.get_by_role("button", name="Table").first.click()
        expect(page.locator("[x-ref=picture] table")).to_be_visible()
        page.get_by_role("button", name="Keep it here only").click()
        self.has_text("#block-b6 .block-title", "When people sail")
        expect(block.locator("table")).to_be_visible()
        block.get_by_role("button", name="1 change here only").click()
        page.locator("dialog").get_by_role("button", name="As in the chart").click()
        self.has_text("dialog", "as it is saved")
        page.locator("dialog").get_by_role("button", name="Close").click()
        expect(block.locator("svg")).to_be_visible()

    def test_a_page_has_a_ground_of_its_own(self):
        page = self.page
        self.new_dashboard()
        self.add_heading("Summer")
        page.get_by_role("button", name="What can be done with this page").click()
        page.click("button:text-is('Ground and distances…')")
        dialog = page.get_by_role("dialog", name="Ground and distances")
        dialog.get_by_label("Colour").first.fill("#ddeeff")
        dialog.get_by_label("Between blocks, in px").fill("12")
        dialog.get_by_role("button", name="Set it").click()
        ground = page.locator("[data-ground-of]")
        expect(ground).to_have_css("background-color", "rgb(221, 238, 255)")
        expect(page.locator("#board")).to_have_css("row-gap", "12px")
        page.keyboard.press("Control+z")
        expect(ground).to_have_css("background-color", "rgba(0, 0, 0, 0)")

    def test_on_a_fixed_page_blocks_lie_freely(self):
        page = self.page
        self.new_dashboard()
        page.get_by_role("button", name="What can be done with this page").click()
        page.click("button:text-is('Name and kind…')")
        page.locator("dialog [name=kind]").select_option("fixed")
        page.locator("dialog [name=format]").select_option("794x1123")
        page.locator("dialog").get_by_role("button", name="Set it").click()
        expect(page.locator("#board")).to_have_css("height", "1123px")
        self.add("Empty place", 1)
        block = page.locator("[data-id]")
        expect(block).to_have_css("left", "20px")
        expect(block).to_have_css("position", "absolute")
        box = block.bounding_box()
        page.mouse.move(box["x"] + 100, box["y"] + 120)
        page.mouse.down()
        page.mouse.move(box["x"] + 120, box["y"] + 130)
        page.mouse.move(box["x"] + 207, box["y"] + 211, steps=3)
        self.has_text(".drop-words", "120 · 120")
        page.mouse.up()
        expect(block).to_have_css("left", "120px")
        expect(block).to_have_css("top", "120px")
        block.focus()
        page.keyboard.press("ArrowRight")
        expect(block).to_have_css("left", "140px")
        self.has_text("[role=status]", "140 px from the left, 120 px from the top")

    def test_a_page_begins_with_an_arrangement_whose_places_are_filled_or_given(self):
        page = self.page
        self.new_dashboard()
        page.locator("section [data-start=map]").click()
        places = page.locator(".block-place")
        expect(places).to_have_count(3)
        places.nth(1).get_by_role("button", name="Fill it").click()
        page.locator("dialog [data-close=text]").click()
        page.get_by_role("textbox", name="Text in Markdown").fill("Outer Light leads.")
        page.locator("dialog").get_by_role("button", name="Done").click()
        self.has_text(".block-text", "Outer Light leads.")
        places.last.get_by_role("button", name="Fill it").click()
        page.locator("dialog [data-close=chart]").click()
        page.locator("dialog").get_by_role("button", name="New chart").click()
        page.get_by_role("button", name="Place on the dashboard").click()
        expect(page.locator(".block-chart .picture svg")).to_be_visible()
        page.locator(".block-chart").get_by_role("button", name="Edit").click()
        page.get_by_role("link", name="Back to the dashboard").click()
        expect(places).to_have_count(1)
        places.first.get_by_role("button", name="Fill it").click()
        page.locator("dialog [name=words]").fill("A map of the harbours")
        page.locator("dialog").get_by_role("button", name="Give it").click()
        self.has_text(".block-place", "is asked for “A map of the harbours”")
        page.get_by_role("navigation", name="Places").get_by_text("Inbox").click()
        self.has_text("main", "A map of the harbours")

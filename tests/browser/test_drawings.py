"""What drawings do in the browser: panels, maps, entries of a legend, and specifications of one's own."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from tests.browser.support import BrowserTest
from veduta.core.dashboard.print_layout import PrintLayout

MARKS = "[x-ref=picture] [role=graphics-symbol].reachable"
EDITOR = ".specification .cm-content"


class Drawings(BrowserTest):
    def setUp(self) -> None:
        super().setUp()
        self.sign_in("analyst")

    def chart(self, name: str) -> None:
        self.open_chart(name)
        self.sees("[x-ref=picture] svg")

    def test_panels_that_do_not_fit_stand_on_the_next_page(self):
        self.page.set_viewport_size({"width": 390, "height": 800})
        self.chart("Passengers of each vessel by month")
        pager = self.page.locator(".pager")
        expect(pager).to_contain_text("Panels 1 to 2 of 9")
        self.page.click(".pager button:text-is('Later')")
        expect(pager).to_contain_text("Panels 3 to 4 of 9")
        expect(self.page.locator(".pager button:text-is('Later')")).to_be_focused()
        self.has_text("[x-ref=picture] .role-title-text", "Knot")
        # With more room, all of them are there.
        self.page.set_viewport_size({"width": 1280, "height": 900})
        expect(pager).to_have_count(0)
        expect(self.page.locator("[x-ref=picture] .role-title-text")).to_have_count(9)

    def test_a_field_makes_panels_from_its_menu_and_is_taken_away(self):
        self.chart("Passengers of a sailing by vessel")
        self.page.locator("[data-field-id]:has-text('Region')").first.click(button="right")
        self.page.get_by_role("dialog", name="What can be done").locator("button:text-is('Panels by it')").click()
        self.has_text("[x-ref=sentence]", "in panels by region")
        expect(self.page.locator("[x-ref=picture] .role-title-text")).to_have_count(4)
        self.page.click("[data-clause=panels]")
        self.page.click("[x-ref=popover] button:text-is('Own for values')")
        self.has_text("[x-ref=sentence]", "on value axes of their own")
        self.page.click("[x-ref=popover] button:text-is('Remove')")
        expect(self.page.locator("[x-ref=sentence]")).not_to_contain_text("in panels")

    def test_a_map_is_zoomed_and_goes_back_to_all(self):
        self.chart("Where passengers go aboard, and what they pay")
        mark = self.page.locator(MARKS).first
        before = mark.bounding_box()
        self.page.click("[x-ref=picture] button[aria-label='Zoom in']")
        expect(self.page.locator("[x-ref=picture] button:text-is('All')")).to_be_enabled()
        self.page.wait_for_function(
            """([selector, x, y]) => {
              const box = document.querySelector(selector).getBoundingClientRect();
              return Math.hypot(box.x - x, box.y - y) > 5;
            }""",
            arg=[MARKS, before["x"], before["y"]],
        )
        self.page.locator(MARKS).first.focus()
        self.page.keyboard.press("0")
        expect(self.page.locator("[x-ref=picture] button:text-is('All')")).to_be_disabled()
        self.page.keyboard.press("Enter")
        bar = self.page.get_by_role("toolbar", name="What is marked")
        expect(bar).to_contain_text("1 mark")
        bar.get_by_role("button", name="Rows behind").click()
        self.sees("dialog table")

    def test_an_entry_of_the_legend_stands_for_its_marks(self):
        self.chart("Passengers by month and region, on a logarithmic axis")
        entry = self.page.locator("[x-ref=picture] .role-legend-label text").first
        box = entry.bounding_box()
        self.page.mouse.move(box["x"] + 5, box["y"] + 5)
        self.page.wait_for_selector("[x-ref=picture] .quieted")
        self.page.mouse.click(box["x"] + 5, box["y"] + 5)
        bar = self.page.get_by_role("toolbar", name="What is marked")
        expect(bar).to_be_visible()
        bar.get_by_role("button", name="Rows behind").click()
        self.sees("dialog table")

    def test_series_and_words_of_the_sentence_are_put_into_order(self):
        self.chart("Passengers by month and region, on a logarithmic axis")
        entries = self.page.locator("[x-ref=picture] .role-legend-label text")
        expect(entries).to_have_text(["Inner Sound", "North Reach", "Outer Skerries", "South Banks"])
        first, last = (entries.nth(i).bounding_box() for i in (0, 3))
        self.page.mouse.move(first["x"] + 5, first["y"] + 5)
        self.page.mouse.down()
        self.page.mouse.move(last["x"] + last["width"] + 5, last["y"] + 5, steps=4)
        self.page.mouse.up()
        expect(entries).to_have_text(["North Reach", "Outer Skerries", "South Banks", "Inner Sound"])
        # It was no click on an entry.
        expect(self.page.locator("dialog[open]")).to_have_count(0)
        self.page.locator(MARKS).last.evaluate("mark => mark.setAttribute('tabindex', '0') || mark.focus()")
        self.page.keyboard.press("ArrowRight")
        self.page.keyboard.press("Alt+ArrowRight")
        expect(entries).to_have_text(["Outer Skerries", "North Reach", "South Banks", "Inner Sound"])
        expect(entries.nth(1)).to_be_focused()
        self.page.click("[data-clause=split]")
        self.page.click("[x-ref=popover] button:text-is('In the usual order')")
        expect(entries).to_have_text(["Inner Sound", "North Reach", "Outer Skerries", "South Banks"])

    def test_a_part_is_clicked_and_set_to_look_otherwise_and_all_are_listed_by_a_key(self):
        self.chart("Each region's part of the fare revenue by quarter")
        axis = self.page.locator("[x-ref=picture] .role-axis:has-text('20%')").bounding_box()
        self.page.mouse.click(axis["x"] + 8, axis["y"] + 60)
        self.has_text("[x-ref=popover] h2", "Value axis")
        self.page.fill("#look-title", "Part of all fares")
        self.page.keyboard.press("Enter")
        self.has_text("[x-ref=picture] .role-axis-title", "Part of all fares")
        self.page.click("[x-ref=popover] button:text-is('All as usual')")
        expect(self.page.locator("[x-ref=picture] .role-axis-title")).to_have_count(0)
        self.page.keyboard.press("Escape")
        self.page.locator("[data-clause=show]").focus()
        self.page.keyboard.press("p")
        parts = self.page.locator("[x-ref=popover] .option")
        names = ["Title and note", "Legend", "Series", "Left axis", "Axis below", "The whole drawing"]
        expect(parts).to_have_text(names)
        expect(parts.first).to_be_focused()
        self.page.keyboard.press("Enter")
        self.has_text("[x-ref=popover] h2", "Title and note")
        self.page.fill("#look-title", "Most from ")
        self.page.click("[x-ref=popover] summary:has-text('Values that can stand')")
        self.page.click("[data-put='{highest}']")
        title = self.page.locator("[x-ref=title]")
        expect(title).to_have_value(re.compile("Most from .*Reach"))
        title.focus()
        expect(title).to_have_value("Most from {highest}")
        self.page.locator("[data-clause=show]").focus()
        self.page.keyboard.press("p")
        self.page.keyboard.press("ArrowDown")
        expect(parts.nth(1)).to_be_focused()
        self.page.keyboard.press("Enter")
        self.has_text("[x-ref=popover] h2", "Legend")
        self.page.click("[x-ref=popover] .chip:text-is('None')")
        expect(self.page.locator("[x-ref=picture] .role-legend")).to_have_count(0)

    def test_what_meets_a_condition_is_coloured_and_the_conditions_are_ordered(self):
        self.chart("Costs and lateness by vessel")
        self.page.click("button:text-is('Conditional formats')")
        self.page.locator("[x-ref=popover] .option:not([data-open])").first.click()
        self.sees("#condition-test")
        coloured = self.page.locator("[x-ref=picture] td[data-ground]")
        expect(coloured.first).to_be_visible()
        self.page.select_option("#condition-test", "highest")
        self.page.fill("#condition-count", "1")
        self.page.keyboard.press("Enter")
        expect(coloured).to_have_count(1)
        self.page.fill("#condition-said", "most of all")
        self.page.keyboard.press("Enter")
        self.has_text("[x-ref=picture] td[data-ground]", "most of all")
        self.page.click("[x-ref=popover] button:text-is('All conditional formats')")
        self.has_text("[x-ref=popover] .option", "Most of all")

    def test_series_get_patterns_and_keep_them_when_they_are_drawn_anew(self):
        self.chart("Cancelled sailings by month and reason")
        self.page.keyboard.press("p")
        self.page.click("[x-ref=popover] button:text-is('Legend')")
        self.page.click("[x-ref=popover] button:has-text('Patterns too')")
        filled = self.page.locator("[x-ref=picture] .role-mark path[style*=pattern]")
        expect(filled.first).to_be_attached()
        entries = self.page.locator("[x-ref=picture] .role-legend-symbol path[style*=pattern]")
        expect(entries.first).to_be_attached()
        count = filled.count()
        self.page.keyboard.press("Escape")
        self.page.set_viewport_size({"width": 900, "height": 700})
        expect(filled).to_have_count(count)

    def test_paper_is_light_also_where_the_theme_is_dark(self):
        self.page.emulate_media(color_scheme="dark")
        self.chart("Cancelled sailings by month and reason")
        mark = self.page.locator("[x-ref=picture] .role-mark path[fill]").first
        dark = mark.get_attribute("fill")
        self.page.evaluate("dispatchEvent(new Event('beforeprint'))")
        expect(mark).not_to_have_attribute("fill", dark)
        # It is drawn as wide as the paper, so that no letters are made smaller.
        expect(self.page.locator("[x-ref=picture] svg")).to_have_attribute("width", str(PrintLayout().width))
        self.page.emulate_media(media="print", color_scheme="dark")
        for hidden in (".nav", "[x-ref=parts]", "[data-field-id] >> nth=0"):
            expect(self.page.locator(hidden)).to_be_hidden()
        self.page.emulate_media(media="screen", color_scheme="dark")
        self.page.evaluate("dispatchEvent(new Event('afterprint'))")
        expect(mark).to_have_attribute("fill", dark)

    def test_words_of_a_clause_are_moved_with_keys_and_by_dragging(self):
        self.chart("Passengers by region, and what each of them paid")
        words = self.page.locator("[data-clause=show]")
        before = words.all_inner_texts()
        words.first.focus()
        self.page.keyboard.press("Alt+ArrowRight")
        expect(words).to_have_text([before[1], before[0], *before[2:]])
        expect(words.nth(1)).to_be_focused()
        words.nth(1).drag_to(words.nth(0))
        expect(words).to_have_text(before)

    def test_thousands_of_marks_are_painted_and_can_still_be_walked(self):
        self.chart("Do routes that are late earn less?")
        self.page.click("[data-clause=by]")
        self.page.locator("[x-ref=popover] button:has-text('Sailing id')").click()
        self.has_text("[x-ref=sentence]", "by sailing id")
        self.page.click("[data-clause=only]")
        self.has_text("[x-ref=popover] h2", "Sailing date")
        self.page.click("[x-ref=popover] button:text-is('Remove')")
        self.sees("[x-ref=picture] canvas")
        self.page.focus("[x-ref=picture] canvas")
        self.page.keyboard.press("ArrowRight")
        self.has_text(".mark-said", "Passengers")
        self.sees(".mark-frame")
        self.page.keyboard.press("Enter")
        self.page.get_by_role("toolbar", name="What is marked").get_by_role("button", name="Rows behind").click()
        self.has_text("dialog", "1 of")

    def test_a_specification_is_written_checked_completed_and_undone(self):
        self.chart("How few routes make most of the fare revenue")
        self.page.click("[data-clause=as]")
        self.page.click("[x-ref=popover] button:has-text('own specification')")
        self.page.keyboard.press("Escape")
        self.has_text(EDITOR, "mark")
        self.page.click(EDITOR)
        self.page.keyboard.press("Control+a")
        along = '{"mark": "bar", "encoding": {"y": {"field": "Route", "type": "nominal"}, '
        spec = along + '"x": {"field": "Fare revenue", "type": "quan'
        self.page.keyboard.insert_text(spec + '"}}}')
        self.has_text("#specification-name ~ [role=status]", "Did you mean “quantitative”?")
        self.page.keyboard.press("Control+a")
        self.page.keyboard.insert_text(spec + 'titative"}}}')
        expect(self.page.locator(MARKS)).to_have_count(21)
        self.page.click("button:text-is('Undo')")
        self.has_text(EDITOR, "tooltip")
        self.page.click("button:text-is('Redo')")
        expect(self.page.locator(f"{EDITOR} .cm-line")).to_have_count(1)
        self.page.click("button:text-is('Set it evenly')")
        expect(self.page.locator(f"{EDITOR} .cm-line")).to_have_count(13)

    def test_shapes_are_brought_in_and_looked_at(self):
        shape = '{"type":"Polygon","coordinates":[[[-3,58],[-3,59],[-2,59],[-2,58],[-3,58]]]}'
        self.go("/data/shapes/")
        file = {"name": "a_sound.geojson", "mimeType": "application/json", "buffer": shape.encode()}
        self.page.set_input_files("input[type=file]", file)
        self.page.wait_for_url("**/data/shapes/*-*/")
        self.has_text("main", "1 area, read from a_sound.geojson")
        self.sees(".picture svg path")
        self.page.click("button:text-is('Delete')")
        self.page.wait_for_url("**/data/shapes/")

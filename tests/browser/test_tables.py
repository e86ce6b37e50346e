"""Tables and crosstabs as they are read: folded, sorted by one column and then by others."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from tests.browser.support import BrowserTest

ROWS = "[x-ref=picture] tbody tr:visible"


class Tables(BrowserTest):
    def setUp(self):
        super().setUp()
        self.sign_in("analyst")

    def chart(self, name):
        self.open_chart(name)
        self.sees("[x-ref=picture] table")

    def test_groups_are_folded_one_or_all_and_stay_so(self):
        self.chart("Regions and vessels in 2026, with subtotals")
        rows, buttons = self.page.locator(ROWS), self.page.locator("[x-ref=picture] [data-fold]")
        whole, groups = rows.count(), buttons.count()
        buttons.first.click()
        expect(buttons.first).to_have_attribute("aria-expanded", "false")
        folded = rows.count()
        self.assertLess(folded, whole)
        self.page.locator("[x-ref=picture] thead button").last.click()
        self.sees("[x-ref=picture] th[aria-sort=descending]")
        expect(self.page.locator("[x-ref=picture] [data-fold][aria-expanded=false]")).to_have_count(1)
        buttons.first.click(modifiers=["Shift"])
        shown = {button.get_attribute("aria-expanded") for button in buttons.all()}
        self.assertEqual(len(shown), 1)
        if shown == {"false"}:
            expect(rows).to_have_count(groups)
        buttons.first.focus()
        self.page.keyboard.press("Enter")
        expect(buttons.first).to_have_attribute("aria-expanded", "true" if shown == {"false"} else "false")

    def test_shift_sorts_by_a_further_column_where_the_first_ties(self):
        self.chart("What each vessel carried")
        heads = self.page.locator("[x-ref=picture] thead button")
        heads.nth(1).click()
        self.sees("[x-ref=picture] thead th:nth-child(2)[aria-sort]")
        heads.nth(2).click(modifiers=["Shift"])
        self.sees("[x-ref=picture] thead th:nth-child(3)[aria-sort]")
        self.sees("[x-ref=picture] thead th:nth-child(2)[aria-sort]")
        expect(self.page.locator("[x-ref=sentence]")).to_contain_text("first, then")

    def test_a_crosstab_goes_by_one_of_its_columns(self):
        self.chart("Counted so far, as it stood at the end of each month")
        self.page.locator("[x-ref=picture] thead button").nth(1).click()
        self.sees("[x-ref=picture] th[aria-sort=descending]")
        cells = self.page.locator("[x-ref=picture] tbody tr td:nth-child(2)").all_inner_texts()
        numbers = [float("".join(letter for letter in text if letter.isdigit()) or "0") for text in cells]
        self.assertEqual(numbers, sorted(numbers, reverse=True))

    def test_columns_are_moved_by_dragging_and_by_keys(self):
        self.chart("What each vessel carried")
        heads = self.page.locator("[x-ref=picture] th[data-column^=show]")
        words = heads.all_inner_texts()
        heads.nth(2).drag_to(heads.nth(0), target_position={"x": 5, "y": 5})
        expect(heads.nth(0)).to_have_text(words[2])
        expect(heads.nth(1)).to_have_text(words[0])
        heads.nth(0).locator("button").focus()
        self.page.keyboard.press("Alt+ArrowRight")
        expect(heads.nth(1)).to_have_text(words[2])
        expect(heads.nth(1).locator("button")).to_be_focused()
        heads.nth(1).click(button="right")
        self.page.click("button:text-is('Further right')")
        expect(heads.nth(2)).to_have_text(words[2])
        self.page.click("button:has-text('Undo')")
        expect(heads.nth(1)).to_have_text(words[2])

    def test_cells_are_chosen_together_and_copied_as_numbers(self):
        self.page.context.grant_permissions(["clipboard-read", "clipboard-write"])
        self.chart("What each vessel carried")
        lines = self.page.locator("[x-ref=picture] tbody tr")
        first, last = (lines.nth(i).locator("td").nth(i).bounding_box() for i in (0, 1))
        self.page.mouse.move(first["x"] + 5, first["y"] + 5)
        self.page.mouse.down()
        self.page.mouse.move(last["x"] + 5, last["y"] + 5, steps=4)
        self.page.mouse.up()
        expect(self.page.locator(".in-range")).to_have_count(4)
        self.page.keyboard.press("Control+c")
        self.sees("text=4 cells copied.")
        copied = self.page.evaluate("navigator.clipboard.readText()")
        cells = [lines.nth(row).locator("td").nth(column) for row in (0, 1) for column in (0, 1)]
        numbers = [float(cell.get_attribute("data-value")) for cell in cells]
        for text, number in zip(copied.replace("\n", "\t").split("\t"), numbers, strict=True):
            self.assertAlmostEqual(float(text), number)
        self.assertEqual(self.page.locator("dialog").count(), 0)
        self.page.keyboard.press("Escape")
        cells[0].focus()
        self.page.keyboard.press("Shift+ArrowDown")
        self.page.keyboard.press("Shift+ArrowRight")
        expect(self.page.locator(".in-range")).to_have_count(4)
        self.page.keyboard.press("Escape")
        expect(self.page.locator(".in-range")).to_have_count(0)

    def test_what_is_said_of_a_value_is_not_copied_with_it(self):
        self.page.context.grant_permissions(["clipboard-read", "clipboard-write"])
        self.chart("Costs and lateness by vessel")
        self.page.locator("[data-clause=by]").first.click()
        self.page.fill("#value-address", "https://ships.example/{value}")
        self.page.press("#value-address", "Tab")
        link = self.page.locator("[x-ref=picture] .leads-away").first
        expect(link).to_have_attribute("href", re.compile(r"^https://ships\.example/\w+"))
        self.page.keyboard.press("Escape")
        self.page.locator("[x-ref=picture] tbody th").first.focus()
        self.page.keyboard.press("Control+c")
        self.sees("text=1 cell copied.")
        copied = self.page.evaluate("navigator.clipboard.readText()")
        self.assertEqual(f"https://ships.example/{copied}", link.get_attribute("href"))

    def test_a_long_table_is_scrolled_through_to_its_end(self):
        self.chart("What each vessel carried")
        self.page.click("[x-ref=sentence] [data-clause=by]")
        self.page.click("[x-ref=popover] button:has-text('Sailing id')")
        pages = self.page.locator("[x-ref=picture] tbody")
        expect(pages).not_to_have_count(1)
        self.page.keyboard.press("Escape")
        count = pages.count()
        last = pages.nth(count - 1)
        expect(last.locator("[data-empty-page]")).to_have_count(1)
        last.scroll_into_view_if_needed()
        expect(last.locator("[data-empty-page]")).to_have_count(0)
        expect(pages.first.locator("[data-empty-page]")).to_have_count(1)
        self.assertGreater(last.locator("td").count(), 1)
        pages.first.scroll_into_view_if_needed()
        expect(pages.first.locator("[data-empty-page]")).to_have_count(0)

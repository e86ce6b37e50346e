"""Tables and crosstabs as they are read: folded, sorted by one column and then by others."""

from __future__ import annotations

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

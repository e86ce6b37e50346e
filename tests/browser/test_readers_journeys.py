"""Whole ways through dashboards, as those take them who read them."""

from __future__ import annotations

from playwright.sync_api import Locator, expect

from tests.browser.support import BrowserTest


class ReaderTest(BrowserTest):
    def open(self, name: str, who: str = "explorer") -> None:
        self.sign_in(who)
        self.go("/dashboards/")
        self.page.get_by_role("link", name=name, exact=True).first.click()
        self.sees("[data-drawn]")

    def block(self, name: str) -> Locator:
        return self.page.get_by_role("group", name=name, exact=True)

    def marks(self, name: str) -> Locator:
        return self.block(name).locator("[role=graphics-symbol].reachable")

    def figure(self, name: str) -> float:
        text = self.block(name).locator(".picture").inner_text()
        return float(text.replace("€", "").replace(",", ""))


class TheFirstSoMany(ReaderTest):
    def choose(self, words: str, bars: int) -> None:
        self.page.get_by_role("group", name="Routes", exact=True).get_by_text(words, exact=True).click()
        expect(self.marks("The busiest routes of 2026")).to_have_count(bars)

    def ratio(self) -> float:
        return self.figure("Fare revenue of 2026") / self.figure("Passengers of 2026")

    def test_one_number_narrows_every_block_and_a_ratio_stays_a_ratio(self):
        self.open("Busiest routes")
        line = self.block("The busiest routes of 2026").locator(".mark-text.role-mark text").first
        seen = {}
        for words, bars in (("top 5", 5), ("top 10", 10), ("All", 21)):
            if words != "top 5":
                self.choose(words, bars)
            expect(self.marks("The busiest routes of 2026")).to_have_count(bars)
            self.assertAlmostEqual(self.figure("Revenue per passenger"), self.ratio(), delta=0.006)
            seen[words] = (self.figure("Fare revenue of 2026"), line.text_content())
            self.assertAlmostEqual(
                seen[words][0] / bars, float((seen[words][1] or "").strip("€").replace(",", "")), delta=1
            )
        self.assertEqual(len(set(seen.values())), 3)
        expect(self.page.locator(".chip-fixed")).to_have_count(0)  # as nothing is left out
        self.page.get_by_role("button", name="As published").click()
        expect(self.marks("The busiest routes of 2026")).to_have_count(5)
        self.has_text(".chip-fixed", "among the top 5 by fare revenue")

    def test_a_route_opens_a_page_of_its_own_and_leads_back(self):
        self.open("Busiest routes")
        self.marks("The busiest routes of 2026").nth(1).click()
        self.has_text("[x-ref=trail]", "Route is")
        expect(self.page.locator(".chip-fixed")).to_have_count(0)  # it holds on the other page only
        self.page.go_back()
        expect(self.marks("The busiest routes of 2026")).to_have_count(5)


class AnExecutivePage(ReaderTest):
    REGIONS = "By region"

    def keep(self, name: str) -> str:
        """Keep the view for everybody who may see the dashboard. Returns its address."""
        page = self.page
        page.get_by_role("button", name="Views").click()
        page.get_by_label("The name of the view").fill(name)
        page.keyboard.press("Enter")
        page.get_by_role("button", name=f"View: {name}").click()
        page.get_by_label(f"What can be done with {name}").click()
        page.get_by_role("button", name="Give it to others").click()
        page.get_by_label("everybody who may see the dashboard").check()
        page.get_by_role("dialog", name="Give a view to others").get_by_role("button", name="Give").click()
        self.has_text("#toasts", "is given to those you chose")
        page.get_by_role("button", name=f"View: {name}").click()
        return page.locator(".kept-view > a").first.get_attribute("href") or ""

    def change_rule(self, text: str) -> None:
        """Have the harbour office see only rows where this holds; take the rule away without it."""
        page = self.page
        self.go("/data/")
        page.get_by_role("link", name="Sailings", exact=True).first.click()
        page.get_by_role("link", name="Model", exact=True).first.click()
        rules = page.locator("#rules")
        if not text:
            rules.get_by_role("button", name="Remove").click()
            expect(rules.get_by_role("button", name="Remove")).to_have_count(0)
            return
        rules.get_by_text("New rule").click()
        rules.locator("[name=name]").last.fill("Own waters")
        rules.locator("[name=text]").fill(text)
        rules.get_by_label("Harbour office").check()
        rules.get_by_role("button", name="Save").click()
        expect(rules.get_by_role("button", name="Remove")).to_have_count(1)

    def without_the_rule(self) -> None:
        self.page.context.clear_cookies()
        self.sign_in("analyst")
        self.change_rule("")

    def test_a_region_to_its_routes_their_rows_and_a_view_for_somebody_who_sees_less(self):
        page = self.page
        self.open("How we stand", "analyst")
        self.marks(self.REGIONS).first.click()
        self.has_text("[x-ref=trail]", "Region is")
        region = page.locator("[data-selection]").inner_text().removeprefix("Region is ")
        self.marks(self.REGIONS).first.click(button="right")
        menu = page.get_by_role("dialog", name="What can be done")
        menu.get_by_role("button").filter(has_text="by route").first.click()
        expect(self.block(self.REGIONS).locator(".crumbs")).to_contain_text(region)
        routes = self.marks(self.REGIONS).count()
        self.marks(self.REGIONS).first.click(button="right")
        menu.get_by_role("button").filter(has_text="Rows behind").click()
        self.has_text("dialog", "rows match")
        self.has_text("dialog", region)
        page.keyboard.press("Escape")
        address = self.keep("A region and its routes")

        self.addCleanup(self.without_the_rule)
        others = [name for name in ("North Reach", "Inner Sound", "South Banks", "Outer Isles") if name != region]
        self.change_rule(f"Region <> '{others[0]}'")
        page.context.clear_cookies()
        self.sign_in("explorer")
        self.go(address)
        self.sees("[data-drawn]")
        expect(self.block(self.REGIONS).locator(".crumbs")).to_contain_text(region)
        expect(self.marks(self.REGIONS)).to_have_count(routes)
        page.get_by_role("button", name="As published").click()
        expect(self.block(self.REGIONS).locator(".crumbs")).to_be_hidden()
        expect(self.block(self.REGIONS)).not_to_contain_text(others[0])
        self.assertGreater(self.marks(self.REGIONS).count(), 1)

    def test_all_of_it_with_the_keyboard(self):
        page, keyboard = self.page, self.page.keyboard
        self.open("How we stand")
        self.marks(self.REGIONS).first.focus()
        keyboard.press("Enter")
        self.has_text("[x-ref=trail]", "Region is")
        self.marks(self.REGIONS).first.focus()
        keyboard.press("Alt+ArrowDown")
        expect(self.block(self.REGIONS).locator(".crumbs")).to_be_visible()
        self.marks(self.REGIONS).first.focus()
        keyboard.press("Shift+F10")
        page.get_by_role("button").filter(has_text="Rows behind").press("Enter")
        self.has_text("dialog", "rows match")
        keyboard.press("Escape")
        page.get_by_role("button", name="Views").press("Enter")
        page.get_by_label("The name of the view").focus()
        keyboard.type("By keys")
        keyboard.press("Enter")
        expect(page.get_by_role("button", name="View: By keys")).to_be_visible()
        self.marks(self.REGIONS).first.focus()
        keyboard.press("Alt+ArrowUp")
        expect(self.block(self.REGIONS).locator(".crumbs")).to_be_hidden()
        expect(page.get_by_role("button", name="View: By keys, changed")).to_be_visible()


class OnATelephone(ReaderTest):
    viewport = {"width": 390, "height": 844}

    def test_a_number_a_region_and_a_route(self):
        page = self.page
        self.open("Busiest routes")
        page.get_by_role("group", name="Routes", exact=True).get_by_text("top 10").click()
        expect(self.marks("The busiest routes of 2026")).to_have_count(10)
        page.locator("[data-control=region]").click()
        page.locator(".popover").get_by_label("North Reach").check()
        self.has_text("[x-ref=trail]", "Region: North Reach")
        page.keyboard.press("Escape")
        north = self.marks("The busiest routes of 2026")
        expect(north).not_to_have_count(10)
        north.first.click()
        self.has_text("[x-ref=trail]", "Route is")
        sideways = page.evaluate("() => document.documentElement.scrollWidth - innerWidth")
        self.assertLessEqual(sideways, 0)

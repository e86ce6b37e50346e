"""What analysts do before the first chart, in the browser: four typical tasks, and the tables they rest on."""

from __future__ import annotations

import re
from collections.abc import Callable

from playwright.sync_api import Route, expect

from tests.browser.support import BrowserTest
from veduta.demo.generate import generate_harbour_counts

SETTLED = (
    "n => Number(document.querySelector('[data-turn]')?.dataset.turn ?? 0) > n && !document.querySelector('.waiting')"
)
A_DATASET = re.compile(r"/data/[0-9a-f-]{36}/$")


class ShapingTest(BrowserTest):
    def setUp(self):
        super().setUp()
        self.sign_in("analyst")

    def open(self, dataset: str, what: str = "shape") -> None:
        """The shaping screen ("shape") or the exploring table ("table") of a dataset."""
        self.go("/data/")
        self.page.goto(self.server + self.page.get_attribute(f"a:text-is('{dataset}')", "href") + f"{what}/")
        self.page.wait_for_function(SETTLED, arg=0)

    def settled(self, act: Callable[[], object]) -> None:
        """Do something and wait until its answer is on screen."""
        turn = self.page.evaluate("Number(document.querySelector('[data-turn]')?.dataset.turn ?? 0)")
        act()
        self.page.wait_for_function(SETTLED, arg=turn)

    def add(self, title: str) -> None:
        """Add a step from the menu with the keyboard."""
        self.page.click("button:text-is('Add a step')")
        self.page.fill("#step-find", title)
        self.settled(lambda: self.page.keyboard.press("Enter"))
        self.sees("#form-done")

    def fill(self, name: str, value: str) -> None:
        def act():
            self.page.fill(name, value)
            self.page.keyboard.press("Tab")

        self.settled(act)

    def choose(self, name: str, label: str) -> None:
        self.settled(lambda: self.page.select_option(name, label=label))

    def column(self, name: str, action: str) -> None:
        """Do something with a column from its heading."""
        self.settled(lambda: self.page.click(f"button[data-name='{name}']"))
        self.settled(lambda: self.page.click(f".popover button:text-is('{action}')"))

    def done(self) -> None:
        self.page.click("#form-done")

    def cells(self, column: int) -> list[str]:
        return self.page.locator(f".grid-table tbody tr td:nth-child({column})").all_inner_texts()

    def make_dataset(self, name: str) -> None:
        self.page.click("text=Make a dataset of this")
        self.page.fill("dialog [name=name]", name)
        self.page.click("text=Make it")
        self.page.wait_for_url(A_DATASET)

    def put_into_force(self) -> None:
        self.page.click("text=Put into force")
        self.page.wait_for_url(A_DATASET)

    def import_file(self, name: str, content: str) -> None:
        self.send_file({"name": name, "mimeType": "text/csv", "buffer": content.encode()})
        self.page.click("button:text-is('Import')")
        self.page.wait_for_url(A_DATASET)


class TypicalTasks(ShapingTest):
    def test_wide_counts_become_a_row_a_day_with_the_increase_of_each(self):
        page = self.page
        self.open("Harbour counts")
        self.add("wide to")
        self.fill("#in-values_to", "Count so far")
        self.done()
        self.add("formula col")
        self.fill("#in-name", "Increase")
        page.click("#in-formula")
        page.keyboard.type("diff")
        self.has_text("[data-suggestions]", "difference(value)")
        page.keyboard.press("Tab")
        page.keyboard.type('"Count so far") along (day) restart (prot)')
        self.has_text("[data-formula-said]:visible", "Did you mean Port?")
        for _ in "prot)":
            page.keyboard.press("Backspace")
        page.keyboard.type("port)")
        self.has_text("[data-formula-said]:visible", "It gives a whole number.")
        self.has_text(".recipe", "restart (")  # the formula as it is at last, not a part of it
        page.locator("th button[data-name=Increase]").wait_for()
        self.done()
        # The first day is empty for each port, and the next day starts from each port's own count.
        wide = generate_harbour_counts()
        ports, first, second = wide["port"].to_list(), wide[wide.columns[1]], wide[wide.columns[2]]
        expect(self.page.locator(".grid-table tbody tr td:nth-child(4)").first).to_have_text("–")
        increases = self.cells(4)
        self.assertEqual(increases[: len(ports)], ["–"] * len(ports))
        self.assertEqual(
            increases[len(ports) : 2 * len(ports)], [f"{b - a:,}" for a, b in zip(first, second, strict=True)]
        )
        self.put_into_force()
        self.has_text("main", f"{len(ports) * 120:,} rows")
        self.has_text("main", "Turn the columns headed by dates into rows of Day and Count so far")
        page.get_by_role("button", name="More").click()
        page.click("text=Refreshes and schedule")
        self.has_text("table", "Its steps changed")
        self.has_text("main", "New columns")

    def test_two_feeds_whose_keys_are_spelt_differently(self):
        page = self.page
        self.go("/data/connections/")
        page.click("a:text-is('Skerry & Sound systems')")
        page.fill("[name='feed.path']", "harbour-counts")
        page.click("text=Try it out")
        self.has_text("main", "Tried out: the first 16 rows")
        page.fill("[x-ref=name]", "Gate counts")
        page.click("button:text-is('Import')")
        page.wait_for_url(A_DATASET)
        self.open("Gate counts")
        self.add("bring in")
        self.choose("#in-dataset", "Ports")
        self.settled(lambda: page.click("#suggest-1"))
        self.has_text("[data-match]", "62%")
        page.click("[data-match] summary >> nth=0")
        self.has_text("[data-match]", "Kelda-Rock")
        self.settled(lambda: page.check("#in-bring-c2"))
        self.done()
        # The spellings are mapped before the join, to those it goes to.
        self.settled(lambda: page.click("#at-start"))
        self.column("Port", "Map values …")
        self.settled(lambda: page.click("#take-guesses"))
        self.done()
        self.settled(lambda: page.click(".recipe:has-text('Bring in')"))
        self.settled(lambda: page.click("[data-do=edit]:visible"))
        self.has_text("[data-match]", "100%")
        self.has_text("[data-match]", "16 of 16 rows")
        self.done()
        self.put_into_force()
        self.has_text("main", "Map 6 values of Port")

    def test_customers_of_last_season_who_did_not_come_back(self):
        page = self.page
        for year in ("2025", "2026"):
            self.open("Bookings", "table")
            self.add("filter rows")
            self.choose("#filter-0", "Booked on")
            page.fill("#start-0", f"{year}-01-01")
            self.fill("#end-0", f"{year}-12-31")
            self.settled(lambda: page.click("#all-rows")) if page.locator("#all-rows").count() else None
            self.done()
            self.column("Customer", "Group by it …")
            self.settled(lambda: page.locator("select[id^=in-measures-f]").last.select_option(label="Paid"))
            self.done()
            self.make_dataset(f"Customers of {year}")
        self.open("Customers of 2025")
        before = page.locator(".recipe-count").last.inner_text()
        self.add("bring in")
        self.choose("#in-dataset", "Customers of 2026")
        self.settled(lambda: page.click("#suggest-1"))
        self.has_text("[data-match]", "Rows here that find a match")
        matched, rows = re.search(r"([\d,]+) of ([\d,]+) rows", page.inner_text("[data-match]")).groups()
        self.assertIn(rows, before)
        missing = int(rows.replace(",", "")) - int(matched.replace(",", ""))
        self.assertGreater(missing, 0)
        self.settled(lambda: page.locator("label:has-text('Paid') input[type=checkbox]").check())
        self.choose("#in-keep", "keep only those without a match")
        self.has_text("main strong", f"{missing:,} rows")
        self.done()
        self.put_into_force()
        self.has_text("main", f"{missing:,} rows")

    def test_the_same_for_a_file_nobody_knows(self):
        page = self.page
        self.import_file(
            "pier register.csv",
            "Pier;Keeper;1 Oct 2026;2 Oct 2026;3 Oct 2026\n Old Pier ;Marr;1.000,5;1.010,5;1.030,5\nNew"
            " pier;Fell;5,0;;9,5\n",
        )
        self.import_file("keepers.csv", "keeper_name,phone\nMARR,11\nFell,12\nFell,13\n")
        self.open("Pier register")
        self.column("Pier", "Trim blanks")
        self.add("wide to")
        self.fill("#in-values_to", "Reading")
        self.done()
        self.add("formula col")
        self.fill("#in-name", "Step")
        self.fill("#in-formula", "difference(reading) along (day) restart (pier)")
        self.has_text("th", "Step")
        self.done()
        self.assertEqual(self.cells(1)[0], "Old Pier")
        self.assertEqual(self.cells(5), ["–", "–", "10", "–", "20", "–"])
        self.column("Keeper", "Change case …")
        self.choose("#in-to", "ALL IN CAPITALS")
        self.done()
        self.add("bring in")
        self.choose("#in-dataset", "Keepers")
        self.settled(lambda: page.click("#suggest-1"))
        self.has_text("[data-match]", "50%")
        self.has_text("[data-match]", "1 key here without a match")
        self.done()
        self.put_into_force()
        self.has_text("main", "6 rows")


class ExploringAndEditing(ShapingTest):
    def test_a_table_is_sorted_filtered_from_a_cell_and_folded(self):
        page = self.page
        self.open("Vessels", "table")
        self.column("Capacity", "Sort, highest first")
        capacities = [int(text) for text in self.cells(3)]
        self.assertEqual(capacities, sorted(capacities, reverse=True))
        self.has_text("[aria-label='Summary of the chosen column']", "sum 3,100")
        # From a cell, with the keyboard.
        page.locator(".grid-table td").first.focus()
        page.keyboard.press("ArrowDown")
        page.keyboard.press("Enter")
        self.settled(lambda: page.click(".popover button:text-is('Leave out this value')"))
        self.has_text("main strong", "8 rows")
        self.column("Capacity", "Put into bins …")
        self.fill("#in-name", "Size")
        self.done()
        self.column("Size", "Group by it …")
        self.done()
        page.locator("[data-unfold]").first.click()
        self.has_text("[data-folded]", "in this group")
        self.settled(lambda: page.keyboard.press("Control+z"))
        self.assertEqual(page.locator(".recipe").count(), 4)
        self.settled(lambda: page.click("button:text-is('Undo')"))
        self.has_text("th", "Capacity range")
        self.settled(lambda: page.click("button:text-is('Redo')"))
        self.has_text("th", "Size")

    def hold_answer(self) -> list[Route]:
        """Hold the next answer of the shaping screen back: it comes once the route is continued."""
        held: list[Route] = []
        self.page.route("**/look/", lambda route: held.append(route), times=1)
        return held

    def test_a_form_closed_before_its_answer_stays_closed_and_its_change_is_kept(self):
        page = self.page
        self.open("Vessels", "table")
        self.column("Capacity", "Put into bins …")
        held = self.hold_answer()
        page.fill("#in-name", "Size")
        page.keyboard.press("Tab")  # the answer is on its way from here on
        self.done()
        self.assertEqual(len(held), 1)
        self.settled(lambda: held.pop().continue_())
        expect(page.locator("#form-done")).to_have_count(0)
        self.has_text(".recipe", "Size")

    def test_what_is_done_while_an_answer_is_on_its_way_builds_on_it(self):
        page = self.page
        self.open("Vessels", "table")
        for action in ("Sort, highest first", "Duplicate", "Put into bins …"):
            self.column("Capacity", action)
        held = self.hold_answer()
        page.fill("#in-name", "Size")
        page.keyboard.press("Escape")  # closes the form; what was typed is kept
        for step in ("s1", "s2"):
            page.locator(f"#at-{step}").press("Delete")
        page.click("[data-at=start]")
        self.assertEqual(len(held), 1)
        self.settled(lambda: held.pop().continue_())
        expect(page.locator("[data-step]")).to_have_count(1)
        self.has_text(".recipe", "Size")
        expect(page.locator("[data-at=start].current")).to_be_visible()

    def test_rows_are_filtered_by_values_and_columns_put_in_order(self):
        page = self.page
        self.open("Routes", "table")
        self.add("filter rows")
        self.has_text("#form-done ~ [role=status]", "There is no condition yet.")
        self.choose("#filter-0", "Region")
        self.settled(lambda: page.check("label:has-text('South Banks') input"))
        self.settled(lambda: page.check("label:has-text('Outer Skerries') input"))
        self.has_text(".recipe-words", "Region is Outer Skerries or South Banks")
        self.assertEqual(set(self.cells(2)), {"South Banks", "Outer Skerries"})
        self.done()
        self.add("choose and order")
        page.locator("label:has-text('Usual fare') input").focus()
        self.settled(lambda: page.keyboard.press("Space"))
        expect(page.locator("label:has-text('Usual fare') input")).to_be_focused()
        self.settled(lambda: page.check("label:has-text('Route') input"))
        self.assertEqual(page.locator("th button[data-name]").all_inner_texts(), ["Usual fare", "Route"])
        self.settled(lambda: page.click("[data-rise] >> nth=1"))
        self.assertEqual(page.locator("th button[data-name]").all_inner_texts(), ["Route", "Usual fare"])

    def test_steps_are_moved_switched_off_and_deleted(self):
        page = self.page
        self.open("Routes", "table")
        self.column("Region", "Trim blanks")
        self.column("Route", "Leave it out")
        self.assertEqual(
            page.locator(".recipe-words").all_inner_texts()[1:], ["Trim blanks of Region", "Leave out Route"]
        )
        page.locator("#at-s2").focus()
        self.settled(lambda: page.keyboard.press("Alt+ArrowUp"))
        self.assertEqual(
            page.locator(".recipe-words").all_inner_texts()[1:], ["Leave out Route", "Trim blanks of Region"]
        )
        self.settled(lambda: page.click("#off-s2"))
        self.has_text(".recipe-words", "(off)")
        self.has_text(".recipe-words", "Trim blanks")
        self.settled(lambda: page.click("#delete-s2"))
        self.assertEqual(page.locator(".recipe").count(), 2)
        self.settled(lambda: page.click(".toast button:text-is('Undo')"))
        self.assertEqual(page.locator(".recipe").count(), 3)

    def test_the_reference_and_a_small_screen(self):
        page = self.page
        page.set_viewport_size({"width": 390, "height": 800})
        self.open("Ports", "table")
        self.add("formula col")
        page.click("#open-reference")
        page.fill("dialog [data-filters]", "moving")
        expect(page.locator("#function-list [data-words]:visible")).to_have_count(1)
        self.assertLessEqual(page.evaluate("document.documentElement.scrollWidth"), 390)

    def test_a_database_table_and_its_schedule(self):
        page = self.page
        self.go("/data/connections/")
        page.click("a:text-is('Operations database')")
        page.select_option("[name=table]", "targets")
        page.click("text=Try it out")
        self.has_text("main", "Tried out")
        page.click("button:text-is('Import')")
        page.wait_for_url(A_DATASET)
        page.get_by_role("button", name="More").click()
        page.click("text=Refreshes and schedule")
        page.select_option("#often", label="on weekdays")
        page.click("text=Save the schedule")
        self.has_text("main", "Refreshed on weekdays at 06:00")
        page.click("text=Refresh now")
        page.wait_for_url(A_DATASET)
        self.has_text("main", "version 2 of")
        self.go("/data/lineage/")
        self.has_text("svg.lineage", "Targets")

    def test_cells_are_pasted(self):
        page = self.page
        self.go("/data/")
        page.click("text=paste cells")
        page.fill("textarea[name=cells]", "Port\tCount\nQuay\t5\nTern\t7\n")
        page.click("text=Look at them")
        self.has_text("td", "Tern")

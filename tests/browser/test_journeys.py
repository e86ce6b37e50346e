"""The two journeys everything else rests on, in the browser against the real server."""

from __future__ import annotations

import csv
import json
import re
import tempfile
from collections.abc import Callable
from pathlib import Path
from urllib.parse import urlencode

from playwright.sync_api import Route, expect

from tests.browser.support import BrowserTest, sessions

MESSY = Path(__file__).parents[1] / "files" / "ticket_hut_diary.csv"


class AnalystJourney(BrowserTest):
    def new_chart(self, dataset: str) -> None:
        self.go("/charts/")
        self.page.select_option("[name=dataset]", label=dataset)
        self.page.click("text=Make a chart")
        self.sees("[x-ref=sentence] .clause")

    def choose_instead(self, clause: str, field: str) -> None:
        """Open a clause, search for a field and take it with the keyboard."""
        self.page.click(f"[data-clause={clause}]")
        box = self.page.locator("[x-ref=popover] [data-filters]")
        expect(box).to_be_focused()
        box.fill(field)
        box.press("Enter")
        self.has_text("[x-ref=sentence]", field.lower())
        self.page.keyboard.press("Escape")

    def save(self, name: str) -> None:
        self.page.fill("[x-ref=title]", name)
        self.page.keyboard.press("Tab")
        self.page.click("text=Save chart")
        self.has_text("[role=status]", "saved ")

    def test_from_a_file_nobody_prepared_to_a_published_dashboard(self):
        page = self.page
        self.sign_in("analyst")
        self.send_file(MESSY)
        # The header was found under the title; one column is read wrongly and corrected.
        self.has_text("table", "Stack Point–Ottersand")
        page.locator("select[aria-label='Type of Hut no.']").select_option("whole")
        expect(page.locator("tbody tr").first.locator("td").nth(7)).to_have_text("7")
        page.fill("[x-ref=name]", "Hut diary")
        page.click("button:text-is('Import')")
        page.wait_for_url(re.compile(r"/data/[0-9a-f-]{36}/$"))
        self.has_text(".notice", "1 line had too few cells")

        # A type is corrected after the import too; the file is read again.
        page.locator("select[aria-label='Type of Hut no.']").select_option("text")
        self.has_text("main", "version 2 of")
        page.click("[role=tab]:text-is('Rows')")
        self.has_text("[x-ref=rows] td", "007")

        self.make_three_charts()
        self.compose_and_publish("At the hut")
        self.has_text("h1", "At the hut")
        expect(page.locator(".board [data-block]")).to_have_count(3)
        self.sees(".board .reachable")

    def test_a_strange_file_opens_with_a_chart_that_suits_it(self):
        page = self.page
        self.sign_in("analyst")
        cells = ["Month\tPort\tTide max\tPeople ashore"]
        cells += [f"2026-{month:02}\t{port}\t3.5\t{month}" for month in range(1, 11) for port in ("Tern", "Quay")]
        cells.append("2026-10\tTotal\t\t110")
        page.evaluate(
            """cells => {
                const clipboardData = new DataTransfer();
                clipboardData.setData("text/plain", cells);
                document.body.dispatchEvent(new ClipboardEvent("paste", { clipboardData, bubbles: true }));
            }""",
            "\n".join(cells),
        )
        self.has_text(".notice", "the sum")
        page.click("button:text-is('Leave out')")
        self.has_text(".notice", "is left out")
        page.click("button:text-is('Take in')")
        self.has_text(".notice", "the sum")
        page.click("button:text-is('Leave out')")
        self.has_text(".notice", "is left out")
        expect(page.get_by_label("How Tide max is added up")).to_have_value("mean")
        page.fill("[x-ref=name]", "At the piers")
        page.click("button:text-is('Import')")
        page.click("button:text-is('New chart')")
        self.has_text("[x-ref=sentence]", "tide max")
        self.has_text("[x-ref=openings]", "People ashore by month")
        page.locator("[data-opening]").filter(has_text="People ashore by month").click()
        self.has_text("[x-ref=sentence]", "people ashore")
        page.click("text=Undo")
        self.has_text("[x-ref=sentence]", "tide max")

        # What was made here is deleted together, and comes back together.
        self.go("/data/?find=At+the+piers")
        page.get_by_label("Choose all").check()
        page.click("text=Delete them")
        expect(page.locator("main tbody tr")).to_have_count(0)
        page.click("#toasts >> text=Undo")
        expect(page.locator("main tbody tr")).to_have_count(1)

    def test_shortcuts_work_wherever_the_focus_is(self):
        page = self.page
        self.sign_in("analyst")
        self.new_chart("Sailings")
        page.fill("[x-ref=title]", "Typed to the end")
        page.keyboard.press("Control+s")
        self.has_text("[role=status]", "saved ")
        page.reload()
        expect(page.locator("[x-ref=title]")).to_have_value("Typed to the end")
        self.choose_instead("by", "Vessel")
        page.click("[data-clause=by]")
        expect(page.locator("[x-ref=popover] [data-filters]")).to_be_focused()
        page.keyboard.press("Shift+Tab")  # which goes round within the popover
        page.keyboard.press("Shift+Tab")
        self.assertTrue(page.evaluate("document.activeElement.closest('.popover') !== null"))
        page.keyboard.press("Escape")
        expect(page.locator("[data-clause=by]")).to_be_focused()
        page.keyboard.press("Enter")
        expect(page.locator("[x-ref=popover] [data-filters]")).to_be_focused()
        page.keyboard.press("Control+z")
        expect(page.locator("[x-ref=sentence]")).not_to_contain_text("by vessel")
        page.locator("h1 textarea").blur()
        page.keyboard.press("?")
        self.has_text("dialog", "find anything by its name")
        page.keyboard.press("Escape")
        expect(page.locator("dialog")).to_have_count(0)

    def make_three_charts(self) -> None:
        """The last of them is placed on a new dashboard."""
        page = self.page
        self.new_chart("Hut diary")
        self.choose_instead("by", "Route")
        self.choose_instead("show", "Takings")
        expect(page.locator("[x-ref=picture] .reachable")).to_have_count(2)
        self.save("Takings by route")

        self.new_chart("Hut diary")
        page.dblclick("[data-field-id] >> text='Rained?'")
        self.has_text("[x-ref=sentence]", "split by rained?")
        page.keyboard.press("Control+z")
        expect(page.locator("[x-ref=sentence]")).not_to_contain_text("split by rained?")
        page.click("text=Redo")
        self.has_text("[x-ref=sentence]", "split by rained?")
        self.save("Tickets by month")

        self.new_chart("Hut diary")
        page.click("[data-clause=by]")
        page.click("[x-ref=popover] >> text=Remove")
        self.sees(".figure-number")
        self.save("All tickets")
        page.click("text=Place on dashboard")
        page.click("text=On a new dashboard")
        page.wait_for_url("**/edit/")

    def compose_and_publish(self, name: str) -> None:
        page = self.page
        for chart in ("Takings by route", "Tickets by month"):
            page.click("button:text-is('Chart')")
            page.locator("dialog [data-words]").filter(has_text=chart).first.click()
            self.has_text(".block-title", chart)
        page.click("button:text-is('Text')")
        page.fill("dialog textarea", "Kept by **hand**")
        self.has_text("dialog [data-preview] strong", "hand")
        page.click("dialog >> text=Done")
        self.has_text(".prose-text strong", "hand")
        page.click("button:text-is('Add a control')")
        page.locator("dialog [data-words='Day Hut diary']").click()
        self.has_text("[x-ref=controls]", "Day")
        page.fill("[x-ref=name]", name)
        page.keyboard.press("Tab")
        self.has_text("[role=status]", "draft saved")
        page.click("text=Publish")
        self.has_text("dialog h2", "Readers see it for the first time")
        page.locator("dialog").get_by_role("button", name="Publish").click()
        page.wait_for_url(re.compile(r"/dashboards/[0-9a-f-]{36}/$"))

    def test_what_is_half_done_survives_an_update_of_the_page(self):
        page = self.page
        self.sign_in("analyst")
        self.send_file(MESSY)
        self.has_text("table", "Stack Point–Ottersand")
        page.uncheck("[aria-label='Import Takings']")
        name = page.get_by_label("Name of column 2", exact=True)
        scroller = page.locator(".scroll-x:has(> table.sticky-head)")
        page.set_viewport_size({"width": 700, "height": 800})
        name.focus()
        scrolled = scroller.evaluate("element => (element.scrollLeft = 40)")
        page.keyboard.press("Home")
        page.keyboard.type("Half ty")
        half_typed = name.input_value()
        # Another column is changed while the name is being typed: what comes back must not disturb it.
        page.evaluate(
            """() => {
                const kind = document.querySelector("select[aria-label='Type of Hut no.']");
                kind.value = "whole";
                kind.dispatchEvent(new Event("change", { bubbles: true }));
            }"""
        )
        expect(page.locator("tbody tr").first.locator("td").nth(7)).to_have_text("7")
        expect(name).to_be_focused()
        page.keyboard.type("ped ")
        expect(name).to_have_value(half_typed.replace("Half ty", "Half typed ", 1))
        expect(page.locator("[aria-label='Import Takings']")).not_to_be_checked()
        self.assertEqual(scroller.evaluate("element => element.scrollLeft"), scrolled)

    def test_a_session_that_runs_out_while_editing_loses_nothing(self):
        page = self.page
        self.sign_in("analyst")
        self.open_chart("Passengers by weekday")
        self.sees("[x-ref=sentence] .clause")
        kept = page.context.cookies()
        page.context.clear_cookies()
        page.fill("[x-ref=title]", "Written in time")
        page.keyboard.press("Tab")
        self.has_text("dialog", "You are signed out")
        page.context.add_cookies(kept)
        page.click("text=I am signed in again")
        self.has_text("[role=status]", "draft saved")
        page.reload()
        expect(page.locator("[x-ref=title]")).to_have_value("Written in time")
        page.click("text=More")
        page.click("text=Back to what is saved")
        expect(page.locator("[x-ref=title]")).to_have_value("Passengers by weekday")
        self.complaints.clear()

    def signed_out(self, act) -> None:
        """Do something after the session has ended, sign in elsewhere, and say so."""
        kept = self.page.context.cookies()
        self.page.context.clear_cookies()
        act()
        self.has_text("dialog", "You are signed out")
        self.page.context.add_cookies(kept)
        self.page.click("text=I am signed in again")
        self.complaints.clear()

    def test_what_stands_in_forms_outlives_the_session(self):
        page = self.page
        self.sign_in("analyst")
        self.go("/data/")
        page.click("main a:text-is('Service requests')")
        about = page.locator("[name=description]")
        about.fill("What passengers wrote")
        self.signed_out(lambda: about.blur())
        self.has_text("#toasts", "Saved.")
        page.reload()
        expect(about).to_have_value("What passengers wrote")
        page.goto(f"{page.url.partition('#')[0]}model/")
        page.click("text=New parameter")
        page.fill("form:has([name=low]) [name=name]", "Least fare")
        page.keyboard.press("Enter")
        self.sees("[data-refused]")
        expect(page.locator("form:has([name=low]) [name=name]")).to_have_value("Least fare")
        self.complaints.clear()
        page.fill("form:has([name=low]) [name=default]", "5")
        self.signed_out(lambda: page.keyboard.press("Enter"))
        self.has_text("main", "Least fare")

    def test_a_table_is_sorted_by_its_headings(self):
        page = self.page
        self.sign_in("analyst")
        self.open_chart("What each vessel carried")
        heading = page.locator("[data-sort-column$=m1]")
        heading.press("Enter")
        self.has_text("[x-ref=sentence]", "by passengers, highest first")
        expect(heading).to_be_focused()
        heading.press("Enter")
        self.has_text("[x-ref=sentence]", "by passengers, lowest first")
        page.click("text=More")
        page.click("text=Back to what is saved")
        self.has_text("[x-ref=sentence]", "by fare revenue, highest first")

    def test_a_draft_is_sent_once_the_network_is_back(self):
        page = self.page
        self.sign_in("analyst")
        self.new_chart("Service requests")
        page.context.set_offline(True)
        page.fill("[x-ref=title]", "Under way")
        page.keyboard.press("Tab")
        self.has_text("[role=status]", "no connection: an edit waits")
        page.context.set_offline(False)
        page.fill("[x-ref=title]", "Arrived")
        page.keyboard.press("Tab")
        self.has_text("[role=status]", "draft saved")
        self.complaints.clear()

    def test_a_chart_is_made_with_few_keys(self):
        keyboard = self.page.keyboard
        self.sign_in("analyst")
        keyboard.press("n")
        expect(self.page.locator("[name=dataset]")).to_be_focused()
        keyboard.type("Service r")
        keyboard.press("Enter")
        expect(self.page.locator("[data-clause=show]")).to_be_focused()
        keyboard.press("Enter")
        self.choose_typed("count", "count of rows")
        keyboard.press("Escape")
        keyboard.press("Tab")
        keyboard.press("Tab")
        keyboard.press("Enter")
        self.choose_typed("stat", "status")
        keyboard.press("Control+s")
        self.has_text("[role=status]", "saved ")

    def choose_typed(self, text: str, said: str) -> None:
        """Type into the search box of the popover that opens, and take the first hit."""
        expect(self.page.locator("[x-ref=popover] [data-filters]")).to_be_focused()
        self.page.keyboard.type(text)
        self.page.keyboard.press("Enter")
        self.has_text("[x-ref=sentence]", said)


class ExplorerJourney(BrowserTest):
    def open(self) -> None:
        self.sign_in("explorer")
        self.page.click("text=Season at a glance")
        self.drawn(1)

    def drawn(self, times: int) -> None:
        """Wait until all blocks have been drawn so many times since the page was opened."""
        self.page.wait_for_function(
            "n => Number(document.querySelector('[data-drawn]')?.dataset.drawn) >= n", arg=times
        )

    def figure(self, block: str) -> str:
        return self.page.locator(f"#block-{block} .figure-number").inner_text()

    def test_a_late_answer_neither_replaces_a_later_one_nor_opens_what_was_closed(self):
        page = self.page
        popover = page.locator("[x-ref=popover]")
        self.open()
        page.click("[data-control=region]")
        late = self.hold_answer_to(lambda: page.fill("[x-ref=popover] [data-find]", "r"))
        page.fill("[x-ref=popover] [data-find]", "north")
        expect(popover.locator("[data-list]")).to_have_count(1)
        self.let_answer(late)
        self.assertEqual(popover.locator("[data-list]").count(), 1)
        late = self.hold_answer_to(lambda: page.fill("[x-ref=popover] [data-find]", ""))
        page.keyboard.press("Escape")
        expect(popover).to_be_hidden()
        self.let_answer(late)
        expect(popover).to_be_hidden()

    def hold_answer_to(self, ask: Callable[[], object]) -> Route:
        held: list[Route] = []
        self.page.route("**/controls/region/**", lambda route: held.append(route), times=1)
        with self.page.expect_request("**/controls/region/**"):
            ask()
        while not held:  # the route is told of a moment after its request
            self.page.evaluate("0")
        return held[0]

    def let_answer(self, held: Route) -> None:
        """Let an answer come, and the page do with it what it does."""
        with self.page.expect_response("**/controls/region/**") as answered:
            held.continue_()
        answered.value.finished()
        self.page.evaluate("new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)))")

    def test_open_filter_focus_look_behind_and_come_back(self):
        page = self.page
        self.open()
        everything = self.figure("b2")

        page.click("[data-control=region]")
        page.fill("[x-ref=popover] [data-find]", "north")
        expect(page.locator("[x-ref=popover] [data-list]")).to_have_count(1)
        page.check("[x-ref=popover] [data-list]")
        self.drawn(2)
        page.keyboard.press("Escape")
        self.has_text("[x-ref=trail]", "Region: North Reach")
        north = self.figure("b2")
        self.assertNotEqual(north, everything)

        page.locator("#block-b4 .reachable").first.click()
        self.drawn(3)
        self.has_text("[x-ref=trail]", "7 other blocks follow this selection")
        focused = self.figure("b2")
        self.assertNotEqual(focused, north)
        expect(page.locator("#block-b4 .reachable")).not_to_have_count(1)

        page.click("[data-selection]")
        page.click("[data-behind]")
        self.has_text("dialog", "rows match")
        matching = page.locator("dialog .muted", has_text="rows match").inner_text()
        count = int(re.search(r"([\d,]+) of", matching)[1].replace(",", ""))
        with page.expect_download() as download:
            page.click("dialog >> text=Download (CSV)")
        with tempfile.TemporaryDirectory() as folder:
            download.value.save_as(Path(folder) / "rows.csv")
            rows = list(csv.DictReader((Path(folder) / "rows.csv").read_text("utf-8-sig").splitlines()))
        self.assertEqual(len(rows), count)
        self.assertEqual(f"{sum(int(row['Passengers']) for row in rows):,}", focused)
        page.keyboard.press("Escape")

        page.reload()
        self.drawn(1)
        self.assertEqual(self.figure("b2"), focused)
        page.click("[data-remove]")
        self.drawn(2)
        self.assertEqual(self.figure("b2"), north)
        page.go_back()
        self.has_text("[x-ref=trail]", "other blocks follow")
        self.drawn(3)
        self.assertEqual(self.figure("b2"), focused)
        page.click("text=Show all")
        self.drawn(4)
        expect(page.locator("[data-remove]")).to_have_count(0)
        expect(page.locator("[data-back]")).to_have_text("As published")
        expect(page.locator("[data-back]")).to_be_focused()

        page.click("header >> text=Runa Fennick")
        page.click("text=Sign out")
        page.wait_for_url("**/sign-in/")
        sessions.pop("explorer")

    def test_a_view_of_very_many_values_has_a_short_address(self):
        page = self.page
        self.open()
        many = [f"Port number {number}" for number in range(1_000)]
        state = {"controls": {"region": {"values": ["North Reach", *many]}}}
        page.goto(f"{page.url}?{urlencode({'v': json.dumps(state)})}")
        self.drawn(1)
        page.click("[data-control=date]")
        page.click("[x-ref=popover] >> text=Last 3 months")
        self.drawn(2)
        self.assertLess(len(page.url), 200, page.url)
        page.keyboard.press("Escape")
        narrowed = self.figure("b2")
        page.reload()
        self.drawn(1)
        self.has_text("[x-ref=trail]", "Region: North Reach, Port number 0")
        self.assertEqual(self.figure("b2"), narrowed)
        page.click("text=Show all")
        self.drawn(2)
        self.assertNotEqual(self.figure("b2"), narrowed)
        page.go_back()
        self.drawn(3)
        self.assertEqual(self.figure("b2"), narrowed)

    def test_dates_are_set_by_a_choice_and_by_days(self):
        page = self.page
        self.open()
        page.click("[data-control=date]")
        page.click("[x-ref=popover] >> text=Last 3 months")
        self.drawn(2)
        self.has_text("[x-ref=trail]", "Sailing date: the last 3 months")
        self.has_text("[x-ref=popover]", "1 Aug 2026 to 31 Oct 2026")
        page.fill("#choice-end", "2026-09-30")
        page.keyboard.press("Tab")
        self.drawn(3)
        self.has_text("[x-ref=trail]", "Sailing date: Aug 2026 to Sep 2026")
        page.fill("#choice-end", "2026-01-01")
        page.keyboard.press("Tab")
        self.has_text("#toasts", "The first day is after the last.")
        self.has_text("[x-ref=trail]", "Sailing date: Aug 2026 to Sep 2026")

    def test_a_day_is_typed(self):
        page = self.page
        self.open()
        page.click("[data-control=date]")
        expect(page.locator("#choice-start")).to_be_visible()
        page.click("#choice-start")
        page.keyboard.press("Control+a")
        page.keyboard.type("15 Juni")
        page.keyboard.press("Enter")
        self.has_text("[x-ref=popover]", "“15 Juni” is not a day.")
        page.keyboard.press("Backspace")
        page.keyboard.type(" 2026")
        page.keyboard.press("Enter")
        self.has_text("[x-ref=trail]", "Sailing date: 15 Jun 2026 to 31 Oct 2026")
        expect(page.locator("#choice-start")).to_have_value("15 Jun 2026")
        self.drawn(2)  # once for the whole of it, not for each key
        expect(page.locator("[data-drawn='2']")).to_have_count(1)

    def test_a_mark_and_a_cell_are_reached_with_few_keys(self):
        keyboard = self.page.keyboard
        self.open()
        self.page.reload()
        self.drawn(1)
        keyboard.press("Tab")
        keyboard.press("Tab")
        keyboard.press("Enter")
        mark = self.page.locator("#block-b4 .reachable").first
        expect(mark).to_be_focused()
        keyboard.press("Shift+F10")
        expect(self.page.get_by_role("button", name="Focus on this")).to_be_focused()
        keyboard.press("Escape")
        expect(mark).to_be_focused()
        # A table is one stop; its cells are reached with arrows and do what marks do.
        table = self.page.locator("#block-b8 table")
        self.assertEqual(table.locator("[tabindex='0']").count(), 1)
        table.locator("[tabindex='0']").focus()
        keyboard.press("ArrowDown")
        keyboard.press("ArrowRight")
        keyboard.press("Enter")
        self.drawn(2)
        self.has_text("[x-ref=trail]", "Vessel is ")

    def test_a_right_click_offers_what_can_be_done(self):
        page = self.page
        self.open()
        mark = page.locator("#block-b4 .reachable").nth(2)
        mark.click(button="right")
        offered = page.get_by_role("dialog", name="What can be done").locator("button")
        choices = ["Focus on this", "Leave this out", "Set this off", re.compile("^Into .*, by vessel$")]
        choices += ["Break down by …", "Comment on this", "Rows behind", "Show as a table", "What narrows this"]
        expect(offered).to_have_text([*choices, "How this is worked out"])
        page.keyboard.press("ArrowDown")
        page.keyboard.press("Enter")
        self.drawn(2)
        self.has_text("[x-ref=trail]", "Route is not")
        page.locator("#block-b5 h2").click(button="right")
        offered.filter(has_text="Show as a table").click()
        self.sees("#block-b5 table")
        page.reload()
        self.sees("#block-b5 table")
        page.locator("#block-b5 h2").click(button="right")
        page.keyboard.press("Escape")
        expect(offered).to_have_count(0)

    def test_a_range_is_dragged_over_and_left_out(self):
        page = self.page
        self.open()
        all_of_it = self.figure("b2")
        box = page.locator("#block-b5 svg").bounding_box()
        page.mouse.move(box["x"] + 200, box["y"] + 80)
        page.mouse.down()
        page.mouse.move(box["x"] + 420, box["y"] + 120, steps=4)
        page.mouse.up()
        self.drawn(2)
        self.has_text("[x-ref=trail]", "Sailing date is")
        inside = self.figure("b2")
        page.click("[data-mode=leave_out]")
        self.drawn(3)
        self.has_text("[x-ref=trail]", "Sailing date is not")
        numbers = [int(text.replace(",", "")) for text in (all_of_it, inside, self.figure("b2"))]
        self.assertEqual(numbers[0], numbers[1] + numbers[2])

    def test_marks_are_reached_and_chosen_with_the_keyboard(self):
        page = self.page
        self.open()
        page.locator("#block-b6 .reachable").first.focus()
        page.keyboard.press("ArrowRight")
        page.keyboard.press("Enter")
        self.drawn(2)
        self.has_text("[x-ref=trail]", "Sailing date is Tuesday")

    def test_an_explorer_is_shown_nothing_else(self):
        self.open()
        self.assertEqual(self.page.locator("nav >> text=Data").count(), 0)
        self.go("/data/")
        self.has_text("h1", "Not found")
        self.complaints.clear()

    def test_a_block_that_fails_says_so_and_leaves_the_others(self):
        page = self.page

        def broken(route):
            lines = route.fetch().text().splitlines()
            lines = [
                '{"block": "b5", "problem": "Out of order."}' if '"block": "b5"' in line else line for line in lines
            ]
            route.fulfill(body="\n".join(lines) + "\n", content_type="application/x-ndjson")

        page.route("**/blocks/", broken)
        self.open()
        self.has_text("#block-b5", "Out of order.")
        self.sees("#block-b4 .reachable")
        page.click("#block-b5 >> text=Try again")
        self.sees("#block-b5 .reachable")


class OnASmallScreen(BrowserTest):
    viewport = {"width": 390, "height": 844}

    def test_nothing_is_wider_than_the_screen(self):
        self.sign_in("analyst")
        for path, ready in (("/", "h1"), ("/data/", "h1"), ("/charts/", "h1"), ("/dashboards/", "h1")):
            self.go(path)
            self.sees(ready)
            self.assertLessEqual(self.page.evaluate("document.documentElement.scrollWidth"), 390, path)
        self.page.click("a:text-is('Season at a glance')")
        self.sees("#block-b5 .reachable", state="attached")
        self.assertLessEqual(self.page.evaluate("document.documentElement.scrollWidth"), 390)

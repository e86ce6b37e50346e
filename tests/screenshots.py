"""Take the pictures of docs/screenshots from fresh demo data: `python -m tests.screenshots`."""

from __future__ import annotations

import atexit
import shutil
import tempfile
from pathlib import Path
from urllib.parse import quote

from playwright.sync_api import Page, sync_playwright

from tests.browser.support import ARGUMENTS, CHROMIUM, ROOT, prepare_demo, start_server
from veduta.demo import PASSWORD

SHOTS = ROOT / "docs" / "screenshots"
MESSY = ROOT / "tests" / "files" / "ticket_hut_diary.csv"
DRAWN = "n => Number(document.querySelector('[data-drawn]')?.dataset.drawn) >= n"


class Camera:
    def __init__(self, browser, address: str, who: str, **options) -> None:
        options = {"viewport": {"width": 1280, "height": 800}, "reduced_motion": "reduce"} | options
        self.page: Page = browser.new_context(**options).new_page()
        self.address = address
        self.page.goto(f"{address}/sign-in/")
        self.page.fill("[name=username]", who)
        self.page.fill("[name=password]", PASSWORD)
        self.page.click("button:has-text('Sign in')")
        self.page.wait_for_url(f"{address}/")

    def go(self, path: str) -> None:
        self.page.goto(self.address + path)
        self.page.wait_for_load_state("networkidle")

    def shoot(self, name: str) -> None:
        self.page.mouse.move(2, 2)
        self.page.wait_for_load_state("networkidle")
        self.page.evaluate("document.fonts.ready")
        self.page.screenshot(path=SHOTS / f"{name}.png")

    def dashboard(self, name: str = "Season at a glance") -> None:
        self.go("/dashboards/")
        self.page.click(f"a:has-text('{name}')")
        self.page.wait_for_function(DRAWN, arg=1)

    def chart(self, name: str) -> None:
        self.go(f"/charts/?find={quote(name)}")
        self.page.click(f"a:text-is('{name}')")
        self.page.wait_for_selector("[x-ref=rows] table")
        self.page.wait_for_load_state("networkidle")


SETTLED = (
    "n => Number(document.querySelector('[data-turn]')?.dataset.turn ?? 0) > n && !document.querySelector('.waiting')"
)


def shaping(camera: Camera) -> None:
    """Sources, the shaping screen, a join with its match share, a table, lineage, refreshes."""
    page = camera.page

    def settled(act) -> None:
        turn = page.evaluate("Number(document.querySelector('[data-turn]')?.dataset.turn ?? 0)")
        act()
        page.wait_for_function(SETTLED, arg=turn)

    def address(dataset: str) -> str:
        camera.go("/data/")
        return page.get_attribute(f"a:text-is('{dataset}')", "href")

    camera.go("/data/connections/")
    page.click("a:text-is('Skerry & Sound systems')")
    page.fill("[name='feed.path']", "bookings")
    page.select_option("[name='feed.paging.how']", "page")
    page.fill("[name='feed.paging.parameter']", "page")
    camera.shoot("sources")
    camera.go(address("Daily harbour counts") + "shape/")
    settled(lambda: page.click("#at-s3"))
    settled(lambda: page.click("#edit-s3"))
    page.wait_for_selector("[data-formula-said] table")
    camera.shoot("shaping")
    camera.go(address("Harbour counts") + "shape/")
    page.click("text=Add a step")
    page.fill("#step-find", "bring in")
    settled(lambda: page.keyboard.press("Enter"))
    settled(lambda: page.select_option("#in-dataset", label="Ports"))
    settled(lambda: page.click("#suggest-1"))
    page.click("[data-match] summary >> nth=0")
    camera.shoot("join")
    settled(lambda: page.click("#form-cancel"))
    camera.go("/data/lineage/")
    camera.shoot("lineage")
    counts = address("Daily harbour counts")
    camera.go(counts + "shape/")
    page.click("text=Add a step")
    page.fill("#step-find", "filter")
    settled(lambda: page.keyboard.press("Enter"))
    settled(lambda: page.select_option("#filter-0", label="Passengers counted"))
    page.fill("#low-0", "1")
    settled(lambda: page.keyboard.press("Tab"))
    page.click("#form-done")
    page.click("text=Put into force")
    page.wait_for_url("**" + counts)
    camera.go(counts + "refreshes/")
    camera.shoot("refreshes")


def drawing(camera: Camera) -> None:
    """A dashboard of many kinds of drawing, and a chart in layers with the editor of one of them."""
    page = camera.page
    camera.go("/dashboards/")
    page.click("a:text-is('Season in pictures')")
    page.wait_for_function(DRAWN, arg=1)
    camera.shoot("pictures")
    camera.chart("Which routes passed their target in 2026")
    page.locator("[data-clause=layer]").last.click()
    page.wait_for_selector("[x-ref=popover]:visible")
    camera.shoot("clause")


def modelling(camera: Camera) -> None:
    """The model's diagram, the page of a formula, and a dashboard of what is calculated."""
    page = camera.page
    camera.go("/data/")
    model = page.get_attribute("a:text-is('Sailings')", "href") + "model/"
    camera.go(model)
    page.click("summary:has-text('Sailings and Targets')")
    camera.shoot("model")
    camera.go(model + "formulas/revenue_growth/")
    page.wait_for_selector("#formula-said table")
    camera.shoot("formula")
    camera.go("/dashboards/")
    page.click("a:text-is('Calculated')")
    page.wait_for_function(DRAWN, arg=1)
    camera.shoot("calculated")


def main() -> None:
    SHOTS.mkdir(parents=True, exist_ok=True)
    folder = Path(tempfile.mkdtemp(prefix="veduta-screenshots-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)  # after the server, which is stopped at the exit too
    with sync_playwright() as playwright:
        prepare_demo(folder, "60000")
        address = start_server(folder)
        browser = playwright.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS)
        explorer = Camera(browser, address, "explorer")
        explorer.dashboard()
        explorer.shoot("dashboard")
        explorer.page.locator("#block-b4 .reachable").nth(2).click()
        explorer.page.wait_for_function(DRAWN, arg=2)
        explorer.page.click("[data-selection]")
        explorer.page.click("[data-behind]")
        explorer.page.wait_for_selector("dialog table")
        explorer.shoot("rows-behind")
        analyst = Camera(browser, address, "analyst")
        analyst.shoot("home")
        analyst.chart("Fare revenue by month and region")
        analyst.shoot("workbench")
        drawing(analyst)
        modelling(analyst)
        analyst.go("/data/")
        analyst.page.click("a:text-is('Sailings')")
        analyst.shoot("dataset")
        analyst.go("/data/")
        analyst.page.set_input_files("input[type=file]", MESSY)
        analyst.page.wait_for_url("**/uploads/**")
        analyst.shoot("check")
        shaping(analyst)
        analyst.dashboard("How we stand")
        analyst.page.click("a:text-is('Edit')")
        analyst.page.wait_for_selector(".board-made .reachable")
        analyst.shoot("editor")
        dark = Camera(browser, address, "explorer", color_scheme="dark")
        dark.dashboard("How we stand")
        dark.shoot("dark")
        small = Camera(browser, address, "explorer", viewport={"width": 390, "height": 844})
        small.dashboard()
        small.shoot("small")
        browser.close()


if __name__ == "__main__":
    main()

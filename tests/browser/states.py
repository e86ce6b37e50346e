"""The states of the application that everybody must be able to use: each brings a page there, from a fresh address."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from urllib.parse import quote

from playwright.sync_api import Page

MESSY = Path(__file__).parents[1] / "files" / "ticket_hut_diary.csv"
DRAWN = "n => Number(document.querySelector('[data-drawn]')?.dataset.drawn) >= n"
SETTLED = (
    "n => Number(document.querySelector('[data-turn]')?.dataset.turn ?? 0) > n && !document.querySelector('.waiting')"
)
Act = Callable[["Walker"], None]
POPOVER, DIALOG, FORM = "[x-ref=popover]", "dialog", "[x-ref=form]"
STATES: dict[str, tuple[str, Act, str]] = {}
"""By name who walks there (nobody for ""), how, and which part of the page has not been seen in another state."""


def state(who: str, name: str = "", part: str = "body") -> Callable[[Act], Act]:
    """Register how a state is reached; the function's name says which it is."""

    def register(act: Act) -> Act:
        STATES[name or act.__name__.replace("_", " ")] = (who, act, part)
        return act

    return register


FOUND: dict[tuple[str, str, str], str] = {}
"""Paths of what was looked up in lists, by server, list and name."""


class Walker:
    """A page, and the ways through the application that states share."""

    def __init__(self, page: Page, server: str) -> None:
        self.page, self.server = page, server

    def go(self, path: str) -> None:
        self.page.goto(self.server + path)

    def named(self, path: str, name: str) -> str:
        """The path of what is called so in a list, which is looked up once."""
        if (self.server, path, name) not in FOUND:
            self.go(f"{path}?find={quote(name)}")
            link = self.page.locator(f"main a:text-is('{name}')").first
            FOUND[self.server, path, name] = link.get_attribute("href") or ""
        return FOUND[self.server, path, name]

    def dashboard(self, name: str = "Season at a glance") -> None:
        self.go(self.named("/dashboards/", name))
        self.page.wait_for_function(DRAWN, arg=1)

    def block(self, button: str) -> None:
        """Press something in a block's menu."""
        self.page.locator("#block-b4 button[aria-expanded]").first.click()
        self.page.locator(f"#block-b4 {button}").click()

    def chart(self, name: str) -> None:
        self.go(self.named("/charts/", name))
        self.page.wait_for_selector("[x-ref=rows] table")

    def table(self, name: str) -> None:
        """A chart that is a table, and has no other below it."""
        self.go(self.named("/charts/", name))
        self.page.wait_for_selector("[x-ref=picture] table")

    def clause(self, chart: str, clause: str) -> None:
        self.chart(chart)
        self.page.locator(f"[data-clause='{clause}']").first.click()
        self.page.wait_for_selector("[x-ref=popover]:visible")

    def dataset(self, name: str, page: str = "") -> None:
        self.go(self.named("/data/", name) + page)

    def settled(self, act: Callable[[], object]) -> None:
        turn = self.page.evaluate("Number(document.querySelector('[data-turn]')?.dataset.turn ?? 0)")
        act()
        self.page.wait_for_function(SETTLED, arg=turn)

    def shaping(self, name: str) -> None:
        self.dataset(name, "shape/")
        self.page.wait_for_function(SETTLED, arg=0)

    def step(self, name: str, title: str) -> None:
        """A new step, opened from the menu."""
        self.shaping(name)
        self.page.click("button:text-is('Add a step')")
        self.page.fill("#step-find", title)
        self.settled(lambda: self.page.keyboard.press("Enter"))


PLAIN = {
    "home": ("explorer", "/"),
    "home of an analyst": ("analyst", "/"),
    "what was found": ("analyst", "/find/?find=sail"),
    "guide": ("explorer", "/guide/"),
    "page of the guide": ("explorer", "/guide/calculation/"),
    "own password": ("explorer", "/password/"),
    "dashboards": ("analyst", "/dashboards/"),
    "charts": ("analyst", "/charts/"),
    "data": ("analyst", "/data/"),
    "connections": ("analyst", "/data/connections/"),
    "new feed": ("analyst", "/data/connections/new/feed/"),
    "new database": ("analyst", "/data/connections/new/database/"),
    "colours": ("analyst", "/data/colours/"),
    "templates": ("analyst", "/templates/"),
    "palettes": ("analyst", "/data/palettes/"),
    "pictures": ("analyst", "/data/pictures/"),
    "lineage": ("analyst", "/data/lineage/"),
    "people": ("steward", "/people/"),
    "person": ("steward", "/people/2/"),
    "not found": ("explorer", "/nothing/"),
    "sign in": ("", "/sign-in/"),
}
for _name, (_who, _path) in PLAIN.items():
    state(_who, _name)(lambda walker, path=_path: walker.go(path))


@state("explorer")
def dashboard(walker: Walker) -> None:
    walker.dashboard()


@state("explorer")
def dashboard_of_what_is_calculated(walker: Walker) -> None:
    walker.dashboard("Calculated")


@state("explorer", part=POPOVER)
def dates_of_a_dashboard(walker: Walker) -> None:
    walker.dashboard()
    walker.page.click("[data-control=date]")
    walker.page.wait_for_selector("[x-ref=popover]:visible")


@state("explorer", part=POPOVER)
def day_that_is_not_understood(walker: Walker) -> None:
    dates_of_a_dashboard(walker)
    walker.page.fill("#choice-start", "soon")
    walker.page.keyboard.press("Enter")
    walker.page.wait_for_selector(".not-understood")


@state("explorer", part="body > .popover")
def menu_of_a_mark(walker: Walker) -> None:
    walker.dashboard()
    walker.page.locator("#block-b4 .reachable").first.click(button="right")
    walker.page.wait_for_selector("body > .popover")


@state("explorer", part=POPOVER)
def list_of_a_dashboard(walker: Walker) -> None:
    walker.dashboard()
    walker.page.click("[data-control=region]")
    walker.page.wait_for_selector("[x-ref=popover]:visible")


@state("explorer", part=POPOVER)
def parameter_of_a_dashboard(walker: Walker) -> None:
    walker.dashboard("Calculated")
    walker.page.locator("[data-control]").last.click()
    walker.page.wait_for_selector("[x-ref=popover]:visible")


@state("explorer", part=DIALOG)
def rows_behind_a_block(walker: Walker) -> None:
    walker.dashboard()
    walker.block("[data-rows-of]")
    walker.page.wait_for_selector("dialog table")


@state("explorer")
def block_as_a_table(walker: Walker) -> None:
    walker.dashboard()
    walker.block("[data-as-table]")
    walker.page.wait_for_selector("[data-block] .picture table")


@state("explorer")
def selection_in_a_dashboard(walker: Walker) -> None:
    walker.dashboard()
    walker.page.locator("#block-b4 .reachable").first.click()
    walker.page.wait_for_function(DRAWN, arg=2)


@state("explorer")
def menu_of_a_person(walker: Walker) -> None:
    walker.go("/")
    walker.page.click("header >> text=Runa Fennick")


@state("explorer", part=DIALOG)
def keys(walker: Walker) -> None:
    walker.go("/")
    walker.page.keyboard.press("?")
    walker.page.wait_for_selector("dialog")


@state("analyst")
def editor(walker: Walker) -> None:
    editing(walker, "Season at a glance")


def editing(walker: Walker, name: str = "How we stand") -> None:
    walker.go(walker.named("/dashboards/", name) + "edit/")
    walker.page.wait_for_selector(".board-made [data-id]")
    walker.page.wait_for_function("() => !document.querySelector('.board-made .skeleton')")


@state("analyst", part=".telephone > div")
def order_on_a_telephone(walker: Walker) -> None:
    editing(walker)
    walker.page.click("button:text-is('On a telephone')")
    walker.page.wait_for_selector("[data-narrow-block]")


@state("analyst")
def groups_that_are_chosen(walker: Walker) -> None:
    editing(walker)
    for block in walker.page.locator("#board > .block-group").all()[:2]:
        block.click(position={"x": 200, "y": 20}, modifiers=["Shift"])


@state("analyst", part=DIALOG)
def look_of_a_block(walker: Walker) -> None:
    editing(walker)
    walker.page.locator("#block-column1b1").click(button="right", position={"x": 30, "y": 20})
    walker.page.click("text=How it looks…")
    walker.page.wait_for_selector("dialog form")
    walker.page.locator("dialog summary").click()


@state("analyst", part=DIALOG)
def what_a_control_reaches(walker: Walker) -> None:
    editing(walker)
    walker.page.locator("[data-reach]").first.click()
    walker.page.locator("dialog [name=of][value=ticked]").check()


@state("analyst", part=DIALOG)
def what_narrows_a_block(walker: Walker) -> None:
    editing(walker)
    walker.page.locator("#block-column1b1").click(button="right", position={"x": 30, "y": 20})
    walker.page.click("text=What narrows it…")
    walker.page.wait_for_selector("dialog [data-follows]")


@state("analyst", part=DIALOG)
def ground_of_a_page(walker: Walker) -> None:
    editing(walker)
    walker.page.get_by_role("button", name="What can be done with this page").click()
    walker.page.click("text=Ground and distances…")
    walker.page.locator("dialog [data-apart]").check()


@state("analyst", part=DIALOG)
def before_publishing(walker: Walker) -> None:
    editing(walker)
    walker.page.click("button:text-is('Publish')")
    walker.page.wait_for_selector("dialog form")


@state("analyst")
def arrangements_to_begin_with(walker: Walker) -> None:
    walker.go("/dashboards/")
    walker.page.click("button:text-is('New dashboard')")
    walker.page.wait_for_selector(".start:visible")


@state("analyst", part="main")
def inbox(walker: Walker) -> None:
    walker.go("/dashboards/inbox/")


@state("explorer", part="main")
def executive_page(walker: Walker) -> None:
    walker.dashboard("How we stand")


@state("analyst")
def sharing(walker: Walker) -> None:
    walker.go(walker.named("/dashboards/", "Season at a glance") + "share/")


CHART = "Fare revenue by month and region"


@state("analyst", part=POPOVER)
def popover_of_a_layer(walker: Walker) -> None:
    walker.clause("Which routes passed their target in 2026", "layer")


@state("analyst")
def season_in_pictures(walker: Walker) -> None:
    walker.dashboard("Season in pictures")


for _clause in ("show", "by", "split", "only", "keep", "sort", "as", "compare", "aligned"):
    state("analyst", f"popover of {_clause}", POPOVER)(lambda walker, clause=_clause: walker.clause(CHART, clause))


def part_of(walker: Walker, chart: str, name: str) -> None:
    """The popover of a part of a drawing."""
    walker.chart(chart)
    walker.page.click("button:text-is('Looks')")
    walker.page.click(f"[x-ref=popover] .option:text-is('{name}')")
    walker.page.wait_for_selector(f"[x-ref=popover] h2:has-text('{name}')")


for _part in ("Title and note", "Legend"):
    state("analyst", f"popover of {_part}", POPOVER)(lambda walker, name=_part: part_of(walker, CHART, name))


@state("analyst", part=POPOVER)
def conditional_formats(walker: Walker) -> None:
    walker.table("Costs and lateness by vessel")
    walker.page.click("button:text-is('Conditional formats')")
    walker.page.wait_for_selector("[x-ref=popover]:visible")


@state("analyst")
def conditional_format(walker: Walker) -> None:
    conditional_formats(walker)
    walker.page.click("[x-ref=popover] [data-open=condition]")
    walker.page.wait_for_selector("#condition-test")


@state("analyst")
def workbench(walker: Walker) -> None:
    walker.chart(CHART)


@state("analyst")
def workbench_of_a_crosstab(walker: Walker) -> None:
    walker.chart("Regions by year")


@state("analyst", part=DIALOG)
def how_a_chart_is_worked_out(walker: Walker) -> None:
    walker.chart(CHART)
    walker.page.click("button:text-is('More')")
    walker.page.click("text=How this is worked out")
    walker.page.wait_for_selector("dialog")


@state("analyst")
def file_being_checked(walker: Walker) -> None:
    walker.go("/data/")
    walker.page.set_input_files("input[type=file]", MESSY)
    walker.page.wait_for_url("**/data/uploads/**")


@state("analyst")
def file_with_remarks(walker: Walker) -> None:
    days = "".join(f"Tern,2026-01-{day:02},{day}\n" for day in range(1, 29))
    rows = f"Port,Sailed,Fare\n{days}Total,,411\nQuay,1900-01-01,5\n"
    walker.go("/data/")
    walker.page.set_input_files(
        "input[type=file]", {"name": "piers.csv", "mimeType": "text/csv", "buffer": rows.encode()}
    )
    walker.page.wait_for_selector("text=the sum")


@state("analyst")
def new_chart(walker: Walker) -> None:
    walker.go("/charts/")
    walker.page.select_option("[name=dataset]", label="Service requests")
    walker.page.click("text=Make a chart")
    walker.page.wait_for_selector("[data-opening] svg")


@state("analyst")
def things_chosen_in_a_list(walker: Walker) -> None:
    walker.go("/charts/?sort=changed&descending=1")
    walker.page.locator("[data-choose]").first.check()


@state("analyst", part=DIALOG)
def pasting(walker: Walker) -> None:
    walker.go("/data/")
    walker.page.click("text=Paste cells")
    walker.page.wait_for_selector("dialog")


@state("analyst")
def dataset(walker: Walker) -> None:
    walker.dataset("Sailings")


@state("analyst")
def rows_of_a_dataset(walker: Walker) -> None:
    walker.dataset("Sailings")
    walker.page.click("[role=tab]:text-is('Rows')")
    walker.page.wait_for_selector("[x-ref=rows] td")


@state("analyst")
def refreshes(walker: Walker) -> None:
    walker.dataset("Daily harbour counts", "refreshes/")


@state("analyst")
def model(walker: Walker) -> None:
    walker.dataset("Sailings", "model/")
    for summary in walker.page.locator("main details > summary").all():
        summary.evaluate("summary => { summary.parentElement.open = true }")


@state("analyst")
def formula_of_the_model(walker: Walker) -> None:
    walker.dataset("Sailings", "model/formulas/revenue_growth/")
    walker.page.wait_for_selector("#formula-said table")


@state("analyst")
def source(walker: Walker) -> None:
    walker.go("/data/connections/")
    walker.page.click("a:text-is('Skerry & Sound systems')")


@state("steward")
def palette_that_is_written(walker: Walker) -> None:
    walker.go("/data/palettes/")
    walker.page.fill("#palette-colours-new", "#B8433A, #B8453A, teal")
    walker.page.wait_for_selector("[data-instead]")


@state("analyst")
def template(walker: Walker) -> None:
    walker.go(walker.named("/templates/", "Above the mean"))
    walker.page.wait_for_selector("button:has-text('Make the chart')")


@state("analyst")
def chart_about_to_be_a_template(walker: Walker) -> None:
    walker.go(walker.named("/charts/", "Fare revenue by month and region").replace("/charts/", "/templates/of/"))
    walker.page.wait_for_selector("[data-picture-offer]:visible")


@state("analyst", part=POPOVER)
def series_set_together(walker: Walker) -> None:
    walker.chart("Fare revenue by month and region")
    walker.page.keyboard.press("p")
    walker.page.click(f"{POPOVER} .option:text-is('Series')")
    walker.page.wait_for_selector("#series-width:visible")


@state("steward", part="main")
def counterpart_in_the_dark_theme(walker: Walker) -> None:
    walker.go("/data/palettes/")
    walker.page.fill("#dark-light", "teal")
    walker.page.fill("#dark-dark", "#203035")
    walker.page.click("form:has(#dark-light) button")
    walker.page.wait_for_selector("button:has-text('As worked out')")


@state("analyst", part=POPOVER)
def values_that_lead_somewhere(walker: Walker) -> None:
    walker.table("Costs and lateness by vessel")
    walker.page.locator("[data-clause='by']").first.click()
    walker.page.fill("#value-address", "https://ships.example/{value}")
    walker.page.press("#value-address", "Tab")
    walker.page.wait_for_selector("[x-ref=picture] .leads-away")


@state("analyst")
def cells_that_are_chosen(walker: Walker) -> None:
    walker.table("Costs and lateness by vessel")
    walker.page.locator("[x-ref=picture] tbody td").first.focus()
    walker.page.keyboard.press("Shift+ArrowDown")
    walker.page.wait_for_selector(".in-range")


@state("analyst", part=POPOVER)
def dates_of_a_chart(walker: Walker) -> None:
    walker.clause("Fare revenue by month and region", "by")
    walker.page.click("#date-pattern summary")
    walker.page.wait_for_selector("#date-pattern-text:visible")


@state("analyst", part=DIALOG)
def drawn_like(walker: Walker) -> None:
    walker.chart("Fare revenue by month and region")
    walker.page.click("button:has-text('Draw like')")
    walker.page.wait_for_selector("dialog #likes")


@state("analyst")
def shapes_for_maps(walker: Walker) -> None:
    walker.go("/data/shapes/")


@state("analyst")
def shapes_of_islands(walker: Walker) -> None:
    walker.go(walker.named("/data/shapes/", "Islands"))
    walker.page.wait_for_selector(".picture svg")


@state("analyst", part=POPOVER)
def panels(walker: Walker) -> None:
    walker.clause("Passengers of each vessel by month", "panels")


@state("analyst")
def own_specification(walker: Walker) -> None:
    walker.clause("Mean minutes late by vessel", "as")
    walker.page.click(f"{POPOVER} button:has-text('own specification')")
    walker.page.keyboard.press("Escape")
    walker.page.wait_for_selector(".specification .cm-line")


@state("analyst")
def steps(walker: Walker) -> None:
    walker.shaping("Daily harbour counts")


@state("analyst")
def exploring_table(walker: Walker) -> None:
    walker.dataset("Bookings", "table/")
    walker.page.wait_for_function(SETTLED, arg=0)


@state("analyst", part=POPOVER)
def column_of_the_exploring_table(walker: Walker) -> None:
    exploring_table(walker)
    walker.settled(lambda: walker.page.click("button[data-name='Channel']"))
    walker.page.wait_for_selector(".popover:visible")


# Steps stay in the draft of a dataset that no other test works on.
for _title in ("group", "wide to", "formula col", "bring in", "filter", "replace", "change type", "append"):
    state("analyst", f"step {_title}", FORM)(lambda walker, title=_title: walker.step("Service requests", title))


@state("analyst", part=DIALOG)
def functions(walker: Walker) -> None:
    walker.dataset("Sailings", "model/formulas/revenue_growth/")
    walker.page.click("[data-reference-open]")
    walker.page.wait_for_selector("dialog #function-list")

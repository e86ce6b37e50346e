"""Everybody can use it: axe finds nothing in any state.

Each commit is looked at in the light and wide; every night also in the dark on a telephone, and nothing has to be
scrolled sideways there or at 200% zoom."""

from __future__ import annotations

import os
from collections.abc import Callable
from contextlib import suppress

from playwright.sync_api import TimeoutError

from tests import NIGHTLY
from tests.browser.states import STATES, Walker
from tests.browser.support import ROOT, BrowserTest

ONLY = os.environ.get("ONLY", "")
"""States whose name has this in it."""
AXE = ROOT / "node_modules" / "axe-core" / "axe.min.js"
RULES = {"type": "tag", "values": ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"]}
OF_LOOK = {
    "type": "rule",
    "values": ["color-contrast", "link-in-text-block", "scrollable-region-focusable", "target-size"],
}
"""What can be right in one look and wrong in another."""
LOOKS = {"light": ("light", 1280, 800, RULES)}
if NIGHTLY:
    LOOKS["dark, on a telephone"] = ("dark", 390, 844, OF_LOOK)
ZOOMED = {"width": 640, "height": 400}
"""A window of 1280 by 800 at 200%."""
FIND = """async ([part, rules]) => {
  const options = { runOnly: rules, resultTypes: ["violations"] };
  const { violations } = await axe.run(part, options);
  const said = ({ any, all, none }) => [...any, ...all, ...none].map(check => check.message).join(" ");
  return violations.flatMap(({ id, nodes }) => nodes.map(node => `${id}: ${node.html.slice(0, 200)} ${said(node)}`));
}"""
PAINTED = "() => new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)))"
SIDEWAYS = "document.documentElement.scrollWidth - document.documentElement.clientWidth"


class Everybody(BrowserTest):
    """What each walks through; a class for each, so that they walk at the same time."""

    who: str
    maxDiff = None

    def setUp(self) -> None:
        super().setUp()
        # What a page remembers is of one state only; pages without an address have nothing to remember it in.
        self.page.context.add_init_script("try { sessionStorage.clear(); } catch {}")
        if self.who:
            self.sign_in(self.who)

    def tearDown(self) -> None:
        self.complaints = [each for each in self.complaints if "404" not in each]  # of the page that is not there
        super().tearDown()

    def findings(self, act: Callable[[Walker], None], part: str) -> list[str]:
        if NIGHTLY:
            self.page.goto("about:blank")  # the state before is not drawn anew in the size of this one
            self.page.set_viewport_size(self.viewport)
            self.page.emulate_media(color_scheme="light")
        act(Walker(self.page, self.server))
        self.page.evaluate(AXE.read_text())
        found = []
        for look, (scheme, width, height, rules) in LOOKS.items():
            self.page.emulate_media(color_scheme=scheme)
            self.page.set_viewport_size({"width": width, "height": height})
            self.page.evaluate(PAINTED)  # what scrolls now is made reachable in the next frame
            found += [f"{look}: {each}" for each in [*self.page.evaluate(FIND, [part, rules]), *self.sideways()]]
        if NIGHTLY:
            self.page.set_viewport_size(ZOOMED)
            found += [f"zoomed: {each}" for each in self.sideways()]
        return found

    def sideways(self) -> list[str]:
        with suppress(TimeoutError):  # what stands beside something is moved once the window has changed
            self.page.wait_for_function(f"() => {SIDEWAYS} <= 0", timeout=2_000)
        wide = self.page.evaluate(SIDEWAYS)
        return [f"sideways scroll of {wide} px"] if wide > 0 else []

    def walk(self, part: int, of: int) -> None:
        """Every `of`-th state of this person, beginning with the one at `part`."""
        mine = [name for name, (who, *_) in STATES.items() if who == self.who and ONLY in name]
        found = {name: self.findings(*STATES[name][1:]) for name in mine[part::of]}
        self.assertEqual({name: each for name, each in found.items() if each}, {})


class Reader(Everybody):
    who = "explorer"

    def test_no_finding_in_any_state(self):
        self.walk(0, 1)


class Analyst(Everybody):
    who = "analyst"

    def test_no_finding_in_any_state(self):
        self.walk(0, 2)


class AnalystToo(Everybody):
    who = "analyst"

    def test_no_finding_in_any_other_state(self):
        self.walk(1, 2)


class Steward(Everybody):
    who = "steward"

    def test_no_finding_in_any_state(self):
        self.walk(0, 1)


class Nobody(Everybody):
    who = ""

    def test_no_finding_in_any_state(self):
        self.walk(0, 1)

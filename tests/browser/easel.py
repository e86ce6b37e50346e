"""A page that draws what the core has made, without a server: its scripts, styles and letters are Veduta's."""

from __future__ import annotations

import json
import subprocess
from functools import cache
from pathlib import Path
from typing import Any

from playwright.sync_api import Page, Route

from tests.browser.support import ROOT, browser
from veduta.core.chart.question import AnsweredChart
from veduta.core.chart.theme import build_themes, find_dark_colours

ADDRESS = "http://easel.test"
DIST = ROOT / "veduta" / "web" / "static" / "dist"
PAGE = f"""<!doctype html><html lang="en" data-theme="light"><head><title>Easel</title>
<link rel="stylesheet" href="/app.css"></head><body><div id="frame"></div>
<script id="chart-themes" type="application/json">{json.dumps(build_themes())}</script>
<script src="/easel.js"></script></body></html>"""


@cache
def _script() -> str:
    bundled = subprocess.run(
        ["node_modules/.bin/esbuild", "tests/browser/easel.js", "--bundle", "--format=iife", "--log-level=error"],
        cwd=ROOT,
        check=True,
        capture_output=True,
        text=True,
    )
    return bundled.stdout


def _serve(route: Route) -> None:
    path = route.request.url.removeprefix(ADDRESS)
    if path == "/":
        route.fulfill(body=PAGE, content_type="text/html")
    elif path == "/easel.js":
        route.fulfill(body=_script(), content_type="text/javascript")
    else:
        file = Path(DIST, path.lstrip("/"))
        route.fulfill(path=file) if file.is_file() else route.abort()


def easel() -> Page:
    """A page on which `draw_on` draws. Whoever asks for it closes its context."""
    page: Page = browser().new_context(viewport={"width": 1280, "height": 800}, reduced_motion="reduce").new_page()
    page.route(f"{ADDRESS}/**", _serve)
    page.goto(f"{ADDRESS}/")
    return page


def measured(page: Page, answered: AnsweredChart, width: int, height: int) -> list[dict[str, Any]]:
    """The texts of a drawing at a size: what each says, whether it is seen, and its faults."""
    drawing = answered.drawing
    data = {"spec": drawing.spec, "rows": drawing.rows, "named": drawing.named, "dark": find_dark_colours(drawing.spec)}
    return page.evaluate("([data, width, height]) => easel.measure(data, width, height)", [data, width, height])

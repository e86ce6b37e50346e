"""The dashboard editor with 40 blocks, in the browser: how soon an edit is answered, and how smoothly blocks are
dragged; and a page of a dashboard of 40 blocks, as it is read."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable
from itertools import pairwise
from typing import Any

Report = Callable[..., None]
FRAMES = """() => {
  window.frames = [];
  const note = (now) => { window.frames.push(now); requestAnimationFrame(note); };
  requestAnimationFrame(note);
}"""
ANSWERS = """() => performance.getEntriesByType("resource")
  .filter(({ name }) => name.endsWith("/change/")).map(({ duration }) => duration)"""
PAGES, ON_EACH = 4, 10


def boards(user: Any) -> tuple[Any, Any]:
    """Two published dashboards of 40 charts: all on one page, and ten on each of four."""
    from veduta.core.dashboard.definition import DashboardBlock, DashboardDefinition, Page
    from veduta.web.charts.models import Chart
    from veduta.web.dashboards import publishing, services

    charts = [str(chart.pk) for chart in Chart.objects.filter(dataset__name="Sailings").order_by("pk")[:8]]

    def page(number: int, blocks: int) -> Page:
        placed = tuple(
            DashboardBlock(
                id=f"p{number}b{i}", kind="chart", chart=charts[i % 8], x=3 * (i % 4), y=4 * (i // 4), w=3, h=4
            )
            for i in range(blocks)
        )
        return Page(id=f"p{number}", name=f"Page {number}", blocks=placed)

    def published(name: str, pages: tuple[Page, ...]) -> Any:
        dashboard = services.create_dashboard(user, name)
        dashboard = services.save_draft(user, dashboard, DashboardDefinition(pages=pages), name, 0)
        publishing.publish(user, dashboard)
        return dashboard

    on_one = published("Forty on a page", (page(1, PAGES * ON_EACH),))
    return on_one, published("Forty on four", tuple(page(number + 1, ON_EACH) for number in range(PAGES)))


def measure(page: Any, address: str, on_one: Any, on_four: Any, report: Report) -> None:
    """With a browser page on which an analyst is signed in."""
    loads = []
    for turn in range(8):
        start = time.perf_counter()
        page.goto(f"{address}/dashboards/{on_four.pk}/?page=p{turn % PAGES + 1}")
        page.wait_for_selector("[data-drawn='1']")
        loads.append(time.perf_counter() - start)
    report("A page of 10 blocks of a dashboard of 40", statistics.median(loads), goal="1,000 ms")
    page.goto(f"{address}/dashboards/{on_one.pk}/edit/")
    page.wait_for_function("() => !document.querySelector('.board-made .skeleton')")
    page.locator("#block-p1b5").focus()
    for turn in range(20):
        with page.expect_response("**/change/"):
            page.keyboard.press("Shift+ArrowDown" if turn % 2 else "Shift+ArrowUp")
    answers = page.evaluate(ANSWERS)
    report("An edit of a dashboard of 40 blocks answered", statistics.median(answers) / 1e3, goal="60 ms")
    page.evaluate(FRAMES)
    box = page.locator("#block-p1b0 .block-title").bounding_box()
    page.mouse.move(box["x"] + 5, box["y"] + 5)
    page.mouse.down()
    began = page.evaluate("window.frames.length")
    start = time.perf_counter()
    for step in range(150):
        page.mouse.move(box["x"] + 5 + 6 * step, box["y"] + 5 + 2 * step)
    took = time.perf_counter() - start
    frames = page.evaluate("began => window.frames.slice(began)", began)
    page.keyboard.press("Escape")
    page.mouse.up()
    gaps = sorted(later - earlier for earlier, later in pairwise(frames))
    report("A frame while a block of 40 is dragged, median", statistics.median(gaps) / 1e3, goal="20 ms")
    report("  of 20 frames the slowest", gaps[int(len(gaps) * 0.95)] / 1e3)
    report("  150 moves of the pointer", took)

"""Measure Veduta against hand-written Polars in the same run:
`python -m bench [group …]`; GROUPS below has their names.

Prints a line a figure (name, ours, baseline, ratio, goal) and keeps the same in bench.json in the data folder; from
there `python -m bench.write` writes the tables of docs/performance.md. Ratios are of medians.
"""

from __future__ import annotations

import atexit
import os
import shutil
import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

ROWS = int(os.environ.get("BENCH_ROWS", 1_000_000))
from bench.measuring import Figure, Figures, alternately  # noqa: E402  (before VEDUTA_DATA is changed)

FOLDER = Path(tempfile.mkdtemp(prefix="veduta-bench-"))
atexit.register(shutil.rmtree, FOLDER, ignore_errors=True)
os.environ["VEDUTA_DATA"] = str(FOLDER)
os.environ["VEDUTA_LOG"] = "ERROR"

from veduta.web import installation  # noqa: E402  (after it)

installation.start()

import polars as pl  # noqa: E402
from django.core.management import call_command  # noqa: E402

from veduta.core.chart.definition import load_definition  # noqa: E402
from veduta.core.chart.question import work_out  # noqa: E402
from veduta.demo.generate import write_sailings  # noqa: E402

figures = Figures()


def report(name: str, ours: float, baseline: float | None = None, goal: str = "", **more) -> None:
    figures.add(Figure(name, ours, baseline, goal, **more))


def prepare():
    """A workspace with the demo on so many rows; returns its dataset and published dashboard."""
    from veduta.demo.load import load_demo
    from veduta.web.dashboards.models import Dashboard
    from veduta.web.datasets.models import Dataset

    call_command("migrate", verbosity=0)
    load_demo(FOLDER / "demo", ROWS)
    return Dataset.objects.select_related("current").get(name="Sailings"), Dashboard.objects.select_related(
        "published"
    ).get(name="Season at a glance")


def bench_import() -> None:
    """A CSV to a usable dataset, against Polars reading the same file and writing Parquet."""
    from veduta.demo.load import import_file, load_people
    from veduta.web.datasets.models import Dataset

    call_command("migrate", verbosity=0)
    analyst = load_people()["analyst"]
    path = write_sailings(FOLDER / "sailings.csv", ROWS)

    def ours() -> None:
        import_file(analyst, path, "Import bench")

    def baseline() -> None:
        pl.read_csv(path, try_parse_dates=True).write_parquet(FOLDER / "baseline.parquet")

    a, b = alternately(ours, baseline, 5)
    report(f"CSV of {ROWS:,} rows to a usable dataset", a, b, "at most 2.2")
    path.unlink()
    Dataset.objects.filter(name="Import bench").delete()


def baselines(frame: pl.DataFrame) -> dict[str, Callable[[], object]]:
    """The demo dashboard's questions written by hand, by the names of their charts."""
    rows = frame.lazy().filter(
        pl.col("sailing_date") >= pl.date(2025, 11, 1), pl.col("sailing_date") <= pl.date(2026, 10, 31)
    )
    month = pl.col("sailing_date").dt.truncate("1mo").alias("month")
    total, late = pl.col("fare_revenue").sum(), pl.col("minutes_late").mean()
    return {
        "Fare revenue": lambda: rows.select(total).collect(),
        "Passengers": lambda: rows.select(pl.col("passengers").sum()).collect(),
        "Mean minutes late": lambda: rows.select(late).collect(),
        "Fare revenue by route, highest first": lambda: (
            rows.group_by("route").agg(total).sort("fare_revenue", descending=True).head(8).collect()
        ),
        "Fare revenue by month and region": lambda: (
            rows.group_by(month, "region").agg(total).sort("month", "region").collect()
        ),
        "Passengers by weekday": lambda: (
            rows.group_by(pl.col("sailing_date").dt.weekday().alias("d"))
            .agg(pl.col("passengers").sum())
            .sort("d")
            .collect()
        ),
        "Cancelled sailings by month and reason": lambda: (
            rows.filter(pl.col("cancelled"))
            .group_by(month, "cancel_reason")
            .agg(pl.len())
            .sort("month", "cancel_reason")
            .collect()
        ),
        "What each vessel carried": lambda: pl.collect_all(
            [
                rows.group_by("vessel")
                .agg(pl.len(), pl.col("passengers").sum(), total, late)
                .sort("fare_revenue", descending=True),
                rows.select(pl.len(), pl.col("passengers").sum(), total, late),
            ]
        ),
    }


def bench_questions() -> list[Callable[[], object]]:
    """Each question of the dashboard, core only, against hand-written Polars on columns that are loaded too."""
    from veduta.core.dashboard.definition import ViewState
    from veduta.core.query.answer import answers
    from veduta.web.dashboards.session import DashboardSession
    from veduta.web.modelling.services import load_model_and_context

    dataset, dashboard = prepare()
    model, context = load_model_and_context(dataset, None)
    names = {field.id: field.source for field in model.schema}
    names = {name: source for name, source in names.items() if "." not in name}
    frame = model.scan(list(names)).collect().rename(names)
    by_hand = baselines(frame)
    reading = DashboardSession.open(dashboard, ViewState(), None)
    sums, questions = [0.0, 0.0], []
    for block in reading.definition.pages[0].in_reading_order:
        chart = reading.get_chart(block)
        _, following = reading.find_block_filters(block, chart)
        chart = load_definition(chart.model_dump(mode="json"))

        def ours(chart=chart, following=following) -> None:
            answers.clear()
            work_out(chart, model, context, tuple(following.filters))

        a, b = alternately(ours, by_hand[chart.title], 25)
        sums = [sums[0] + a, sums[1] + b]
        questions.append(ours)
        report(chart.title, a, b, "at most 1.5")
    report("All 8 questions, core only", *sums)
    _report_batches(reading)
    return questions


def _report_batches(reading) -> None:
    """The same questions asked as one batch, against one after the other; at first, and after a click on a route."""
    from veduta.core.dashboard.definition import Selection, ViewState
    from veduta.core.query.answer import answer, answers
    from veduta.core.query.batch import answer_all
    from veduta.web.dashboards.session import DashboardSession

    blocks = reading.definition.pages[0].in_reading_order
    routes = next(block for block in blocks if block.id == "b4")
    route = reading.draw(routes, reading.get_chart(routes))[0].answered.result.frame["d0"][0]
    clicked = ViewState(selections=(Selection(block="b4", points=((route,),)),))
    for state, when in ((ViewState(), "at first"), (clicked, "after a click")):
        of_state = DashboardSession.open(reading.dashboard, state, None)
        makers = [partial(of_state.build_question, block, None) for block in blocks]

        def together(makers=makers) -> None:
            answers.clear()
            for give in filter(None, answer_all(makers)):
                give[1]()

        def one_by_one(makers=makers) -> None:
            answers.clear()
            for make in makers:
                asked = make()
                answer(asked.query, asked.model, asked.context)

        times = alternately(together, one_by_one, 25)
        report(f"All 8 as one batch, against one after the other, {when}", *times, "below 1")


def bench_http() -> None:
    """All the data of the dashboard over HTTP, against the sum of its questions in
    the core; then from the answers kept."""
    questions = bench_questions()
    for megabytes, name, goal in ((0, "nothing kept", "at most 2"), (128, "answers kept", "")):
        session, address, dashboard = _served(megabytes)

        def everything(session=session, address=address, dashboard=dashboard) -> None:
            assert session(f"{address}/dashboards/{dashboard.pk}/blocks/").status == 200

        times = alternately(everything, lambda: [ask() for ask in questions], 25)
        report(f"All 8 blocks over HTTP, {name}", *times, goal)


def _served(megabytes_for_answers: int = 128):
    """The bench's workspace behind the real server; a function that requests as the explorer does."""
    from http.cookiejar import CookieJar
    from urllib.parse import urlencode
    from urllib.request import HTTPCookieProcessor, build_opener

    from tests.browser.support import prepare_demo, start_server
    from veduta.demo import PASSWORD

    _, dashboard = prepare()
    os.environ["VEDUTA_ANSWERS_MB"] = str(megabytes_for_answers)
    prepare_demo(FOLDER)
    address = start_server(FOLDER)
    opener = build_opener(HTTPCookieProcessor(jar := CookieJar()))
    opener.open(f"{address}/sign-in/").read()
    token = next(cookie.value for cookie in jar if cookie.name == "csrftoken")
    form = {"username": "explorer", "password": PASSWORD, "csrfmiddlewaretoken": token}
    opener.open(f"{address}/sign-in/", urlencode(form).encode()).read()

    def session(url: str):
        answer = opener.open(url)
        answer.read()
        return answer

    return session, address, dashboard


def bench_editor() -> None:
    """The editor with 40 blocks, and a page of a dashboard of 40."""
    from playwright.sync_api import sync_playwright

    from bench.editor import boards, measure
    from tests.browser.support import ARGUMENTS, CHROMIUM
    from veduta.demo import PASSWORD
    from veduta.web.accounts.models import User

    prepare()
    both = boards(User.objects.get(username="analyst"))
    _, address, _ = _served()
    with sync_playwright() as playwright:
        chromium = playwright.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS)
        page = chromium.new_page(viewport={"width": 1280, "height": 800})
        page.goto(f"{address}/sign-in/")
        page.fill("[name=username]", "analyst")
        page.fill("[name=password]", PASSWORD)
        page.click("button:has-text('Sign in')")
        page.wait_for_url(f"{address}/")
        measure(page, address, *both, report)
        chromium.close()


def bench_browser() -> None:
    """In the browser: first load, and from a click on a bar, or a drill into one, to all blocks redrawn."""
    from playwright.sync_api import sync_playwright

    from tests.browser.support import ARGUMENTS, CHROMIUM
    from veduta.demo import PASSWORD

    _, address, dashboard = _served()
    with sync_playwright() as playwright:
        chromium = playwright.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS)
        page = chromium.new_page(viewport={"width": 1280, "height": 800})
        page.goto(f"{address}/sign-in/")
        page.fill("[name=username]", "explorer")
        page.fill("[name=password]", PASSWORD)
        page.click("button:has-text('Sign in')")
        drawn = "n => Number(document.querySelector('[data-drawn]')?.dataset.drawn) >= n"
        loads = []
        for _ in range(9):
            page.goto(f"{address}/")
            start = time.perf_counter()
            page.goto(f"{address}/dashboards/{dashboard.pk}/")
            page.wait_for_function(drawn, arg=1)
            loads.append(time.perf_counter() - start)
        report("First load of the dashboard in the browser", statistics.median(loads), goal="1,000 ms")
        page.evaluate("document.addEventListener('veduta:drawn', event => { window.took = event.detail })")
        clicks, requests, drawing = [], [], []
        for turn in range(1, 22):
            page.locator("#block-b4 .reachable").nth(turn % 6).click()
            page.wait_for_function(drawn, arg=turn + 1)
            took = page.evaluate("window.took")
            clicks.append(took["took"] / 1e3)
            requests.append(took["requests"] / 1e3)
            drawing.append(took["drawing"] / 1e3)
        report("Click on a bar to all blocks redrawn", statistics.median(clicks[1:]), goal="200 ms")
        report("  of it until the last answer had come", statistics.median(requests[1:]))
        report("  of it drawing (sum over blocks)", statistics.median(drawing[1:]))
        page.goto(f"{address}/dashboards/{dashboard.pk}/?v={{}}")
        page.wait_for_function(drawn, arg=1)
        page.evaluate("document.addEventListener('veduta:drawn', event => { window.took = event.detail })")
        drills = []
        for turn in range(11):
            page.locator("#block-b4 .reachable").nth(turn % 6).press("Alt+ArrowDown")
            page.wait_for_function(drawn, arg=2 * turn + 2)
            drills.append(page.evaluate("window.took.took") / 1e3)
            page.locator("#block-b4 .reachable").first.press("Alt+ArrowUp")
            page.wait_for_function(drawn, arg=2 * turn + 3)
        report("Drill into a bar to all blocks redrawn", statistics.median(drills[1:]), goal="150 ms")
        chromium.close()


def bench_shaping() -> None:
    """Six steps on 5 million rows, against the same written by hand."""
    from bench import shaping

    shaping.run(figures, ROWS)


def bench_preview() -> None:
    """What the shaping screen waits for after an edit, on a dataset of 5 million rows."""
    from bench import shaping

    call_command("migrate", verbosity=0)
    shaping.run_preview(figures, ROWS)


def bench_bigfile() -> None:
    """A CSV of 1 GB: time and peak memory of its import, against Polars' streaming read to
    Parquet; each in a process of its own."""
    import subprocess

    from veduta.demo.generate import generate_sailings

    call_command("migrate", verbosity=0)
    path, size = FOLDER / "big.csv", int(os.environ.get("BENCH_BYTES", 1024**3))
    piece = generate_sailings(ROWS).write_csv(include_header=False).encode()
    with path.open("wb") as file:
        file.write(generate_sailings(10).head(0).write_csv().encode())
        while file.tell() < size:
            file.write(piece)
    measure = (
        "import resource, time\n{ready}\nstart = time.perf_counter()\n{work}\n"
        "print(time.perf_counter() - start, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024)"
    )
    ours = (
        "from pathlib import Path\nfrom veduta.web import installation\ninstallation.start()\n"
        "from veduta.demo.load import import_file, load_people\nanalyst = load_people()['analyst']",
        f"import_file(analyst, Path({str(path)!r}), 'Big')",
    )
    by_hand = (
        "import polars as pl",
        f"pl.scan_csv({str(path)!r}, try_parse_dates=True).sink_parquet({str(FOLDER / 'big.parquet')!r})",
    )

    def run(ready: str, work: str) -> tuple[float, float]:
        environment = os.environ | {"VEDUTA_UPLOAD_MB": "4096"}
        code = measure.format(ready=ready, work=work)
        done = subprocess.run([sys.executable, "-c", code], env=environment, capture_output=True, text=True, check=True)
        took, peak = map(float, done.stdout.split()[-2:])
        return took, peak

    (took, peak), (theirs, _) = run(*ours), run(*by_hand)
    report(f"CSV of {path.stat().st_size / 1e9:.2f} GB to a dataset", took, theirs, "at most 2.2")
    report("its peak memory", peak / 1024**3, goal="at most 3 GB", unit="GB")
    path.unlink()


def bench_lists() -> None:
    """The list of values of a field with 100,000 of them, with counts."""
    from bench import lists

    call_command("migrate", verbosity=0)
    lists.run(figures, FOLDER, ROWS)


def bench_joins() -> None:
    """Questions to a table joined to four others."""
    from bench import joins

    joins.run(figures)


def bench_load() -> None:
    """One reader, and many at once, who click at random on the demo's dashboard over HTTP; for BENCH_LOAD_SECONDS."""
    from bench import load
    from tests.browser.support import prepare_demo, start_server
    from veduta.demo.load import load_demo

    call_command("migrate", verbosity=0)
    dashboard = load_demo(FOLDER / "demo", load.ROWS)
    path = f"/dashboards/{dashboard.pk}/"
    vessel = next(each.field for each in dashboard.published.load().controls if each.id == "vessel")
    prepare_demo(FOLDER)
    address = start_server(FOLDER)
    load.run(figures, address, path, vessel)


def bench_live() -> None:
    """Fifty editors of a dashboard open at once, while somebody changes it."""
    from bench import live
    from tests.browser.support import prepare_demo, start_server
    from veduta.demo.load import load_demo

    call_command("migrate", verbosity=0)
    dashboard = load_demo(FOLDER / "demo", 60_000)
    path = f"/dashboards/{dashboard.pk}/"
    prepare_demo(FOLDER)
    address = start_server(FOLDER)
    live.run(figures, address, path, dashboard)


def bench_engine() -> None:
    """Twenty questions, and some more, at up to 10 million rows; SQLite and
    pandas beside the twenty at the most rows."""
    from bench import engine

    for rows in (ROWS // 10, ROWS, ROWS * 10):
        engine.run(rows, figures, others=rows == ROWS * 10 and not os.environ.get("BENCH_QUICK"))


def bench_drawing() -> None:
    """From a result to a drawing of a thousand marks, in every kind."""
    from bench import drawing

    drawing.run(figures)


def bench_looks() -> None:
    """Popovers of parts, and changed settings, over HTTP."""
    from bench import looks

    looks.run(figures, FOLDER, ROWS)


GROUPS = {
    "engine": bench_engine,
    "shaping": bench_shaping,
    "preview": bench_preview,
    "bigfile": bench_bigfile,
    "import": bench_import,
    "questions": bench_questions,
    "http": bench_http,
    "browser": bench_browser,
    "editor": bench_editor,
    "lists": bench_lists,
    "joins": bench_joins,
    "load": bench_load,
    "live": bench_live,
    "drawing": bench_drawing,
    "looks": bench_looks,
}


def main() -> None:
    wanted = sys.argv[1:] or ["import", "http", "browser", "shaping", "preview", "bigfile"]
    if unknown := set(wanted) - GROUPS.keys():
        sys.exit(f"There is no group {', '.join(sorted(unknown))}. Groups: {', '.join(GROUPS)}.")
    print(f"{'figure':<58}{'ours':>16}{'baseline':>16}{'ratio':>16}{'goal':>16}")
    for name in wanted:
        figures.start(name)
        GROUPS[name]()
        figures.keep()


if __name__ == "__main__":
    main()

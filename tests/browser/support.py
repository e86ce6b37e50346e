"""Browser tests drive Chromium against the real server and worker, started once
with demo data in a folder of their own."""

from __future__ import annotations

import atexit
import fcntl
import os
import shutil
import socket
import subprocess
import sys
import tempfile
import time
import unittest
import urllib.error
import urllib.request
from functools import cache
from pathlib import Path
from urllib.parse import quote

from django.test import tag
from playwright.sync_api import Error as PlaywrightError
from playwright.sync_api import FilePayload, Page, Response, expect, sync_playwright

from veduta.demo import PASSWORD

# Playwright's loop runs in this thread, and Django would refuse to close the test database beside it.
os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "1"
ROOT = Path(__file__).parents[2]
CHROMIUM = os.environ.get("CHROMIUM", "/usr/bin/chromium-headless-shell")
"""Chromium without a window, which opens a page twice as fast as the browser with one does."""
ARGUMENTS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]
ROWS = "3000"
PATIENCE = 30_000
"""How long a page may take on a busy machine, in milliseconds."""
expect.set_options(timeout=PATIENCE)
sessions: dict[str, list] = {}
"""The cookies of whoever has signed in."""


def prepare_demo(folder: Path, rows: str = ROWS) -> None:
    """Fill a folder with the demo data."""
    environment = os.environ | {"VEDUTA_DATA": str(folder)}
    for command in (
        ("migrate", "--verbosity=0"),
        ("collectstatic", "--noinput", "--verbosity=0"),
        ("demo", f"--rows={rows}"),
    ):
        subprocess.run(_manage(*command), cwd=ROOT, env=environment, check=True, stdout=subprocess.DEVNULL)


def copy_demo(folder: Path) -> None:
    """Fill a folder with the demo data that the first who needs it prepares for the whole run."""
    prepared = Path(os.environ["VEDUTA_TEST_RUN"]) / "demo"
    with open(prepared.with_suffix(".lock"), "w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not prepared.exists():
            prepare_demo(prepared)
    shutil.copytree(prepared, folder, dirs_exist_ok=True)


def start_server(folder: Path, **settings: str) -> str:
    """Start server and worker on the data in a folder, with settings; they stop with this process.

    Returns the address."""
    port = str(_two_free_ports())
    environment = os.environ | {"VEDUTA_DATA": str(folder), "PORT": port, "VEDUTA_LOG": "ERROR"} | settings
    # The data is there already: this tells it at which address the stand-in answers now.
    subprocess.run(_manage("demo"), cwd=ROOT, env=environment, check=True, stdout=subprocess.DEVNULL)
    server = subprocess.Popen(_manage("serve", "--demo"), cwd=ROOT, env=environment, stdout=subprocess.DEVNULL)
    atexit.register(lambda: (server.terminate(), server.wait(timeout=30)))
    address = f"http://127.0.0.1:{port}"
    for _ in range(300):
        try:
            urllib.request.urlopen(f"{address}/sign-in/")
            return address
        except (urllib.error.URLError, ConnectionError):
            time.sleep(0.1)
    raise RuntimeError("The server did not start.")


def _manage(*arguments: str) -> list[str]:
    return [sys.executable, "manage.py", *arguments]


def _two_free_ports() -> int:
    """A port for the server; the stand-in takes the next one."""
    while True:
        with socket.socket() as first, socket.socket() as second:
            first.bind(("127.0.0.1", 0))
            port = first.getsockname()[1]
            try:
                second.bind(("127.0.0.1", port + 1))
            except OSError:
                continue
            return port


@cache
def server() -> str:
    folder = Path(tempfile.mkdtemp(prefix="veduta-browser-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    copy_demo(folder)
    # Each process more takes seconds of a core before the first page.
    return start_server(folder, VEDUTA_PROCESSES="1", VEDUTA_WORKERS="1")


@cache
def browser():
    playwright = sync_playwright().start()
    chromium = playwright.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS)
    atexit.register(lambda: (chromium.close(), playwright.stop()))
    return chromium


def _body(response: Response) -> str:
    """The beginning of an answer, and of what was sent for it."""
    try:
        said = response.text()[:500]
    except PlaywrightError:  # of a page that is no longer there
        said = "(gone)"
    return f"{said} for {(response.request.post_data or '')[:2000]}"


@tag("browser")
@unittest.skipUnless(
    Path(CHROMIUM).exists(), "Chromium is not installed: run make test, or sudo apt-get install chromium-headless-shell"
)
class BrowserTest(unittest.TestCase):
    """A page of its own for each test. Anything the page complains about fails the test."""

    viewport = {"width": 1280, "height": 800}

    def setUp(self) -> None:
        self.server = server()
        context = browser().new_context(viewport=self.viewport, accept_downloads=True, reduced_motion="reduce")
        self.addCleanup(context.close)
        self.page: Page = context.new_page()
        self.page.set_default_timeout(PATIENCE)
        self.complaints: list[str] = []
        self.refusals: list[Response] = []
        self.page.on("response", lambda response: self.refusals.append(response) if response.status >= 400 else None)
        self.page.on("pageerror", lambda error: self.complaints.append(str(error)))
        self.page.on(
            "console", lambda message: self.complaints.append(message.text) if message.type == "error" else None
        )

    def tearDown(self) -> None:
        if self.complaints:
            refused = [f"{each.status} {each.url}: {_body(each)}" for each in self.refusals]
            self.fail("\n".join([*self.complaints, *refused]))

    def sign_in(self, name: str) -> None:
        """Come to the home page as somebody: signing in the first time, later with the session that began then."""
        if name in sessions:
            self.page.context.add_cookies(sessions[name])
            self.go("/")
            return
        self.page.goto(f"{self.server}/sign-in/")
        self.page.fill("[name=username]", name)
        self.page.fill("[name=password]", PASSWORD)
        self.page.click("button:has-text('Sign in')")
        self.page.wait_for_url(f"{self.server}/")
        sessions[name] = self.page.context.cookies()

    def go(self, path: str) -> None:
        self.page.goto(f"{self.server}{path}")

    def open_chart(self, name: str) -> None:
        """From the list, in which a name is searched for, as there are more charts than a page of it shows."""
        self.go(f"/charts/?find={quote(name)}")
        self.page.click(f'main a:text-is("{name}")')
        self.sees("[x-ref=sentence] .clause")

    def open_saved_chart(self, name: str) -> None:
        """The same as it is saved, without the draft that another test has left."""
        self.open_chart(name)
        with self.page.expect_navigation():
            self.page.get_by_role("button", name="More", exact=True).click()
            self.page.get_by_role("button", name="Back to what is saved").click()

    def send_file(self, file: Path | FilePayload) -> None:
        """Bring in a file, up to the page on which it is checked."""
        self.go("/data/")
        self.page.set_input_files("input[type=file]", file)
        self.page.wait_for_url("**/data/uploads/**")

    def sees(self, selector: str, **options) -> None:
        self.page.locator(selector).first.wait_for(**options)

    def has_text(self, selector: str, words: str) -> None:
        """Wait until some element says these words."""
        self.page.locator(selector).filter(has_text=words).first.wait_for()

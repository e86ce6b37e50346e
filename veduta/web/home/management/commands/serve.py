import os
import signal
import subprocess
import sys
import time

from django.conf import settings
from django.core.management.base import BaseCommand, CommandError

from veduta.demo import PASSWORD
from veduta.demo.load import PEOPLE
from veduta.web import server
from veduta.web.common.processes import GRACE, TOGETHER

SOON = 5.0
"""Seconds; a process that ends sooner than this after its start would do so again and again."""


class Command(BaseCommand):
    help = "Run the web server and the workers together until stopped; what ends of itself is started anew."

    def add_arguments(self, parser) -> None:
        parser.add_argument("--demo", action="store_true", help="say the demo's sign-ins")

    def handle(self, *, demo: bool, **options) -> None:
        port = int(os.environ.get("PORT", "8000"))
        try:
            listener = server.listen(port)
        except OSError as error:
            raise CommandError(f"Port {port} cannot be used: {error.strerror}. Choose another with PORT=….") from None
        if demo:
            allowed = filter(None, [os.environ.get("VEDUTA_ALLOWED_FEEDS"), f"127.0.0.1:{port + 1}"])
            os.environ["VEDUTA_ALLOWED_FEEDS"] = ",".join(allowed)
        for number in (signal.SIGTERM, signal.SIGINT):
            signal.signal(number, lambda *_: sys.exit(0))
        web = ("web", f"--socket={listener.fileno()}")
        family = [Child(*web, share=listener.fileno()) for _ in range(settings.PROCESSES)]
        family += [Child("worker") for _ in range(settings.WORKERS)]
        family += [Child("standin", f"--port={port + 1}")] if demo else []
        self._say(port, demo)
        try:
            while True:
                time.sleep(0.5)
                for child in family:
                    child.look_after()
        finally:
            _end([child.process for child in family])

    def _say(self, port: int, demo: bool) -> None:
        self.stdout.write(f"\nVeduta is at http://127.0.0.1:{port}/")
        if demo:
            for username, _, _, role in PEOPLE:
                self.stdout.write(f"  {role.label:<9} name {username:<9} password {PASSWORD}")
        self.stdout.write(f"Its data is in {settings.DATA_DIR}. Stop it with Ctrl+C.\n")
        self.stdout.flush()


class Child:
    """A process of ours, which ends with this one."""

    def __init__(self, *command: str, share: int | None = None) -> None:
        self.command, self.share = command, share
        self.start()

    def start(self) -> None:
        self.started = time.monotonic()
        self.process = subprocess.Popen(
            [sys.executable, "manage.py", *self.command],
            cwd=settings.BASE_DIR,
            env=os.environ | {TOGETHER: str(os.getpid())},
            pass_fds=[] if self.share is None else [self.share],
        )

    def look_after(self) -> None:
        """Start it anew if it has ended. Raises CommandError if it never really began."""
        if self.process.poll() is None:
            return
        if time.monotonic() - self.started < SOON:
            raise CommandError(f"“{' '.join(self.command)}” does not run. What it said stands above.")
        self.start()


def _end(processes: list[subprocess.Popen]) -> None:
    """Ask all to end, and end those that do not in time: what they had begun is put right at the next start."""
    for process in processes:
        process.terminate()
    until = time.monotonic() + GRACE
    for process in processes:
        try:
            process.wait(timeout=max(0.1, until - time.monotonic()))
        except subprocess.TimeoutExpired:
            process.kill()

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
from veduta.web.common.processes import GRACE, READY, TOGETHER

TRIES = 3
"""So often a process is started that never says it is ready, before all is ended: it would never be."""
LONGEST_PAUSE = 30.0
CALM = 60.0
"""Seconds that a process must have lived for its next start to wait no longer than the first one."""


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
    """A process of ours, which ends with this one and is started anew when it ends of itself.

    One that was ready once is started again and again, after pauses that grow while it does not live long: what keeps
    it from running, such as a full disk, may pass. One that never was has something wrong with it."""

    def __init__(self, *command: str, share: int | None = None) -> None:
        self.command, self.share = command, share
        self.was_ready, self.deaths, self.start_at = False, 0, 0.0
        self.start()

    def start(self) -> None:
        self.started = time.monotonic()
        self.said, says = os.pipe()
        os.set_blocking(self.said, False)
        self.process = subprocess.Popen(  # noqa: S603 - our own commands
            [sys.executable, "manage.py", *self.command],
            cwd=settings.BASE_DIR,
            env=os.environ | {TOGETHER: str(os.getpid()), READY: str(says)},
            pass_fds=[says] if self.share is None else [says, self.share],
        )
        os.close(says)

    def look_after(self) -> None:
        """Start it anew if it has ended. Raises CommandError if it never really began."""
        if self.said >= 0:
            self._listen()
        if self.start_at:
            if time.monotonic() >= self.start_at:
                self.start_at = 0.0
                self.start()
            return
        if self.process.poll() is None:
            return
        if self.said >= 0:
            self._listen()
            self._hang_up()
        self.deaths = 1 if time.monotonic() - self.started >= CALM else self.deaths + 1
        if not self.was_ready and self.deaths >= TRIES:
            raise CommandError(f"“{' '.join(self.command)}” does not run. What it said stands above.")
        self.start_at = time.monotonic() + choose_pause(self.deaths)

    def _listen(self) -> None:
        try:
            if os.read(self.said, 1):
                self.was_ready = True
                self._hang_up()
        except BlockingIOError:
            return  # nothing is said yet

    def _hang_up(self) -> None:
        if self.said >= 0:
            os.close(self.said)
            self.said = -1


def choose_pause(deaths: int) -> float:
    """Seconds until a process is started again that has died so often without having lived long."""
    return 0.0 if deaths <= 1 else min(0.5 * 2 ** (deaths - 2), LONGEST_PAUSE)


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

import os
import signal
import subprocess
import sys
import time

from django.conf import settings
from django.core.management.base import BaseCommand

from veduta.demo import PASSWORD
from veduta.demo.load import PEOPLE


class Command(BaseCommand):
    help = "Run the web server (gunicorn) and the workers together until stopped."

    def add_arguments(self, parser) -> None:
        parser.add_argument("--demo", action="store_true", help="say the demo's sign-ins")
        parser.add_argument("--processes", type=int, default=1, help="of the web server")
        parser.add_argument("--threads", type=int, default=8, help="in each of them")

    def handle(self, *, demo: bool, processes: int, threads: int, **options) -> None:
        port = int(os.environ.get("PORT", "8000"))
        address = f"127.0.0.1:{port}"
        if demo:
            allowed = filter(None, [os.environ.get("VEDUTA_ALLOWED_FEEDS"), f"127.0.0.1:{port + 1}"])
            os.environ["VEDUTA_ALLOWED_FEEDS"] = ",".join(allowed)
        arguments = f"--bind={address} --worker-class=gthread --workers={processes} --threads={threads} --timeout=600"
        web = subprocess.Popen(
            [sys.executable, "-m", "gunicorn", "veduta.web.wsgi", *arguments.split(), "--log-level=warning"]
        )
        workers = [self._manage("worker") for _ in range(settings.WORKERS)]
        standin = self._manage("standin", f"--port={port + 1}") if demo else None
        for number in (signal.SIGTERM, signal.SIGINT):
            signal.signal(number, lambda *_: sys.exit(0))
        self.stdout.write(f"\nVeduta is at http://{address}/")
        if demo:
            for username, _, _, role in PEOPLE:
                self.stdout.write(f"  {role.label:<9} name {username:<9} password {PASSWORD}")
        self.stdout.write(f"Its data is in {settings.DATA_DIR}. Stop it with Ctrl+C.\n")
        self.stdout.flush()
        try:
            while web.poll() is None:
                workers = [self._manage("worker") if each.poll() is not None else each for each in workers]
                time.sleep(0.5)
            sys.exit(web.returncode)
        finally:
            _end([process for process in (web, *workers, standin) if process])

    def _manage(self, *command: str) -> subprocess.Popen:
        return subprocess.Popen([sys.executable, "manage.py", *command], cwd=settings.BASE_DIR)


def _end(processes: list[subprocess.Popen]) -> None:
    """Ask all to end, and end those that do not in time: what they had begun is put right at the next start."""
    for process in processes:
        process.terminate()
    for process in processes:
        try:
            process.wait(timeout=20)
        except subprocess.TimeoutExpired:
            process.kill()

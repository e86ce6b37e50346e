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
    help = "Run the web server (gunicorn) and the worker together until stopped."

    def add_arguments(self, parser) -> None:
        parser.add_argument("--demo", action="store_true", help="say the demo's sign-ins")
        parser.add_argument("--threads", type=int, default=8)

    def handle(self, *, demo: bool, threads: int, **options) -> None:
        port = int(os.environ.get("PORT", "8000"))
        address = f"127.0.0.1:{port}"
        if demo:
            allowed = filter(None, [os.environ.get("VEDUTA_ALLOWED_FEEDS"), f"127.0.0.1:{port + 1}"])
            os.environ["VEDUTA_ALLOWED_FEEDS"] = ",".join(allowed)
        web = subprocess.Popen(
            [
                sys.executable,
                "-m",
                "gunicorn",
                "veduta.web.wsgi",
                "--bind",
                address,
                "--worker-class",
                "gthread",
                "--workers",
                "1",
                "--threads",
                str(threads),
                "--timeout",
                "600",
                "--log-level",
                "warning",
            ]
        )
        worker = self._manage("worker")
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
                if worker.poll() is not None:
                    worker = self._manage("worker")
                time.sleep(0.5)
            sys.exit(web.returncode)
        finally:
            running = [process for process in (web, worker, standin) if process]
            for process in running:
                process.terminate()
            for process in running:
                process.wait(timeout=20)

    def _manage(self, *command: str) -> subprocess.Popen:
        return subprocess.Popen([sys.executable, "manage.py", *command], cwd=settings.BASE_DIR)

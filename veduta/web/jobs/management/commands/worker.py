import signal
import sys
import threading

from django.core.management.base import BaseCommand

from veduta.web.common.processes import end_with_parent, say_ready
from veduta.web.jobs import queue


class Command(BaseCommand):
    help = "Do in the background what waits, and what is due on schedule, until stopped. Several may run at once."

    def handle(self, **options) -> None:
        for number in (signal.SIGTERM, signal.SIGINT):
            signal.signal(number, lambda *_: sys.exit(0))
        end_with_parent()
        if count := queue.take_back():
            self.stdout.write(f"Jobs that were cut off and are done again: {count}")
        stop = threading.Event()
        threading.Thread(target=queue.keep_alive, args=[stop], daemon=True).start()
        say_ready()
        try:
            queue.keep_working()
        finally:
            stop.set()
            queue.let_go()

import threading

from django.core.management import call_command
from django.core.management.base import BaseCommand

from veduta.web.datasets import schedules
from veduta.web.datasets.refreshing import recover
from veduta.web.datasets.tasks import work_off


class Command(BaseCommand):
    help = "Refresh datasets in the background and on schedule. First puts right what a crash may have left behind."

    def handle(self, **options) -> None:
        if count := recover():
            self.stdout.write(f"{count} interrupted refresh(es) are done again.")
        work_off.enqueue()
        stop = threading.Event()
        threading.Thread(target=schedules.keep_starting, args=[stop], daemon=True).start()
        try:
            call_command("db_worker", interval=0.2, startup_delay=False, queue_name="*", verbosity=0)
        finally:
            stop.set()

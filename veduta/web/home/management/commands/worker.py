import threading

from django.core.management import call_command
from django.core.management.base import BaseCommand
from django_tasks_db.models import DBTaskResult

from veduta.web.jobs.queue import recover
from veduta.web.jobs.tasks import work_off
from veduta.web.refreshing import schedules


class Command(BaseCommand):
    help = "Refresh datasets in the background and on schedule. First puts right what a crash may have left behind."

    def handle(self, **options) -> None:
        if count := recover():
            self.stdout.write(f"{count} interrupted refresh(es) are done again.")
        DBTaskResult.objects.ready().delete()  # wake-ups for a worker that is gone
        work_off.enqueue()
        stop = threading.Event()
        threading.Thread(target=schedules.keep_starting, args=[stop], daemon=True).start()
        try:
            call_command("db_worker", interval=0.2, startup_delay=False, queue_name="*", verbosity=0)
        finally:
            stop.set()

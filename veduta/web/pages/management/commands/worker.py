from django.core.management import call_command
from django.core.management.base import BaseCommand

from veduta.web.datasets.refreshing import recover


class Command(BaseCommand):
    help = "Read files in the background. First puts right what a crash may have left behind."

    def handle(self, **options) -> None:
        if count := recover():
            self.stdout.write(f"{count} interrupted import(s) were put back.")
        call_command("db_worker", interval=0.2, startup_delay=False, queue_name="*", verbosity=0)

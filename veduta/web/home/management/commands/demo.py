from django.conf import settings
from django.core.management.base import BaseCommand

from veduta.demo.load import load_demo


class Command(BaseCommand):
    help = "Load the made-up ferry company, unless it is there already."

    def add_arguments(self, parser) -> None:
        parser.add_argument("--rows", type=int, default=60_000)

    def handle(self, *, rows: int, **options) -> None:
        load_demo(settings.DATA_DIR / "demo", rows, self.stdout.write)

from django.core.management.base import BaseCommand

from veduta.demo.standin import StandIn
from veduta.web.common.processes import end_with_parent, say_ready


class Command(BaseCommand):
    help = "Run the stand-in for the ferry company's other systems, for the demo."

    def add_arguments(self, parser) -> None:
        parser.add_argument("--port", type=int, default=8001)

    def handle(self, *, port: int, **options) -> None:
        end_with_parent()
        standin = StandIn(port)
        say_ready()
        standin.serve_forever()

import socket

from django.core.management.base import BaseCommand

from veduta.web import server
from veduta.web.common.processes import end_with_parent


class Command(BaseCommand):
    help = "Run one process of the web server, on a socket that listens already or on a port of this machine."

    def add_arguments(self, parser) -> None:
        parser.add_argument("--socket", type=int, help="the number of an open socket")
        parser.add_argument("--port", type=int, default=8000)

    def handle(self, *, port: int, **options) -> None:
        end_with_parent()
        server.run(socket.socket(fileno=options["socket"]) if options["socket"] else server.listen(port))

import getpass
import sys
from argparse import ArgumentParser
from typing import Any

from django.core.management.base import BaseCommand, CommandError

from veduta.web.accounts.forms import PersonForm
from veduta.web.accounts.models import User


class Command(BaseCommand):
    help = "Add a person, such as the first steward of a new workspace; the password is asked for, or read from a pipe."

    def add_arguments(self, parser: ArgumentParser) -> None:
        parser.add_argument("username")
        parser.add_argument("--role", choices=User.Role.values, default=User.Role.STEWARD)
        parser.add_argument("--first-name", default="")
        parser.add_argument("--last-name", default="")

    def handle(self, *, username: str, role: str, first_name: str, last_name: str, **options: Any) -> None:
        password = getpass.getpass("Password: ") if sys.stdin.isatty() else sys.stdin.readline().rstrip("\n")
        form = PersonForm(
            {
                "username": username,
                "role": role,
                "first_name": first_name,
                "last_name": last_name,
                "password1": password,
                "password2": password,
            }
        )
        if not form.is_valid():
            raise CommandError("\n".join(problem for problems in form.errors.values() for problem in problems))
        form.save()
        self.stdout.write(f"{username} is there now, as {User.Role(role).label.lower()}.")

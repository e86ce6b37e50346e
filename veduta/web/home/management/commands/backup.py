import shutil
import sqlite3
from argparse import ArgumentParser
from contextlib import closing, suppress
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand, CommandError
from django.db import connection

from veduta.web import installation


class Command(BaseCommand):
    help = "Copy the database, the uploads and the secret key into a new folder, while Veduta runs."

    def add_arguments(self, parser: ArgumentParser) -> None:
        parser.add_argument("folder", type=Path, help="a folder that is not there yet")

    def handle(self, *, folder: Path, **options: Any) -> None:
        try:
            folder.mkdir(parents=True, mode=0o700)
        except FileExistsError:
            raise CommandError(f"{folder} is there already. Name another folder.") from None
        except OSError as error:
            raise CommandError(f"{folder} cannot be made: {error.strerror}. Name another folder.") from None
        try:
            _copy_all(folder)
        except OSError as error:
            shutil.rmtree(folder, ignore_errors=True)
            raise CommandError(f"Nothing was copied: {error.strerror or error}.") from None
        self.stdout.write(f"Copied to {folder}. README.md says how to go back to it.")


def _copy_all(folder: Path) -> None:
    connection.ensure_connection()
    with closing(sqlite3.connect(folder / "veduta.sqlite3")) as copy:
        connection.connection.backup(copy)  # the state of one moment, whatever is written meanwhile
    # The database first: what is sent afterwards may be copied too, and what it names is there.
    shutil.copytree(settings.UPLOAD_DIR, folder / "uploads", copy_function=_copy_if_there)
    if installation.KEY_FILE.exists():
        shutil.copy2(installation.KEY_FILE, folder)


def _copy_if_there(source: str, target: str) -> None:
    with suppress(FileNotFoundError):  # an upload that was discarded meanwhile
        shutil.copy2(source, target)

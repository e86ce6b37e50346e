"""The folder an installation keeps its data in: where it is, and made ready before Django starts."""

from __future__ import annotations

import os
import secrets
import sys
from contextlib import suppress
from pathlib import Path

BASE_DIR = Path(__file__).resolve().parents[2]
TESTING = "test" in sys.argv[:2]
DATA_DIR = Path(os.environ.get("VEDUTA_DATA", BASE_DIR / "data")).resolve() / ("test" if TESTING else "")
KEY_FILE = DATA_DIR / "secret_key"


def prepare() -> None:
    """Make the data folder and, where the environment gives none, a secret key that is kept there.

    Nobody else on the machine may read what is in it."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "veduta.web.settings")
    os.umask(0o077)
    for folder in (DATA_DIR / "uploads", DATA_DIR / "static"):
        folder.mkdir(parents=True, exist_ok=True)
    DATA_DIR.chmod(0o700)
    for path in DATA_DIR.glob("veduta.sqlite3*"):
        with suppress(FileNotFoundError):  # another process may just have closed the database
            path.chmod(0o600)
    if not load_secret_key():
        KEY_FILE.touch(mode=0o600)
        KEY_FILE.write_text(secrets.token_urlsafe(50))


def load_secret_key() -> str:
    """The key of this installation; empty before the first `prepare`."""
    if key := os.environ.get("VEDUTA_SECRET_KEY"):
        return key
    return KEY_FILE.read_text() if KEY_FILE.exists() else ""


def start() -> None:
    """Make ready and start Django, for scripts that are not commands of manage.py."""
    prepare()
    import django

    django.setup()

"""Sessions in the database; while that takes nothing, in a signed cookie, so that people can sign in and read."""

from __future__ import annotations

from typing import Any

from django.contrib.sessions.backends.base import UpdateError
from django.contrib.sessions.backends.db import SessionStore as InDatabase
from django.core import signing
from django.db import DatabaseError

from veduta.web.common.best_effort import limit_lock_wait

SIGNED, SALT = "signed:", "veduta.web.accounts.sessions"
SIGNED_SECONDS = 60 * 60
"""How long a session lasts that is kept nowhere but in the cookie: it cannot be ended from here."""


class SessionStore(InDatabase):
    """Django's, but for what it does where nothing can be written."""

    @property
    def is_signed(self) -> bool:
        return (self.session_key or "").startswith(SIGNED)

    def load(self) -> dict[str, Any]:
        if not self.is_signed:
            return super().load()
        try:
            text = str(self.session_key).removeprefix(SIGNED)
            found: dict[str, Any] = signing.loads(text, salt=SALT, max_age=SIGNED_SECONDS)
            return found
        except signing.BadSignature:
            self._session_key = None
            return {}

    def exists(self, session_key: str) -> bool:
        return not session_key.startswith(SIGNED) and super().exists(session_key)

    def create(self) -> None:
        try:
            with limit_lock_wait():
                super().create()
        except DatabaseError:
            self._sign()

    def save(self, must_create: bool = False) -> None:
        if self.is_signed:
            return self._sign()
        try:
            with limit_lock_wait():
                super().save(must_create=must_create)
        except UpdateError:
            raise
        except DatabaseError:
            if must_create:
                raise
            self._sign()

    def delete(self, session_key: str | None = None) -> None:
        key = session_key or self.session_key or ""
        if key.startswith(SIGNED):
            return
        try:
            with limit_lock_wait():
                super().delete(session_key)
        except DatabaseError:
            return  # the cookie goes all the same

    def _sign(self) -> None:
        self._session_key = SIGNED + signing.dumps(dict(self.items()), salt=SALT, compress=True)
        self.modified = True

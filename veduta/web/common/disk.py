"""The disk that is full, and the database in which somebody else writes without an end."""

from __future__ import annotations

import errno

from django.db.utils import OperationalError

from veduta.core.errors import VedutaError


def is_full_disk(error: BaseException) -> bool:
    if isinstance(error, OSError) and error.errno in (errno.ENOSPC, errno.EDQUOT):
        return True
    return isinstance(error, OperationalError) and "full" in str(error)


FULL_DISK = VedutaError("The server's disk is full, so nothing was changed.", hint="Tell a steward, then try again.")


def is_locked(error: BaseException) -> bool:
    return isinstance(error, OperationalError) and ("locked" in str(error) or "readonly" in str(error))


LOCKED = VedutaError(
    "The database takes nothing just now, so nothing was changed.", hint="Try again in a moment; reading goes on."
)

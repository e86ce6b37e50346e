"""The disk that is full."""

from __future__ import annotations

import errno

from django.db.utils import OperationalError

from veduta.core.errors import VedutaError


def is_full_disk(error: BaseException) -> bool:
    if isinstance(error, OSError) and error.errno in (errno.ENOSPC, errno.EDQUOT):
        return True
    return isinstance(error, OperationalError) and "full" in str(error)


FULL_DISK = VedutaError("The server's disk is full, so nothing was changed.", hint="Tell a steward, then try again.")

"""Who may take from others: delete what they made, release rows, say who sees which. What was done is kept."""

from __future__ import annotations

from typing import Any

from django.core.exceptions import PermissionDenied

from veduta.web.accounts.access import must_build
from veduta.web.accounts.models import Deed, User

What = Deed.What


def must_own(user: User, thing: Any, what: str) -> None:
    """For services: raises PermissionDenied for somebody who did not make a thing and is no steward."""
    must_build(user)
    if not user.owns(thing):
        raise PermissionDenied(f"Only whoever made “{thing}” and stewards may {what}.")


def keep(user: User, what: Deed.What, thing: Any, words: str = "") -> None:
    """Keep for stewards what somebody did."""
    Deed.objects.create(user=user, what=what, thing=str(thing)[:300], words=words)

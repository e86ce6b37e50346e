"""Things that several people change: each change builds on the newest state, and earlier states are kept by number.

What is drafted, saved or put into force counts its revisions. A page sends the revision it began from with a change; if
somebody else was faster the change is refused, nothing is lost, and the person decides."""

from __future__ import annotations

from typing import Any, TypeVar

from django.db.models import Model, QuerySet

from veduta.core.errors import VedutaError

Numbered = TypeVar("Numbered", bound=Model)


class RevisionConflict(VedutaError):
    """Somebody else changed it meanwhile; `theirs` is the thing as it is now."""

    code = "conflict"

    def __init__(self, theirs: Any, what: str, who: Any = None, hint: str = "") -> None:
        super().__init__(f"{who.label if who else 'Somebody'} changed {what} meanwhile.", hint=hint)
        self.theirs = theirs


def must_build_on(newest: int, base: int, theirs: Any, what: str, who: Any = None, hint: str = "") -> None:
    """Raises Conflict if a change began from another revision than the newest, which somebody (`who`) made."""
    if newest != base:
        raise RevisionConflict(theirs, what, who, hint)


def find_next_number(states: QuerySet[Any]) -> int:
    """The number of the state that is kept next."""
    return (states.exclude(number=None).order_by("-number").values_list("number", flat=True).first() or 0) + 1


def get_numbered(states: QuerySet[Numbered], number: int, what: str) -> Numbered:
    """An earlier state. Raises VedutaError if it is not kept (any more)."""
    state = states.filter(number=number).first()
    if state is None:
        raise VedutaError(f"Version {number} of {what} is not kept (any more).", hint="Choose another one.")
    return state

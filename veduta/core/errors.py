"""Errors made for the reader: what is wrong, where, and what to do about it."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from pydantic import ValidationError


class VedutaError(Exception):
    """A problem a person can act on.

    `code` names it for programs, `message` says what is wrong in plain words, `where` is the place
    (a file's line, a column, a clause) and `hint` what to do next.
    """

    code = "problem"

    def __init__(self, message: str, *, where: str = "", hint: str = "") -> None:
        super().__init__(message)
        self.message, self.where, self.hint = message, where, hint

    def __str__(self) -> str:
        return " ".join(part for part in (self.message, self.hint) if part)

    def as_data(self) -> dict[str, str]:
        return {"code": self.code, "message": self.message, "where": self.where, "hint": self.hint}


class FileProblem(VedutaError):
    """The file cannot be read as it is, or not with these settings."""

    code = "file"


class DefinitionProblem(VedutaError):
    """A stored or sent definition is not usable."""

    code = "definition"


class SourceUnreachable(VedutaError):
    """Something outside does not answer, or not now; trying later may help."""


class QueryCancelled(VedutaError):
    """Work that somebody stopped, or that nobody waits for any more."""

    code = "stopped"


class RowAccessDenied(VedutaError):
    """A reader with a row filter asks for more than it lets through, or a rule cannot be applied."""

    code = "bound"


class MissingField(DefinitionProblem):
    """A definition names a field that its dataset does not have (any more)."""

    code = "missing-field"


class NewerDefinition(DefinitionProblem):
    """The definition was written by a newer Veduta than this one."""

    code = "newer-definition"


def explain_validation_error(error: ValidationError) -> tuple[str, str]:
    """The first thing that is wrong with a definition, in words without a full stop, and the place in it."""
    first = error.errors(include_url=False)[0]
    return first["msg"].removeprefix("Value error, "), " › ".join(map(str, first["loc"]))

"""What can be wrong with a formula, said with its place and what to do."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any

from lark.exceptions import UnexpectedCharacters, UnexpectedInput

from veduta.core.errors import VedutaError


@dataclass(frozen=True)
class Span:
    """From the first character to behind the last, counted from 0."""

    start: int = 0
    end: int = 0


class FormulaProblem(VedutaError):
    """A formula that cannot be used, and where it is wrong."""

    code = "formula"

    def __init__(self, message: str, *, at: Span = Span(), hint: str = "", where: str = "") -> None:
        super().__init__(message, where=where or (f"character {at.start + 1}" if at.end else ""), hint=hint)
        self.at = Span(at.start, max(at.start, at.end))

    def as_data(self) -> dict[str, Any]:
        return {**super().as_data(), "start": self.at.start, "end": self.at.end}


# What people write out of habit, and what it is called here.
HABITS = {
    "==": ("Two values are compared with one sign: =", "Write = instead of ==."),
    "!=": ("“Not equal” is written <>", "Write <> instead of !=."),
    "&&": ("Two conditions are joined with the word and.", "Write and instead of &&."),
    "||": ("Two conditions are joined with the word or; texts with &.", "Write or, or &."),
    "**": ("A power is written with ^", "Write ^ instead of **."),
    ";": ("Values are separated by commas.", "Write a comma instead of the semicolon."),
    "[": ("Names with spaces stand in double quotes.", 'Write "Fare revenue" instead of [Fare revenue].'),
    "{": ("Names with spaces stand in double quotes.", 'Write "Fare revenue".'),
    "%": ("There is no percent sign; a percentage is a number divided by 100.", "For a remainder use mod(a, b)."),
    "`": ("Names with spaces stand in double quotes.", 'Write "Fare revenue".'),
    "“": ("Typographic quotes are not read.", "Use straight quotes: ' for text, \" for names."),
    "‘": ("Typographic quotes are not read.", "Use straight quotes: ' for text, \" for names."),
    "’": ("Typographic quotes are not read.", "Use straight quotes: ' for text, \" for names."),
    "#": ("This sign has no meaning here.", "Dates are written date('2026-10-31')."),
}


def explain_syntax_error(text: str, error: UnexpectedInput) -> FormulaProblem:
    """The reader's message for what the parser met."""
    position = error.pos_in_stream
    token = getattr(error, "token", None)
    ended = token is not None and token.type == "$END"
    if position is None or ended:
        position = len(text)
    if problem := _explain_habit(text, position) or _explain_unclosed_quote(text):
        return problem
    if ended:
        return _explain_broken_off(text)
    if isinstance(error, UnexpectedCharacters) or token is None:
        return FormulaProblem(
            f"“{text[position : position + 1]}” has no meaning here.",
            at=Span(position, position + 1),
            hint="Take it out, or check the place.",
        )
    word = str(token)
    if problem := _explain_no_dimension(text[:position], position + len(word)):
        return problem
    message, hint = _explain_unexpected(word, text[:position])
    return FormulaProblem(message, at=Span(position, position + len(word)), hint=hint)


GRAIN_OPENS = re.compile(r"\bper\s*$", re.IGNORECASE)


def _explain_no_dimension(before: str, end: int) -> FormulaProblem | None:
    """That something else than a field or a period stands in the brackets of a grain, as hour(departure)."""
    opened = next((at for at in _open_brackets(before) if GRAIN_OPENS.search(before[:at])), None)
    start = opened if opened is None else opened + 1 + before[opened + 1 :].rfind(",") + 1
    if start is None or not before[start:].strip():
        return None
    start += len(before[start:]) - len(before[start:].lstrip())
    return FormulaProblem(
        "“per” takes fields, and periods of dates written as trunc(field, 'month').",
        at=Span(start, end),
        hint="Make this a formula of the row, and name that here.",
    )


def _explain_habit(text: str, position: int) -> FormulaProblem | None:
    """What is written so elsewhere, and how it is written here."""
    for sign, (message, hint) in HABITS.items():
        if text.startswith(sign, position) or (len(sign) == 2 and position and text.startswith(sign, position - 1)):
            start = position if text.startswith(sign, position) else position - 1
            return FormulaProblem(message, at=Span(start, start + len(sign)), hint=hint)
    return None


def _explain_unclosed_quote(text: str) -> FormulaProblem | None:
    opened = open_quote(text)
    if not opened:
        return None
    start, sign = opened
    what = "text" if sign == "'" else "name"
    return FormulaProblem(
        f"This {what} has no closing quote.", at=Span(start, len(text)), hint=f"Put a {sign} behind it."
    )


def _explain_broken_off(text: str) -> FormulaProblem:
    opened = _open_brackets(text)
    depth, start = len(opened), opened[0] if opened else 0
    if depth and _complete(text):
        return FormulaProblem(
            f"{depth} opening bracket{' is' if depth == 1 else 's are'} not closed.",
            at=Span(start, start + 1),
            hint="Add “)” where it ends.",
        )
    end = len(text)
    return FormulaProblem("The formula breaks off here.", at=Span(end, end), hint="A value or a field is missing.")


def _explain_unexpected(word: str, before: str) -> tuple[str, str]:
    """What is wrong with a word that stands behind `before`, and what to do."""
    written = before.rstrip()
    if word == ")" and not _open_brackets(before):
        return "This bracket was never opened.", "Take it out, or add “(” before."
    if word == ")" and written.endswith("("):
        return "There is nothing between these brackets.", "Write a value between them."
    if word == ")":
        return "A value is missing before this bracket.", "Write one, or take the sign out."
    if word == "," and written.endswith((",", "(")):
        return "A value is missing before this comma.", "Write one, or take the comma out."
    if word == ",":
        return "A comma stands here without a function.", "Decimals are written with a point: 1.5"
    if written and written[-1] in "+-*/^&=<>,(":
        return f"“{word}” cannot stand here: a value is expected.", "Write a field, a number or a text."
    return f"Something is missing before “{word}”.", "Put an operator such as + or & between two values."


def open_quote(text: str) -> tuple[int, str] | None:
    """Where a quote was opened that nothing closes."""
    start, sign = 0, ""
    for i, letter in enumerate(text):
        if sign and letter == sign:
            sign = ""
        elif not sign and letter in "'\"":
            start, sign = i, letter
    return (start, sign) if sign else None


def _open_brackets(text: str) -> list[int]:
    """The places of the brackets that are open at the end, the outermost first."""
    positions, sign = [], ""
    for i, letter in enumerate(text):
        if sign:
            sign = "" if letter == sign else sign
        elif letter in "'\"":
            sign = letter
        elif letter == "(":
            positions.append(i)
        elif letter == ")" and positions:
            positions.pop()
    return positions


def _complete(text: str) -> bool:
    last = text.rstrip()[-1:]
    return last not in "+-*/^&=<>,(" and text.split()[-1].lower() not in (
        "and",
        "or",
        "not",
        "is",
        "in",
        "between",
        "where",
    )

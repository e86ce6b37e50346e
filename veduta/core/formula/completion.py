"""What can be written at a place in a formula: fields, functions, the options of an argument."""

from __future__ import annotations

import re
from dataclasses import dataclass

from veduta.core.data.fields import DataField, Schema
from veduta.core.formula.check import quote
from veduta.core.formula.functions import Level, load_registry
from veduta.core.formula.measures import write_formula_name
from veduta.core.formula.problems import open_quote

PARAMETER = re.compile(r":(\w*)$")
WORD = re.compile(r"[^\W\d]\w*$")
WORDS = re.compile(r"[^\W\d]\w*( \w+)+$")
MOST = 12


@dataclass(frozen=True)
class Suggestion:
    """Put `insert` for the characters from `start` to the caret; it is a "field", "function" or "option"."""

    insert: str
    label: str
    about: str
    what: str
    start: int


def complete(text: str, caret: int, schema: Schema, parameters: dict[str, str] | None = None) -> list[Suggestion]:
    """Suggestions for what is being written before the caret, the likeliest first.

    With `parameters` (names and what they are called) it is a formula of a model or chart, which knows aggregates and
    periods too."""
    before, many = text[:caret], parameters is not None
    if parameters is not None and (named := PARAMETER.search(before)):
        return [
            Suggestion(f":{name}", f":{name}", called, "option", named.start())
            for name, called in parameters.items()
            if name.startswith(named[1].lower())
        ][:MOST]
    start, sign = open_quote(before) or (0, "")
    if sign == "'":
        return _suggest_options(before, start, before[start + 1 :])
    if sign == '"':
        return _suggest_fields(before[start + 1 :], start, schema, many)
    word = WORD.search(before)
    begun, start = (word[0], word.start()) if word else ("", caret)
    if not begun:
        return []
    if several := _suggest_fields_of_several_words(before, schema, many):
        return several
    if re.search(r"\b(along|restart|per)\s*\([^()]*$", before[:start], re.IGNORECASE):
        return _suggest_fields(begun, start, schema, many)
    options = [s for s in _suggest_options(before, start, begun, bare=True) if s.label.startswith(begun.lower())]
    return (options + _suggest_fields(begun, start, schema, many) + _suggest_functions(begun, start, many))[:MOST]


def call_around(text: str, caret: int) -> tuple[str, int] | None:
    """The function whose brackets the caret stands in, and which of its arguments, counted from 0."""
    depth, commas, sign = 0, 0, ""
    for i in range(min(caret, len(text)) - 1, -1, -1):
        letter = text[i]
        if sign:
            sign = "" if letter == sign else sign
        elif letter in "'\"" and text[:i].count(letter) % 2:
            sign = letter
        elif letter == ")":
            depth += 1
        elif letter == "(":
            if not depth:
                name = WORD.search(text[:i].rstrip())
                if name and name[0].lower() in load_registry():
                    return name[0].lower(), commas
                return None
            depth -= 1
        elif letter == "," and not depth:
            commas += 1
    return None


def _suggest_options(before: str, start: int, begun: str, bare: bool = False) -> list[Suggestion]:
    around = call_around(before[:start], start)
    if not around:
        return []
    function, position = load_registry()[around[0]], around[1]
    takes = function.takes
    if position >= len(takes) or takes[position].bare != bare:
        return []
    options = [option for option in takes[position].options if option.startswith(begun.lower())]
    return [
        Suggestion(option if bare else f"'{option}'", option, takes[position].name, "option", start)
        for option in options
    ]


def _suggest_fields_of_several_words(before: str, schema: Schema, many: bool) -> list[Suggestion]:
    """The fields whose names begin with the last words before the caret, taking as many words as match.

    After `1 + Fare rev` that is “Fare revenue”, which need not begin with a quotation mark."""
    run = WORDS.search(before)
    start = run.start() if run else len(before)
    while (begun := before[start:]).count(" "):
        found = _suggest_fields(begun, start, schema, many)
        if starting := [each for each in found if each.label.casefold().startswith(begun.casefold())]:
            return starting
        start += begun.index(" ") + 1
    return []


def _suggest_fields(begun: str, start: int, schema: Schema, many: bool) -> list[Suggestion]:
    asked = begun.casefold().replace("_", " ")
    ranked: list[tuple[int, int, Suggestion]] = []
    for field in schema:
        name = field.name.casefold()
        if asked in name:
            # What starts with it comes first, then words that do, then the rest.
            rank = 0 if name.startswith(asked) else 1 if f" {asked}" in name else 2
            ranked.append(
                (
                    rank,
                    len(ranked),
                    Suggestion(
                        write_formula_name(field, schema) if many else quote(field.name),
                        field.name,
                        _describe_field(field, schema),
                        "field",
                        start,
                    ),
                )
            )
    return [suggestion for _, _, suggestion in sorted(ranked, key=lambda each: each[:2])][:MOST]


def _describe_field(field: DataField, schema: Schema) -> str:
    table = schema.tables.get(field.table)
    return f"{field.kind.words}, {table}" if table and field.table else field.kind.words


def _suggest_functions(begun: str, start: int, many: bool) -> list[Suggestion]:
    suggestions = []
    for function in load_registry().values():
        # Formulas of rows cannot use aggregates and periods.
        fits = many or function.level in (Level.ROW, Level.WINDOW)
        if not function.operator and fits and function.name.startswith(begun.lower()):
            suggestions.append(Suggestion(f"{function.name}(", function.signature, function.says, "function", start))
    return suggestions

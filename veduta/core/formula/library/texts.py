"""Functions of text. Places in a text are counted from 1."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

import polars as pl

from veduta.core.data.fields import DataType
from veduta.core.formula.functions import TEXT, WHOLE, Argument, Operand, register_function
from veduta.core.formula.library.bounds import replace_text
from veduta.core.formula.problems import FormulaProblem

THEME: dict[str, Any] = {"theme": "Text"}
T = Argument("text", TEXT)
COUNT = Argument("count", WHOLE)
PART = Argument("part", TEXT)
PATTERN = Argument("pattern", TEXT, constant=True)


def _register(
    name: str, says: str, example: tuple[str, str], work: Callable[..., pl.Expr], gives: DataType = DataType.TEXT
) -> None:
    @register_function(name, T, gives=gives, says=says, example=example, **THEME)
    def _(text: Operand) -> pl.Expr:
        return work(text.expression)


for _each in (
    ("upper", "The text in capitals.", ("upper('Quay')", "QUAY"), lambda t: t.str.to_uppercase()),
    ("lower", "The text in small letters.", ("lower('Quay')", "quay"), lambda t: t.str.to_lowercase()),
    (
        "capitalize",
        "Each word with a capital.",
        ("capitalize('isle of ash')", "Isle Of Ash"),
        lambda t: t.str.to_titlecase(),
    ),
    (
        "length",
        "How many characters the text has.",
        ("length('Quay')", "4"),
        lambda t: t.str.len_chars().cast(pl.Int64),
        DataType.WHOLE,
    ),
    ("reverse", "The text backwards.", ("reverse('abc')", "cba"), lambda t: t.str.reverse()),
):
    _register(*_each)


@register_function(
    "trim",
    T,
    gives=DataType.TEXT,
    says="The text without blanks at its ends, and with single blanks inside.",
    example=("trim('  Isle  of Ash ')", "Isle of Ash"),
    **THEME,
)
def trim_text(text: Operand) -> pl.Expr:
    return text.expression.str.replace_all(r"\s+", " ").str.strip_chars()


@register_function(
    "left",
    T,
    COUNT,
    gives=DataType.TEXT,
    says="The first so many characters.",
    example=("left('Quay', 2)", "Qu"),
    **THEME,
)
def _(text: Operand, count: Operand) -> pl.Expr:
    return text.expression.str.head(count.expression.clip(0))


@register_function(
    "right",
    T,
    COUNT,
    gives=DataType.TEXT,
    says="The last so many characters.",
    example=("right('Quay', 2)", "ay"),
    **THEME,
)
def _(text: Operand, count: Operand) -> pl.Expr:
    return text.expression.str.tail(count.expression.clip(0))


@register_function(
    "substring",
    T,
    Argument("start", WHOLE),
    Argument("count", WHOLE, optional=True),
    gives=DataType.TEXT,
    says="The characters from a place on, so many or all.",
    example=("substring('Brackhaven', 6, 5)", "haven"),
    **THEME,
)
def _(text: Operand, start: Operand, count: Operand | None = None) -> pl.Expr:
    first = (start.expression - 1).clip(0)
    return text.expression.str.slice(first, count.expression.clip(0) if count else None)


@register_function(
    "position",
    PART,
    T,
    gives=DataType.WHOLE,
    says="The place where a part first stands in a text; 0 if it does not.",
    example=("position('h', 'Brackhaven')", "6"),
    **THEME,
)
def _(part: Operand, text: Operand) -> pl.Expr:
    before = text.expression.str.slice(0)
    found = text.expression.str.find(part.expression, literal=True)
    # The place is found in bytes and wanted in characters.
    place = (
        before.str.encode("hex").str.slice(0, found * 2).str.decode("hex", strict=False).cast(pl.String, strict=False)
    )
    missing = text.expression.is_not_null() & part.expression.is_not_null()
    return (
        pl.when(found.is_not_null()).then(place.str.len_chars().cast(pl.Int64) + 1).otherwise(pl.when(missing).then(0))
    )


@register_function(
    "contains",
    T,
    PART,
    gives=DataType.YES_NO,
    says="Whether a part stands in the text; capitals do not matter.",
    example=("contains('Outer Light', 'light')", "yes"),
    **THEME,
)
def _(text: Operand, part: Operand) -> pl.Expr:
    return text.expression.str.to_lowercase().str.contains(part.expression.str.to_lowercase(), literal=True)


@register_function(
    "starts_with",
    T,
    PART,
    gives=DataType.YES_NO,
    says="Whether the text starts with a part; capitals do not matter.",
    example=("starts_with('Outer Light', 'outer')", "yes"),
    **THEME,
)
def _(text: Operand, part: Operand) -> pl.Expr:
    return text.expression.str.to_lowercase().str.starts_with(part.expression.str.to_lowercase())


@register_function(
    "ends_with",
    T,
    PART,
    gives=DataType.YES_NO,
    says="Whether the text ends with a part; capitals do not matter.",
    example=("ends_with('Outer Light', 'light')", "yes"),
    **THEME,
)
def _(text: Operand, part: Operand) -> pl.Expr:
    return text.expression.str.to_lowercase().str.ends_with(part.expression.str.to_lowercase())


@register_function(
    "replace",
    T,
    Argument("find", TEXT),
    Argument("put", TEXT),
    gives=DataType.TEXT,
    says="The text with every occurrence of a part replaced.",
    example=("replace('a-b-c', '-', '/')", "a/b/c"),
    **THEME,
)
def _(text: Operand, find: Operand, put: Operand) -> pl.Expr:
    return replace_text(text.expression, find.expression, put.expression)


@register_function(
    "split_part",
    T,
    Argument("separator", TEXT, constant=True),
    Argument("number", WHOLE, constant=True),
    gives=DataType.TEXT,
    says="One part of a text cut at a separator; parts are counted from 1, from the end with minus.",
    example=("split_part('Quay–Fennick', '–', 2)", "Fennick"),
    empties="Empty if there is no such part.",
    **THEME,
)
def _(text: Operand, separator: Operand, number: Operand) -> pl.Expr:
    if not number.value:
        raise FormulaProblem("Parts are counted from 1.", hint="Write 1 for the first or -1 for the last.")
    place = number.value - 1 if number.value > 0 else number.value
    return text.expression.str.split(separator.value).list.get(place, null_on_oob=True)


def check_pattern(pattern: str) -> str:
    """A regular expression that can be used. Raises FormulaProblem if it cannot."""
    try:
        pl.Series([""]).str.contains(pattern)
        re.compile(pattern)
    except (pl.exceptions.ComputeError, re.error) as error:
        said = re.search(r"error: (?!$|regex)(.+)", str(error), re.MULTILINE)
        reason = (said[1] if said else str(error).splitlines()[0])[:120].rstrip(".: ")
        raise FormulaProblem(f"The pattern cannot be read: {reason}.", hint=r"Example: \d+ for digits.") from None
    return pattern


@register_function(
    "matches",
    T,
    PATTERN,
    gives=DataType.YES_NO,
    says="Whether a regular expression fits anywhere in the text.",
    example=(r"matches('SK-204', '^[A-Z]+-\d+$')", "yes"),
    **THEME,
)
def _(text: Operand, pattern: Operand) -> pl.Expr:
    return text.expression.str.contains(check_pattern(pattern.value))


@register_function(
    "extract",
    T,
    PATTERN,
    gives=DataType.TEXT,
    says="What a regular expression finds: its first bracketed group, or all of it.",
    example=(r"extract('SK-204', '\d+')", "204"),
    empties="Empty where nothing is found.",
    **THEME,
)
def extract_pattern(text: Operand, pattern: Operand) -> pl.Expr:
    checked = check_pattern(pattern.value)
    return text.expression.str.extract(checked, 1 if re.compile(checked).groups else 0)

"""Number patterns as the Unicode Common Locale Data Repository (CLDR) defines them: #,##0.00;(#,##0.00)."""

from __future__ import annotations

import re
from decimal import Decimal
from functools import cache

from babel.numbers import NumberPattern, get_currency_symbol, parse_pattern

QUOTED = re.compile(r"'[^']*'")
NUMBER = re.compile(r"[^#0@.,;]*[#0@,]*[#0@](\.[0#]*)?(E\+?0+)?[^#0@;]*")


def validate_pattern(text: str) -> str:
    """A pattern, or "" for none. Raises ValueError for what is none."""
    bare = QUOTED.sub("", text)
    parts = bare.split(";")
    if text and (len(parts) > 2 or "'" in bare or not all(NUMBER.fullmatch(part) for part in parts)):
        raise ValueError(f"“{text}” is no pattern of numbers; write one as #,##0.00 or #,##0.0 'km';(#,##0.0 'km')")
    return text


@cache
def _parse(pattern: str) -> NumberPattern:
    return parse_pattern(pattern)


def format_pattern(value: float | int, pattern: str, currency: str, language: str = "en") -> str:
    """A number as a pattern writes it in a language.

    A negative number has a minus where the pattern has no form of its own for it. What is written with nothing but
    zeros has no sign."""
    number = Decimal(value) if isinstance(value, int) else Decimal(repr(value))
    text = _write_number(number, pattern, currency, language)
    if not any(digit in "123456789" for digit in text):
        return _write_number(abs(number), pattern, currency, language)
    return text.replace("-", "−", 1) if text.startswith("-") else text


def _write_number(number: Decimal, pattern: str, currency: str, language: str) -> str:
    symbol = currency if "¤" in pattern else None
    return str(_parse(pattern).apply(number, language, currency=symbol, currency_digits=False))


def split_pattern(pattern: str, currency: str, language: str = "en") -> tuple[str, str, int]:
    """What a pattern puts before and after a positive number, and how many times as large it writes it."""
    parsed = _parse(pattern)
    symbol = get_currency_symbol(currency, language)
    before, after = (
        text.replace("''", "\0").replace("'", "").replace("\0", "'").replace("¤", symbol)
        for text in (parsed.prefix[0], parsed.suffix[0])
    )
    return before, after, 10**parsed.scale

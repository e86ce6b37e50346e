"""Date patterns as the Unicode Common Locale Data Repository (CLDR) defines them: MMM yy, d.M., 'W'w."""

from __future__ import annotations

import datetime as dt
import re

from babel.dates import format_datetime

QUOTED = re.compile(r"''|'[^']*'")
KNOWN = re.compile(r"[yYQqMLwWdDEehHkKmsSa]")
SAMPLE = dt.date(2000, 1, 1)


def validate_date_pattern(text: str) -> str:
    """A pattern, or "" for none. Raises ValueError for what is none."""
    bare = QUOTED.sub("", text)
    is_known = "'" not in bare and all(KNOWN.match(letter) for letter in re.findall(r"[A-Za-z]", bare))
    try:
        if is_known and (not text or format_date_pattern(SAMPLE, text)):
            return text
    except (ValueError, KeyError, TypeError):
        pass
    raise ValueError(f"“{text}” is no pattern of dates; write one as MMM yyyy, d.M.yy or 'W'w")


def format_date_pattern(value: dt.date, pattern: str, language: str = "en") -> str:
    """A day or moment as a pattern writes it in a language."""
    moment = value if isinstance(value, dt.datetime) else dt.datetime(value.year, value.month, value.day)
    return format_datetime(moment, pattern, locale=language)

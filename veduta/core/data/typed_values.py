"""Days and numbers as people type them into a box."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Iterator

from veduta.core.data.recognise import DATE_SHAPES, NUMBER, build_digits_pattern, recognise_separators
from veduta.core.errors import DefinitionProblem

WORDS = {"today": 0, "yesterday": -1, "tomorrow": 1}
ORDERS = ("ymd", "dmy", "mdy")


def parse_typed_day(text: str, today: dt.date) -> dt.date:
    """The day that somebody means; of numbers alone the day comes before the month, and the year may be left out.

    Raises DefinitionProblem for what is no day.

    >>> parse_typed_day("15 Mar 2026", dt.date(2026, 11, 1)), parse_typed_day("3.4.", dt.date(2026, 11, 1))
    (datetime.date(2026, 3, 15), datetime.date(2026, 4, 3))
    """
    said = re.sub(r"[\s.]+$", "", re.sub(r"\s+", " ", text.strip()))
    if said.lower() in WORDS:
        return today + dt.timedelta(days=WORDS[said.lower()])
    with_year = (f"{said}{sign}{today.year}" for sign in "./ ")
    for written in (said, re.sub(r"[,.]", "", said), *with_year):
        for pattern in _iterate_patterns():
            try:
                return dt.datetime.strptime(written, pattern).date()
            except ValueError:
                continue
    raise DefinitionProblem(f"“{text.strip()[:40]}” is not a day.", hint="Write it like 15 Mar 2026 or 2026-03-15.")


def _iterate_patterns() -> Iterator[str]:
    for order in ORDERS:
        yield from DATE_SHAPES[order]
    yield from ("%B %d %Y", "%d %B %y", "%d %b %y")


def parse_typed_number(text: str) -> float:
    """The number that somebody means, with a point or a comma before its fraction.

    Raises DefinitionProblem for what is no number.

    >>> [parse_typed_number(written) for written in ("3,5", "1.234,5", "−1,200", "12 %")]
    [3.5, 1234.5, -1200.0, 0.12]
    """
    match = NUMBER.match(text.strip())
    problem = DefinitionProblem(f"“{text.strip()[:40]}” is not a number.", hint="Write it like 1234.5 or 1234,5.")
    signs = [match[name] for name in ("sign", "sign2", "sign3", "open") if match[name]] if match else []
    if not match or len(signs) > 1:
        raise problem
    digits = match["digits"].replace("\u00a0", " ").replace("\u202f", " ").replace("’", "'").strip()
    thousands, decimal = recognise_separators([digits])
    if not re.match(build_digits_pattern(thousands, decimal), digits):
        raise problem
    plain = re.sub(rf"[{re.escape(thousands)} ']", "", digits).replace(decimal, ".")
    number = float(plain + (match["power"] or ""))
    if signs and signs != ["+"]:
        number = -number
    return number / 100 if match["after"] == "%" else number

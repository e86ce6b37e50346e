"""What a column of numbers is, judged by its heading: something counted or paid, a value that only a mean makes sense
of, or a number that names a thing."""

from __future__ import annotations

import itertools
import re


def _words(text: str) -> frozenset[str]:
    return frozenset(text.split())


THINGS = _words(
    "id ids code codes no nr num number key ref reference zip postcode postal phone tel telephone mobile fax year iban"
    " sku barcode account uuid isbn"
)
LEADING_THINGS = THINGS - _words("account year no num number nr phone mobile tel key reference")
"""Those that name a thing as the first word too: “ID customer” does, “Account balance” does not."""
SINGLE_VALUES = _words(
    "rate rates ratio share percent percentage pct average avg mean median price prices temperature temp score scores"
    " index speed length age height depth latitude longitude lat lon late delay rating ratings stars wind humidity"
    " pressure level levels altitude elevation density expectancy runtime duration frequency probability rank ranking"
    " grade quality satisfaction intensity"
)
SINGLE_UNITS = re.compile(
    r"%|°|\bper\b|[€$£]/\w|\([^)]*/[^)]*\)|\b(km/?h|m/s|mph|hpa|mbar|bpm|db|ph|celsius|fahrenheit|kelvin|knots)\b"
)


def words_of(heading: str) -> list[str]:
    """The words of a heading, in small letters, also where they are written together or with lines between.

    >>> words_of("minTemp_C"), words_of("Price (EUR)")
    (['min', 'temp', 'c'], ['price', 'eur'])
    """
    apart = re.sub(r"([a-z])([A-Z])", r"\1 \2", heading)
    return re.findall(r"[^\W_]+", apart.lower())


def names_a_thing(heading: str, texts: list[str]) -> bool:
    """Whether whole numbers name things, such as customers or years, so that nobody adds them up."""
    words = words_of(re.sub(r"\([^)]*\)", "", heading)) or words_of(heading)
    counts = re.search(r"\b(number|no|num|nr)[\s_.]+of\b", heading, re.IGNORECASE)
    if words and not counts and (words[-1] in THINGS or words[0] in LEADING_THINGS):
        return True
    numbers = [int(text) for text in texts if text.isdigit()]
    if not numbers:
        return False
    if all(1900 <= number <= 2100 for number in numbers):
        return True
    steps_of_one = all(b - a == 1 for a, b in itertools.pairwise(numbers))
    return len(numbers) > 5 and len(set(numbers)) == len(numbers) and steps_of_one


def is_single_value(heading: str) -> bool:
    """Whether values are ratings, temperatures, prices and the like, whose sum means nothing and whose mean does."""
    return bool(SINGLE_VALUES & set(words_of(heading)) or SINGLE_UNITS.search(heading.lower()))

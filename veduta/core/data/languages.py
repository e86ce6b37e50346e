"""How numbers and periods are written in a language, as the Unicode Common Locale Data Repository (CLDR) has it."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import cache, cached_property
from typing import Annotated, Final

from babel import Locale
from babel.dates import get_day_names, get_month_names
from babel.numbers import get_currency_symbol, get_decimal_symbol, get_group_symbol, parse_pattern
from pydantic import AfterValidator

LANGUAGES: Final = {
    "en": "English",
    "cs": "Czech",
    "da": "Danish",
    "nl": "Dutch",
    "fi": "Finnish",
    "fr": "French",
    "de": "German",
    "el": "Greek",
    "hu": "Hungarian",
    "it": "Italian",
    "nb": "Norwegian",
    "pl": "Polish",
    "pt": "Portuguese",
    "ro": "Romanian",
    "es": "Spanish",
    "sv": "Swedish",
    "tr": "Turkish",
}
"""In which numbers and dates are written."""


def _find_code(code: str) -> str:
    if code not in LANGUAGES:
        raise ValueError("Veduta does not write numbers and dates in that language")
    return code


LanguageCode = Annotated[str, AfterValidator(_find_code)]
SHORTENED: Final = ((1e12, "tn"), (1e9, "bn"), (1e6, "M"), (1e3, "k"))
"""What stands for large numbers in English, the largest first."""
POWERS = (12, 9, 6, 3)
SKELETONS: Final = {"month": "yMMM", "day": "yMMMd", "quarter": "yQQQ"}


@cache
def get_language(code: str) -> Language:
    """The language of a code. Raises babel's UnknownLocaleError for one that there is not."""
    return Language(code)


@dataclass(frozen=True)
class Language:
    """A language by its code, made by `get_language`, as it keeps what it has looked up."""

    code: str

    @cached_property
    def locale(self) -> Locale:
        return Locale(self.code)

    @cached_property
    def decimal(self) -> str:
        return get_decimal_symbol(self.code)

    @cached_property
    def group(self) -> str:
        """What stands between thousands."""
        return get_group_symbol(self.code)

    def write_digits(self, text: str) -> str:
        """Digits that are written as in English: "1,234.5" as "1.234,5"."""
        return text.translate(self._signs)

    @cached_property
    def _signs(self) -> dict[int, str]:
        return str.maketrans({",": self.group, ".": self.decimal})

    def split_currency(self, code: str) -> tuple[str, str]:
        """What stands before and after an amount of money."""
        return _split_around_money(self.code, code)

    def split_negative_currency(self, code: str) -> tuple[str, str]:
        """What stands before and after an amount of money below zero, its minus sign included."""
        return _split_around_negative_money(self.code, code)

    def split_part(self, sign: str) -> tuple[str, str]:
        """What stands before and after a number of parts of one, such as %."""
        return _split_around_part(self.code, sign)

    @cached_property
    def sizes(self) -> tuple[tuple[float, str], ...]:
        """What stands for large numbers, the largest first."""
        if self.code == "en":
            return SHORTENED
        patterns = self.locale.compact_decimal_formats["short"]["other"]
        return tuple(_iterate_sizes({power: str(patterns[str(10**power)].pattern) for power in POWERS}))

    def get_period_pattern(self, grain: str) -> str:
        """The pattern of a month, a quarter or a day; "" for others."""
        skeleton = SKELETONS.get(grain, "")
        return str(self.locale.datetime_skeletons[skeleton].pattern) if skeleton else ""

    @cached_property
    def months(self) -> Mapping[int, str]:
        return get_month_names("wide", "stand-alone", self.code)

    @cached_property
    def weekdays(self) -> list[str]:
        """From Monday on."""
        names = get_day_names("wide", "stand-alone", self.code)
        return [names[day] for day in range(7)]

    def list_month_names(self, letters: str) -> list[str]:
        """What a pattern's M's or L's stand for, from January on."""
        widths = {3: "abbreviated", 4: "wide"}
        if len(letters) not in widths:
            return [f"{month:0{len(letters)}}" for month in range(1, 13)]
        context = "format" if letters.startswith("M") else "stand-alone"
        names = get_month_names(widths[len(letters)], context, self.code)  # type: ignore[arg-type]
        return [names[month] for month in range(1, 13)]

    @cached_property
    def quarters(self) -> list[str]:
        names = self.locale.quarters["format"]["abbreviated"]
        return [names[quarter] for quarter in range(1, 5)]


def _split_around(pattern: str, sign: str, shown: str) -> tuple[str, str]:
    """What a pattern of positive numbers puts before and after them, with another sign in it."""
    before, after = re.split(r"[#0,.]+", pattern.split(";")[0])
    return before.replace(sign, shown), after.replace(sign, shown)


@cache
def _split_around_money(code: str, currency: str) -> tuple[str, str]:
    pattern = str(Locale(code).currency_formats["standard"].pattern)
    return _split_around(pattern, "¤", get_currency_symbol(currency, code))


@cache
def _split_around_negative_money(code: str, currency: str) -> tuple[str, str]:
    parsed = parse_pattern(str(Locale(code).currency_formats["standard"].pattern))
    symbol = get_currency_symbol(currency, code)
    before, after = (text.replace("-", "−").replace("¤", symbol) for text in (parsed.prefix[1], parsed.suffix[1]))
    return before, after


@cache
def _split_around_part(code: str, sign: str) -> tuple[str, str]:
    return _split_around(str(Locale(code).percent_formats[None].pattern), "%", sign)


def _iterate_sizes(patterns: Mapping[int, str]) -> Iterator[tuple[float, str]]:
    """The sizes that have words, by the patterns of powers of ten: "0 Mio" for 6, or "0000 M" for 9."""
    for power, pattern in patterns.items():
        if words := parse_pattern(pattern).suffix[0].replace("'", ""):
            yield 10.0 ** (power - pattern.count("0") + 1), words

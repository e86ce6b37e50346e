"""What a column of numbers means, judged by its heading, its values and its neighbours.

Something counted or paid, a value of which only a mean makes sense, or an identifier."""

from __future__ import annotations

import itertools
import math
import re
import statistics
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

from veduta.core.phrases import split_words

THINGS = split_words(
    "id ids code codes no nr num number key ref reference zip postcode postal phone tel telephone mobile fax year iban"
    " sku barcode account uuid isbn"
)
LEADING_THINGS = THINGS - split_words("account year no num number nr phone mobile tel key reference")
"""Those that name a thing as the first word too: “ID customer” does, “Account balance” does not."""
SINGLE_VALUES = split_words(
    "rate rates ratio share percent percentage pct average avg mean median price prices temperature temperatures temp"
    " score scores index speed length width thickness diameter radius age height depth latitude longitude lat lon late"
    " delay rating ratings stars wind gust gusts humidity pressure visibility dew level levels altitude elevation"
    " density concentration salinity expectancy runtime duration frequency probability odds rank ranking grade quality"
    " satisfaction intensity voltage efficiency horsepower acceleration displacement mpg ph ppm bmi gini hdi gpa iq"
)
SINGLE_UNITS = re.compile(
    r"%|°|\bper\b|[€$£]/\w|\([^)]*/[^)]*\)|\b(km/?h|m/s|mph|hpa|mbar|bpm|db|ph|celsius|fahrenheit|kelvin|knots)\b"
)
LATITUDES, LONGITUDES = split_words("latitude lat"), split_words("longitude lon lng long")
EXTREMES = split_words("min max minimum maximum lowest highest")
DAY_OF_TRADE = split_words("open high low close")
LENGTHS_OF_TIME = split_words("minutes mins hours seconds secs")
COUNTS = split_words("count counts number num quantity qty total totals sum")
STOCKS = split_words(
    "balance balances stock stocks inventory population populations headcount outstanding backlog debt assets"
    " liabilities reserves subscribers members employees"
)
KINDS_OF_VALUE = split_words("unit units indicator indicators metric metrics variable kpi")
"""Headings of columns that say what is measured in each row."""
FEWEST = 20
"""Values that a judgement by values needs."""
MANY_APART = 100
"""So many numbers that are all equally far from one another are those of rows."""
CLOSE = 0.12
"""The standard deviation of values that lie close together, as a share of their mean: of what is counted or paid it is
seldom so small, of pressures, expectancies and rates of exchange it often is."""


@dataclass(frozen=True)
class Meaning:
    """How values of a column are made one.

    `is_stock` values are added up, but not over dates. `why` says what told it, if not the usual."""

    adds_up: bool = True
    is_stock: bool = False
    why: str = ""


def split_heading(heading: str) -> list[str]:
    """The words of a heading, in small letters, also where they are written together or with lines between.

    >>> split_heading("minTemp_C"), split_heading("Price (EUR)")
    (['min', 'temp', 'c'], ['price', 'eur'])
    """
    apart = re.sub(r"([a-z])([A-Z])", r"\1 \2", heading)
    return re.findall(r"[^\W_]+", apart.lower())


def names_a_thing(heading: str, texts: list[str]) -> bool:
    """Whether whole numbers name things, such as customers or years, so that nobody adds them up."""
    words = split_heading(re.sub(r"\([^)]*\)", "", heading)) or split_heading(heading)
    counts = re.search(r"\b(number|no|num|nr)[\s_.]+of\b", heading, re.IGNORECASE)
    if words and not counts and (words[-1] in THINGS or words[0] in LEADING_THINGS):
        return True
    numbers = [int(text) for text in texts if text.isdigit()]
    if not numbers:
        return False
    if all(1900 <= number <= 2100 for number in numbers):
        return True
    if len(numbers) >= FEWEST and _are_telephones(numbers):
        return True
    steps = {after - before for before, after in itertools.pairwise(numbers)}
    # Of a long file every so manieth value is looked at, so that numbers in a row go on by more than one.
    return (steps == {1} and len(numbers) > 5) or (len(steps) == 1 and min(steps) > 0 and len(numbers) >= MANY_APART)


def _are_telephones(numbers: list[int]) -> bool:
    """Whether numbers are long, all of one length and nearly all different, as no amounts are."""
    lengths = {len(str(number)) for number in numbers}
    return len(lengths) == 1 and lengths.pop() >= 9 and len(set(numbers)) > 0.95 * len(numbers)


Telling = tuple[tuple[str, frozenset[str]], ...]
"""Headings that tell something about the columns beside theirs, each with its words."""


def find_telling_headings(headings: Iterable[str]) -> Telling:
    """Those of a table's headings that tell something about the columns beside theirs."""
    all_words = ((heading, frozenset(split_heading(heading))) for heading in headings)
    return tuple(
        (heading, words)
        for heading, words in all_words
        if words and (words & EXTREMES or words <= KINDS_OF_VALUE or words <= DAY_OF_TRADE)
    )


def guess_meaning(heading: str, numbers: list[float], beside: Telling = ()) -> Meaning:
    """What a column of numbers means, by its heading, its values, and what stands beside it."""
    words = frozenset(split_heading(heading))
    if words & COUNTS:
        return Meaning()
    if is_single_value(heading):
        return Meaning(adds_up=False)
    if words & STOCKS:
        return Meaning(is_stock=True, why="a stock: over dates the last counts")
    if why := _guess_single_beside(words, beside) or _guess_single_by_values(numbers):
        return Meaning(adds_up=False, why=why)
    return Meaning()


def place_of(heading: str, numbers: list[float]) -> Literal["", "latitude", "longitude"]:
    """Whether numbers are degrees of latitude or longitude, by their heading and their range."""
    words = set(split_heading(heading))
    most = max((abs(number) for number in numbers), default=math.inf)
    if words & LATITUDES and most <= 90:
        return "latitude"
    return "longitude" if words & LONGITUDES and most <= 180 else ""


def is_single_value(heading: str) -> bool:
    """Whether values are ratings, temperatures, prices and the like, whose sum means nothing and whose mean does."""
    words = frozenset(split_heading(heading))
    told = words & (SINGLE_VALUES | EXTREMES) or words <= LENGTHS_OF_TIME
    return bool(words) and bool(told or SINGLE_UNITS.search(heading.lower()))


def _guess_single_beside(words: frozenset[str], beside: Telling) -> str:
    """Why columns beside a column tell that its values are not added up; "" if none does."""
    for other, said in beside:
        if said & EXTREMES and said - EXTREMES == words:
            return f"beside “{other}”"
        if said <= KINDS_OF_VALUE and said != words:
            return f"“{other}” says what is measured"
    of_trade = {said for _, said in beside if said <= DAY_OF_TRADE}
    return "prices of a day" if words in of_trade and len(of_trade) > 2 else ""


def _guess_single_by_values(numbers: list[float]) -> str:
    """Why values themselves tell that they are not added up; "" if they do not."""
    if len(numbers) < FEWEST:
        return ""
    low, high = min(numbers), max(numbers)
    has_fractions = any(number != int(number) for number in numbers)
    if low >= 0 and high <= 1 and has_fractions:
        return "all between 0 and 1"
    if low >= 0 and high <= 5 and has_fractions and all(number * 2 == int(number * 2) for number in numbers):
        return "a scale up to 5"
    if low > 0 and len(set(numbers)) >= FEWEST and statistics.pstdev(numbers) < CLOSE * statistics.fmean(numbers):
        return "all close together"
    return ""

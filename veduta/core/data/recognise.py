"""Recognise what a column of text holds: its kind of value, how to read it and its role."""

from __future__ import annotations

import dataclasses
import math
import re
from collections import Counter
from collections.abc import Iterable
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime
from functools import cache
from typing import Any

from veduta.core.data.field_meaning import (
    Meaning,
    Telling,
    find_telling_headings,
    guess_meaning,
    names_a_thing,
    place_of,
    split_heading,
)
from veduta.core.data.fields import Aggregate, DataField, DataType, FieldRole, NumberFormat, ParseOptions
from veduta.core.data.options import EMPTY_WORDS
from veduta.core.data.periods import recognise_period
from veduta.core.data.sniff import FileSample

ENOUGH_VALUES = 600  # values of a column that are looked at, spread over the sample
ENOUGH = 0.9  # the share of a column's values that must fit a kind for it to be taken

YES = {"yes", "true", "y", "t", "ja", "oui", "sí"}
NO = {"no", "false", "n", "f", "nein", "non"}
CURRENCY_SIGNS = {
    "€": "EUR",
    "$": "USD",
    "£": "GBP",
    "¥": "JPY",
    "CHF": "CHF",
    "EUR": "EUR",
    "USD": "USD",
    "GBP": "GBP",
}
NUMBER = re.compile(
    r"^(?P<open>\()?(?P<sign>[-+−])?(?P<before>€|\$|£|¥|CHF|EUR|USD|GBP)?\s*(?P<sign2>[-+−])?"
    r"(?P<digits>\d[\d.,'’ \u00a0\u202f]*|[.,]\d+)(?P<power>[eE][-+]?\d+)?\s*"
    r"(?P<after>€|\$|£|¥|CHF|EUR|USD|GBP|%)?(?P<sign3>-)?(?P<close>\))?$"
)
GROUPED = {sep: re.compile(rf"^\d{{1,3}}({re.escape(sep)}\d{{3}})+$") for sep in (",", ".", " ", "'")}
DATE_SHAPES = {
    # shape -> (order, strptime pattern); the patterns of one order are tried together
    "ymd": ("%Y-%m-%d", "%Y/%m/%d", "%Y.%m.%d", "%Y-%b-%d"),
    "dmy": (
        "%d/%m/%Y",
        "%d.%m.%Y",
        "%d-%m-%Y",
        "%d/%m/%y",
        "%d.%m.%y",
        "%d-%m-%y",
        "%d %b %Y",
        "%d %B %Y",
        "%d-%b-%Y",
        "%d-%b-%y",
    ),
    "mdy": ("%m/%d/%Y", "%m.%d.%Y", "%m-%d-%Y", "%m/%d/%y", "%m-%d-%y", "%b %d, %Y", "%B %d, %Y", "%b %d %Y"),
}
TIMES = ("%H:%M:%S", "%H:%M", "%H:%M:%S%.f", "%I:%M %p", "%I:%M:%S %p")
DATE_LIKE = re.compile(r"^\d{1,4}[-/. ]([A-Za-z]{3,9}|\d{1,2})[-/. ,]+\d{1,4}|^[A-Za-z]{3,9} \d{1,2},? \d{4}")
TIME_PART = re.compile(r"[T ](\d{1,2}:\d{2}(:\d{2}(\.\d+)?)?( ?[AaPp][Mm])?)(Z|[-+]\d{2}:?\d{2})?$")
WRITTEN_TOGETHER = re.compile(r"[A-Za-z][a-z]+([A-Z][a-z0-9]+)+")
TELEPHONE = re.compile(r"^(\+|00)\d[\d ()/-]{6,}$")


MAYBE_EMPTY = frozenset(
    {
        "na",
        "n.a.",
        "<na>",
        "none",
        "nil",
        "missing",
        "unknown",
        "not known",
        "not available",
        "blank",
        "(blank)",
        "empty",
        "(empty)",
        "?",
        "??",
        "--",
        "---",
        ".",
        "..",
        "...",
        "tbd",
        "tba",
        "#value!",
        "#ref!",
        "#div/0!",
        "#name?",
        "\\n",
        "-999",
        "-9999",
        "-99999",
    }
)
"""Words that people write for no value, though some mean something elsewhere: NA is a country."""


@dataclass
class RecognisedColumn:
    """What was recognised about one column; `question` is set when only its owner can know.

    `maybe_empty` are words in it that often mean empty, as they are written and how often they occur in the sample."""

    field: DataField
    examples: list[str] = dataclasses.field(default_factory=list)
    question: str = ""
    why: str = ""
    maybe_empty: list[tuple[str, int]] = dataclasses.field(default_factory=list)


def recognise_fields(sample: FileSample) -> list[RecognisedColumn]:
    """Each column of the sample with its field."""
    names = clean_names(sample.header or [""] * max(map(len, sample.rows)))
    whole = [sample.get_column(index) for index in range(len(names))]
    step = len(sample.rows) // ENOUGH_VALUES + 1
    columns = [column[::step] for column in whole]
    usual_decimal = recognise_decimal(columns)
    beside = find_telling_headings(source for source, _ in names)
    recognised = [
        recognise_field(f"c{index + 1}", source, name, column, sample.options.empties, usual_decimal, beside)
        for index, ((source, name), column) in enumerate(zip(names, columns, strict=True))
    ]
    if not _are_of_periods(recognised, columns):
        for each in recognised:
            if each.field.over_dates:
                each.field, each.why = each.field.model_copy(update={"over_dates": ""}), ""
    for each, column in zip(recognised, whole, strict=True):
        # All of the sample is looked at: a word that stands in one row of a hundred is the busiest plane of all.
        words = (word for value in column if (word := value.strip()).lower() in MAYBE_EMPTY)
        counts = Counter(word for word in words if word.lower() not in sample.options.empties)
        if counts and (each.maybe_empty or each.field.kind is DataType.TEXT):
            each.maybe_empty = counts.most_common(5)
    return recognised


def _are_of_periods(recognised: list[RecognisedColumn], columns: list[list[str]]) -> bool:
    """Whether the rows are snapshots: how things stood on one date after another.

    There is one column of dates, and no column that names each row once, as a list of things with a date each has."""
    dates = [each for each in recognised if each.field.kind.is_date]
    names = [
        column
        for each, column in zip(recognised, columns, strict=True)
        if each.field.role is FieldRole.DIMENSION and not each.field.kind.is_date
    ]
    return len(dates) == 1 and not any(len(set(column)) == len(column) > 1 for column in names)


def recognise_decimal(columns: list[list[str]]) -> str:
    """The decimal sign that the columns with certain numbers use; "" if none is certain."""
    votes: Counter[str] = Counter()
    for column in columns:
        digits = [match["digits"].strip() for value in column[:200] if (match := NUMBER.match(value.strip()))]
        certain = [text for text in digits if re.search(r"[.,](\d{1,2}|\d{4,})$", text) and not text.count(".") > 1]
        if certain and len(digits) > len([value for value in column[:200] if value.strip()]) / 2:
            votes[next(sign for sign in reversed(certain[0]) if sign in ".,")] += 1
    return votes.most_common(1)[0][0] if votes else ""


def clean_names(header: list[str]) -> list[tuple[str, str]]:
    """(source, name) for each heading: sources made unique, names made readable.

    >>> clean_names(["fare_revenue", "", "Port", "port"])
    [('fare_revenue', 'Fare revenue'), ('', 'Column 2'), ('Port', 'Port'), ('port', 'Port (2)')]
    >>> clean_names(["seaTemp"])
    [('seaTemp', 'Sea temp')]
    """
    seen_sources: Counter[str] = Counter()
    taken: set[str] = set()
    result = []
    for position, heading in enumerate(header, 1):
        source = heading.strip()
        seen_sources[source] += 1
        if source and seen_sources[source] > 1:
            source = f"{source} ({seen_sources[source]})"
        name = re.sub(r"[\s_]+", " ", heading).strip()[:180] or f"Column {position}"
        if WRITTEN_TOGETHER.fullmatch(name):
            name = " ".join(split_heading(name))
        name = name[0].upper() + name[1:]
        if name.isupper() and len(name) > 4:
            name = name.capitalize()
        unique, number = name, 2
        while unique.casefold() in taken:
            unique, number = f"{name} ({number})", number + 1
        taken.add(unique.casefold())
        result.append((source, unique))
    return result


def recognise_field(
    field_id: str,
    source: str,
    name: str,
    values: list[str],
    empties: tuple[str, ...] = EMPTY_WORDS,
    usual_decimal: str = "",
    beside: Telling = (),
) -> RecognisedColumn:
    """Recognise one column from sample values.

    `usual_decimal` settles what "1.200" means; `beside` are the telling headings of the table."""
    stripped = [value.strip() for value in values]
    full = [value for value in stripped if value and value.lower() not in empties]
    maybe_empty = Counter(value for value in full if value.lower() in MAYBE_EMPTY)
    recognised = _recognise_column(field_id, source, name, full, usual_decimal, beside)
    if maybe_empty and recognised.field.kind is DataType.TEXT:
        # In a column of numbers, dates or yes and no these words can mean nothing else. In texts their owner decides.
        rest = [value for value in full if value not in maybe_empty]
        without = _recognise_column(field_id, source, name, rest, usual_decimal, beside)
        recognised = without if rest and without.field.kind is not DataType.TEXT else recognised
    if maybe_empty and recognised.field.kind is not DataType.TEXT:
        words = tuple(sorted({word.lower() for word in maybe_empty if not NUMBER.match(word)}))
        reading = recognised.field.reading.model_copy(update={"empties": words})
        recognised.field = recognised.field.model_copy(update={"reading": reading})
    recognised.maybe_empty = maybe_empty.most_common(5)
    return recognised


def _recognise_column(
    field_id: str, source: str, name: str, full: list[str], usual_decimal: str, beside: Telling
) -> RecognisedColumn:
    base = {"id": field_id, "source": source, "name": name}
    examples = list(dict.fromkeys(full))[:5]
    if not full:
        return RecognisedColumn(DataField(**base, kind=DataType.TEXT), examples, why="no values in the sample")
    recognised = (
        _recognise_yes_no(base, full)
        or _recognise_period(base, full)
        or _recognise_date(base, full)
        or _recognise_number(base, full, usual_decimal, beside)
        or RecognisedColumn(DataField(**base, kind=DataType.TEXT))
    )
    recognised.examples = examples
    return recognised


def _recognise_yes_no(base: dict[str, Any], values: list[str]) -> RecognisedColumn | None:
    words = Counter(value.lower() for value in values)
    fitting = sum(count for word, count in words.items() if word in YES or word in NO)
    if not is_enough(fitting, len(values)):
        return None
    return RecognisedColumn(DataField(**base, kind=DataType.YES_NO))


def _recognise_period(base: dict[str, Any], values: list[str]) -> RecognisedColumn | None:
    period = recognise_period(split_heading(base["source"]), values)
    if not period:
        return None
    return RecognisedColumn(
        DataField(**base, kind=DataType.DATE, reading=ParseOptions(period=period)), why=f"{period}s"
    )


def split_time(value: str) -> tuple[str, str, str]:
    """A date text cut into (date part, time pattern or "", offset pattern or "")."""
    match = TIME_PART.search(value)
    if not match:
        return value, "", ""
    time = match[1]
    pattern = "%I" if match[4] else "%H"
    pattern += ":%M"
    if match[2]:
        pattern += ":%S" + ("%.f" if match[3] else "")
    if match[4]:
        pattern += " %p" if " " in time else "%p"
    separator = value[match.start()]
    return value[: match.start()], separator + pattern, ("Z" if match[5] == "Z" else "%z") if match[5] else ""


@cache
def _shape_of(pattern: str) -> re.Pattern[str]:
    """What texts of a pattern look like; most others are told apart by it much faster than by reading them."""
    parts = {"%Y": r"\d{4}", "%y": r"\d\d", "%m": r"\d\d?", "%d": r"\d\d?", "%b": r"[^\W\d]+", "%B": r"[^\W\d]+"}
    return re.compile(re.sub(r"%[A-Za-z]", lambda part: parts[part[0]], re.escape(pattern)).replace(r"\ ", r"\s+"))


def _fits(text: str, pattern: str) -> bool:
    if not _shape_of(pattern).fullmatch(text):
        return False
    try:
        datetime.strptime(text, pattern)
    except ValueError:
        return False
    return True


def _find_fitting(text: str, patterns: Iterable[str]) -> str:
    return next((pattern for pattern in patterns if _fits(text, pattern)), "")


def _recognise_date(base: dict[str, Any], values: list[str]) -> RecognisedColumn | None:
    dated = [value for value in values if DATE_LIKE.match(value)]
    if not is_enough(len(dated), len(values)):
        return None
    unique = list(dict.fromkeys(dated))[:300]
    parts = [split_time(value) for value in unique]
    fitting = {
        order: [_find_fitting(date, patterns) for date, _, _ in parts] for order, patterns in DATE_SHAPES.items()
    }
    shares = {order: sum(map(bool, patterns)) for order, patterns in fitting.items()}
    order = "mdy" if shares["mdy"] > shares["dmy"] else "dmy"
    # Files that mix shapes ("2025-03-04" and "4.3.2025") are read with all shapes of both orders.
    together = Counter(filter(None, [*fitting["ymd"], *fitting[order]]))
    fits_any = sum(1 for patterns in zip(fitting["ymd"], fitting[order], strict=True) if any(patterns))
    if not is_enough(fits_any, len(parts)):
        return None
    question = ""
    ambiguous = [date for date, _, _ in parts if re.match(r"^\d{1,2}[-/. ]\d{1,2}[-/. ]\d{2,4}$", date)]
    if ambiguous and shares["dmy"] == shares["mdy"]:
        question = ambiguous[0]
    times = Counter(time + offset for _, time, offset in parts)
    formats = [pattern + time for pattern, _ in together.most_common() for time, _ in times.most_common()]
    reading = ParseOptions(order=order if ambiguous else "ymd", formats=tuple(dict.fromkeys(formats))[:6])
    kind = DataType.DATETIME if any(times.keys() - {""}) else DataType.DATE
    return RecognisedColumn(DataField(**base, kind=kind, reading=reading), question=question)


def _recognise_number(
    base: dict[str, Any], values: list[str], usual_decimal: str, beside: Telling
) -> RecognisedColumn | None:
    matches = [NUMBER.match(value) for value in values]
    numbers = [match for match in matches if match]
    if not is_enough(len(numbers), len(values)):
        return None
    texts = [
        match["digits"].replace("\u00a0", " ").replace("\u202f", " ").replace("’", "'").strip() for match in numbers
    ]
    source = base["source"]
    thousands, decimal = recognise_separators(texts, usual_decimal)
    fits = re.compile(build_digits_pattern(thousands, decimal))
    if not is_enough(sum(bool(fits.match(text)) for text in texts), len(values)):
        return None
    plain = [text.replace(thousands, "") if thousands else text for text in texts]
    is_whole = all(decimal not in text for text in plain) and not any(match["power"] for match in numbers)
    leading_zero = sum(len(text) > 1 and text[0] == "0" and text.isdigit() for text in plain)
    if is_whole and (
        leading_zero
        or max(len(text) for text in plain) > 18
        or sum(bool(TELEPHONE.match(value)) for value in values) > len(values) / 2
    ):
        return RecognisedColumn(DataField(**base, kind=DataType.TEXT), why="numbers that name things")
    signs = Counter(match["before"] or match["after"] for match in numbers)
    percent = signs["%"] > len(numbers) / 2
    currency = next((CURRENCY_SIGNS[sign] for sign, _ in signs.most_common() if sign in CURRENCY_SIGNS), "")
    style = "percent" if percent else "currency" if currency else "number"
    kind = DataType.WHOLE if is_whole and not percent else DataType.DECIMAL
    reading = ParseOptions(decimal=decimal, thousands=thousands)
    if kind is DataType.WHOLE and not currency and names_a_thing(source, plain):
        format_ = NumberFormat(thousands=False)
        return RecognisedColumn(
            DataField(**base, kind=kind, format=format_, reading=reading), why="numbers that name things"
        )
    values_found = _parse_numbers(numbers, plain, decimal)
    meaning = Meaning(adds_up=False) if percent else guess_meaning(source, values_found, beside)
    field = DataField(
        **base,
        kind=kind,
        role=FieldRole.MEASURE,
        aggregate=Aggregate.SUM if meaning.adds_up else Aggregate.MEAN,
        over_dates="last" if meaning.is_stock else "",
        format=NumberFormat(style=style, currency=currency or "EUR"),
        reading=reading,
        place=place_of(source, values_found),
    )
    return RecognisedColumn(field, why=meaning.why)


def _parse_numbers(matches: list[re.Match[str]], texts: list[str], decimal: str) -> list[float]:
    """The numbers that were found, from their digits; those that are none after all are left out."""
    numbers = []
    for match, text in zip(matches, texts, strict=True):
        with suppress(ValueError):
            number = float(text.replace(" ", "").replace("'", "").replace(decimal, ".") + (match["power"] or ""))
            negative = match["sign"] or match["sign2"] or match["sign3"] or match["open"]
            numbers.append(-number if negative and negative != "+" else number)
    return [number for number in numbers if math.isfinite(number)]


def build_digits_pattern(thousands: str, decimal: str) -> str:
    """A pattern for the digits of a number: ungrouped or in groups of three, then perhaps a fraction."""
    separators = "|".join(sorted(re.escape(sep) for sep in {thousands, " ", "'"} - {decimal, ""}))
    return rf"^(\d+|\d{{1,3}}(({separators})\d{{3}})+)?({re.escape(decimal)}\d*)?$"


def is_enough(fitting: int, total: int) -> bool:
    """Whether so many of the values fit a kind that the rest are mistakes; one mistake is allowed in a short sample."""
    return fitting >= ENOUGH * total or (total >= 6 and total - fitting <= 1)


def recognise_separators(texts: list[str], usual_decimal: str = "") -> tuple[str, str]:
    """(thousands, decimal) separators that fit these digits best.

    "1,200" alone is a thousand two hundred and "1.200" a little over one, unless `usual_decimal` says else.

    >>> recognise_separators(["1.234,50", "12,75"])
    ('.', ',')
    """
    thousands = next((sep for sep in (" ", "'") if any(sep in text for text in texts)), "")
    for text in texts:
        if "," in text and "." in text:
            return (".", ",") if text.rfind(",") > text.rfind(".") else (",", ".")
    for sep, other in ((",", "."), (".", ",")):
        with_sep = [text for text in texts if sep in text]
        if with_sep:
            if any(text.count(sep) > 1 for text in with_sep):
                return sep, other
            could_group = all(GROUPED[sep].match(text) for text in with_sep)
            if could_group and (usual_decimal == other or (sep == "," and not usual_decimal)):
                return sep, other
            return thousands, sep
    return thousands, "."

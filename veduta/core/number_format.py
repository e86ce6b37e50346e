"""Values as people read them, the same in axes, tables, tooltips, sentences and files."""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Iterable
from decimal import Decimal
from typing import Any

from veduta.core.calendar import MONTHS, WEEKDAYS, Grain, Grouping, label_period
from veduta.core.data.date_patterns import format_date_pattern
from veduta.core.data.fields import DataField, DataType, FieldRole, NumberFormat
from veduta.core.data.languages import Language, get_language
from veduta.core.data.patterns import format_pattern
from veduta.core.value_classes import count_decimals, find_class_end, round_width

PARTS_OF_ONE = {"percent": (100, "%"), "permille": (1_000, "‰")}
EMPTY = "–"
REST_POINT = "␟rest"
"""Stands in a mark's point for the values that were not kept but gathered in one."""


def settle(number_format: NumberFormat, values: Iterable[Any], kind: DataType, records: bool = False) -> NumberFormat:
    """The format with its decimals fixed for a whole column, so that the digits line up.

    `records` keeps two decimals where single records have any, also in large numbers.
    """
    if number_format.decimals is not None or number_format.pattern or not kind.is_number:
        return number_format
    values = list(values)
    if records and kind is DataType.DECIMAL and number_format.style not in PARTS_OF_ONE:
        decimals = 2 if any(value is not None and value != int(value) for value in values) else 0
        return number_format.model_copy(update={"decimals": decimals})
    largest = max((abs(value) for value in values if value is not None and not isinstance(value, dt.date)), default=0)
    if number_format.style in PARTS_OF_ONE:
        decimals = 1
    elif number_format.shorten and largest >= 1_000:
        decimals = 2
    elif kind is DataType.WHOLE or largest >= 1_000:
        decimals = 0
    else:
        decimals = 1 if largest >= 100 else 2
    return number_format.model_copy(update={"decimals": decimals})


def record_format(field: DataField, values: Iterable[Any]) -> NumberFormat:
    """The format of a field's values where each is that of one record.

    Whole numbers that are no measure are identifiers, as those of bookings are, and have no thousands separators."""
    number_format = settle(field.format, values, field.kind, records=True)
    is_name = field.kind is DataType.WHOLE and field.role is FieldRole.DIMENSION and not field.formula
    return number_format.model_copy(update={"thousands": False}) if is_name else number_format


def format_number(value: float | int | None, number_format: NumberFormat) -> str:
    """A number in its format; empty is a dash.

    >>> format_number(-1234567.891, NumberFormat(style="currency", currency="EUR", decimals=1))
    '−€1,234,567.9'
    >>> format_number(7_420_000, NumberFormat(shorten=True, decimals=2))
    '7.42M'
    >>> format_number(-0.0124, NumberFormat(style="permille", decimals=1, negative="brackets", after=" late"))
    '(12.4‰ late)'
    >>> format_number(-1234.5, NumberFormat(pattern="#,##0.00 'km';(#,##0.00 'km')"))
    '(1,234.50 km)'
    >>> format_number(1234.5, NumberFormat(style="currency", decimals=2, language="de"))
    '1.234,50\xa0€'
    """
    if value is None:
        return number_format.empty or EMPTY
    if number_format.pattern:
        return format_pattern(value, number_format.pattern, number_format.currency, number_format.language)
    shown: Any = value
    decimals = number_format.decimals if number_format.decimals is not None else (0 if isinstance(value, int) else 2)
    language = get_language(number_format.language)
    before, after = split_unit(number_format, language)
    if number_format.style in PARTS_OF_ONE:
        times, _ = PARTS_OF_ONE[number_format.style]
        shown = Decimal(value) * times if isinstance(value, int) else value * times
    elif number_format.shorten:
        size, words = scale_value(value, language, decimals)
        shown, after = (value / size if words else value), words + after
    comma = "," if number_format.thousands else ""
    # Whole numbers are written digit by digit: as floats, large ones would not be exact.
    exact = isinstance(shown, int)
    digits = (
        f"{abs(shown):{comma}}" + ("." + "0" * decimals) * bool(decimals)
        if exact
        else f"{abs(shown):{comma}.{decimals}f}"
    )
    # What is written with nothing but zeros has no sign.
    has_sign = any(digit in "123456789" for digit in digits)
    negative, positive = shown < 0 and has_sign, shown > 0 and has_sign
    digits = language.write_digits(digits)
    if negative and number_format.negative == "brackets":
        return f"({number_format.before}{before}{digits}{after}{number_format.after})"
    if negative and number_format.style == "currency":
        ahead, _ = language.split_negative_currency(number_format.currency)
        if not ahead.startswith("−"):  # "€ -5" in Dutch
            return f"{number_format.before}{ahead}{digits}{after}{number_format.after}"
    sign = "−" if negative else "+" if number_format.sign and positive else ""
    return f"{sign}{number_format.before}{before}{digits}{after}{number_format.after}"


def scale_value(value: float, language: Language, decimals: int) -> tuple[float, str]:
    """The unit by which a large number is shortened, and its word.

    999,999 is a million where it is written with fewer than four decimals.

    >>> scale_value(999_999, get_language("en"), 2), scale_value(999_999, get_language("en"), 4)
    ((1000000.0, 'M'), (1000.0, 'k'))
    """
    found: tuple[float, str] = (1.0, "")
    for size, words in reversed(language.sizes):
        if float(f"{abs(value) / found[0]:.{decimals}f}") * found[0] >= size:
            found = (size, words)
    return found


def write_plain_number(value: float | int) -> str:
    """A number as it is copied: without the last digits, which adding decimals up leaves behind.

    >>> write_plain_number(802588.220000003), write_plain_number(0.1 + 0.2), write_plain_number(10**17 + 1)
    ('802588.22', '0.3', '100000000000000001')
    """
    return repr(float(f"{value:.14g}")) if isinstance(value, float) else str(value)


def split_unit(number_format: NumberFormat, language: Language) -> tuple[str, str]:
    """What stands before and after a number for its style: the sign of its currency, or that of a part of one."""
    if number_format.style == "currency":
        return language.split_currency(number_format.currency)
    return (
        language.split_part(PARTS_OF_ONE[number_format.style][1]) if number_format.style in PARTS_OF_ONE else ("", "")
    )


def format_value(
    value: Any, kind: DataType, number_format: NumberFormat = NumberFormat(), grain: Grain | None = None
) -> str:
    """A dimension's or measure's value; empty is a dash."""
    if value is None:
        return number_format.empty or EMPTY
    if kind.is_number and not isinstance(value, dt.date):
        return "∞" if isinstance(value, float) and math.isinf(value) else format_number(value, number_format)
    return label_period_in(value, grain, number_format.language) or label_value(value, grain)


def label_period_in(value: Any, grain: Grain | None, code: str) -> str:
    """A date, a period or a part of one in a language; "" for what is written the same in all, and in English."""
    language = get_language(code)
    if code == "en" or value == REST_POINT:
        return ""
    if grain in (Grain.WEEKDAY, Grain.MONTH_OF_YEAR):
        names = language.weekdays if grain is Grain.WEEKDAY else list(language.months.values())
        return names[int(value) - 1] if 1 <= int(value) <= len(names) else ""
    is_fiscal = grain is Grain.QUARTER and isinstance(value, dt.date) and value.month % 3 != 1
    if not isinstance(value, dt.date) or grain in (Grain.YEAR, Grain.WEEK) or is_fiscal:
        return ""
    with_time = grain in (Grain.HOUR, Grain.MOMENT) or (grain is None and isinstance(value, dt.datetime))
    pattern = language.get_period_pattern(grain.value if grain in (Grain.MONTH, Grain.QUARTER) else "day")
    return format_date_pattern(value, f"{pattern} HH:mm" if with_time else pattern, code)


def group_words(value: Any, group: Grouping, kind: DataType, number_format: NumberFormat = NumberFormat()) -> str:
    """A dimension's value as people read it: "Mar 2026", "20 to 39", "0.5 to under 1"."""
    if group.width is None or value is None or value == REST_POINT:
        return format_value(value, kind, number_format, group.grain)
    if kind is DataType.WHOLE:
        last = int(value) + int(round_width(group.width, True)) - 1
        text = format_number(value, number_format)
        return text if last == value else f"{text} to {format_number(last, number_format)}"
    ends = (value, find_class_end(value, group.width))
    return " to under ".join(format_class_bound(end, group.width, number_format) for end in ends)


def format_class_bound(number: float, width: float, number_format: NumberFormat) -> str:
    """An end of a class, or its width, with no more decimals than it needs."""
    return format_number(number, number_format.model_copy(update={"decimals": count_decimals(width)}))


def label_value(value: Any, grain: Grain | None = None) -> str:
    """A typed group value in words; empties are said as such."""
    if value is None:
        return "empty"
    if value == REST_POINT:
        return "what was gathered"
    if grain and grain.is_part:
        return _label_part(int(value), grain)
    if grain:
        return label_period(value, grain)
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, dt.datetime):
        return f"{label_period(value.date(), Grain.DAY)} {value:%H:%M}"
    if isinstance(value, dt.date):
        return label_period(value, Grain.DAY)
    if isinstance(value, float) and value == int(value) and abs(value) < 1e15:
        return str(int(value))
    return str(value)


def _label_part(value: int, grain: Grain) -> str:
    """A part of a date: "Monday", "March", "08:00"; numbers that are none stay as they are."""
    if grain is Grain.HOUR_OF_DAY:
        return f"{value:02}:00"
    names = WEEKDAYS if grain is Grain.WEEKDAY else MONTHS
    return names[value - 1] if 1 <= value <= len(names) else str(value)

"""Periods as people write them, such as 2024-01, Q1 2024, Jan 2010, 2024W05 or 2024; and the rhythm of dates."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Literal

import polars as pl

from veduta.core.phrases import split_words

Period = Literal["", "year", "quarter", "month", "week"]
YEAR = r"(?P<y>(?:1[5-9]|20|21)\d\d)"
MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
MONTH_NAME = (
    r"(?P<n>jan(?:uary)?|feb(?:ruary)?|mar(?:ch)?|apr(?:il)?|may|june?|july?|aug(?:ust)?|sept?(?:ember)?|oct(?:ober)?"
    r"|nov(?:ember)?|dec(?:ember)?)\.?"
)
MONTH = r"(?P<m>0[1-9]|1[0-2])"
QUARTER = r"(?P<q>[1-4])"
WEEK = r"(?P<w>0?[1-9]|[1-4]\d|5[0-3])"


@dataclass(frozen=True)
class PeriodShape:
    """A way of writing periods of one length.

    Its pattern's groups: y a year of four digits, s one of two; n a month's name, m, q and w the number of a month,
    quarter and week."""

    period: Period
    pattern: str

    @property
    def whole(self) -> str:
        return rf"(?i)^\s*(?:{self.pattern})\s*$"


SHAPES = (
    PeriodShape("month", rf"{YEAR}[-/. ]?M?{MONTH}"),
    PeriodShape("month", rf"{MONTH}[-/]{YEAR}"),
    PeriodShape("month", rf"{MONTH_NAME}[-/ ,]*{YEAR}"),
    PeriodShape("month", rf"{YEAR}[-/ ]*{MONTH_NAME}"),
    PeriodShape("month", rf"{MONTH_NAME} ?[-/'’] ?(?P<s>\d\d)"),
    PeriodShape("quarter", rf"{YEAR}[-/ ]*Q{QUARTER}"),
    PeriodShape("quarter", rf"Q{QUARTER}[-/ ]*{YEAR}"),
    PeriodShape("quarter", rf"{QUARTER}Q[-/ ]*{YEAR}"),
    PeriodShape("week", rf"{YEAR}[-/ ]*(?:W|wk|week) ?{WEEK}"),
    PeriodShape("week", rf"(?:W|wk|week) ?{WEEK}[-/ ,]*{YEAR}"),
    PeriodShape("year", YEAR),
)
PERIODS: tuple[Period, ...] = ("month", "quarter", "week", "year")


def _compile_words(period: Period) -> re.Pattern[str]:
    """What texts of a period look like, whatever way they write it."""
    patterns = (re.sub(r"\?P<\w>", "?:", shape.pattern) for shape in SHAPES if shape.period == period)
    return re.compile(rf"(?i)\s*(?:{'|'.join(patterns)})\s*")


LOOKS = {period: _compile_words(period) for period in PERIODS}
YEAR_WORDS = split_words(
    "year years yr season jahr année ano año anno period date built founded established opened launched born"
)
MONTH_WORDS = YEAR_WORDS | split_words("month months mois monat mes yearmonth ym")
ENOUGH = 0.9
PIVOT = 69
"""Years of two digits from here on are of the last century, as POSIX has it."""


def recognise_period(words: list[str], values: list[str]) -> Period:
    """The length of the periods that texts write, under a heading of these words; "" if none.

    The words are in small letters. Numbers alone, such as 2024 or 202401, are periods only where the heading says so.
    """
    for period, looks in LOOKS.items():
        fitting = {value for value in set(values) if looks.fullmatch(value)}
        if not fitting or sum(value in fitting for value in values) < ENOUGH * len(values):
            continue
        only_digits = all(value.strip().isdigit() for value in fitting)
        if not only_digits or _names_period(words, YEAR_WORDS if period == "year" else MONTH_WORDS):
            return period
    return ""


def _names_period(words: list[str], periods: frozenset[str]) -> bool:
    """Whether a heading is about periods: “Year”, “Year built” and “Fiscal year” are, “Year to date sales” is not."""
    telling = words[-1:] if len(words) > 2 else words
    return words == ["time"] or not periods.isdisjoint(telling)


def read_periods(text: pl.Series, period: Period) -> pl.Series:
    """The first day of each period that texts write; empty where they write none of this length."""
    frame = text.cast(pl.String).alias("t").to_frame()
    days = [_build_first_day(shape) for shape in SHAPES if shape.period == period]
    return frame.select(pl.coalesce(days).alias(text.name)).to_series()


def _build_first_day(shape: PeriodShape) -> pl.Expr:
    names = re.compile(shape.whole).groupindex
    parts = pl.col("t").str.extract_groups(shape.whole)

    def number(name: str) -> pl.Expr:
        return parts.struct.field(name).cast(pl.Int32, strict=False)

    if "y" in names:
        year = number("y")
    else:
        year = number("s") + pl.when(number("s") < PIVOT).then(2000).otherwise(1900)
    if "w" in names:
        return _build_first_of_week(year, number("w"))
    month = pl.lit(1)
    if "n" in names:
        name = parts.struct.field("n").str.to_lowercase().str.slice(0, 3)
        month = name.replace_strict(MONTHS, list(range(1, 13)), default=None, return_dtype=pl.Int32)
    elif "m" in names:
        month = number("m")
    elif "q" in names:
        month = number("q") * 3 - 2
    there = year.is_not_null() & month.is_not_null()
    return pl.when(there).then(pl.date(year.fill_null(1), month.fill_null(1), 1))


def _build_first_of_week(year: pl.Expr, week: pl.Expr) -> pl.Expr:
    """The Monday of an ISO week; empty for week 53 of a year that has none."""
    january = pl.date(year.fill_null(2000), 1, 4)
    monday = january - pl.duration(days=january.dt.weekday().cast(pl.Int64) - 1)
    day = monday + pl.duration(days=(week.cast(pl.Int64).fill_null(1) - 1) * 7)
    return pl.when(day.dt.iso_year() == year).then(day)


def find_rhythm(values: pl.Series) -> Period:
    """The longest period that all dates begin, or all end; weeks also go from any weekday to the same.

    "" if they lie anywhere, or are too few to tell.

    `values` are dates or date-times without empties, each once or more often.
    """
    if values.dtype != pl.Date:
        if values.dt.time().n_unique() > 1:
            return ""  # the same time of the day in all of them says nothing
        values = values.cast(pl.Date)
    days = values.unique()
    if len(days) < 2:
        return ""
    found = _find_months_apart(days) or _find_months_apart(days.dt.offset_by("1d"))
    if found:
        return found
    return "week" if len(days) > 2 and days.dt.weekday().n_unique() == 1 else ""


def _find_months_apart(days: pl.Series) -> Period:
    """How far apart first days of months are; "" if some are none."""
    if (days.dt.day() != 1).any():
        return ""
    months = set(days.dt.month().unique())
    if months == {1}:
        return "year"
    return "quarter" if months <= {1, 4, 7, 10} else "month"

"""What is worth a look before a file is taken in: rows that are totals of others, dates far outside the rest."""

from __future__ import annotations

import datetime as dt
import re
from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

import polars as pl

from veduta.core.data.convert import Failures, convert
from veduta.core.data.fields import Field, Kind
from veduta.core.data.sniff import Sample

TOTAL = re.compile(
    r"(?i)^(overall|sum|all|everything|gesamt|insgesamt|summe"
    r"|(grand |sub-?|over)?totals?|totals? .*|.* totals?|all \w+)$"
)
MOST_TOTALS = 0.5
"""The share of a column's values from which on “total” is an ordinary word of it."""
EPOCH = dt.date(1970, 1, 1)
FEWEST_DATES = 10
MOST_FAR = 0.02
FAR_AT_LEAST = dt.timedelta(days=3 * 365)
FAR_TIMES = 2
MOST_WORDS = 20


@dataclass(frozen=True)
class Remark:
    """Some values of a column, as they are written, and in how many rows of the sample. They are `taken` if the field's
    reading already says what becomes of them: rows of totals left out, far dates empty."""

    field: Field
    about: Literal["totals", "far"]
    words: tuple[str, ...]
    rows: int

    @property
    def taken(self) -> bool:
        reading = self.field.reading
        known = reading.left_out if self.about == "totals" else reading.empties
        return {word.lower() for word in self.words} <= set(known)


def remarks(sample: Sample, columns: Iterable[tuple[Field, int]]) -> list[Remark]:
    """What is worth a look in a sample whose columns, by position, are read as these fields."""
    found = []
    for field, position in columns:
        texts = [text.strip() for text in sample.column(position)]
        if field.kind is Kind.TEXT:
            found.append(_totals(field, texts))
        elif field.kind.is_date:
            found.append(_far_dates(field, texts))
    return [remark for remark in found if remark]


def _totals(field: Field, texts: list[str]) -> Remark | None:
    counts = Counter(text for text in texts if text)
    words = tuple(word for word in counts if TOTAL.match(word))[:MOST_WORDS]
    rows = sum(counts[word] for word in words)
    if not words or len(words) == len(counts) or rows > MOST_TOTALS * counts.total():
        return None
    return Remark(field, "totals", words, rows)


def _far_dates(field: Field, texts: list[str]) -> Remark | None:
    reading = field.reading.model_copy(update={"empties": ()})
    values = convert(pl.Series(texts, dtype=pl.String), field.model_copy(update={"reading": reading}), (), Failures())
    days = values.cast(pl.Date)
    known = days.drop_nulls().sort()
    if len(known) < FEWEST_DATES:
        return None
    most = max(1, int(len(known) * MOST_FAR))
    low, high = known[most], known[-1 - most]
    reach = max((high - low) * FAR_TIMES, FAR_AT_LEAST)
    # Compared as numbers of days: what lies so far off may lie outside the calendar.
    numbers, first, last = days.to_physical(), (low - EPOCH - reach).days, (high - EPOCH + reach).days
    far = ((numbers < first) | (numbers > last)).fill_null(False)
    words = Counter(text for text, is_far in zip(texts, far, strict=True) if is_far)
    if not words or words.total() > 2 * most:
        return None
    return Remark(field, "far", tuple(words)[:MOST_WORDS], words.total())

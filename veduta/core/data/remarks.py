"""What is worth a look before a file is taken in: rows that are totals of others, dates far outside the rest."""

from __future__ import annotations

import datetime as dt
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import polars as pl

from veduta.core.data.convert import Failures, convert
from veduta.core.data.fields import DataField, DataType
from veduta.core.data.hidden_totals import find_hidden_totals
from veduta.core.data.sniff import FileSample

EPOCH = dt.date(1970, 1, 1)
FEWEST_DATES = 10
MOST_FAR = 0.02
FAR_AT_LEAST = dt.timedelta(days=3 * 365)
FAR_TIMES = 2
MOST_WORDS = 20


@dataclass(frozen=True)
class Remark:
    """Some values of a column, as they are written, and in how many rows of the sample.

    They are `taken` if the field's reading already says what becomes of them: rows of totals left out, far dates empty.
    """

    field: DataField
    about: Literal["totals", "far"]
    words: tuple[str, ...]
    rows: int

    @property
    def taken(self) -> bool:
        reading = self.field.reading
        known = reading.left_out if self.about == "totals" else reading.empties
        return {word.lower() for word in self.words} <= set(known)


def find_remarks(sample: FileSample, columns: Sequence[tuple[DataField, int]]) -> list[Remark]:
    """What is worth a look in a sample whose columns, by position, are read as these fields."""
    texts = {field.id: [text.strip() for text in sample.get_column(position)] for field, position in columns}
    totals = find_hidden_totals(_convert_sample(columns, texts), [field for field, _ in columns])
    found: list[Remark | None] = []
    for field, _ in columns:
        if words := totals.get(field.id):
            rows = sum(text in words for text in texts[field.id])
            found.append(Remark(field, "totals", words[:MOST_WORDS], rows))
        elif field.kind.is_date:
            found.append(_find_far_dates(field, texts[field.id]))
    return [remark for remark in found if remark]


def _convert_sample(columns: Sequence[tuple[DataField, int]], texts: dict[str, list[str]]) -> pl.DataFrame:
    """The sample's values, texts as they stand, with what is to be left out of it."""
    series = []
    for field, _ in columns:
        there = pl.Series(field.id, texts[field.id], dtype=pl.String)
        if field.kind is DataType.TEXT:
            series.append(there.replace("", None))
        else:
            series.append(convert(there, field, (), Failures()).alias(field.id))
    return pl.DataFrame(series)


def _find_far_dates(field: DataField, texts: list[str]) -> Remark | None:
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

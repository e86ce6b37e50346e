"""Figures: single ones, and the latest of a trend."""

from __future__ import annotations

import datetime as dt
from dataclasses import replace
from typing import Any, Literal

from veduta.core.calendar import STEPS, Grain
from veduta.core.chart.drawing.cells import Change, Figure, figure_of
from veduta.core.chart.drawing.in_cells import small_line
from veduta.core.chart.drawing.picture import Drawing, Picture, Settings
from veduta.core.chart.kinds.base import Asked, Kind, Suits, kind, setting
from veduta.core.data.languages import language_named
from veduta.core.query.query import Column
from veduta.core.words import in_sentence

BETTER = {"none": "Neither", "higher": "Higher", "lower": "Lower"}
NO_CHANGE = 0.0005
"""A share of change that is said to be none."""


class FigureSettings(Settings):
    others: Literal["apart", "compared"] = setting(
        "Further measures", "apart", {"apart": "Figures of their own", "compared": "Compared with"}
    )
    better: Literal["none", "higher", "lower"] = setting("What is better", "none", BETTER)


@kind
class SingleFigure(Kind):
    name = "figure"
    title = "single figure"
    theme = "To read"
    use = "Says one number large, and how it differs from others if it is to."
    glyph = '<path d="M5 5h3.4v14H5zM12 5h8v3h-5v2.6h5V19h-8v-3h5v-2.6h-5zM23.5 16H27v3h-3.5z"/>'
    dimensions = (0, 0)
    numbers = False
    settings = FigureSettings

    def unfit(self, asked: Asked) -> str:
        return "A single figure has no dimensions." if asked.groups else super().unfit(asked)

    def suits(self, asked: Asked) -> Suits | None:
        return Suits(1, "no dimension, so a single figure")

    def offered(self, asked: Asked) -> list[str]:
        if len(asked.measures) < 2 or not asked.numbers:
            return []
        return ["others", "better"] if self.set(asked.definition).others == "compared" else ["others"]

    def draw(self, picture: Picture) -> Drawing:
        row = next(picture.result.frame.head(1).iter_rows(named=True), {})
        figures = [figure_of(picture, column, row) for column in picture.measures]
        if picture.settings.others == "apart" or not all(column.kind.is_number for column in picture.measures):
            return Drawing(figures=figures)
        first, *others = picture.measures
        changes = [change for other in others if (change := _difference(picture, first, other))]
        return Drawing(figures=[replace(figures[0], changes=changes)])


def _difference(picture: Picture, first: Column, other: Column) -> Change | None:
    """How the first measure differs from another: in percent of it, of two shares in percentage points."""
    value, before = _first(picture, first), _first(picture, other)
    words = in_sentence(other.name)
    if first.format.style == other.format.style == "percent" and value is not None and before is not None:
        points = value - before
        if abs(points) < NO_CHANGE:
            return Change(f"as {words}")
        said = points_words(abs(points), picture)
        return _said(points > 0, said, words, picture.settings.better)
    return _change(picture, value, before, words)


def _first(picture: Picture, column: Column) -> float | None:
    frame = picture.result.frame
    return frame[column.key][0] if frame.height else None


class TrendSettings(Settings):
    better: Literal["none", "higher", "lower"] = setting("What is better", "none", BETTER)


@kind
class TrendFigure(Kind):
    name = "trend"
    title = "figure with its trend"
    theme = "To read"
    use = "Says the latest period's number large, its change, and the way there as a quiet line."
    glyph = (
        '<path d="M4 3h3.200v10H4zM10 3h7v2.600h-4.400v1.200H17V13h-7v-2.600h4.400V9.200H10z"/>'
        '<path fill="none" stroke="currentColor" stroke-width="1.6" d="M3 21l6-3 6 2 6-4 8-2"/>'
    )
    dated = True
    dimensions = (1, 1)
    settings = TrendSettings

    def unfit_besides(self, asked: Asked) -> str:
        is_time = asked.first is not None and asked.first.is_time_axis
        return "" if is_time else "It goes from period to period: it needs a date."

    def draw(self, picture: Picture) -> Drawing:
        notes = []
        if picture.result.unfinished:
            notes.append("The figure is that of the last finished period.")
        return Drawing(figures=[_with_trend(picture, column) for column in picture.measures], notes=notes)


def _with_trend(picture: Picture, column: Column) -> Figure:
    """The last finished period's figure, compared with the period before and the year before."""
    first = picture.dimensions[0]
    grain = first.dimension.period
    dated = picture.result.frame.drop_nulls(first.key).sort(first.key)
    rows: dict[dt.date, dict[str, Any]] = {row[first.key]: row for row in dated.iter_rows(named=True)}
    values: dict[dt.date, float | None] = {period: row[column.key] for period, row in rows.items()}
    periods = list(values)
    if picture.result.unfinished and len(periods) > 1:
        periods.pop()
    if not periods:
        return figure_of(picture, column, {})
    last = periods[-1]
    figure = figure_of(picture, column, rows[last])
    changes = [
        change
        for period, words in _compared(last, grain)
        if period in values and (change := _change(picture, values[last], values[period], words))
    ]
    trend = small_line([values[period] for period in periods])
    return replace(figure, of=picture.words(first, last), changes=changes, trend=trend)


def _compared(last: dt.date, grain: Grain) -> list[tuple[dt.date, str]]:
    """The periods that one is compared with, and their words: the one before, and that of a year before where periods
    correspond to each other."""
    if grain is Grain.HOUR:
        return []
    found = [(last - STEPS[grain][1], f"the {grain.words} before")]
    if grain in (Grain.MONTH, Grain.QUARTER):
        found.append((last - STEPS[Grain.YEAR][1], "a year before"))
    return found


def _change(picture: Picture, value: float | None, before: float | None, words: str) -> Change | None:
    """The change in words, sign and arrow: "▲ 4.2% on the month before"."""
    if value is None or not before or before < 0:
        return None
    share = value / before - 1
    if abs(share) < NO_CHANGE:
        return Change(f"as {words}")
    return _said(share > 0, picture.percent(abs(share)), words, picture.settings.better)


def points_words(share: float, picture: Picture) -> str:
    """A difference of shares in percentage points, as a picture writes it."""
    number = f"{share * 100:,.1f}"
    return f"{language_named(picture.language).digits(number)} {'point' if number == '1.0' else 'points'}"


def _said(rises: bool, size: str, words: str, better: str) -> Change:
    tone = "" if better == "none" else "better" if rises == (better == "higher") else "worse"
    return Change(f"{'▲ +' if rises else '▼ −'}{size} on {words}", tone)

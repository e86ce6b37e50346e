"""Figures: single ones, and the latest of a trend."""

from __future__ import annotations

import datetime as dt
from dataclasses import replace
from typing import Any, Literal

from veduta.core.calendar import STEPS, Grain
from veduta.core.chart.drawing.cells import Figure, FigureChange, make_figure
from veduta.core.chart.drawing.in_cells import draw_small_line
from veduta.core.chart.drawing.picture import Drawing, Picture, Settings
from veduta.core.chart.kinds.base import ChartKind, ChartShape, FitScore, make_setting, register_kind
from veduta.core.data.languages import get_language
from veduta.core.phrases import lower_first
from veduta.core.query.query import Column

BETTER = {"none": "Neither", "higher": "Higher", "lower": "Lower"}
NO_CHANGE = 0.0005
"""A share of change that is said to be none."""


class FigureSettings(Settings):
    others: Literal["apart", "compared"] = make_setting(
        "Further measures", "apart", {"apart": "Figures of their own", "compared": "Compared with"}
    )
    better: Literal["none", "higher", "lower"] = make_setting("What is better", "none", BETTER)


@register_kind
class SingleFigure(ChartKind):
    name = "figure"
    title = "single figure"
    theme = "To read"
    use = "Says one number large, and how it differs from others if it is to."
    glyph = '<path d="M5 5h3.4v14H5zM12 5h8v3h-5v2.6h5V19h-8v-3h5v-2.6h-5zM23.5 16H27v3h-3.5z"/>'
    dimensions = (0, 0)
    numbers = False
    settings = FigureSettings

    def explain_unsupported(self, asked: ChartShape) -> str:
        return "A single figure has no dimensions." if asked.groups else super().explain_unsupported(asked)

    def fit_score(self, asked: ChartShape) -> FitScore | None:
        return FitScore(1, "no dimension, so a single figure")

    def list_offered_settings(self, asked: ChartShape) -> list[str]:
        if len(asked.measures) < 2 or not asked.numbers:
            return []
        return ["others", "better"] if self.set(asked.definition).others == "compared" else ["others"]

    def draw(self, picture: Picture) -> Drawing:
        row = next(picture.result.frame.head(1).iter_rows(named=True), {})
        figures = [make_figure(picture, column, row) for column in picture.measures]
        if picture.settings.others == "apart" or not all(column.kind.is_number for column in picture.measures):
            return Drawing(figures=figures)
        first, *others = picture.measures
        changes = [change for other in others if (change := _make_difference(picture, first, other))]
        return Drawing(figures=[replace(figures[0], changes=changes)])


def _make_difference(picture: Picture, first: Column, other: Column) -> FigureChange | None:
    """How the first measure differs from another: in percent of it, of two shares in percentage points."""
    value, before = _get_first(picture, first), _get_first(picture, other)
    words = lower_first(other.name)
    if first.format.style == other.format.style == "percent" and value is not None and before is not None:
        points = value - before
        if abs(points) < NO_CHANGE:
            return FigureChange(f"as {words}")
        said = describe_points(abs(points), picture)
        return _describe_change(points > 0, said, words, picture.settings.better)
    return _change(picture, value, before, words)


def _get_first(picture: Picture, column: Column) -> float | None:
    frame = picture.result.frame
    return frame[column.key][0] if frame.height else None


class TrendSettings(Settings):
    better: Literal["none", "higher", "lower"] = make_setting("What is better", "none", BETTER)


@register_kind
class TrendFigure(ChartKind):
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

    def check_extra_constraints(self, asked: ChartShape) -> str:
        is_time = asked.first is not None and asked.first.is_time_axis
        return "" if is_time else "It goes from period to period: it needs a date."

    def draw(self, picture: Picture) -> Drawing:
        notes = []
        if picture.result.unfinished:
            notes.append("The figure is that of the last finished period.")
        return Drawing(figures=[_make_trend_figure(picture, column) for column in picture.measures], notes=notes)


def _make_trend_figure(picture: Picture, column: Column) -> Figure:
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
        return make_figure(picture, column, {})
    last = periods[-1]
    figure = make_figure(picture, column, rows[last])
    changes = [
        change
        for period, words in _list_compared_periods(last, grain)
        if period in values and (change := _change(picture, values[last], values[period], words))
    ]
    trend = draw_small_line([values[period] for period in periods])
    return replace(figure, of=picture.label(first, last), changes=changes, trend=trend)


def _list_compared_periods(last: dt.date, grain: Grain) -> list[tuple[dt.date, str]]:
    """The periods that one is compared with, and their labels.

    These are the one before, and the one a year before where such periods correspond."""
    if grain is Grain.HOUR:
        return []
    found = [(last - STEPS[grain][1], f"the {grain.words} before")]
    if grain in (Grain.MONTH, Grain.QUARTER):
        found.append((last - STEPS[Grain.YEAR][1], "a year before"))
    return found


def _change(picture: Picture, value: float | None, before: float | None, words: str) -> FigureChange | None:
    """The change in words, sign and arrow: "▲ 4.2% on the month before"."""
    if value is None or not before or before < 0:
        return None
    share = value / before - 1
    if abs(share) < NO_CHANGE:
        return FigureChange(f"as {words}")
    return _describe_change(share > 0, picture.format_percent(abs(share)), words, picture.settings.better)


def describe_points(share: float, picture: Picture) -> str:
    """A difference of shares in percentage points, as a picture writes it."""
    number = f"{share * 100:,.1f}"
    return f"{get_language(picture.language).write_digits(number)} {'point' if number == '1.0' else 'points'}"


def _describe_change(rises: bool, size: str, words: str, better: str) -> FigureChange:
    tone = "" if better == "none" else "better" if rises == (better == "higher") else "worse"
    return FigureChange(f"{'▲ +' if rises else '▼ −'}{size} on {words}", tone)

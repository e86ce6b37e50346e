"""A figure and its target: how much of it is reached, and how much should be by now."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from typing import Literal, cast

import polars as pl

from veduta.core.calendar import (
    Days,
    Grain,
    find_period_end,
    find_period_start,
    intersect_days,
    label_period,
    list_periods,
    shift_period,
    to_date,
)
from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.drawing.cells import Figure, FigureChange, make_figure
from veduta.core.chart.drawing.picture import Drawing, Picture, Settings
from veduta.core.chart.kinds.base import ChartKind, ChartShape, make_setting, register_kind
from veduta.core.chart.kinds.figure import describe_points
from veduta.core.model.model import Model
from veduta.core.number_format import format_value
from veduta.core.phrases import lower_first
from veduta.core.query.filters import Filter
from veduta.core.query.query import Column, Query, Result

ON_COURSE = 0.0005
"""A share of the target by which a figure may differ from what is expected and be as expected."""


class TargetSettings(Settings):
    look: Literal["bar", "ring", "scale"] = make_setting(
        "Drawn as", "bar", {"bar": "A bar", "ring": "A ring", "scale": "A mark on a scale"}
    )
    expected: Literal["none", "calendar", "year_before"] = make_setting(
        "Expected by now",
        "none",
        {"none": "Not said", "calendar": "By the calendar", "year_before": "As a year before"},
    )


@register_kind
class TargetFigure(ChartKind):
    name = "target"
    title = "figure and its target"
    theme = "To read"
    use = "Says how much of a target is reached: the first measure as a share of the second, and what is due by now."
    glyph = (
        '<path opacity=".3" d="M3 14h26v6H3z"/><path d="M3 14h17v6H3z"/>'
        '<path d="M4 3h2.800v8H4zM9 3h6v2.200h-3.800v1H15V11H9V8.800h3.800v-1H9z"/>'
    )
    measures = (2, 2)
    dimensions = (0, 1)
    same_periods = False
    settings = TargetSettings

    def check_extra_constraints(self, asked: ChartShape) -> str:
        return "" if asked.first is None or asked.first.is_time_axis else "Its dimension, if any, is a date."

    def list_offered_settings(self, asked: ChartShape) -> list[str]:
        return ["look", "expected"] if asked.groups else ["look"]

    def list_totals(self, definition: ChartDefinition) -> tuple[tuple[int, ...], ...]:
        return ((),) if definition.drawn else ()

    def build_secondary_query(
        self, definition: ChartDefinition, model: Model, extra: tuple[Filter, ...] = ()
    ) -> Query | None:
        """The figure in all periods, by whose shape a year before the target is expected to be reached."""
        if not definition.drawn or self.set(definition).expected != "year_before":
            return None
        (axis,) = definition.drawn
        dates = model.list_same_dates(axis.field)
        filters = [left for each in (*definition.only, *extra) if (left := each.move_to_other_periods(dates))]
        return Query(groups=(axis,), measures=definition.measures[:1], filters=tuple(filters))

    def draw(self, picture: Picture) -> Drawing:
        reached, target = picture.measures
        whole = picture.result.totals[()] if picture.dimensions else picture.result.frame
        row = next(whole.head(1).iter_rows(named=True), {})
        value, aim = row.get(reached.key), row.get(target.key)
        figure = make_figure(picture, reached, row)
        aim_words = format_value(aim, target.kind, picture.formats[target.key])
        if value is None or aim is None or aim <= 0:
            figure.of = f"{target.name}: {aim_words}"
            return Drawing(figures=[figure], notes=["There is no target above zero to have a share of."])
        share = value / aim
        figure.of = f"{picture.format_percent(share)} of {lower_first(target.name)}, {aim_words}"
        figure.share, figure.share_as = share, picture.settings.look
        notes = (
            _expect(picture, figure, target, aim) if picture.dimensions and picture.settings.expected != "none" else []
        )
        return Drawing(figures=[figure], notes=notes)


def _expect(picture: Picture, figure: Figure, target: Column, aim: float) -> list[str]:
    """Says how much should be reached by now. Returns how that was worked out."""
    first = picture.dimensions[0]
    frame = picture.result.frame.select(first.key, picture.measures[0].key).drop_nulls(first.key)
    grain, until = first.dimension.period, picture.result.reach
    last = cast("dt.date | None", frame.drop_nulls()[first.key].max())
    if last is None:
        return ["Nothing is there yet, so nothing can be expected of it."]
    until = until if until and last <= until <= find_period_end(last, grain) else find_period_end(last, grain)
    named = list(picture.result.named)
    periods = _list_periods(frame[first.key].to_list(), grain, named, picture.fiscal_month)
    shape = _find_year_before(picture.beside, periods, grain) if picture.beside else None
    due = compute_expected_share(periods, grain, until, shape, named)
    notes, by = [], "the calendar"
    if due is None:
        notes.append("A year before there was nothing, so what is expected goes by the calendar.")
        due = compute_expected_share(periods, grain, until, None, named)
    elif shape:
        by = "how it went a year before"
    assert due is not None, "the calendar always says something"
    money = format_value(due * aim, target.kind, picture.formats[target.key])
    said = f"what was expected by {label_period(until, Grain.DAY)}: {picture.format_percent(due)}, {money}"
    gap = figure.share - due
    if abs(gap) < ON_COURSE:
        figure.changes = [FigureChange(f"as {said}")]
    else:
        points = describe_points(abs(gap), picture)
        words = f"▲ {points} ahead of {said}" if gap > 0 else f"▼ {points} behind {said}"
        figure.changes = [FigureChange(words, "better" if gap > 0 else "worse")]
    figure.due = due
    return [*notes, f"What is expected goes by {by}."]


def _list_periods(there: list[dt.date], grain: Grain, named: list[Days], fiscal_month: int) -> list[dt.date]:
    """The periods of a target: those that have rows, and those that the filters name and that have none yet."""
    periods = set(there)
    for first, last in named:
        start, end = (find_period_start(day, grain, fiscal_month) for day in (first, last))
        periods |= set(list_periods(start, end, grain))
    return sorted(periods)


def _find_year_before(beside: Result, periods: list[dt.date], grain: Grain) -> dict[dt.date, float | None]:
    """What there was in each of these periods a year before."""
    values = dict(beside.frame.select("d0", "m0").iter_rows())
    dtype = pl.Datetime("us") if grain is Grain.HOUR else pl.Date
    starts = pl.DataFrame({"s": pl.Series(periods, dtype=dtype)})
    before = starts.select(shift_period(pl.col("s"), grain, -1, Grain.YEAR))["s"].to_list()
    return {period: values.get(earlier) for period, earlier in zip(periods, before, strict=True)}


def compute_expected_share(
    periods: list[dt.date],
    grain: Grain,
    until: dt.date,
    shape: dict[dt.date, float | None] | None = None,
    named: Sequence[Days] = (),
) -> float | None:
    """The share of a target that should be reached by the end of a day.

    The target is for these periods, each by its first day. The share is that of their days that have passed, or with a
    `shape` that of its value in periods that have passed, with the current one counted by its days. Only the days that
    are `named` count, if any are. None for a shape that is not above zero.

    >>> from datetime import date
    >>> months = [date(2026, 1, 1), date(2026, 2, 1)]
    >>> round(compute_expected_share(months, Grain.MONTH, date(2026, 1, 31)), 4)
    0.5254
    >>> compute_expected_share(months, Grain.MONTH, date(2026, 2, 14), dict(zip(months, [30, 10])))
    0.875
    """
    passed, whole = 0.0, 0.0
    for start in periods:
        own = [(to_date(start), to_date(find_period_end(start, grain)))]
        days = intersect_days(own, named) if named else own
        length = sum((to_date(last) - to_date(first)).days + 1 for first, last in days)
        gone = sum(max((min(until, to_date(last)) - to_date(first)).days + 1, 0) for first, last in days)
        weight = float(length) if shape is None else float(shape.get(start) or 0)
        passed += weight * gone / length if length else 0
        whole += weight if length else 0
    return passed / whole if whole > 0 else None

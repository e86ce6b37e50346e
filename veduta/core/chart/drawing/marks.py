"""Marks: what is drawn for each cell of a chart and each of its measures, with what they say."""

from __future__ import annotations

import dataclasses
import datetime as dt
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cache, partial
from types import MappingProxyType
from typing import Any, cast

from veduta.core.calendar import PERIODS, list_periods
from veduta.core.chart.drawing.conditions import CellLook, list_formats, look_of
from veduta.core.chart.drawing.picture import Picture, simplify_point
from veduta.core.data.fields import DataType
from veduta.core.number_format import REST_POINT, format_value
from veduta.core.query.query import Column

MOST_FILLED_IN = 50_000
EPOCH = dt.date(1970, 1, 1).toordinal()


@dataclass(slots=True)
class Mark:
    """One mark of a drawing.

    Its value of the first dimension is `along` (as words `name`), its `series`, its `value` (as words `text`), what a
    tooltip lists (`tip`), what is read aloud (`said`), its `point` for selections (none for what stands for no rows),
    whether it is drawn at full strength (`on`) and whether its period is `unfinished`. `paint` is its entry in the
    legend, `layer` the number of the layer that draws it, `measure` the key of its value's column; `more` is what some
    kinds of drawing need besides."""

    along: Any
    name: str
    series: str
    value: Any
    text: str
    tip: list[list[str]]
    said: str
    point: list[Any] | None
    on: bool = True
    unfinished: bool = False
    paint: str = ""
    layer: int = 0
    measure: str = ""
    more: dict[str, Any] = dataclasses.field(default_factory=dict)

    def to_row(self) -> dict[str, Any]:
        """The mark as a row of a specification's data; a time as milliseconds since 1970 in `at`."""
        row = {
            "name": self.name,
            "series": self.series,
            "value": self.value,
            "text": self.text,
            "tip": self.tip,
            "said": self.said,
            "point": self.point,
            "on": int(self.on),
            "unfinished": int(self.unfinished),
            "paint": self.paint,
            "layer": self.layer,
        }
        if isinstance(self.along, dt.date):
            row["at"] = to_milliseconds(self.along)
        return row | self.more if self.more else row


def is_rest(mark: Mark) -> bool:
    """Whether it stands for what a question gathered as Other."""
    return REST_POINT in (mark.point or ())


def to_milliseconds(day: dt.date) -> int:
    clock = (day.hour * 60 + day.minute) * 60_000 + day.second * 1_000 if isinstance(day, dt.datetime) else 0
    return (day.toordinal() - EPOCH) * 86_400_000 + clock


def make_marks(
    picture: Picture,
    measures: Sequence[Column] | None = None,
    layer: int = 0,
    carry: Mapping[str, str] = MappingProxyType({}),
    apart: bool = True,
) -> list[Mark]:
    """One mark for each row and measure, of all measures or of some.

    A mark's series is what its further dimensions say, and which measure it is where the chart has several. `carry`
    gives by its name in `more` another column of the row. Marks that stand for several measures at once are not told
    `apart` by theirs."""
    formats = picture.formats
    shown = picture.measures if measures is None else measures
    several = len(picture.measures) > 1
    by_measure = {column.key: list_formats(picture, i, is_mark=True) for i, column in enumerate(picture.measures)}
    made = []
    for cell in _list_cells(picture):
        for measure in shown:
            value = cell.row[measure.key]
            text = format_value(value, measure.kind, formats[measure.key])
            look = look_of(picture, cell.row, by_measure[measure.key]) if by_measure.get(measure.key) else None
            made.append(
                Mark(
                    along=cell.along,
                    name=cell.words[0] if cell.words else measure.name,
                    series=" · ".join(filter(None, [cell.series, measure.name])) if several and apart else cell.series,
                    value=value,
                    text=text,
                    tip=[*cell.tip_start, [measure.name, text], *cell.tip_end],
                    said=f"{cell.said}: {text} {measure.name}" if several else f"{cell.said}: {text}",
                    point=cell.point,
                    on=cell.on,
                    unfinished=cell.is_unfinished,
                    layer=layer,
                    measure=measure.key,
                    more={name: cell.row[key] for name, key in carry.items()},
                )
            )
            if look:
                _look_so(made[-1], look)
    return made


def _look_so(mark: Mark, look: CellLook) -> None:
    """A mark with what conditional formats say of it.

    `format` in its `more` is the one that colours it, `label_format` the one that colours its label."""
    mark.more |= {"format": look.ground_by, "label_format": look.colour_by}
    mark.tip = [*mark.tip, *(["", f"{look.sign} {words}".strip()] for words in look.said)]
    mark.said = "; ".join([mark.said, *look.said])
    mark.text = f"{look.sign} {mark.text}" if look.sign else mark.text


@dataclass(slots=True)
class _Cell:
    """What all marks of a cell of the chart share."""

    row: dict[str, Any]
    along: Any
    words: list[str]
    series: str
    said: str
    point: list[Any]
    on: bool
    tip_start: list[list[str]]
    tip_end: list[list[str]]
    is_unfinished: bool


def _list_cells(picture: Picture) -> list[_Cell]:
    """The cells of a picture, worked out once for all its layers."""
    if not picture.cells:
        picture.cells.extend(_read_cells(picture))
    return picture.cells


def _read_cells(picture: Picture) -> Iterator[_Cell]:
    result, dimensions = picture.result, picture.dimensions
    last, first = _find_unfinished_ends(picture)
    until = format_value(result.unfinished, DataType.DATE, dimensions[0].format) if last else ""
    since = format_value(result.begun, DataType.DATE, dimensions[0].format) if first else ""
    panel, names = picture.panel, [column.name for column in dimensions]
    said = [cache(partial(picture.label, column)) for column in dimensions]  # many marks have a value in common
    for row in result.frame.iter_rows(named=True):
        values = [result.get_value(row, column.key) for column in dimensions]
        words = [worded(value) for worded, value in zip(said, values, strict=True)]
        point = simplify_point(values)
        yield _Cell(
            row=row,
            along=values[0] if values else None,
            words=words,
            series=" · ".join(words[1:]),
            said=", ".join(words),
            point=point,
            on=picture.is_chosen(point),
            tip_start=[[name, word] for name, word in zip(names, words, strict=True)],
            tip_end=[
                ["Unfinished", f"data {which}"]
                for end, which in ((first, f"from {since}"), (last, f"to {until}"))
                if end and end in (*values, *panel)
            ],
            is_unfinished=bool(last) and last in (*values, *panel),
        )


def _find_unfinished_ends(picture: Picture) -> tuple[dt.date | None, dt.date | None]:
    """The starts of the last and of the first period shown, each if it is not whole."""
    result = picture.whole.result if picture.whole else picture.result
    if result.unfinished is None and result.begun is None:
        return None, None
    periods = [column for column in result.dimensions if column.dimension.is_time_axis]
    finest = max(periods, key=lambda column: PERIODS.index(column.dimension.period))
    shown = result.frame[finest.key]
    last, first = (cast("dt.date | None", end) for end in (shown.max(), shown.min()))
    return last if result.unfinished else None, first if result.begun else None


def to_rows(made: Sequence[Mark]) -> list[dict[str, Any]]:
    """Marks as the rows of a specification's data."""
    return [mark.to_row() for mark in made]


def list_series(made: Sequence[Mark]) -> list[str]:
    return list(dict.fromkeys(mark.series for mark in made))


def fill_gaps(picture: Picture, made: list[Mark], zero: bool = False) -> list[Mark]:
    """The marks with one for every period between the first and the last and every series.

    Missing ones have an empty number, or 0 where `zero` (for areas, which cannot be stacked on a gap).
    """
    first = picture.dimensions[0] if picture.dimensions else None
    if not first or not first.dimension.is_time_axis:
        return made
    dated = [mark.along for mark in made if isinstance(mark.along, dt.date)]
    if not dated:
        return made
    grain = first.dimension.period
    periods = list_periods(min(dated), max(dated), grain)
    series = list_series(made)
    if not periods or len(periods) * len(series) > MOST_FILLED_IN:
        return made
    there = {(mark.along, mark.series): mark for mark in made}
    descending = isinstance(made[0].along, dt.date) and made[0].along > min(dated)
    ordered = reversed(periods) if descending and picture.definition.sort else periods
    filled = []
    for period in ordered:
        for name in series:
            mark = there.get((period, name))
            if mark is None:
                words = picture.label(first, period)
                tip = [[first.name, words], ["", "no rows"]]
                said = f"{words}: no rows"
                mark = Mark(period, words, name, 0 if zero else None, "–", tip, said, None, layer=made[0].layer)
            filled.append(mark)
    return filled + [mark for mark in made if not isinstance(mark.along, dt.date)]

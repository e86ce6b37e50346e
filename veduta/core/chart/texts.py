"""Titles and notes with values in them: "Fares came to {total}, most of them from {highest}"."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any, Final

from veduta.core.chart.drawing.picture import Picture
from veduta.core.chart.sentence import describe_setting
from veduta.core.chart.text_placeholders import PLACE
from veduta.core.data.fields import DataType, NumberFormat
from veduta.core.errors import DefinitionProblem, VedutaError
from veduta.core.formula.measures import replace_ids_with_names, replace_names_with_ids
from veduta.core.model.model import Model
from veduta.core.number_format import EMPTY, format_number, format_value, settle
from veduta.core.phrases import join_names, lower_first
from veduta.core.query.engine.shown_periods import find_filtered_periods
from veduta.core.query.filters import Context, Filter, describe_dates
from veduta.core.query.filters.dates import PeriodFilter
from veduta.core.query.measures import Measure, list_counted_tables, measure_node

PARAMETER = re.compile(r":([a-z][a-z0-9_]*)")


@dataclass(frozen=True)
class TextContext:
    """What a text can tell of: a chart's picture, what it is narrowed by, and when its data ends."""

    picture: Picture
    filters: Sequence[Filter]
    model: Model
    context: Context
    rows: int

    def find_extreme(self, highest: bool) -> dict[str, Any] | None:
        """The row with the highest or lowest value of the first measure; None where there is none."""
        measure = self.picture.measures[0]
        values = self.picture.result.frame.drop_nulls(measure.key).sort(measure.key, descending=highest)
        return next(values.head(1).iter_rows(named=True), None)

    def end(self, first: bool) -> dict[str, Any] | None:
        """The first or the last row."""
        frame = self.picture.result.frame
        return next((frame.head(1) if first else frame.tail(1)).iter_rows(named=True), None)

    def name(self, row: dict[str, Any] | None) -> str:
        """What a row is called: the values of its dimensions."""
        if row is None:
            return EMPTY
        result = self.picture.result
        return (
            ", ".join(self.picture.label(each, result.get_value(row, each.key)) for each in result.dimensions) or EMPTY
        )

    def format_value(self, row: dict[str, Any] | None) -> str:
        """The first measure of a row."""
        measure = self.picture.measures[0]
        return format_value(row and row[measure.key], measure.kind, self.picture.formats[measure.key])

    @property
    def total(self) -> dict[str, Any] | None:
        """The row of the total over all rows shown."""
        result = self.picture.result
        frame = result.totals.get((), result.frame if not result.dimensions else None)
        return None if frame is None else next(frame.head(1).iter_rows(named=True), None)

    def format_count(self, number: int) -> str:
        return format_number(number, NumberFormat(language=self.picture.language))

    @property
    def period(self) -> str:
        """From the first to the last period of the time axis."""
        column = next((each for each in self.picture.dimensions if each.dimension.is_time_axis), None)
        days = sorted(self.picture.result.frame[column.key].drop_nulls().to_list()) if column else []
        if column is None or not days:
            return EMPTY
        first, last = (self.picture.label(column, day) for day in (days[0], days[-1]))
        return first if first == last else f"{first} to {last}"

    @property
    def dates(self) -> str:
        """Which dates it covers: those that all its filters on a date let pass together, or all up to the latest."""
        settled = [now for each in self.filters if (now := each.resolve_parameters(self.model.parameters)) is not None]
        periods = find_filtered_periods(settled, self.model, self.context)
        if periods is None:
            return f"all up to {self.latest}"
        fiscal = self.model.schema.fiscal_month
        return join_names([describe_dates(*days, fiscal) for days in periods.ranges], most=3)

    @property
    def latest(self) -> str:
        days = [self.context.latest[name] for name in self._iterate_dates() if name in self.context.latest]
        written = NumberFormat(language=self.picture.language)
        return format_value(days[0], DataType.DATE, written) if days else EMPTY

    def _iterate_dates(self) -> Iterator[str]:
        """The dates that the chart is about, the likeliest first.

        Its time axis, the dates in its filters, the own date of the measured rows; else any of the first table's."""
        groups, schema = self.picture.definition.groups, self.model.schema
        yield from (group.field for group in groups if group.is_time_axis)
        yield from (each.field for each in self.filters if isinstance(each, PeriodFilter))
        for measure in self.picture.definition.measures:
            for home in list_counted_tables(measure_node(measure, schema, self.model.parameters, True), self.model):
                yield from (field.id for field in schema if field.table == home and field.kind.is_date)
        yield from self.context.latest


VALUES: Final[dict[str, tuple[str, Callable[[TextContext], str]]]] = {
    "filters": (
        "what it is narrowed by",
        lambda told: join_names(
            [lower_first(each.describe(told.model.schema)) for each in told.filters] or ["nothing"]
        ),
    ),
    "period": ("the first and the last period shown", lambda told: told.period),
    "dates": ("the dates it covers", lambda told: told.dates),
    "latest": ("the latest day of the date it is about", lambda told: told.latest),
    "rows": ("how many rows were read", lambda told: told.format_count(told.rows)),
    "groups": ("how many groups are shown", lambda told: told.format_count(told.picture.result.groups)),
    "total": ("the first measure over all rows shown", lambda told: told.format_value(told.total)),
    "highest": ("where the first measure is highest", lambda told: told.name(told.find_extreme(highest=True))),
    "highest value": ("how high that is", lambda told: told.format_value(told.find_extreme(highest=True))),
    "lowest": ("where the first measure is lowest", lambda told: told.name(told.find_extreme(highest=False))),
    "lowest value": ("how low that is", lambda told: told.format_value(told.find_extreme(highest=False))),
    "first": ("what stands first", lambda told: told.name(told.end(first=True))),
    "first value": ("its first measure", lambda told: told.format_value(told.end(first=True))),
    "last": ("what stands last", lambda told: told.name(told.end(first=False))),
    "last value": ("its first measure", lambda told: told.format_value(told.end(first=False))),
}
"""The values that have a name, what they are and how they are found; any other is a formula over all rows shown."""


def store_text(text: str, model: Model) -> str:
    """A text as it is kept, its formulas naming fields by their ids.

    Raises DefinitionProblem for a value that is neither known nor a formula."""

    def keep(match: re.Match[str]) -> str:
        if match[1] is None:
            return match[0]
        name = match[1].strip()
        if (known := " ".join(name.split())) in VALUES:
            return f"{{{known}}}"
        try:
            formula = replace_names_with_ids(name.removeprefix("="), model.schema)
            measure_node(Measure(formula=formula), model.schema, model.parameters, any_kind=True)
        except VedutaError as problem:
            raise DefinitionProblem(
                f"“{{{name}}}” in the text is neither a value Veduta knows nor a formula: {problem.message}",
                where=name,
                hint="Choose a value from the list, or write {{ for a brace.",
            ) from None
        return f"{{={formula}}}"

    return PLACE.sub(keep, text)


def show_text(text: str, model: Model) -> str:
    """A kept text as people write it, with the fields' names."""

    def written(match: re.Match[str]) -> str:
        is_formula = (match[1] or "").startswith("=")
        return f"{{={replace_ids_with_names(match[1][1:], model.schema)}}}" if is_formula else match[0]

    return PLACE.sub(written, text)


def strip_placeholders(text: str) -> str:
    """A kept text where its values are not known."""
    return _replace_placeholders(text, lambda _: "…")


def render_text(text: str, told: TextContext) -> str:
    """A kept text with its values."""

    def value(name: str) -> str:
        if not name.startswith("="):
            return VALUES[name][1](told)
        column, row = told.picture.told[name[1:]], told.total
        if row is None:
            return EMPTY
        return format_value(row[column.key], column.kind, settle(column.format, [row[column.key]], column.kind))

    return _replace_placeholders(text, value, lambda literal: _replace_settings(literal, told.model))


def _replace_settings(text: str, model: Model) -> str:
    """A text with what parameters are set to in the place of their names, as :top_n."""
    by_id = {parameter.id: parameter for parameter in model.definition.parameters}

    def setting(written: re.Match[str]) -> str:
        parameter = by_id.get(written[1])
        return describe_setting(parameter, model.parameters[parameter.id].values) if parameter else written[0]

    return PARAMETER.sub(setting, text)


def _replace_placeholders(text: str, put: Callable[[str], str], between: Callable[[str], str] = str) -> str:
    """A text with something put for each value, and for what stands between values."""
    pieces, end = [], 0
    for match in PLACE.finditer(text):
        pieces.append(between(text[end : match.start()]))
        end = match.end()
        name = match[1]
        is_value = name is not None and (name.startswith("=") or name in VALUES)
        pieces.append(put(name) if is_value else match[0][0] if name is None else match[0])
    return "".join([*pieces, between(text[end:])])

"""Choose the kind of chart that suits the fields, and say why in a word."""

from __future__ import annotations

from veduta.core.chart.definition import ChartDefinition, ChartKind
from veduta.core.data.fields import Kind
from veduta.core.model.model import Model
from veduta.core.query.measures import Measure, measure_kind

MOST_BARS = 60
MOST_SERIES = 12


def choose_kind(definition: ChartDefinition, model: Model) -> tuple[ChartKind, str]:
    """The kind to draw, and the reason for it; an own choice that does not fit
    the fields is replaced, with the reason."""
    suits, reason = _suited(definition, model)
    own = definition.kind
    if own is None:
        return suits, reason
    if problem := unfit(definition, own, model):
        return suits, f"{problem} {reason[0].upper()}{reason[1:]}"
    return own, ""


def unfit(definition: ChartDefinition, kind: ChartKind, model: Model) -> str:
    """Why this kind cannot draw these fields, or "" if it can."""
    if kind in (ChartKind.BAR, ChartKind.LYING, ChartKind.LINE, ChartKind.AREA) and not definition.groups:
        return "It needs a dimension to draw along."
    if kind is ChartKind.CROSSTAB and len(definition.groups) < 2:
        return "A crosstab needs two dimensions."
    if kind is ChartKind.FIGURE and definition.groups:
        return "A single figure has no dimensions."
    drawn = kind in (ChartKind.BAR, ChartKind.LYING, ChartKind.LINE, ChartKind.AREA)
    if drawn and any(not _is_drawn(measure, model) for measure in definition.measures):
        return "Dates and text as measures are shown in a table."
    return ""


def _is_drawn(measure: Measure, model: Model) -> bool:
    """Whether a measure is a number, which has a height."""
    return measure_kind(measure, model.schema, model.parameters).is_number


def _values(definition: ChartDefinition, field: str, model: Model) -> int:
    """How many values of a dimension the chart has at most."""
    counts = [model.facts(field).distinct]
    for filter_ in definition.only:
        most = filter_.most_values(field)
        counts += [most] if most is not None else []
    if definition.keep and definition.keep.of == "split" and definition.split and definition.split.field == field:
        counts.append(definition.keep.count + definition.keep.rest)
    return min(counts)


def _suited(definition: ChartDefinition, model: Model) -> tuple[ChartKind, str]:
    groups, measures = definition.groups, definition.measures
    if not groups:
        return ChartKind.FIGURE, "no dimension, so a single figure"
    if any(not _is_drawn(measure, model) for measure in measures):
        return ChartKind.TABLE, "dates or text to read, so a table"
    first = definition.by[0] if definition.by else groups[0]
    if len(groups) > 2 or (len(measures) > 1 and len(groups) > 1) or len(measures) > 4:
        return ChartKind.TABLE, "many fields, so a table"
    counts = [_values(definition, group.field, model) for group in groups[1:] if not group.grain]
    if len(definition.by) == 2 or any(count > MOST_SERIES for count in counts):
        return ChartKind.CROSSTAB, "two dimensions with many values, so a crosstab"
    if first.is_time_axis:
        return ChartKind.LINE, "periods in order, so a line"
    if first.grain:
        return ChartKind.BAR, "a few fixed values, so vertical bars"
    distinct = model.facts(first.field).distinct
    shown = definition.keep.count if definition.keep and definition.keep.of == "by" else distinct
    if min(distinct, shown) > MOST_BARS:
        return ChartKind.TABLE, f"{distinct:,} values, so a table"
    if model.schema[first.field].kind is Kind.TEXT and distinct > 4:
        return ChartKind.LYING, "names to read, so horizontal bars"
    return ChartKind.BAR, "a few values, so vertical bars"

"""The charts a dataset opens with: what suits its fields, the likeliest first."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from veduta.core.calendar import Grain, Grouping
from veduta.core.chart.definition import ChartDefinition, make_default_measure
from veduta.core.data.field_meaning import split_heading
from veduta.core.data.fields import DataField, DataType, FieldRole
from veduta.core.model.model import Model
from veduta.core.query.measures import Measure, TopN

MOST = 4
FIELDS_LOOKED_AT = 60
MOST_EMPTY = 0.5
"""The share of empties from which on a field is not opened with."""
FEW = 6
"""Values of a dimension that colours tell apart well."""
MANY = 15
"""Values of a dimension from which on only the top ones are shown at first."""
KEPT = 12
PLACES = frozenset(("latitude", "longitude", "lat", "lon", "lng"))


@dataclass
class _Fields:
    """What a model offers, the best to open with first.

    Measures (money first), dates (days before moments), their parts and other dimensions. `lists` says that each row is
    an item of its own, named by the first dimension."""

    measures: list[Measure]
    dates: list[Grouping]
    parts: list[Grouping]
    dimensions: list[DataField]
    lists: bool


def suggest_charts(dataset: str, model: Model) -> list[ChartDefinition]:
    """A few different charts that suit the model's fields; there is always one."""
    fields = _classify_fields(model)
    found: list[ChartDefinition] = []
    for opening in _iterate_candidates(dataset, model, fields):
        if opening not in found:
            found.append(opening)
        if len(found) == MOST:
            break
    return found


def _iterate_candidates(dataset: str, model: Model, fields: _Fields) -> Iterator[ChartDefinition]:
    measures = fields.measures or [Measure()]
    first = measures[0]
    start = ChartDefinition(dataset=dataset)
    over_time = [_show_measure(start, measure, fields.dates[0]) for measure in measures] if fields.dates else []
    ranked = [_rank_by(start, first, field, model) for field in fields.dimensions]
    if fields.lists:
        yield ranked[0]
        yield from (_rank_by(start, measure, fields.dimensions[0], model) for measure in measures[1:2])
    yield from over_time[:1]
    yield from ranked[:1]
    yield from _split(start, first, fields, model)
    yield from over_time[1:2]
    yield from ranked[1:2]
    yield from (_rank_by(start, measure, field, model) for measure in measures[1:2] for field in fields.dimensions[:1])
    yield from ranked[2:]
    yield from (_show_measure(start, first, part) for part in fields.parts)
    yield start.model_copy(update={"show": tuple(fields.measures[:4])})


def _show_measure(start: ChartDefinition, measure: Measure, *by: Grouping) -> ChartDefinition:
    return start.model_copy(update={"show": (measure,) if measure != Measure() else (), "by": by})


def _rank_by(start: ChartDefinition, measure: Measure, field: DataField, model: Model) -> ChartDefinition:
    """A measure by a dimension; of many values the top ones."""
    shown = _show_measure(start, measure, Grouping(field=field.id))
    if model.get_facts(field.id).distinct <= MANY:
        return shown
    return shown.model_copy(update={"keep": TopN(count=KEPT, by=measure)})


def _split(start: ChartDefinition, measure: Measure, fields: _Fields, model: Model) -> Iterator[ChartDefinition]:
    """A measure over time, split by the first dimension of few values."""
    few = [field for field in fields.dimensions if model.get_facts(field.id).distinct <= FEW]
    if few and fields.dates:
        shown = _show_measure(start, measure, fields.dates[0])
        yield shown.model_copy(update={"split": Grouping(field=few[0].id)})


def _classify_fields(model: Model) -> _Fields:
    visible = model.schema.visible[:FIELDS_LOOKED_AT]
    there = [field for field in visible if field.level == "aggregate" or _is_filled(field, model)]
    of_rows = [field for field in there if field.level == "row"]
    numbers = [field for field in there if field.role is FieldRole.MEASURE and not _is_place(field)]
    measures = [make_default_measure(field) for field in sorted(numbers, key=lambda f: f.format.style != "currency")]
    dated = [field for field in of_rows if field.kind.is_date and _differs(field, model)]
    dates = [model.make_grouping(field.id) for field in sorted(dated, key=lambda f: f.kind is DataType.DATETIME)]
    dimensions = [field for field in of_rows if field.role is FieldRole.DIMENSION and _tells_apart(field, model)]
    lists = bool(dimensions) and model.rows > MANY and model.get_facts(dimensions[0].id).distinct == model.rows
    if not lists:
        dimensions.sort(key=lambda field: _rank(model.get_facts(field.id).distinct))
    return _Fields(measures, dates, _list_date_parts(dates, model), dimensions, lists)


def _list_date_parts(dates: list[Grouping], model: Model) -> list[Grouping]:
    """What comes back in the first date: weekdays of days, months of a few years."""
    if not dates:
        return []
    first = dates[0].field
    finest = model.find_rhythm(first) or Grain.DAY
    parts = [Grain.WEEKDAY] if finest is Grain.DAY else [Grain.MONTH_OF_YEAR] if finest is Grain.MONTH else []
    return [Grouping(field=first, grain=part) for part in parts]


def _is_filled(field: DataField, model: Model) -> bool:
    return model.get_facts(field.id).empties <= MOST_EMPTY * model.count_rows(model.find_home({field.id}))


def _differs(field: DataField, model: Model) -> bool:
    return model.get_facts(field.id).distinct > 1


def _is_place(field: DataField) -> bool:
    return field.place in ("latitude", "longitude") or bool(PLACES & set(split_heading(field.name)))


def _tells_apart(field: DataField, model: Model) -> bool:
    """Whether values of a field name groups or things; numbers do so where they are few."""
    if not _differs(field, model) or field.kind.is_date:
        return False
    return field.kind in (DataType.TEXT, DataType.YES_NO) or model.get_facts(field.id).distinct <= MANY


def _rank(distinct: int) -> int:
    """Dimensions of some values come first, then those of many, then those of two."""
    return 0 if 2 < distinct <= MANY * 2 else 1 if distinct > MANY * 2 else 2

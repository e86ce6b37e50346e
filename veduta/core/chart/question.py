"""The one path of a question: definition, query, result, drawing."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import accumulate, pairwise
from types import MappingProxyType
from typing import Any

from veduta.core.calendar import PARTS, PERIODS, Grain, Grouping, period_words
from veduta.core.chart.choose import choose_kind
from veduta.core.chart.conditional import format_words
from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.drawing.conditions import measures_tested, with_conditions
from veduta.core.chart.drawing.dressing import dressed
from veduta.core.chart.drawing.events import Others, with_events
from veduta.core.chart.drawing.panels import draw_panels
from veduta.core.chart.drawing.picture import Drawing, Picture, plain_point
from veduta.core.chart.drawing.references import reference_notes
from veduta.core.chart.drawing.repainting import repainted
from veduta.core.chart.kinds import Asked, Kind
from veduta.core.chart.paints import OWN, Paints
from veduta.core.chart.places import formulas_in
from veduta.core.chart.rewriting import painted
from veduta.core.chart.sentence import default_title, parameter_settings, sentence_text
from veduta.core.chart.texts import Told, said
from veduta.core.chart.value_colours import ValueColours, key_of
from veduta.core.geography.shapes import Shapes
from veduta.core.model.model import Model
from veduta.core.model.parameters import number_set
from veduta.core.query.answer import answer, same_periods_of
from veduta.core.query.batch import Question
from veduta.core.query.filters import Context, Filter, grouping_words, typed
from veduta.core.query.measures import Measure
from veduta.core.query.query import Column, Query, Result


@dataclass
class Answered:
    """A chart worked out: what it says, how it is drawn, and where its numbers come from. `series` are the names and
    values of series that can be put into another order; `format_words` say what its conditional formats do."""

    definition: ChartDefinition
    kind: Kind
    why: str
    title: str
    note: str
    sentence: str
    result: Result
    drawing: Drawing
    notes: list[str]
    series: list[tuple[str, Any]]
    format_words: Sequence[str] = ()
    foot: str = ""


@dataclass
class Selection:
    """The marks selected in this very chart, by their points."""

    points: tuple[tuple[Any, ...], ...]
    excluded: bool = False


def to_query(definition: ChartDefinition, kind: Kind, extra: tuple[Filter, ...] = ()) -> Query:
    """The definition's query for this kind of drawing; `extra` filters come on top of its own."""
    groups = definition.groups
    over_all = [Measure(formula=formula) for formula in (*_compared(definition), *_told(definition))]
    unseen = (*kind.unseen(definition), *over_all, *measures_tested(definition))
    return Query(
        groups=groups,
        measures=(*definition.measures, *unseen),
        unseen=len(unseen),
        filters=(*definition.only, *extra),
        keep=definition.keep,
        keep_group=_kept_group(definition),
        aligned=definition.aligned if any(group.is_time_axis for group in groups) else "",
        own_periods=definition.own_periods or not kind.same_periods,
        sort=definition.sort or (kind.sort(definition) if groups and _is_named(groups[0]) else None),
        orders=_orders(definition),
        totals=_totals(definition, kind),
        limit=kind.most_groups,
    )


def _is_named(group: Grouping) -> bool:
    """Whether the values of a dimension are names, in no order of their own."""
    return group.grain is None and group.width is None


def _compared(definition: ChartDefinition) -> list[str]:
    """The formulas that marks are held against."""
    return [reference.formula for reference in definition.references if reference.of == "formula"]


def _told(definition: ChartDefinition) -> list[str]:
    """The formulas in its texts."""
    return formulas_in(*definition.texts)


def _orders(definition: ChartDefinition) -> tuple[tuple[int, tuple[Any, ...]], ...]:
    last = len(definition.drawn) - 1
    return ((last, definition.series_order),) if definition.series_order and last > 0 else ()


def _kept_group(definition: ChartDefinition) -> int | None:
    """The position of the dimension whose values are not all kept, if it is not the usual one."""
    keep = definition.keep
    if keep is None or keep.of == "by" or not definition.drawn:
        return None
    return len(definition.drawn) - 1 if keep.of == "within" or definition.split else None


def _totals(definition: ChartDefinition, kind: Kind) -> tuple[tuple[int, ...], ...]:
    """The totals that are drawn; in panels, those of each, and what is over all rows besides."""
    totals = dict.fromkeys(kind.totals(definition))
    if any(reference.of in ("rows", "formula") for reference in definition.references) or _tells_a_total(definition):
        totals[()] = None
    if definition.panels and kind.panels == "drawn":
        apart = tuple(range(len(definition.drawn), len(definition.groups)))
        totals = dict.fromkeys([*totals, *((*positions, *apart) for positions in totals)])
    return tuple(totals)


def _tells_a_total(definition: ChartDefinition) -> bool:
    return bool(_told(definition)) or "{total}" in "".join(definition.texts)


def question_of(
    definition: ChartDefinition, model: Model, context: Context, extra: tuple[Filter, ...] = ()
) -> Question:
    """The question that a chart asks, to be answered together with others. Raises DefinitionProblem if it does not fit
    the dataset."""
    return Question(to_query(definition, choose_kind(definition, model)[0], extra), model, context)


def filters_behind(
    definition: ChartDefinition,
    model: Model,
    context: Context,
    extra: tuple[Filter, ...] = (),
    marks: tuple[Filter, ...] = (),
) -> tuple[Filter, ...]:
    """What the records behind a chart, or some of its marks, pass: they are those that its numbers are of, so a plan
    that is counted for the periods of the rows beside it has no others. Raises DefinitionProblem if the chart does not
    fit the dataset."""
    query = to_query(definition, choose_kind(definition, model)[0], extra)
    same = same_periods_of(query, model, context)
    return (*query.filters, *([same] if same else []), *marks)


def work_out(
    definition: ChartDefinition, model: Model, context: Context, extra: tuple[Filter, ...] = ()
) -> tuple[Kind, str, Result]:
    """The kind of chart, why Veduta chose it, and the result. Raises
    DefinitionProblem if it does not fit the dataset."""
    kind, why = choose_kind(definition, model)
    return kind, why, answer(to_query(definition, kind, extra), model, context)


def ask(
    definition: ChartDefinition,
    model: Model,
    context: Context,
    extra: tuple[Filter, ...] = (),
    selection: Selection | None = None,
    atlas: Mapping[str, Shapes] = MappingProxyType({}),
    others: Others = MappingProxyType({}),
    colours: ValueColours = ValueColours(),
    rows_from: int = 0,
    paints: Paints = OWN,
    result: Result | None = None,
) -> Answered:
    """Answer and draw a chart; maps take their shapes from an `atlas`, events are those of `others`, and values have
    their `colours`; of a long table a page of rows is drawn, from the so manieth on. `result` is the answer where it
    was given together with others. Raises DefinitionProblem if it does not fit the dataset."""
    if result is None:
        kind, why, result = work_out(definition, model, context, extra)
    else:
        kind, why = choose_kind(definition, model)
    result = in_language(result, definition.look.whole.language)
    event_notes: list[str] = []
    drawn, why_drawn = kind.as_drawn(Asked(definition, model))
    picture = picture_of(drawn, kind, result, model, context, atlas, extra)
    picture.value_colours = colours_within(definition, model, colours)
    picture.references = tuple(with_events(definition.references, result, others, event_notes))
    picture.rows_from, picture.paints = rows_from, paints
    picture.definition = painted(picture.definition, paints)
    if selection:
        picture.selected, picture.excluded = selection.points, selection.excluded
    drawing = draw(picture, kind)
    notes = [*result.notes, *([why_drawn] if why_drawn else []), *drawing.notes, *_notes(picture, kind), *event_notes]
    if own_kind_refused := (definition.kind and definition.kind != kind.name):
        notes.append(why)
    told = Told(picture, (*definition.only, *extra), model, context, result.rows_read)
    title, note, foot = (said(text, told) for text in definition.texts)
    return Answered(
        definition=definition,
        kind=kind,
        why="" if own_kind_refused else why,
        title=title or default_title(definition, model.schema),
        note=note,
        foot=foot,
        sentence=sentence_text(drawn, kind, model.schema, parameter_settings(definition, model)),
        result=result,
        drawing=drawing,
        notes=notes,
        series=_series(picture),
        format_words=picture.format_words,
    )


def set_off(
    definition: ChartDefinition, model: Model, context: Context, extra: tuple[Filter, ...], by: tuple[Filter, ...]
) -> Selection | None:
    """The marks of a chart, under the `extra` filters, in which there are rows that pass others as well; None for one
    without dimensions, which has no marks to tell apart."""
    if not definition.groups:
        return None
    result = work_out(definition, model, context, (*extra, *by))[2]
    keys = [column.key for column in result.dimensions]
    return Selection(tuple(dict.fromkeys(tuple(plain_point(list(row))) for row in result.frame.select(keys).rows())))


def picture_of(
    definition: ChartDefinition,
    kind: Kind,
    result: Result,
    model: Model,
    context: Context,
    atlas: Mapping[str, Shapes] = MappingProxyType({}),
    extra: tuple[Filter, ...] = (),
) -> Picture:
    """A result with all that its kind of drawing needs to draw it."""
    language = definition.look.whole.language
    beside = kind.beside(definition, model, extra)
    ends = list(accumulate(map(len, (kind.unseen(definition), _compared(definition), _told(definition)))))
    own, compared, told, tested = (result.unseen[a:b] for a, b in pairwise([0, *ends, None]))
    numbers = _numbers_set(definition, model)
    return Picture(
        definition,
        replace(with_conditions(result, definition, tested, numbers), unseen=own),
        kind.set(definition),
        coloured=kind.coloured(definition),
        value_order=_value_order(definition, model),
        numbers=numbers,
        atlas=atlas,
        beside=in_language(answer(beside, model, context), language) if beside else None,
        references=definition.references,
        compared=tuple(compared),
        told=dict(zip(_told(definition), told, strict=True)),
        format_words=[format_words(each, definition.measures, model) for each in definition.conditional],
        fiscal_month=model.schema.fiscal_month,
    )


def in_language(result: Result, code: str) -> Result:
    """A result whose numbers and dates are written in a language."""
    if code == "en":
        return result

    def written(columns: list[Column]) -> list[Column]:
        return [replace(each, format=each.format.model_copy(update={"language": code})) for each in columns]

    return replace(result, columns=written(result.columns), unseen=written(result.unseen))


def draw(picture: Picture, kind: Kind) -> Drawing:
    """A picture drawn, in panels if it is asked for and the kind is drawn so, with the colours of conditional formats,
    and its parts as they are set to look."""
    in_panels = picture.definition.panels is not None and kind.panels == "drawn"
    drawing = draw_panels(picture, kind.draw) if in_panels else kind.draw(picture)
    drawing = repainted(drawing, picture.definition.conditional)
    look = picture.definition.look.settled(picture.numbers)
    has_labels = "labels" in type(picture.settings).model_fields
    return dressed(drawing, look, has_labels) if kind.dressed else drawing


def colours_within(definition: ChartDefinition, model: Model, colours: ValueColours) -> ValueColours:
    """The colours of values in a chart."""
    names = {key_of(group): grouping_words(group, model.schema) for group in definition.groups}
    own = [
        each.model_copy(update={"fields": tuple(names[key] for key in each.fields)})
        for each in definition.colours
        if names.keys() >= set(each.fields)
    ]
    return (ValueColours() if definition.own_colours else colours).within(own)


def _series(picture: Picture) -> list[tuple[str, Any]]:
    """The values of the last of several dimensions, where they alone make the series."""
    position = len(picture.definition.drawn) - 1
    if position < 1 or len(picture.measures) > 1:
        return []
    column = picture.dimensions[position]
    values = dict.fromkeys(picture.result.frame[column.key].to_list())
    return [(picture.words(column, value), sent) for value, sent in zip(values, plain_point(list(values)), strict=True)]


def _notes(picture: Picture, kind: Kind) -> list[str]:
    """What is to be said of references and of a period that is not over."""
    notes, result = [], picture.result
    if kind.shows_references(picture.definition):
        notes += reference_notes(picture)
    elif picture.definition.references:
        notes.append("What to compare with has no place on this drawing, and is not shown.")
    if result.unfinished or result.begun:
        grains = [column.dimension.period for column in result.dimensions if column.dimension.is_time_axis]
        grain = max(grains, key=PERIODS.index)
        if result.begun:
            notes.append(f"The first {grain.words} is unfinished: data from {period_words(result.begun, Grain.DAY)}.")
        if result.unfinished:
            notes.append(f"The last {grain.words} is unfinished: data to {period_words(result.unfinished, Grain.DAY)}.")
    return notes


def _numbers_set(definition: ChartDefinition, model: Model) -> dict[str, float | None]:
    """What the parameters are set to that lines stand at and conditions compare with."""
    named = {reference.parameter for reference in definition.references}
    named |= {each.parameter for each in definition.conditional} | definition.look.parameters()
    return {name: number_set(name, model.parameters) for name in named if name}


def _value_order(definition: ChartDefinition, model: Model) -> list[Any]:
    """All values of the dimension that colours the series, in order, whatever is filtered; none if they are many."""
    if len(definition.drawn) != 2 or definition.drawn[-1].is_time_axis:
        return []
    values = all_values(definition.drawn[-1], model)
    return [*values, None] if values else []


def all_values(group: Grouping, model: Model) -> list[Any]:
    """All values of a dimension in order, whatever is filtered and whoever reads, so that each keeps its colour; none
    if they are not known, or many. They are not for showing: `values_seen` are."""
    return values_seen(group, model.given({}))


def values_seen(group: Grouping, model: Model) -> list[Any]:
    """The values of a dimension that whoever reads may see, in order, whatever is filtered; none if they are not known,
    or many."""
    if group.grain:
        return [] if group.is_time_axis else list(PARTS[group.grain])
    values = model.facts(group.field).values or ()
    names: dict[Any, Any] = {value: each.name for each in group.together for value in each.values}
    return sorted({typed(names.get(value, value), model.schema[group.field]) for value in values}, key=str)

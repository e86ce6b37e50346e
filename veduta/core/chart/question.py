"""The one path of a question: definition, query, result, drawing."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import accumulate, pairwise
from types import MappingProxyType
from typing import Any

from veduta.core.calendar import PARTS, PERIODS, Grain, Grouping, label_period
from veduta.core.chart.choose import choose_kind
from veduta.core.chart.conditional import format_words
from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.drawing.conditional_colours import apply_conditional_colours
from veduta.core.chart.drawing.conditions import apply_conditions, list_tested_measures
from veduta.core.chart.drawing.events import Others, add_events
from veduta.core.chart.drawing.panels import draw_panels
from veduta.core.chart.drawing.picture import Drawing, Picture, simplify_point
from veduta.core.chart.drawing.references import list_reference_notes
from veduta.core.chart.drawing.style_overrides import apply_style_overrides
from veduta.core.chart.kinds import ChartKind, ChartShape
from veduta.core.chart.palettes import OWN, Paints
from veduta.core.chart.rewriting import with_palette
from veduta.core.chart.sentence import list_parameter_settings, write_default_title, write_sentence_text
from veduta.core.chart.text_placeholders import find_formulas
from veduta.core.chart.texts import TextContext, render_text
from veduta.core.chart.value_colours import ValueColours, make_field_key
from veduta.core.geography.shapes import Shapes
from veduta.core.model.model import Model
from veduta.core.model.parameters import get_set_number
from veduta.core.query.answer import answer, find_same_periods
from veduta.core.query.batch import ModelQuery
from veduta.core.query.filters import Context, Filter, convert_point_value, label_grouping
from veduta.core.query.measures import Measure
from veduta.core.query.query import Column, Query, Result


@dataclass
class AnsweredChart:
    """A chart worked out: what it says, how it is drawn, and where its numbers come from.

    `series` are the names and values of series that can be put into another order; `format_words` say what its
    conditional formats do."""

    definition: ChartDefinition
    kind: ChartKind
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


@dataclass(frozen=True)
class OwnSelection:
    """The marks selected in this very chart, by their points."""

    points: tuple[tuple[Any, ...], ...]
    excluded: bool = False


def build_query(definition: ChartDefinition, kind: ChartKind, extra: tuple[Filter, ...] = ()) -> Query:
    """The definition's query for this kind of drawing; `extra` filters come on top of its own."""
    groups = definition.groups
    over_all = [
        Measure(formula=formula)
        for formula in (*_list_reference_formulas(definition), *_list_text_formulas(definition))
    ]
    unseen = (*kind.list_unseen_measures(definition), *over_all, *list_tested_measures(definition))
    return Query(
        groups=groups,
        measures=(*definition.measures, *unseen),
        unseen=len(unseen),
        filters=(*definition.only, *extra),
        keep=definition.keep,
        keep_group=_find_top_n_group(definition),
        aligned=definition.aligned if any(group.is_time_axis for group in groups) else "",
        own_periods=definition.own_periods or not kind.same_periods,
        sort=definition.sort or (kind.sort(definition) if groups and _is_named(groups[0]) else None),
        orders=_list_orders(definition),
        totals=_list_totals(definition, kind),
        limit=kind.most_groups,
    )


def _is_named(group: Grouping) -> bool:
    """Whether the values of a dimension are names, in no order of their own."""
    return group.grain is None and group.width is None


def _list_reference_formulas(definition: ChartDefinition) -> list[str]:
    """The formulas that marks are held against."""
    return [reference.formula for reference in definition.references if reference.of == "formula"]


def _list_text_formulas(definition: ChartDefinition) -> list[str]:
    """The formulas in its texts."""
    return find_formulas(*definition.texts)


def _list_orders(definition: ChartDefinition) -> tuple[tuple[int, tuple[Any, ...]], ...]:
    last = len(definition.drawn) - 1
    return ((last, definition.series_order),) if definition.series_order and last > 0 else ()


def _find_top_n_group(definition: ChartDefinition) -> int | None:
    """The position of the dimension whose values are not all kept, if it is not the usual one."""
    keep = definition.keep
    if keep is None or keep.of == "by" or not definition.drawn:
        return None
    return len(definition.drawn) - 1 if keep.of == "within" or definition.split else None


def _list_totals(definition: ChartDefinition, kind: ChartKind) -> tuple[tuple[int, ...], ...]:
    """The totals that are drawn; in panels, those of each, and what is over all rows besides."""
    totals = dict.fromkeys(kind.list_totals(definition))
    if any(reference.of in ("rows", "formula") for reference in definition.references) or _tells_a_total(definition):
        totals[()] = None
    if definition.panels and kind.panels == "drawn":
        apart = tuple(range(len(definition.drawn), len(definition.groups)))
        totals = dict.fromkeys([*totals, *((*positions, *apart) for positions in totals)])
    return tuple(totals)


def _tells_a_total(definition: ChartDefinition) -> bool:
    return bool(_list_text_formulas(definition)) or "{total}" in "".join(definition.texts)


def build_model_query(
    definition: ChartDefinition, model: Model, context: Context, extra: tuple[Filter, ...] = ()
) -> ModelQuery:
    """The question that a chart asks, to be answered together with others.

    Raises DefinitionProblem if it does not fit the dataset."""
    return ModelQuery(build_query(definition, choose_kind(definition, model)[0], extra), model, context)


def find_underlying_filters(
    definition: ChartDefinition,
    model: Model,
    context: Context,
    extra: tuple[Filter, ...] = (),
    marks: tuple[Filter, ...] = (),
) -> tuple[Filter, ...]:
    """The filters on the rows behind a chart, or behind some of its marks.

    They are the rows that its numbers are computed from: a plan counted only over periods that have rows has no others.
    Raises DefinitionProblem if the chart does not fit the dataset."""
    query = build_query(definition, choose_kind(definition, model)[0], extra)
    same = find_same_periods(query, model, context)
    return (*query.filters, *([same] if same else []), *marks)


def work_out(
    definition: ChartDefinition, model: Model, context: Context, extra: tuple[Filter, ...] = ()
) -> tuple[ChartKind, str, Result]:
    """The kind of chart, why Veduta chose it, and the result.

    Raises DefinitionProblem if it does not fit the dataset."""
    kind, why = choose_kind(definition, model)
    return kind, why, answer(build_query(definition, kind, extra), model, context)


def ask(  # noqa: PLR0913 - options, each given by name
    definition: ChartDefinition,
    model: Model,
    context: Context,
    extra: tuple[Filter, ...] = (),
    selection: OwnSelection | None = None,
    atlas: Mapping[str, Shapes] = MappingProxyType({}),
    others: Others = MappingProxyType({}),
    colours: ValueColours = ValueColours(),
    rows_from: int = 0,
    paints: Paints = OWN,
    result: Result | None = None,
) -> AnsweredChart:
    """Answer and draw a chart.

    Maps take their shapes from an `atlas`, events come from `others`, and values have their `colours`. Of a long table
    a page of rows is drawn, from `rows_from` on. `result` is the answer where it was computed together with others.
    Raises DefinitionProblem if the chart does not fit the dataset."""
    if result is None:
        kind, why, result = work_out(definition, model, context, extra)
    else:
        kind, why = choose_kind(definition, model)
    result = localise_result(result, definition.look.whole.language)
    event_notes: list[str] = []
    drawn, why_drawn = kind.adapt_definition(ChartShape(definition, model))
    picture = build_picture(drawn, kind, result, model, context, atlas, extra)
    picture.value_colours = narrow_value_colours(definition, model, colours)
    picture.references = tuple(add_events(definition.references, result, others, event_notes))
    picture.rows_from, picture.paints = rows_from, paints
    picture.definition = with_palette(picture.definition, paints)
    if selection:
        picture.selected, picture.excluded = selection.points, selection.excluded
    drawing = draw(picture, kind)
    notes = [
        *result.notes,
        *([why_drawn] if why_drawn else []),
        *drawing.notes,
        *_list_notes(picture, kind),
        *event_notes,
    ]
    if own_kind_refused := (definition.kind and definition.kind != kind.name):
        notes.append(why)
    told = TextContext(picture, (*definition.only, *extra), model, context, result.rows_read)
    title, note, foot = (render_text(text, told) for text in definition.texts)
    return AnsweredChart(
        definition=definition,
        kind=kind,
        why="" if own_kind_refused else why,
        title=title or write_default_title(definition, model.schema),
        note=note,
        foot=foot,
        sentence=write_sentence_text(drawn, kind, model.schema, list_parameter_settings(definition, model)),
        result=result,
        drawing=drawing,
        notes=notes,
        series=_list_series(picture),
        format_words=picture.format_words,
    )


def set_off(
    definition: ChartDefinition, model: Model, context: Context, extra: tuple[Filter, ...], by: tuple[Filter, ...]
) -> OwnSelection | None:
    """The marks of a chart whose rows also pass other filters.

    The `extra` filters narrow the chart as well. None for a chart without dimensions, which has no marks to tell apart.
    """
    if not definition.groups:
        return None
    result = work_out(definition, model, context, (*extra, *by))[2]
    keys = [column.key for column in result.dimensions]
    return OwnSelection(
        tuple(dict.fromkeys(tuple(simplify_point(list(row))) for row in result.frame.select(keys).rows()))
    )


def build_picture(
    definition: ChartDefinition,
    kind: ChartKind,
    result: Result,
    model: Model,
    context: Context,
    atlas: Mapping[str, Shapes] = MappingProxyType({}),
    extra: tuple[Filter, ...] = (),
) -> Picture:
    """A result with all that its kind of drawing needs to draw it."""
    language = definition.look.whole.language
    beside = kind.build_secondary_query(definition, model, extra)
    ends = list(
        accumulate(
            map(
                len,
                (
                    kind.list_unseen_measures(definition),
                    _list_reference_formulas(definition),
                    _list_text_formulas(definition),
                ),
            )
        )
    )
    own, compared, told, tested = (result.unseen[a:b] for a, b in pairwise([0, *ends, None]))
    numbers = _get_set_numbers(definition, model)
    return Picture(
        definition,
        replace(apply_conditions(result, definition, tested, numbers), unseen=own),
        kind.set(definition),
        coloured=kind.list_coloured_groups(definition),
        value_order=_find_value_order(definition, model),
        numbers=numbers,
        atlas=atlas,
        beside=localise_result(answer(beside, model, context), language) if beside else None,
        references=definition.references,
        compared=tuple(compared),
        told=dict(zip(_list_text_formulas(definition), told, strict=True)),
        format_words=[format_words(each, definition.measures, model) for each in definition.conditional],
        fiscal_month=model.schema.fiscal_month,
    )


def localise_result(result: Result, code: str) -> Result:
    """A result whose numbers and dates are written in a language."""
    if code == "en":
        return result

    def written(columns: list[Column]) -> list[Column]:
        return [replace(each, format=each.format.model_copy(update={"language": code})) for each in columns]

    return replace(result, columns=written(result.columns), unseen=written(result.unseen))


def draw(picture: Picture, kind: ChartKind) -> Drawing:
    """A picture drawn, in panels if they are on and the kind has them.

    Conditional formats and the looks of its parts are applied."""
    in_panels = picture.definition.panels is not None and kind.panels == "drawn"
    drawing = draw_panels(picture, kind.draw) if in_panels else kind.draw(picture)
    drawing = apply_conditional_colours(drawing, picture.definition.conditional)
    look = picture.definition.look.resolve_parameters(picture.numbers)
    has_labels = "labels" in type(picture.settings).model_fields
    return apply_style_overrides(drawing, look, has_labels) if kind.dressed else drawing


def narrow_value_colours(definition: ChartDefinition, model: Model, colours: ValueColours) -> ValueColours:
    """The colours of values in a chart."""
    names = {make_field_key(group): label_grouping(group, model.schema) for group in definition.groups}
    own = [
        each.model_copy(update={"fields": tuple(names[key] for key in each.fields)})
        for each in definition.colours
        if names.keys() >= set(each.fields)
    ]
    return (ValueColours() if definition.own_colours else colours).override(own)


def _list_series(picture: Picture) -> list[tuple[str, Any]]:
    """The values of the last of several dimensions, where they alone make the series."""
    position = len(picture.definition.drawn) - 1
    if position < 1 or len(picture.measures) > 1:
        return []
    column = picture.dimensions[position]
    values = dict.fromkeys(picture.result.frame[column.key].to_list())
    return [
        (picture.label(column, value), sent) for value, sent in zip(values, simplify_point(list(values)), strict=True)
    ]


def _list_notes(picture: Picture, kind: ChartKind) -> list[str]:
    """What is to be said of references and of a period that is not over."""
    notes, result = [], picture.result
    if kind.shows_references(picture.definition):
        notes += list_reference_notes(picture)
    elif picture.definition.references:
        notes.append("What to compare with has no place on this drawing, and is not shown.")
    if result.unfinished or result.begun:
        grains = [column.dimension.period for column in result.dimensions if column.dimension.is_time_axis]
        grain = max(grains, key=PERIODS.index)
        if result.begun:
            notes.append(f"The first {grain.words} is unfinished: data from {label_period(result.begun, Grain.DAY)}.")
        if result.unfinished:
            notes.append(f"The last {grain.words} is unfinished: data to {label_period(result.unfinished, Grain.DAY)}.")
    return notes


def _get_set_numbers(definition: ChartDefinition, model: Model) -> dict[str, float | None]:
    """What the parameters are set to that lines stand at and conditions compare with."""
    named = {reference.parameter for reference in definition.references}
    named |= {each.parameter for each in definition.conditional} | definition.look.list_parameters()
    return {name: get_set_number(name, model.parameters) for name in named if name}


def _find_value_order(definition: ChartDefinition, model: Model) -> list[Any]:
    """All values of the dimension that colours the series, in order, whatever is filtered; none if they are many."""
    if len(definition.drawn) != 2 or definition.drawn[-1].is_time_axis:
        return []
    values = list_all_values(definition.drawn[-1], model)
    return [*values, None] if values else []


def list_all_values(group: Grouping, model: Model) -> list[Any]:
    """All values of a dimension in order, whatever is filtered and whoever reads.

    They keep each value's colour; show `list_values_seen` instead. Empty if they are not known or too many."""
    return list_values_seen(group, model.apply_reader({}))


def list_values_seen(group: Grouping, model: Model) -> list[Any]:
    """The values of a dimension that the reader may see, in order, whatever is filtered.

    Empty if they are not known or too many."""
    if group.grain:
        return [] if group.is_time_axis else list(PARTS[group.grain])
    values = model.get_facts(group.field).values or ()
    names: dict[Any, Any] = {value: each.name for each in group.together for value in each.values}
    return sorted(
        {convert_point_value(names.get(value, value), model.schema[group.field]) for value in values}, key=str
    )

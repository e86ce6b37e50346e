"""What the small editors under the sentence's words offer."""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Callable, Sequence
from typing import Annotated, Any

from pydantic import Field

from veduta.core.calendar import Grain, Grouping, find_period_start, list_field_grains
from veduta.core.chart.choose import choose_kind, pick_best_kind
from veduta.core.chart.definition import ChartDefinition, EventFields, Layer, Panels
from veduta.core.chart.drawing.layer_context import SHADED
from veduta.core.chart.drawing.references import describe_reference
from veduta.core.chart.drawing.shades import STEPS_WORDS
from veduta.core.chart.edits import group_of
from veduta.core.chart.kinds import CHART_KINDS, THEMES, ChartKind, ChartShape
from veduta.core.chart.look import ColumnLook, ValueLook
from veduta.core.chart.question import list_values_seen
from veduta.core.chart.sentence import describe_drilling, list_parameters_read
from veduta.core.chart.value_colours import make_field_key, make_value_key
from veduta.core.chart.variations import list_variations, measure_formula
from veduta.core.data.date_patterns import format_date_pattern
from veduta.core.data.fields import DataField, DataType, FieldRole, list_aggregates
from veduta.core.data.languages import LANGUAGES
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.check import TypedExpression
from veduta.core.formula.measures import replace_ids_with_names
from veduta.core.model.model import Model
from veduta.core.number_format import group_words
from veduta.core.phrases import join_names
from veduta.core.query.filters import Context
from veduta.core.query.filters.base import FieldCondition
from veduta.core.query.listing import group_values
from veduta.core.query.measures import (
    TOTAL_WORDS,
    Measure,
    TopN,
    get_total,
    label_measures,
    measure_format,
    measure_node,
    measure_words,
)
from veduta.core.query.query import Sort
from veduta.web.charts.choices import (
    VALUES_SHOWN,
    OpenPopover,
    list_colour_choices,
    list_number_parameters,
    list_parameter_choices,
    measure_choices,
    simplify,
)
from veduta.web.charts.conditions_popover import list_context, make_condition_context
from veduta.web.charts.filter_forms import FORMS, list_forms, shows
from veduta.web.charts.look_popover import Pick, look_context
from veduta.web.charts.setting_inputs import list_setting_inputs
from veduta.web.common.requests import Line, RequestModel, Whole
from veduta.web.datasets.dataset_cache import get_datasets
from veduta.web.datasets.models import Dataset


def shows_subtotals(definition: ChartDefinition) -> bool:
    return definition.kind in CHART_KINDS and CHART_KINDS[definition.kind].has_subtotals


MISSING_CLAUSES = (
    ("by", "By", lambda d: not d.by),
    ("split", "Split by", lambda d: bool(d.by) and d.split is None),
    ("panels", "In panels by", lambda d: d.panels is None),
    ("only", "Only", lambda d: not d.only),
    ("keep", "Keep the top", lambda d: bool(d.by) and d.keep is None),
    ("sort", "Sort", lambda d: bool(d.by) and d.sort is None),
    ("compare", "Compare", lambda d: bool(d.by) and not d.references),
    ("aligned", "Start together", lambda d: any(g.is_time_axis for g in d.groups) and not d.aligned),
    ("periods", "Periods of the tables", lambda d: not d.own_periods),
    ("totals", "Subtotals", lambda d: shows_subtotals(d) and len(d.groups) > 1 and not d.totals),
    ("drill", "Drill", lambda d: not describe_drilling(d)),
)
Popover = Callable[[OpenPopover], dict[str, Any]]
POPOVERS: dict[str, tuple[str, Popover]] = {}
"""By clause the template, and what makes its context, which may name another template."""


def register_popover(clause: str, template: str = "") -> Callable[[Popover], Popover]:
    """Registers what makes the context of a clause's popover."""

    def register(make: Popover) -> Popover:
        POPOVERS[clause] = template or clause, make
        return make

    return register


class ClauseSent(RequestModel):
    """Which popover is open.

    A clause's entry at `index`, and what is searched for in it; of a filter also the field and the kind it is to have.
    """

    clause: Line = ""
    index: Annotated[Whole, Field(ge=0)] = 0
    find: Line = ""
    field: Line = ""
    way: Line = ""


def make_popover_context(
    definition: ChartDefinition, model: Model, context: Context, opening: ClauseSent
) -> dict[str, Any]:
    """The template and its context for a clause. Raises DefinitionProblem for an unknown one."""
    clause, index = opening.clause, opening.index
    if clause not in POPOVERS:
        raise DefinitionProblem("Veduta does not know this clause.", hint="Load the page again.")
    template, make = POPOVERS[clause]
    opened = OpenPopover(definition, model, context, clause, index, opening.find[:200], opening.field, opening.way)
    shared = {"definition": definition, "clause": clause, "index": index, "find": opened.find, "template": template}
    return shared | make(opened)


@register_popover("totals")
def _make_empty_context(opened: OpenPopover) -> dict[str, Any]:
    return {}


STATISTICS_OFFERED = {
    "mean": "their mean",
    "median": "their median",
    "min": "the lowest",
    "max": "the highest",
    "percentile": "a percentile",
}
READY = (
    ("The mean of the groups shown", "each group counts once", {"of": "groups"}),
    ("The median of the groups shown", "", {"of": "groups", "statistic": "median"}),
    ("The value over all rows shown", "large groups count more", {"of": "rows"}),
)


@register_popover("compare")
def _compare(opened: OpenPopover) -> dict[str, Any]:
    """What the marks are held against: ready-made lines, and one of one's own."""
    definition, index = opened.definition, opened.index
    is_new = index >= len(definition.references)
    is_dated = any(group.is_time_axis for group in definition.by[:1])
    reference = None if is_new else definition.references[index]
    of = reference.of if reference else opened.way or "number"
    others = [("number", "A number"), ("groups", "Of the groups"), ("formula", "A formula")]
    others += [("dates", "A day or days"), ("events", "Events of a dataset")] * is_dated
    formula = replace_ids_with_names(reference.formula, opened.model.schema) if reference else ""
    return {
        "is_new": is_new,
        "reference": reference,
        "of": of,
        "words": describe_reference(reference.model_copy(update={"said": ""}), formula) if reference else "",
        "formula": formula,
        "said": reference.said if reference else "",
        "ready": [(words, tail, {"edit": "set_reference", "reference": sent}) for words, tail, sent in READY],
        "statistics": list(STATISTICS_OFFERED.items()),
        "others": [each for each in others if each[0] != of],
        "parameters": list_number_parameters(opened.model),
        "over": [("panel", "each panel by itself"), ("all", "all panels")],
        "in_panels": definition.panels is not None and of in ("groups", "rows", "formula"),
        "colours": list_colour_choices(),
        "dashes": list(DASHES.items()),
        "next": len(definition.references),
        **(_make_events_context(opened, reference.events if reference else None) if of == "events" else {}),
    }


def _make_events_context(opened: OpenPopover, chosen: EventFields | None) -> dict[str, Any]:
    """The datasets that may have events, or of one that is chosen (`opened.field`) its fields."""
    key = chosen.dataset if chosen else opened.field
    there = get_datasets([key]) if key else {}
    if key not in there:
        datasets = Dataset.objects.filter(deleted_at=None, current__isnull=False).exclude(pk=opened.definition.dataset)
        dated = [dataset for dataset in datasets if any(field.kind.is_date for field in dataset.schema.visible)]
        return {"datasets": dated}
    fields = there[key].schema.visible
    days = [field for field in fields if field.kind.is_date]
    texts = [field for field in fields if field.kind is DataType.TEXT]
    usual = EventFields(
        dataset=key,
        start=days[0].id if days else "none",
        end=days[1].id if len(days) > 1 else "",
        words=texts[0].id if texts else "",
    )
    said = {} if chosen else {"said": there[key].name[:1].lower() + there[key].name[1:]}
    return {"events": chosen or usual, "days": days, "texts": texts, **said}


@register_popover("drill")
def _make_drill_context(opened: OpenPopover) -> dict[str, Any]:
    """Where readers may drill the chart: the paths on which its dimensions are, and those of its dates."""
    schema, now = opened.model.schema, opened.definition.drill
    fields = {group.field for group in opened.definition.groups}
    leading = [path for path in opened.model.definition.paths if path.name == now.along or fields & {*path.fields}]
    named = [(path.name, ", ".join(schema[each].name for each in path.fields if each in schema)) for path in leading]
    return {"paths": named, "now": now}


@register_popover("aligned")
def _make_aligned_context(opened: OpenPopover) -> dict[str, Any]:
    definition, schema = opened.definition, opened.model.schema
    return {
        "text": replace_ids_with_names(definition.aligned, schema),
        "measures": measure_choices(definition, schema, definition.measures[0]),
    }


@register_popover("periods")
def _make_periods_context(opened: OpenPopover) -> dict[str, Any]:
    return {"periods": "own" if opened.definition.own_periods else "same"}


@register_popover("as", "kind")
def _make_kind_context(opened: OpenPopover) -> dict[str, Any]:
    definition, model = opened.definition, opened.model
    asked = ChartShape(definition, model)
    chosen, why = pick_best_kind(asked)
    current = choose_kind(definition, model)[0]
    problems = [(kind, kind.explain_unsupported(asked)) for kind in CHART_KINDS.values()]
    fitting_: dict[str, list[ChartKind]] = {theme: [] for theme in THEMES}
    for kind, problem in problems:
        if not problem:
            fitting_[kind.theme].append(kind)
    return {
        "themes": [(theme, kinds) for theme, kinds in fitting_.items() if kinds],
        "others": [(kind, problem) for kind, problem in problems if problem],
        "chosen": chosen,
        "why": why,
        "settings": list_setting_inputs(current, definition, asked),
    }


WAYS = {
    "bar": "Bars",
    "line": "Line",
    "step": "Stepped line",
    "area": "Area",
    "dot": "Dots",
    "tick": "Short lines",
    "text": "Numbers",
}
WAYS_BETWEEN = {"range": "Bars from one to the other", "band": "Band", "link": "Links"}
DASHES = {"solid": "Solid", "dashed": "Dashed", "dotted": "Dotted"}


UNDIVIDED = [(False, "Each by itself"), (True, "All together")]


@register_popover("layer")
def _make_layer_context(opened: OpenPopover) -> dict[str, Any]:
    """How a layer of the drawing is drawn, and what can be laid over it."""
    definition, model, index = opened.definition, opened.model, opened.index
    kind = choose_kind(definition, model)[0]
    layers = kind.list_layers(definition)
    if index >= len(layers):
        raise DefinitionProblem("The chart has no such layer any more.", hint="Load the page again.")
    layer, names = layers[index], label_measures(definition.measures, model.schema)
    is_between = layer.how in WAYS_BETWEEN
    lies = kind.lies(definition)
    return {
        "layer": layer,
        "measures": join_names([names[i] for i in layer.measures]),
        "ways": list((WAYS_BETWEEN if is_between else WAYS).items()),
        "axes": [("first", "Below" if lies else "Left"), ("second", "Above" if lies else "Right")],
        "divided": UNDIVIDED if len(definition.drawn) > 1 else [],
        "test": replace_ids_with_names(layer.test, model.schema),
        "can_be_shaded": layer.how in SHADED,
        "shades": measure_choices(definition, model.schema, layer.shade),
        "steps": list(STEPS_WORDS.items()),
        "colours": list_colour_choices(),
        "dashes": list(DASHES.items()),
        "numbers": [
            ("width", "Line, px", layer.width),
            ("size", "Dot, px", layer.size),
            ("opacity", "Opacity", layer.opacity),
        ],
        "several": len(layers) > 1,
        "last": len(layers) - 1,
        "before": index - 1,
        "after": index + 1,
        "additions": _list_additions(layer, names),
    }


def _list_additions(layer: Layer, names: list[str]) -> list[tuple[str, dict[str, Any]]]:
    """What can be added beside a layer: another way of the same measure, and what stands between it and others."""
    first = layer.measures[0]
    found = [
        (f"{names[first]} as {words.lower()} too", {"edit": "add_layer", "how": how, "measures": [first]})
        for how, words in WAYS.items()
        if how in ("line", "dot", "text") and how != layer.how
    ]
    for other, name in enumerate(names):
        if other != first:
            both = [first, other]
            found += [
                (f"{words} between {names[first]} and {name}", {"edit": "add_layer", "how": how, "measures": both})
                for how, words in (("link", "Links"), ("band", "A band"))
            ]
    return found


register_popover("look")(look_context)
register_popover("conditions")(list_context)
register_popover("condition")(make_condition_context)


@register_popover("keep")
def _keep(opened: OpenPopover) -> dict[str, Any]:
    definition, model = opened.definition, opened.model
    keep = definition.keep or TopN(by=definition.measures[0])
    return {
        "keep": keep,
        "of": model.schema[definition.by[0].field].name if definition.by else "",
        "measures": measure_choices(definition, model.schema, keep.by),
        "is_new": definition.keep is None,
        "parameters": list_number_parameters(model),
        "within": len(definition.groups) > 1,
    }


@register_popover("show")
def _show(opened: OpenPopover) -> dict[str, Any]:
    definition, model, index = opened.definition, opened.model, opened.index
    schema = model.schema
    is_new = index >= len(definition.measures)
    measure = None if is_new else definition.measures[index]
    field = schema[measure.field] if measure and measure.field else None
    return {
        "is_new": is_new,
        "measure": measure,
        "field": field,
        "name": measure_words(measure, schema) if measure else "",
        "aggregates": list_aggregates(field.kind) if field and field.level == "row" else [],
        "format": measure_format(measure, schema, _check_measure(measure, model)) if measure else None,
        "formula": replace_ids_with_names(measure.formula, schema) if measure else "",
        "defined": replace_ids_with_names(field.formula, schema) if field and field.formula else "",
        "total": get_total(measure, schema) if measure else "again",
        "totals": list(TOTAL_WORDS.items()),
        "variations": list_variations(definition.groups, schema, measure, opened.model.parameters) if measure else [],
        "ways": _list_ways(opened) if measure else [],
        **_make_in_cells_context(opened),
        "fixed": measure is not None and not _check_measure(measure, model).fields,
        "fields": _list_fields_first(model, FieldRole.MEASURE),
        "removable": not is_new and bool(definition.show),
        "next_condition": len(definition.conditional),
        "next": len(definition.show),
    }


LINE_GRAINS = (Grain.YEAR, Grain.QUARTER, Grain.MONTH, Grain.WEEK)
CELLS = [("", "Nothing"), ("bar", "Bars"), ("shade", "Shades")]


def _make_in_cells_context(opened: OpenPopover) -> dict[str, Any]:
    """What the cells of a measure can draw, if the chart is a table."""
    definition, model, index = opened.definition, opened.model, opened.index
    measures = definition.measures
    kind = choose_kind(definition, model)[0]
    if index >= len(measures):
        return {"cells": []}
    value_kind, column = _check_measure(measures[index], model).kind, definition.look.get_column(index)
    headed = {"column": column, "has_above": kind.groups_headings and len(measures) > 1}
    if not kind.in_cells or value_kind is None or not value_kind.is_number:
        return {"cells": [], **headed}
    grain = column.trend.grain if column.trend else None
    grains = LINE_GRAINS if "line" in kind.in_cells else ()
    lines = [("", "None"), *((each.value, f"By {each.words}") for each in grains)] if grains else []
    return {
        "cells": [(words, column.draws == value, _set_column(index, draws=value)) for value, words in CELLS],
        "lines": [(words, (grain or "") == value, _set_column(index, grain=value)) for value, words in lines],
        **headed,
        "column_picks": _list_column_picks(opened, column),
    }


OVER = [("", "The column"), ("table", "All such columns"), ("groups", "Each group"), ("fixed", "Fixed ends")]
SIDES = [("", "Left"), ("right", "Right"), ("instead", "Instead of it")]
TOTALS = [(False, "Left out"), (True, "Drawn on too")]
FIRSTS = [(False, "The condition's ground"), (True, "The shade")]


def _list_column_picks(opened: OpenPopover, column: ColumnLook) -> list[Pick]:
    """What is chosen about the bars or shades of a column."""
    is_bar, index = column.draws == "bar", opened.index
    over = [each for each in OVER if each[0] != "groups" or len(opened.definition.groups) > 1]
    picks: list[tuple[str, str, Sequence[tuple[Any, str]]]] = [("over", "Relative to", over)]
    picks += [("side", "Beside the number", SIDES)] if is_bar else []
    picks += [("shade_first", "Where it meets a condition shows", FIRSTS)] * (
        not is_bar and bool(opened.definition.conditional)
    )
    picks.append(("totals", "Totals are", TOTALS))
    return [
        Pick(
            label,
            [
                (words, getattr(column, name) == value, _set_column(index, changes={name: value}))
                for value, words in choices
            ],
        )
        for name, label, choices in picks
    ]


def _set_column(index: int, **changes: Any) -> dict[str, Any]:
    return {"edit": "set_column", "index": index, **changes}


def _list_ways(opened: OpenPopover) -> list[tuple[str, str, bool]]:
    """How a measure of a drawing in layers, or of bars and lines, can be drawn by itself; True for how it is."""
    definition, index = opened.definition, opened.index
    layers = choose_kind(definition, opened.model)[0].list_layers(definition)
    now = {layer.how for layer in layers if index in layer.measures}
    return [(how, words, how in now) for how, words in WAYS.items()] if layers and definition.groups else []


def _check_measure(measure: Measure, model: Model) -> TypedExpression:
    return measure_node(measure, model.schema, model.parameters)


@register_popover("formula")
def _make_formula_context(opened: OpenPopover) -> dict[str, Any]:
    """The editor of a formula of the chart's own; it begins with the measure that is there."""
    definition, model = opened.definition, opened.model
    shown = definition.measures[opened.index] if opened.index < len(definition.measures) else None
    text = ""
    if shown:
        text = replace_ids_with_names(measure_formula(shown), model.schema)
    axis = next((group.field for group in definition.groups if group.is_time_axis), "")
    return {
        "is_new": shown is None,
        "text": text,
        "name": shown.name if shown and shown.formula else "",
        "grains": [(grain.value, grain.words) for grain in list_field_grains(model.schema[axis]) if not grain.is_part]
        if axis
        else [],
        "parameters": model.definition.parameters,
    }


@register_popover("with")
def _make_with_context(opened: OpenPopover) -> dict[str, Any]:
    """The value of a parameter, for this chart."""
    model, read = opened.model, list_parameters_read(opened.definition, opened.model)
    if opened.index >= len(read):
        raise DefinitionProblem("The chart does not read this parameter any more.", hint="Load the page again.")
    parameter = read[opened.index]
    values = model.parameters[parameter.id].values
    return list_parameter_choices(parameter, None if values is None else list(values), model, opened.find)


def _list_fields_first(model: Model, role: FieldRole) -> list[tuple[str, DataField]]:
    """The fields that are offered, each table's with those of a role first; each with its table's heading."""
    headed = [(model.make_heading(field), field) for field in model.offered]
    order = list(dict.fromkeys(heading for heading, _ in headed))
    return sorted(headed, key=lambda each: (order.index(each[0]), each[1].role is not role))


@register_popover("by", "group")
@register_popover("split", "group")
@register_popover("panels", "group")
def _group(opened: OpenPopover) -> dict[str, Any]:
    definition, schema, clause, index = opened.definition, opened.model.schema, opened.clause, opened.index
    group = group_of(definition, clause, index)
    field = schema[group.field] if group else None
    can_swap = bool(group) and (
        (bool(definition.split) and bool(definition.by)) or (clause == "by" and index + 1 < len(definition.by))
    )
    return {
        "group": group,
        "field": field,
        "grains": list_field_grains(field) if field and field.kind.is_date else [],
        "fields": [each for each in _list_fields_first(opened.model, FieldRole.DIMENSION) if each[1].level == "row"],
        "is_ordered": bool(group and definition.series_order and group == definition.drawn[-1]),
        "can_swap": can_swap,
        "is_number": field is not None and field.kind.is_number,
        "classes": CLASSES,
        "swap_index": index if clause == "by" else 0,
        "next": len(definition.panels.by if clause == "panels" and definition.panels else definition.by),
        "heading": GROUPED[clause],
        "named_values": _list_named_values(opened, group) if group else [],
        **(_make_values_context(opened, group) if group else {}),
        **(_make_dates_context(opened, group) if group and group.is_time_axis else {}),
        "arrangement": _list_arrangements(definition.panels) if definition.panels else [],
    }


PICTURED = [("", "No pictures"), ("beside", "Beside the words"), ("instead", "Instead of them")]


def _make_values_context(opened: OpenPopover, group: Grouping) -> dict[str, Any]:
    """What the values of a dimension are in a table besides their words."""
    definition = opened.definition
    if not choose_kind(definition, opened.model)[0].in_cells or group.is_time_axis:
        return {}
    usual = ValueLook(field=make_field_key(group))
    now = next((each for each in definition.look.values if each.field == usual.field), usual)
    place = {"edit": "set_values", "clause": opened.clause, "index": opened.index}
    picked = [(words, now.pictures == value, place | {"changes": {"pictures": value}}) for value, words in PICTURED]
    return {"value_look": now, "pictured": Pick("Pictures of their names", picked)}


def _make_dates_context(opened: OpenPopover, group: Grouping) -> dict[str, Any]:
    """How the periods of a dimension are written, with the last of them as a sample."""
    own = next((each for each in opened.definition.look.dates if each.field == make_field_key(group)), None)
    highest = opened.model.get_facts(group.field).highest
    last = find_period_start(dt.date.fromisoformat(str(highest)[:10]), group.period) if highest else None
    sample = format_date_pattern(last, own.pattern, own.language) if own and last else ""
    return {"has_dates": True, "date_look": own, "date_sample": sample, "languages": list(LANGUAGES.items())}


def _list_named_values(opened: OpenPopover, group: Grouping) -> list[tuple[str | None, str, str]]:
    """Values of a dimension, as they are sent, in words, and what they are called in this chart."""
    names = {each.value: each.name for each in opened.definition.look.names if each.field == make_field_key(group)}
    field = opened.model.schema[group.field]
    values = list_values_seen(group, opened.model)[:VALUES_SHOWN]
    there = [(make_value_key(value), group_words(value, group, field.kind)) for value in values]
    return [(key, words, names.get(key, "")) for key, words in [*there, (None, "(empty)")] if there]


CLASSES = (10, 20, 40)
GROUPED = {"by": "By", "split": "Split by", "panels": "In panels by"}
ARRANGED = [("wrapped", "As fits"), ("beside", "Side by side"), ("below", "Below one another")]
SCALES = [("common", "Common"), ("values", "Own for values"), ("own", "Own for both axes")]


def _list_arrangements(panels: Panels) -> list[tuple[str, str, list[tuple[str, str]], str]]:
    """What can be set about panels: label, argument of the edit, choices and what is chosen.

    Of two dimensions the first always goes down, the second across."""
    scales = ("Scales", "scales", SCALES, panels.scales)
    return [scales] if len(panels.by) > 1 else [("Panels", "arranged", ARRANGED, panels.arranged), scales]


@register_popover("sort")
def _sort(opened: OpenPopover) -> dict[str, Any]:
    definition, model, schema = opened.definition, opened.model, opened.model.schema
    first = next(iter(definition.groups), None)
    sort = definition.sort or Sort(by="time" if first and first.grain else "name")
    choices: dict[str, Any] = {
        "sort": sort,
        "is_new": definition.sort is None,
        "measures": measure_choices(definition, schema, sort.measure or definition.measures[0]),
        "is_time": bool(first and first.grain),
    }
    if first and sort.by == "own":
        values, _ = group_values(model, first, limit=VALUES_SHOWN)
        words = {json.dumps(simplify(value)): said for value, said, _ in values}
        named = [json.dumps(value) for value in sort.values]
        choices["own"] = [(key, words.get(key, json.loads(key))) for key in named]
        choices["own"] += [(key, said) for key, said in words.items() if key not in named]
    return choices


@register_popover("only")
def _make_only_context(opened: OpenPopover) -> dict[str, Any]:
    """A filter: of a field, in one of the ways that suit it, or of another kind; at first, which field it is to be."""
    definition, schema = opened.definition, opened.model.schema
    there = definition.only[opened.index] if opened.index < len(definition.only) else None
    own_field = there.field if isinstance(there, FieldCondition) else ""
    name = opened.field or own_field
    is_own = there is not None and name == own_field
    showing = next((form.kind for form in FORMS.values() if there and is_own and shows(form, there)), "")
    way = opened.way or showing
    forms = list_forms(schema[name]) if name else []
    form = FORMS.get(way) or next(iter(forms), None)
    if form is None:
        fields = [(opened.model.make_heading(each), each) for each in opened.model.offered if each.level == "row"]
        return {"template": "only_field", "fields": fields}
    field = schema[name] if name and form.tab else None
    current = there if showing == form.kind else None
    offered = form.offers(opened, field, current)
    return {"field": field, "forms": forms if field else [], "form": form, "current": current} | offered

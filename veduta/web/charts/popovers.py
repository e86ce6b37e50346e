"""What the small editors under the sentence's words offer."""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from veduta.core.calendar import Grain, grains_for, grouping_for
from veduta.core.chart.choose import choose_kind, unfit
from veduta.core.chart.definition import KIND_NAMES, ChartDefinition, ChartKind, default_measure
from veduta.core.chart.edits import group_of
from veduta.core.chart.sentence import parameters_read
from veduta.core.chart.variations import fitting, measure_formula
from veduta.core.data.fields import Field, Kind, Role, Schema, aggregates_for
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.check import Checked
from veduta.core.formula.measures import with_names
from veduta.core.model.definition import ParameterField
from veduta.core.model.model import Model
from veduta.core.query.filters import Context, ListFilter, MeasureFilter, RelativeFilter, dates_words, typed
from veduta.core.query.listing import group_values
from veduta.core.query.measures import TOTAL_WORDS, Keep, Measure, measure_format, measure_node, measure_words, total_of
from veduta.core.query.query import Sort
from veduta.core.words import in_sentence

VALUES_SHOWN = 100
MISSING_CLAUSES = (
    ("by", "By", lambda d: not d.by),
    ("split", "Split by", lambda d: bool(d.by) and d.split is None),
    ("only", "Only", lambda d: not d.only),
    ("keep", "Keep the top", lambda d: bool(d.by) and d.keep is None),
    ("sort", "Sort", lambda d: bool(d.by) and d.sort is None),
    ("compare", "Compare", lambda d: bool(d.by) and not d.compare),
    ("aligned", "Start together", lambda d: any(g.is_time_axis for g in d.groups) and not d.aligned),
    ("totals", "Subtotals", lambda d: d.kind is ChartKind.TABLE and len(d.groups) > 1 and not d.totals),
)
RELATIVE_CHOICES = (
    ("The latest month", {"unit": "month", "count": 1}),
    ("Last 3 months", {"unit": "month", "count": 3}),
    ("Last 12 months", {"unit": "month", "count": 12}),
    ("The latest year", {"unit": "year", "count": 1}),
    ("The previous year", {"unit": "year", "count": 1, "back": 1}),
    ("Last 2 years", {"unit": "year", "count": 2}),
)


@dataclass(frozen=True)
class Asked:
    """What a popover is asked for: the clause's entry at `index`, and what else the page sent."""

    definition: ChartDefinition
    model: Model
    context: Context
    clause: str
    index: int
    find: str
    data: dict[str, Any]


Popover = Callable[[Asked], dict[str, Any]]
POPOVERS: dict[str, tuple[str, Popover]] = {}
"""By clause the template, and what makes its context, which may name another template."""


def popover(clause: str, template: str = "") -> Callable[[Popover], Popover]:
    """Registers what makes the context of a clause's popover."""

    def register(make: Popover) -> Popover:
        POPOVERS[clause] = template or clause, make
        return make

    return register


def popover_context(
    definition: ChartDefinition, model: Model, context: Context, data: dict[str, Any]
) -> dict[str, Any]:
    """The template and its context for the clause that `data` names. Raises DefinitionProblem for an unknown one."""
    clause, index = str(data.get("clause", "")), int(data.get("index") or 0)
    if clause not in POPOVERS:
        raise DefinitionProblem("Veduta does not know this clause.", hint="Load the page again.")
    template, make = POPOVERS[clause]
    asked = Asked(definition, model, context, clause, index, str(data.get("find", ""))[:200], data)
    shared = {"definition": definition, "clause": clause, "index": index, "find": asked.find, "template": template}
    return shared | make(asked)


@popover("totals")
@popover("compare")
def _alone(asked: Asked) -> dict[str, Any]:
    return {}


@popover("aligned")
def _aligned(asked: Asked) -> dict[str, Any]:
    definition, schema = asked.definition, asked.model.schema
    return {
        "text": with_names(definition.aligned, schema),
        "measures": measure_choices(definition, schema, definition.measures[0]),
    }


@popover("as", "kind")
def _kind(asked: Asked) -> dict[str, Any]:
    definition, model = asked.definition, asked.model
    chosen, why = choose_kind(definition.model_copy(update={"kind": None}), model.schema, model)
    current = choose_kind(definition, model.schema, model)[0]
    several = len(definition.groups) > 1 or len(definition.measures) > 1
    stackings = {"stacked": "Stacked", "grouped": "Side by side", "full": "To 100%"}
    if current is ChartKind.AREA:
        del stackings["grouped"]
    return {
        "kinds": [(kind, KIND_NAMES[kind], unfit(definition, kind, model.schema, model)) for kind in ChartKind],
        "chosen": chosen,
        "chosen_name": KIND_NAMES[chosen],
        "why": why,
        "stackable": several and current in (ChartKind.BAR, ChartKind.LYING, ChartKind.AREA),
        "stackings": list(stackings.items()),
    }


@popover("keep")
def _keep(asked: Asked) -> dict[str, Any]:
    definition, model = asked.definition, asked.model
    keep = definition.keep or Keep(by=definition.measures[0])
    return {
        "keep": keep,
        "measures": measure_choices(definition, model.schema, keep.by),
        "is_new": definition.keep is None,
        "parameters": _numbers(model),
        "within": len(definition.groups) > 1,
    }


def _numbers(model: Model) -> list[ParameterField]:
    """The parameters that can stand for a number."""
    return [
        parameter for parameter in model.definition.parameters if parameter.kind.is_number and not parameter.several
    ]


@popover("show")
def _show(asked: Asked) -> dict[str, Any]:
    definition, model, index = asked.definition, asked.model, asked.index
    schema = model.schema
    is_new = index >= len(definition.measures)
    measure = None if is_new else definition.measures[index]
    field = schema[measure.field] if measure and measure.field else None
    return {
        "is_new": is_new,
        "measure": measure,
        "field": field,
        "name": measure_words(measure, schema) if measure else "",
        "aggregates": aggregates_for(field.kind) if field and field.level == "row" else [],
        "format": measure_format(measure, schema, _node(measure, model)) if measure else None,
        "formula": with_names(measure.formula, schema) if measure else "",
        "defined": with_names(field.formula, schema) if field and field.formula else "",
        "total": total_of(measure, schema) if measure else "again",
        "totals": list(TOTAL_WORDS.items()),
        "variations": fitting(definition.groups) if measure else [],
        "fixed": measure is not None and not _node(measure, model).fields,
        "fields": _fields_first(schema, Role.MEASURE),
        "removable": not is_new and bool(definition.show),
        "next": len(definition.show),
    }


def _node(measure: Measure, model: Model) -> Checked:
    return measure_node(measure, model.schema, model.parameters)


@popover("formula")
def _formula(asked: Asked) -> dict[str, Any]:
    """The editor of a formula of the chart's own; it begins with the measure that is there."""
    definition, model = asked.definition, asked.model
    shown = definition.measures[asked.index] if asked.index < len(definition.measures) else None
    text = ""
    if shown:
        text = with_names(measure_formula(shown), model.schema)
    axis = next((group.field for group in definition.groups if group.is_time_axis), "")
    return {
        "is_new": shown is None,
        "text": text,
        "name": shown.name if shown and shown.formula else "",
        "grains": [(grain.value, grain.words) for grain in grains_for(model.schema[axis].kind) if not grain.is_part]
        if axis
        else [],
        "parameters": model.definition.parameters,
    }


@popover("with")
def _with(asked: Asked) -> dict[str, Any]:
    """The value of a parameter, for this chart."""
    model, read = asked.model, parameters_read(asked.definition, asked.model)
    if asked.index >= len(read):
        raise DefinitionProblem("The chart does not read this parameter any more.", hint="Load the page again.")
    parameter = read[asked.index]
    values = model.parameters[parameter.id].values
    return parameter_choices(parameter, None if values is None else list(values), model, asked.find)


def parameter_choices(
    parameter: ParameterField, setting: list[Any] | None, model: Model, find: str = ""
) -> dict[str, Any]:
    """What the editor of a parameter offers: its choices, the values of its field, or a box for one."""
    chosen = [] if setting is None else [_plain(value) for value in setting]
    choices = [
        (json.dumps(each.value), each.label or str(each.value), each.value in chosen) for each in parameter.choices
    ]
    if not choices and parameter.field and parameter.field in model.schema:
        field = model.schema[parameter.field]
        values, _ = group_values(
            model, model.schema, grouping_for(field), find, VALUES_SHOWN, tuple(typed(v, field) for v in chosen)
        )
        choices = [
            (json.dumps(_plain(value)), said, _plain(value) in chosen) for value, said, _ in values if value is not None
        ]
    elif not choices and parameter.kind is Kind.YES_NO:
        choices = [("true", "Yes", True in chosen), ("false", "No", False in chosen)]
    return {
        "parameter": parameter,
        "choices": choices,
        "value": chosen[0] if chosen else "",
        "unlimited": setting is None,
        "find": find,
        "input": {Kind.DATE: "date", Kind.DATETIME: "datetime-local", Kind.TEXT: "text"}.get(parameter.kind, "number"),
    }


def _fields_first(schema: Schema, role: Role) -> list[Field]:
    return sorted(schema.visible, key=lambda field: field.role is not role)


@popover("by", "group")
@popover("split", "group")
def _group(asked: Asked) -> dict[str, Any]:
    definition, schema, clause, index = asked.definition, asked.model.schema, asked.clause, asked.index
    group = group_of(definition, clause, index)
    field = schema[group.field] if group else None
    can_swap = bool(group) and (
        (bool(definition.split) and bool(definition.by)) or (clause == "by" and index + 1 < len(definition.by))
    )
    return {
        "group": group,
        "field": field,
        "grains": grains_for(field.kind) if field and field.kind.is_date else [],
        "fields": [f for f in _fields_first(schema, Role.DIMENSION) if f.level == "row"],
        "can_swap": can_swap,
        "swap_index": index if clause == "by" else 0,
        "next": len(definition.by),
    }


def measure_choices(definition: ChartDefinition, schema: Schema, chosen: Measure) -> list[dict[str, Any]]:
    """Every measure of the dataset, the shown ones first, as options."""
    choices = [
        *definition.measures,
        Measure(),
        *(default_measure(f) for f in schema.visible if f.role is Role.MEASURE),
        chosen,
    ]
    unique: list[Measure] = []
    for measure in choices:
        if not any(measure.same_number(other) for other in unique):
            unique.append(measure)
    return [
        {
            "name": measure_words(measure, schema),
            "value": json.dumps(
                {
                    "field": measure.field,
                    "aggregate": measure.aggregate.value,
                    "formula": measure.formula,
                    "name": measure.name,
                }
            ),
            "chosen": measure.same_number(chosen),
        }
        for measure in unique
    ]


@popover("sort")
def _sort(asked: Asked) -> dict[str, Any]:
    definition, model, schema = asked.definition, asked.model, asked.model.schema
    first = next(iter(definition.groups), None)
    sort = definition.sort or Sort(by="time" if first and first.grain else "name")
    choices: dict[str, Any] = {
        "sort": sort,
        "is_new": definition.sort is None,
        "measures": measure_choices(definition, schema, sort.measure or definition.measures[0]),
        "is_time": bool(first and first.grain),
    }
    if first and sort.by == "own":
        values, _ = group_values(model, schema, first, limit=VALUES_SHOWN)
        words = {json.dumps(_plain(value)): said for value, said, _ in values}
        named = [json.dumps(value) for value in sort.values]
        choices["own"] = [(key, words.get(key, json.loads(key))) for key in named]
        choices["own"] += [(key, said) for key, said in words.items() if key not in named]
    return choices


def _plain(value: Any) -> Any:
    return value.isoformat() if hasattr(value, "isoformat") else value


@popover("only")
def _only(asked: Asked) -> dict[str, Any]:
    definition, model, index, data = asked.definition, asked.model, asked.index, asked.data
    schema = model.schema
    current = definition.only[index] if index < len(definition.only) else None
    field_id = data.get("field") or getattr(current, "field", None)
    if current and current.kind == "points":
        return {"template": "only_points", "words": current.words(schema)}
    if data.get("way") == "measure" or (current and current.kind == "measure" and not field_id):
        now = current if isinstance(current, MeasureFilter) else None
        by = now.measure if now else definition.measures[0]
        return {
            "template": "only_measure",
            "current": now,
            "measures": measure_choices(definition, schema, by),
            "parameters": _numbers(model),
        }
    if not field_id:
        return {"template": "only_field", "fields": [field for field in schema.visible if field.level == "row"]}
    field = schema[field_id]
    ways = ways_for(field)
    if field_id not in getattr(current, "fields", tuple)():
        current = None
    way = data.get("way") or (current.kind if current else ways[0][0])
    if current and current.kind != way:
        current = None
    return {
        "template": "only_filter",
        "field": field,
        "way": way,
        "ways": ways,
        "current": current,
        "index": index,
    } | filter_choices(field, way, current, definition, model, asked.context, asked.find)


def ways_for(field: Field) -> list[tuple[str, str]]:
    """The kinds of filter that suit a field, the usual one first."""
    if field.kind.is_date:
        return [("relative", "Recent"), ("dates", "Between"), ("empty", "Empty")]
    member = ("member", "By a measure")
    if field.kind.is_number:
        usual = [("range", "Range"), ("list", "Values")]
        return [*(usual if field.role is Role.MEASURE else [*usual[::-1], member]), ("empty", "Empty")]
    if field.kind is Kind.YES_NO:
        return [("list", "Values"), ("empty", "Empty")]
    return [("list", "Values"), ("text", "Text"), member, ("empty", "Empty")]


def filter_choices(
    field: Field, way: str, current: Any, definition: ChartDefinition, model: Model, context: Context, find: str = ""
) -> dict[str, Any]:
    """What the editor of one kind of filter offers."""
    facts = model.facts(field.id)
    choices: dict[str, Any] = {"parameters": [p for p in model.definition.parameters if p.kind is field.kind]}
    choices |= {"lowest": facts.lowest, "highest": facts.highest, "with_times": field.kind is Kind.DATETIME}
    if way == "list":
        choices |= list_choices(field, current, model, find)
    if way == "dates" and facts.lowest:
        first, last = (dt.date.fromisoformat(str(bound)[:10]) for bound in (facts.lowest, facts.highest))
        choices |= {"in_the_data": dates_words(first, last)}
    if way == "member":
        by = current.keep.by if current and current.keep else current.measure if current else definition.measures[0]
        choices |= {"measures": measure_choices(definition, model.schema, by), "parameters": _numbers(model)}
    if way == "relative":
        now = current or RelativeFilter(field=field.id)
        start, end = now.bounds(context)
        choices |= {
            "relative": now,
            "choices": RELATIVE_CHOICES,
            "from": start,
            "to": end,
            "latest": context.latest.get(field.id),
        }
    return choices


def list_choices(field: Field, current: ListFilter | None, model: Model, find: str) -> dict[str, Any]:
    """A bounded list of values to tick, the ticked ones first; those that are gone from the data are said to be."""
    ticked = [typed(value, field) for value in current.values] if current else []
    group = grouping_for(field, Grain.DAY) if field.kind.is_date else grouping_for(field)
    values, count = group_values(model, model.schema, group, find, VALUES_SHOWN, tuple(ticked))
    there = {value for value, _, _ in values}
    gone = [] if find else [value for value in ticked if value not in there]
    shown = [(json.dumps(_plain(value)), said, rows, value in ticked) for value, said, rows in values]
    hidden = [json.dumps(_plain(value)) for value in ticked if find and value not in there]
    return {
        "values": [(json.dumps(_plain(v)), in_sentence(str(v)), None, True) for v in gone] + shown,
        "count": count,
        "shown": len(values),
        "hidden": hidden,
        "exclude": bool(current and current.exclude),
    }

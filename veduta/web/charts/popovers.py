"""What the small editors under the sentence's words offer."""

from __future__ import annotations

import json
from typing import Any

from veduta.core.chart.choose import choose_kind, unfit
from veduta.core.chart.definition import KIND_NAMES, ChartDefinition, ChartKind, default_measure
from veduta.core.chart.edits import group_of
from veduta.core.chart.sentence import in_sentence
from veduta.core.data.fields import Field, Kind, Role, Schema, aggregates_for
from veduta.core.errors import DefinitionProblem
from veduta.core.query.answer import group_values, measure_format
from veduta.core.query.filters import Context, ListFilter, RelativeFilter, typed
from veduta.core.query.grains import Grain, grouping_for
from veduta.core.query.query import Keep, Measure, Sort, measure_words
from veduta.web.datasets.store import StoredTable

VALUES_SHOWN = 100
MISSING_CLAUSES = (
    ("by", "By", lambda d: not d.by),
    ("split", "Split by", lambda d: bool(d.by) and d.split is None),
    ("only", "Only", lambda d: not d.only),
    ("keep", "Keep the top", lambda d: bool(d.by) and d.keep is None),
    ("sort", "Sort", lambda d: bool(d.by) and d.sort is None),
)
RELATIVE_CHOICES = (
    ("The latest month", {"unit": "month", "count": 1}),
    ("Last 3 months", {"unit": "month", "count": 3}),
    ("Last 12 months", {"unit": "month", "count": 12}),
    ("The latest year", {"unit": "year", "count": 1}),
    ("The previous year", {"unit": "year", "count": 1, "back": 1}),
    ("Last 2 years", {"unit": "year", "count": 2}),
)


def popover_context(
    definition: ChartDefinition, schema: Schema, table: StoredTable, context: Context, data: dict[str, Any]
) -> dict[str, Any]:
    """The template and its context for the clause that `data` names. Raises DefinitionProblem for an unknown one."""
    clause, index = str(data.get("clause", "")), int(data.get("index") or 0)
    shared = {"definition": definition, "clause": clause, "index": index, "find": str(data.get("find", ""))[:200]}
    if clause == "show":
        return shared | _show(definition, schema, index) | {"template": "show"}
    if clause in ("by", "split"):
        return shared | _group(definition, schema, clause, index) | {"template": "group"}
    if clause == "only":
        return shared | _only(definition, schema, table, context, index, data)
    if clause == "as":
        kind, why = choose_kind(definition.model_copy(update={"kind": None}), schema, table)
        kinds = [(k, KIND_NAMES[k], unfit(definition, k, schema)) for k in ChartKind]
        several = len(definition.groups) > 1 or len(definition.measures) > 1
        current = choose_kind(definition, schema, table)[0]
        stackable = several and current in (ChartKind.BAR, ChartKind.LYING, ChartKind.AREA)
        stackings = [("stacked", "Stacked"), ("grouped", "Side by side"), ("full", "To 100%")]
        if current is ChartKind.AREA:
            stackings.pop(1)
        found = {
            "kinds": kinds,
            "chosen": kind,
            "chosen_name": KIND_NAMES[kind],
            "why": why,
            "stackable": stackable,
            "stackings": stackings,
        }
        return shared | found | {"template": "kind"}
    if clause == "keep":
        keep = definition.keep or Keep(by=definition.measures[0])
        found = {"keep": keep, "measures": _measure_choices(definition, schema, keep.by), "is_new": definition.keep is None}
        return shared | found | {"template": "keep"}
    if clause == "sort":
        return shared | _sort(definition, schema, table) | {"template": "sort"}
    raise DefinitionProblem("Veduta does not know this clause.", hint="Load the page again.")


def _show(definition: ChartDefinition, schema: Schema, index: int) -> dict[str, Any]:
    is_new = index >= len(definition.measures)
    measure = None if is_new else definition.measures[index]
    field = schema[measure.field] if measure and measure.field else None
    return {
        "is_new": is_new,
        "measure": measure,
        "field": field,
        "name": measure_words(measure, schema) if measure else "",
        "aggregates": aggregates_for(field.kind) if field else [],
        "format": measure_format(measure, schema) if measure else None,
        "fields": _fields_first(schema, Role.MEASURE),
        "removable": not is_new and bool(definition.show),
        "next": len(definition.show),
    }


def _fields_first(schema: Schema, role: Role) -> list[Field]:
    return sorted(schema.visible, key=lambda field: field.role is not role)


def _group(definition: ChartDefinition, schema: Schema, clause: str, index: int) -> dict[str, Any]:
    group = group_of(definition, clause, index)
    field = schema[group.field] if group else None
    can_swap = bool(group) and (
        (bool(definition.split) and bool(definition.by)) or (clause == "by" and index + 1 < len(definition.by))
    )
    return {
        "group": group,
        "field": field,
        "grains": list(Grain) if field and field.kind.is_date else [],
        "fields": _fields_first(schema, Role.DIMENSION),
        "can_swap": can_swap,
        "swap_index": index if clause == "by" else 0,
        "next": len(definition.by),
    }


def _measure_choices(definition: ChartDefinition, schema: Schema, chosen: Measure) -> list[dict[str, Any]]:
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
            "value": json.dumps({"field": measure.field, "aggregate": measure.aggregate.value}),
            "chosen": measure.same_number(chosen),
        }
        for measure in unique
    ]


def _sort(definition: ChartDefinition, schema: Schema, table: StoredTable) -> dict[str, Any]:
    first = next(iter(definition.groups), None)
    sort = definition.sort or Sort(by="time" if first and first.grain else "name")
    found: dict[str, Any] = {
        "sort": sort,
        "is_new": definition.sort is None,
        "measures": _measure_choices(definition, schema, sort.measure or definition.measures[0]),
        "is_time": bool(first and first.grain),
    }
    if first and sort.by == "own":
        values, _ = group_values(table, schema, first, limit=VALUES_SHOWN)
        words = {json.dumps(_plain(value)): said for value, said, _ in values}
        named = [json.dumps(value) for value in sort.values]
        found["own"] = [(key, words.get(key, json.loads(key))) for key in named]
        found["own"] += [(key, said) for key, said in words.items() if key not in named]
    return found


def _plain(value: Any) -> Any:
    return value.isoformat() if hasattr(value, "isoformat") else value


def _only(
    definition: ChartDefinition, schema: Schema, table: StoredTable, context: Context, index: int, data: dict[str, Any]
) -> dict[str, Any]:
    current = definition.only[index] if index < len(definition.only) else None
    field_id = data.get("field") or (getattr(current, "field", None) if current else None)
    if current and current.kind == "points":
        return {"template": "only_points", "words": current.words(schema)}
    if not field_id:
        return {"template": "only_field", "fields": schema.visible}
    field = schema[field_id]
    ways = ways_for(field)
    way = data.get("way") or (current.kind if current and current.field == field_id else ways[0][0])
    if current and (current.field != field_id or current.kind != way):
        current = None
    return {
        "template": "only_filter",
        "field": field,
        "way": way,
        "ways": ways,
        "current": current,
        "index": index,
    } | filter_choices(field, way, current, schema, table, context, str(data.get("find", "")))


def ways_for(field: Field) -> list[tuple[str, str]]:
    """The kinds of filter that suit a field, the usual one first."""
    if field.kind.is_date:
        return [("relative", "Recent"), ("dates", "Between"), ("empty", "Empty")]
    if field.kind.is_number:
        usual = [("range", "Range"), ("list", "Values")]
        return [*(usual if field.role is Role.MEASURE else usual[::-1]), ("empty", "Empty")]
    if field.kind is Kind.YES_NO:
        return [("list", "Values"), ("empty", "Empty")]
    return [("list", "Values"), ("text", "Text"), ("empty", "Empty")]


def filter_choices(
    field: Field, way: str, current: Any, schema: Schema, table: StoredTable, context: Context, find: str = ""
) -> dict[str, Any]:
    """What the editor of one kind of filter offers."""
    facts = table.facts(field.id)
    found: dict[str, Any] = {"lowest": facts.lowest, "highest": facts.highest}
    if way == "list":
        found |= list_choices(field, current, schema, table, find)
    if way == "relative":
        now = current or RelativeFilter(field=field.id)
        start, end = now.bounds(context)
        found |= {
            "relative": now,
            "choices": RELATIVE_CHOICES,
            "from": start,
            "to": end,
            "latest": context.latest.get(field.id),
        }
    return found


def list_choices(field: Field, current: ListFilter | None, schema: Schema, table: StoredTable, find: str) -> dict[str, Any]:
    """A bounded list of values to tick, the ticked ones first; those that are gone from the data are said to be."""
    ticked = [typed(value, field) for value in current.values] if current else []
    group = grouping_for(field, Grain.DAY) if field.kind.is_date else grouping_for(field)
    values, count = group_values(table, schema, group, find, VALUES_SHOWN, tuple(ticked))
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

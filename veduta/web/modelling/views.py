"""The page of a dataset's model.

Its tables and joins as a diagram, fields, formulas, parameters, drill paths and rules."""

from __future__ import annotations

import uuid
from typing import Annotated, Any

import polars as pl
from django.contrib import messages
from django.contrib.auth.models import Group
from django.http import Http404, HttpResponse, JsonResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST
from pydantic import AfterValidator, Field

from veduta.core.cache import Cache
from veduta.core.calendar import DAY_PERIODS, MONTHS, PERIODS, Grain, make_grouping
from veduta.core.chart.definition import ChartDefinition, load_definition
from veduta.core.chart.kinds import get_kind
from veduta.core.chart.question import build_query
from veduta.core.data.fields import DataField, DataType, NumberFormat
from veduta.core.errors import VedutaError
from veduta.core.formula.completion import call_around, complete
from veduta.core.formula.formatter import tidy
from veduta.core.formula.functions import Level, load_registry
from veduta.core.formula.measures import (
    check_measure,
    replace_ids_with_names,
    replace_names_with_ids,
    write_formula_name,
)
from veduta.core.formula.problems import FormulaProblem
from veduta.core.model.definition import ModelJoin, RowRule
from veduta.core.model.joins import JoinCheck, check_join, suggest_join
from veduta.core.model.model import Model
from veduta.core.number_format import format_value, group_words, label_value, record_format, settle
from veduta.core.phrases import join_names
from veduta.core.query.answer import answer
from veduta.core.query.filters import Context
from veduta.core.query.measures import Measure, list_counted_tables, measure_format
from veduta.core.query.query import Query
from veduta.web.accounts.access import Request, require_builder
from veduta.web.common.requests import (
    Flag,
    Line,
    Object,
    RequestModel,
    Text,
    Whole,
    parse_form,
    parse_json,
    parse_query,
    read,
    read_json_body,
    wants_json,
)
from veduta.web.datasets.models import Dataset
from veduta.web.datasets.requests import get_dataset
from veduta.web.datasets.row_access import is_bound
from veduta.web.datasets.uses import Uses, find_all_uses, find_uses
from veduta.web.modelling import changes as model_changes
from veduta.web.modelling.forms import NOT_ARGUMENTS, read_arguments
from veduta.web.modelling.services import load_model_and_context, load_whole_model

SAMPLED = 8
TRIED_OUT = {"by", "grain"}
"""What the page of a formula sends to see its values, and does not keep."""
BOX, GAP, ROW_HEIGHT = 190, 110, 78


class ModelChangeSent(RequestModel):
    """An edit of the model, made from a revision; `anyway` if it is meant although charts would break."""

    do: Line = ""
    section: Line = ""
    revision: Whole = -1
    anyway: Flag = False


class NumberWanted(RequestModel):
    """Of what, in words, people shall say how many are kept, and how many at first."""

    of: Annotated[Line, AfterValidator(lambda name: name.strip()[:150])] = ""
    count: Annotated[Whole, Field(ge=1, le=10_000)] = 10


class FormulaStart(RequestModel):
    """A new formula, begun elsewhere."""

    text: Text = ""
    name: Line = ""


class FormulaTyped(RequestModel):
    """A formula being typed, and what it is tried out by: a chart, or a dimension with its period."""

    formula: Text = ""
    caret: Whole = 0
    definition: Object = {}
    by: Line = ""
    grain: Grain | None = None


checks: Cache[JoinCheck] = Cache(500)
suggestions: Cache[tuple[ModelJoin | None]] = Cache(500)


def _check(model: Model, join: ModelJoin) -> JoinCheck | None:
    """How well a join matches, worked out once for its tables' versions; None for keys that do not exist any more."""
    try:
        return checks.get((model.key, join), lambda: check_join(model, join))
    except VedutaError:
        return None


@require_GET
@require_builder
def show_model(request: Request, pk: uuid.UUID) -> HttpResponse:
    """The model: what is joined, and what its fields, formulas and parameters mean."""
    dataset = get_dataset(pk)
    try:
        there = load_whole_model(dataset)
    except VedutaError as problem:
        return render(request, "charts/no_dataset.html", {"chart": dataset, "problem": problem}, status=422)
    definition = there.definition
    uses = find_all_uses(dataset)
    bound = is_bound(dataset, request.user)
    joins = [_join(there, join, bound) for join in definition.joins]
    joined = {frozenset((join.left, join.right)) for join in definition.joins}
    tables = [{"id": "", "name": dataset.name, "dataset": str(dataset.pk), "rows": there.tables[""].rows}]
    tables += [
        {
            "id": t.id,
            "name": t.name,
            "dataset": t.dataset,
            "rows": there.tables[t.id].rows if t.id in there.tables else None,
        }
        for t in definition.tables
    ]
    loose = [t for t in tables[1:] if t["id"] in there.tables and not any(t["id"] in pair for pair in joined)]
    context = {
        "dataset": dataset,
        "bound": bound,
        "model": there,
        "revision": dataset.model_revision,
        "tables": tables,
        "proposals": [_make_proposal(there, table, joined, bound) for table in loose],
        "joins": joins,
        "diagram": draw_diagram(tables, joins, bound),
        "datasets": Dataset.objects.filter(deleted_at=None, current__isnull=False).exclude(pk=dataset.pk),
        "fields": [_make_field_row(there, field, dataset) for field in there.schema if not field.formula],
        "formulas": [_make_formula_row(there, each, uses[f"formula.{each.id}"]) for each in definition.formulas],
        "parameters": [(each, _describe_default(each)) for each in definition.parameters],
        "paths": [(path, [_name(there, field) for field in path.fields]) for path in definition.paths],
        "dimensions": [(f.id, write_formula_name(f, there.schema)) for f in there.schema.visible if f.level == "row"],
        "rules": [_make_rule_row(there, rule) for rule in definition.rules],
        "groups": Group.objects.order_by("name"),
        "months": list(enumerate(MONTHS, 1)),
        "kinds": [(kind.value, kind.words) for kind in DataType],
        "versions": dataset.model_versions.select_related("saved_by")[:20],
        "grains": [grain.value for grain in DAY_PERIODS],
        "key_fields": {
            t["id"]: [(_simplify(f), f.name) for f in there.schema if f.table == t["id"] and not f.formula]
            for t in tables
        },
    }
    return render(request, "datasets/model.html", context)


def _simplify(field: DataField) -> str:
    return field.id.partition(".")[2] if field.table else field.id


def _name(there: Model, field: str) -> str:
    return there.schema[field].name if field in there.schema else f"{field} (gone)"


def _describe_default(parameter: Any) -> str:
    labels = {choice.value: choice.label for choice in parameter.choices}
    return ", ".join(labels.get(value) or label_value(value) for value in parameter.default) or "no limit"


def _make_rule_row(there: Model, rule: RowRule) -> dict[str, Any]:
    """A rule with what it narrows, what it leaves whole, and the like rule that would narrow more, if there is one."""
    row = {
        "rule": rule,
        "text": replace_ids_with_names(rule.text, there.schema),
        "narrows": _describe_ruled(there, rule),
    }
    try:
        whole, wider = there.ruling.list_whole_tables(rule), there.ruling.propose_wider_rule(rule)
    except VedutaError:
        return row
    row["whole"] = join_names([there.get_table_name(table) for table in whole])
    if wider:
        row["wider"] = replace_ids_with_names(wider.text, there.schema)
        row["wider_narrows"] = join_names([there.get_table_name(table) for table in wider.tables])
    return row


def _describe_ruled(there: Model, rule: RowRule) -> str:
    try:
        tables = [there.get_table_name(table) for table in there.ruling.list_narrowed_tables(rule)]
    except VedutaError as problem:
        return f"cannot be applied: {problem}"
    if why := next(filter(None, (there.ruling.find_problem(rule, table) for table in rule.tables)), ""):
        return f"cannot be applied: {why}"
    return "narrows " + ", ".join(tables)


def _make_field_row(there: Model, field: DataField, dataset: Dataset) -> dict[str, Any]:
    words = {"last": "the last day's", "first": "the first day's", "mean": "the mean day's", "max": "the highest day's"}
    datasets = {table.id: table.dataset for table in there.definition.tables}
    return {
        "field": field,
        "plain": _simplify(field),
        "dataset": datasets.get(field.table, str(dataset.pk)),
        "table": there.get_table_name(field.table),
        "stock": words.get(field.over_dates, ""),
        "sorted": _name(there, field.sort_by) if field.sort_by else "",
    }


def _make_formula_row(there: Model, formula: Any, used: Uses) -> dict[str, Any]:
    field = there.schema[f"formula.{formula.id}"]
    return {
        "formula": formula,
        "text": replace_ids_with_names(formula.text, there.schema),
        "problem": there.broken.get(formula.id, ""),
        "used": len(used),
        "kind": field.kind,
        "level": "of each row" if field.level == "row" else "of many rows",
    }


def _join(there: Model, join: ModelJoin, bound: bool) -> dict[str, Any]:
    """A join with how it matches, as the page shows it; not to whoever may see only some rows."""
    check = None if bound else _check(there, join)
    rows = [(key.left, key.right, key.grain) for key in join.keys] + [("", "", "")]
    sides = []
    if check:
        for side in (check.left, check.right):
            unmatched = [
                (" · ".join(label_value(value) for value in values), rows_) for values, rows_ in side.unmatched
            ]
            sides.append({"side": side, "name": there.get_table_name(side.table), "unmatched": unmatched})
    return {
        "join": join,
        "left": there.get_table_name(join.left),
        "right": there.get_table_name(join.right),
        "check": check,
        "sides": sides,
        "rows": rows,
        "words": ", ".join(
            f"{_name(there, f'{join.left}.{k.left}' if join.left else k.left)}{f' by {k.grain}' if k.grain else ''}"
            for k in join.keys
        ),
        "anchor": f"join-{join.left or 'first'}-{join.right or 'first'}",
    }


def _make_proposal(there: Model, table: dict[str, Any], joined: set[frozenset[str]], bound: bool) -> dict[str, Any]:
    """Suggest a join for a table that is not joined yet.

    To the first table or one that is joined to it, whichever is likeliest. It shows what would match, and saves nothing
    until somebody says so."""
    near = ["", *(other for other in there.tables if other and any(other in pair for pair in joined))]
    suggested = None if bound else next(filter(None, (_suggest_join(there, left, table["id"]) for left in near)), None)
    proposal = suggested or ModelJoin.model_construct(left="", right=table["id"], keys=())
    found = _join(there, proposal, bound) if suggested else _make_keyless_join(there, proposal)
    return {**found, "table": table["name"], "anchor": f"propose-{table['id']}"}


def _suggest_join(there: Model, left: str, right: str) -> ModelJoin | None:
    """The likeliest join of two tables, worked out once for their versions."""
    return suggestions.get((there.key, left, right), lambda: (suggest_join(there, left, right),))[0]


def _make_keyless_join(there: Model, join: ModelJoin) -> dict[str, Any]:
    names = {"left": there.get_table_name(join.left), "right": there.get_table_name(join.right)}
    return {"join": join, **names, "check": None, "sides": [], "rows": [("", "", "")], "words": ""}


def draw_diagram(tables: list[dict[str, Any]], joins: list[dict[str, Any]], bound: bool = False) -> dict[str, Any]:
    """Boxes for the tables, in columns by how many joins they are from the first, and lines for the joins."""
    columns: dict[int, list[str]] = {}
    for table, depth in _count_joins_away([table["id"] for table in tables], joins).items():
        columns.setdefault(depth, []).append(table)
    tallest = max(len(column) for column in columns.values())
    height = max(tallest * ROW_HEIGHT, 90)
    corners = {}
    for column, ids in columns.items():
        start = (height - len(ids) * ROW_HEIGHT) / 2
        for i, table in enumerate(ids):
            corners[table] = (10 + column * (BOX + GAP), round(start + i * ROW_HEIGHT + 12))
    return {
        "boxes": [{**table, "x": corners[table["id"]][0], "y": corners[table["id"]][1]} for table in tables],
        "lines": [
            _draw_line(each, corners, bound)
            for each in joins
            if each["join"].left in corners and each["join"].right in corners
        ],
        "width": 20 + (max(columns) + 1) * (BOX + GAP) - GAP + 60,
        "height": height,
    }


def _count_joins_away(tables: list[str], joins: list[dict[str, Any]]) -> dict[str, int]:
    """How many joins each table is from the first; those that no join reaches stand behind all others."""
    near: dict[str, set[str]] = {table: set() for table in tables}
    for join in (each["join"] for each in joins):
        if join.left in near and join.right in near:
            near[join.left].add(join.right)
            near[join.right].add(join.left)
    depth, waiting = {"": 0}, [""]
    while waiting:
        table = waiting.pop(0)
        for other in sorted(near[table] - depth.keys()):
            depth[other] = depth[table] + 1
            waiting.append(other)
    last = max(depth.values()) + 1
    return {table: depth.get(table, last) for table in tables}


def _draw_line(each: dict[str, Any], corners: dict[str, tuple[int, int]], bound: bool) -> dict[str, Any]:
    """A join's curve between its two boxes, and how well it matches; not where rules hide rows (`bound`)."""
    (x1, y1), (x2, y2) = sorted((corners[each["join"].left], corners[each["join"].right]))
    same = x1 == x2
    x1, y1, y2 = x1 + BOX, y1 + 24, y2 + 24
    x2 = x1 if same else x2
    bend = 46 if same else (x2 - x1) / 2
    check = each["check"]
    words = check.words if check else "" if bound else "does not match"
    return {
        "curve": f"M{x1},{y1} C{x1 + bend},{y1} {x2 + (bend if same else -bend)},{y2} {x2},{y2}",
        "x": round((x1 + x2) / 2) + (36 if same else 0),
        "y": round((y1 + y2) / 2) - 4,
        "words": words,
        "anchor": each["anchor"],
        "poor": not bound and (not check or check.share < 0.5),
        "title": f"{each['left']} and {each['right']}: {words}",
    }


@require_POST
@require_builder
def change_model(request: Request, pk: uuid.UUID) -> HttpResponse:
    """One change to the model; what would break charts is asked about first."""
    dataset, form, change = get_dataset(pk), request.POST, parse_form(request, ModelChangeSent)
    section = change.section if change.section.isidentifier() else ""
    try:
        model_changes.change_model(
            request.user, dataset, change.do, read_arguments(form), change.revision, change.anyway
        )
    except model_changes.Breaking as breaking:
        again = [(key, value) for key in form for value in form.getlist(key) if key != "csrfmiddlewaretoken"]
        return render(
            request,
            "datasets/model_breaking.html",
            {"dataset": dataset, "breaking": breaking, "again": again},
            status=409,
        )
    except VedutaError as problem:
        if wants_json(request):
            raise
        messages.error(request, str(problem))
        return redirect(f"{reverse('model', args=[pk])}#{section}")
    added = "It is not joined yet: look at the keys that are proposed."
    messages.success(request, added if change.do == "add_table" else "The model is saved.")
    return redirect(f"{reverse('model', args=[pk])}#{section}")


@require_POST
@require_builder
def make_number_parameter(request: Request, pk: uuid.UUID) -> JsonResponse:
    """A new parameter that says how many of something are kept."""
    wanted = parse_json(request, NumberWanted)
    changed, parameter = model_changes.add_number(request.user, get_dataset(pk), wanted.of, wanted.count)
    return JsonResponse({"id": parameter, "revision": changed.model_revision})


@require_POST
@require_builder
def restore_model(request: Request, pk: uuid.UUID, number: int) -> HttpResponse:
    model_changes.bring_back_model(request.user, get_dataset(pk), number)
    messages.success(request, f"The model of version {number} is back.")
    return redirect("model", pk)


@require_GET
@require_builder
def show_formula(request: Request, pk: uuid.UUID, formula_id: str = "") -> HttpResponse:
    """One formula: its text, what it gives, where it is used."""
    dataset = get_dataset(pk)
    there = load_whole_model(dataset)
    formula = next((each for each in there.definition.formulas if each.id == formula_id), None)
    if formula_id and formula is None:
        raise Http404
    begun = parse_query(request, FormulaStart)
    text = replace_ids_with_names(formula.text, there.schema) if formula else begun.text[:5_000]
    dates = sorted((f for f in there.schema.visible if f.kind.is_date), key=lambda f: f.kind is not DataType.DATE)
    axis = dates[0].id if dates else ""
    context = {
        "dataset": dataset,
        "model": there,
        "revision": dataset.model_revision,
        "formula": formula,
        "number_format": formula.format if formula else NumberFormat(),
        "text": text,
        "name": formula.name if formula else begun.name[:200],
        "fields": [
            (f, write_formula_name(f, there.schema)) for f in there.schema.visible if f.id != f"formula.{formula_id}"
        ],
        "functions": [f for f in load_registry().values() if not f.operator],
        "parameters": there.definition.parameters,
        "used": find_uses(dataset, f"formula.{formula_id}") if formula else None,
        "axis": axis,
        "dimensions": [f for f in there.schema.visible if f.level == "row" and f.role == "dimension"],
        "grains": [(grain.value, grain.words) for grain in PERIODS],
        "totals": [
            ("again", "worked out from the rows"),
            ("sum", "the sum of the values shown"),
            ("mean", "their mean"),
            ("min", "the lowest"),
            ("max", "the highest"),
            ("none", "not given"),
        ],
    }
    return render(request, "datasets/model_formula.html", context)


@require_POST
@require_builder
def save_formula(request: Request, pk: uuid.UUID) -> JsonResponse:
    """Keep a formula in the model; what would break charts is answered with 409 until it is said to be meant."""
    dataset, data = get_dataset(pk), read_json_body(request)
    change = read(data, ModelChangeSent)
    arguments = {key: value for key, value in data.items() if key not in NOT_ARGUMENTS | TRIED_OUT}
    try:
        changed = model_changes.change_model(
            request.user,
            dataset,
            "save_formula",
            arguments,
            change.revision,
            change.anyway,
        )
    except model_changes.Breaking as breaking:
        return JsonResponse(
            {"message": str(breaking), "charts": [f"{chart}: {why}" for chart, why in breaking.charts]}, status=409
        )
    new = next(
        each
        for each in changed.model_definition.formulas
        if each.name.casefold() == str(arguments["name"]).strip().casefold()
    )
    return JsonResponse(
        {
            "id": f"formula.{new.id}",
            "address": f"{reverse('model', args=[pk])}#formulas",
            "revision": changed.model_revision,
        }
    )


@require_POST
@require_builder
def check_formula(request: Request, pk: uuid.UUID) -> JsonResponse:
    """Feedback on a formula while it is typed.

    What is wrong and where, what could follow, and its values by a dimension or by those of a chart."""
    dataset, typed = get_dataset(pk), parse_json(request, FormulaTyped)
    definition = load_definition(typed.definition) if typed.definition else None
    there, context = load_model_and_context(dataset, request.user, definition.values if definition else None)
    text, caret = typed.formula, typed.caret
    named = {each.id: each.name for each in there.definition.parameters}
    said: dict[str, Any] = {"suggestions": [vars(each) for each in complete(text, caret, there.schema, named)]}
    if around := call_around(text, caret):
        said["around"] = {"signature": load_registry()[around[0]].signature, "says": load_registry()[around[0]].says}
    if not text.strip():
        return JsonResponse(said)
    try:
        said |= _try_formula(text, there, context, _build_query(definition, typed, there))
    except FormulaProblem as problem:
        said["problem"] = problem.as_data()
    except (VedutaError, pl.exceptions.PolarsError) as problem:
        message = (
            str(problem)
            if isinstance(problem, VedutaError)
            else f"It cannot be worked out: {str(problem).splitlines()[0][:200]}"
        )
        said["problem"] = {"message": message, "hint": "", "start": 0, "end": 0}
    return JsonResponse(said)


def _build_query(definition: ChartDefinition | None, typed: FormulaTyped, there: Model) -> Query:
    """The question a formula is tried out with: the chart's, or by one dimension."""
    grain = typed.grain
    if definition:
        query = build_query(definition, get_kind(definition.kind or "table"))
        groups = tuple(g.model_copy(update={"grain": grain}) if grain and g.is_time_axis else g for g in query.groups)
        return query.model_copy(update={"groups": groups, "totals": (), "sort": None, "keep": None})
    if not typed.by:
        return Query()
    field = there.schema[typed.by]
    return Query(groups=(make_grouping(field, grain if field.kind.is_date else None),))


def _try_formula(text: str, there: Model, context: Context, query: Query) -> dict[str, Any]:
    checked = check_measure(text, there.schema, there.parameters)
    stored = replace_names_with_ids(text, there.schema)
    said: dict[str, Any] = {"tidy": tidy(text), "level": "each row" if checked.level is Level.ROW else "many rows"}
    if checked.level is Level.ROW and checked.fields:
        return said | _compute_row_values(stored, checked, there)
    result = answer(query.model_copy(update={"measures": (Measure(formula=stored),), "unseen": 0}), there, context)
    column = result.measures[0]
    frame = (
        result.frame.tail(SAMPLED)
        if result.dimensions and result.dimensions[0].dimension.is_time_axis
        else result.frame.head(SAMPLED)
    )
    number_format = settle(measure_format(Measure(formula=stored), there.schema, checked), frame["m0"], column.kind)
    sample = [
        [
            *(
                "(empty)" if row[d.key] is None else group_words(row[d.key], d.dimension, d.kind, d.format)
                for d in result.dimensions
            ),
            format_value(row["m0"], column.kind, number_format),
        ]
        for row in frame.iter_rows(named=True)
    ]
    counted = (
        [there.get_table_name(home) for home in list_counted_tables(checked, there)] if len(there.tables) > 1 else []
    )
    return said | {
        "counted": join_names(counted, most=3) if counted else "",
        "kind": column.kind.words,
        "headings": [d.name for d in result.dimensions],
        "sample": sample,
        "empties": int(result.frame["m0"].null_count()),
        "rows": result.frame.height,
        "of": "groups",
        "notes": result.notes,
    }


def _compute_row_values(stored: str, checked: Any, there: Model) -> dict[str, Any]:
    """A formula of a row on the first rows of its table."""
    field = DataField(id="formula.tried", source="", name="tried", kind=checked.kind or DataType.TEXT, formula=stored)
    tried = there.add_field(field)
    read = [there.schema[name] for name in sorted(checked.fields)][:3]
    frame = tried.scan([*(f.id for f in read), field.id], there.find_home(checked.fields)).head(2_000).collect()
    shown = frame.filter(pl.col(field.id).is_not_null()).head(SAMPLED)
    formats = {f.id: record_format(f, shown[f.id]) for f in [*read, field]}
    return {
        "kind": field.kind.words,
        "headings": [f.name for f in read],
        "sample": [
            [format_value(row[f.id], f.kind, formats[f.id]) for f in [*read, field]]
            for row in shown.iter_rows(named=True)
        ],
        "empties": int(frame[field.id].null_count()),
        "rows": frame.height,
        "of": "rows",
    }

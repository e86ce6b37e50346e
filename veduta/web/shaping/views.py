"""The shaping screen and the exploring table: one screen, of which the second keeps nothing until one asks for it."""

from __future__ import annotations

import uuid
from typing import Any

import polars as pl
from django.http import HttpResponse, JsonResponse
from django.shortcuts import redirect, render
from django.template.loader import render_to_string
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST
from pydantic import Field

from veduta.core.calendar import Grain, Grouping
from veduta.core.data.fields import DataField, DataType
from veduta.core.data.profile import profile_column
from veduta.core.errors import DefinitionProblem, VedutaError
from veduta.core.formula.check import check
from veduta.core.formula.compile import compile_formula
from veduta.core.formula.completion import call_around, complete
from veduta.core.formula.formatter import tidy
from veduta.core.formula.functions import THEMES as FUNCTION_THEMES
from veduta.core.formula.functions import Level, load_registry
from veduta.core.formula.problems import FormulaProblem
from veduta.core.number_format import format_value, record_format, settle
from veduta.core.query.filters import PointsFilter
from veduta.core.shaping.flow import Flow
from veduta.core.shaping.shaping import StepsPreview, load_step
from veduta.core.shaping.steps import THEMES, ShapingStep, kinds
from veduta.core.shaping.steps.form import GroupRows
from veduta.core.shaping.steps.tables import AppendTable, JoinTables
from veduta.web.accounts.access import Request, require_builder
from veduta.web.common.requests import Flag, Line, Object, RequestModel, Text, Whole, parse_json, parse_query
from veduta.web.datasets.models import Dataset
from veduta.web.datasets.requests import get_dataset
from veduta.web.datasets.row_access import must_see_all
from veduta.web.shaping import services as shaping
from veduta.web.shaping.services import SAMPLE, ShapingDraft
from veduta.web.shaping.step_forms import StepForm, read_form

ROWS_SHOWN = 100
COLUMNS_SHOWN = 120
SAMPLED_VALUES = 5


def _describe_step_type(do: str) -> dict[str, str]:
    return {"do": do, "title": kinds[do].title, "purpose": kinds[do].purpose, "theme": kinds[do].theme}


def _list_step_types() -> list[dict[str, str]]:
    """The kinds of step in the order of their themes."""
    return sorted((_describe_step_type(do) for do in kinds), key=lambda about: THEMES.index(about["theme"]))


def _render_page(request: Request, dataset: Dataset, explore: bool) -> HttpResponse:
    must_see_all(request.user, dataset, "look at it as a table" if explore else "shape it")
    steps = () if explore else dataset.drafted.steps
    start = {
        "id": f"{'table' if explore else 'shape'}-{dataset.pk}",
        "steps": [step.model_dump(mode="json") for step in steps],
        "revision": dataset.draft_revision,
        "explore": explore,
        "drafted": dataset.draft is not None,
    }
    return render(
        request,
        "shaping/shape.html",
        {"dataset": dataset, "start": start, "catalogue": _list_step_types(), "explore": explore},
    )


@require_GET
@require_builder
def show_shaping(request: Request, pk: uuid.UUID) -> HttpResponse:
    """Work on a dataset's steps."""
    return _render_page(request, get_dataset(pk), explore=False)


@require_GET
@require_builder
def show_exploration(request: Request, pk: uuid.UUID) -> HttpResponse:
    """Look at a dataset as a table: sort, filter, group; keep what one did as a dataset."""
    dataset = get_dataset(pk)
    dataset.schema  # noqa: B018  says so if there are no rows
    return _render_page(request, dataset, explore=True)


class StepsSent(RequestModel):
    """Steps as they stand on the page, and where one looks: behind the step `at`, at a sample or at `all` rows."""

    steps: list[Any] = []
    at: Line = ""
    explore: Flag = False
    all: Flag = False


class PreviewRequest(StepsSent):
    """What the shaping page shows.

    The form of the step being edited, which stands at `place` or is `opening` there as a `fresh` one; the page of rows;
    the column whose summary is shown; the revision of the draft that all is based on."""

    editing: Object = {}
    place: Whole | None = None
    opening: Flag = False
    fresh: Flag = False
    page: Whole = 1
    column: Line = ""
    base: Whole = 0


class GroupRowsRequest(StepsSent):
    values: list[Any] = []


class StepFormulaTyped(StepsSent):
    """A formula being typed, of a step."""

    formula: Text = ""
    caret: Whole = 0
    id: Line = ""
    place: Whole | None = None


class DatasetNamed(StepsSent):
    name: Line = ""


class ReferenceRequest(RequestModel):
    """For whom functions are listed: "charts", or steps."""

    whom: Line = Field("", alias="for")


def _make_draft(request: Request, dataset: Dataset, now: StepsSent, steps: list[Any] | None = None) -> ShapingDraft:
    read = shaping.read_steps(now.steps if steps is None else steps)
    return ShapingDraft(dataset, read, request.user, explore=now.explore)


@require_POST
@require_builder
def look(request: Request, pk: uuid.UUID) -> JsonResponse:
    """The rows behind a step, the list of steps, and the form of the step being edited; keeps the draft.

    `editing` is the step's form; while it is not filled in, what is missing is
    said and the rows stay those before it."""
    dataset, now = get_dataset(pk), parse_json(request, PreviewRequest)
    steps, step_id, editing = list(now.steps), now.at, now.editing
    answer: dict[str, Any] = {}
    kind = kinds.get(str(editing.get("do", "")), ShapingStep)
    if editing and kind is ShapingStep:
        raise DefinitionProblem("There is no such step.", hint="Choose one from the list.")
    if editing:
        editing, position = (
            _make_editing_context(request, dataset, now, kind),
            len(steps) if now.place is None else now.place,
        )
        try:
            step = load_step(editing).model_dump(mode="json")
            steps = _insert_step(steps, step, position)
            answer["step"], step_id = step, step["id"]
        except VedutaError as problem:
            answer["unfinished"] = str(problem)
    draft = _make_draft(request, dataset, now, steps)
    looked, there = draft.look(step_id, sample=not now.all)
    if not draft.explore and ("step" in answer or not editing):
        named = shaping.add_names(draft.shaping, looked)
        answer["revision"] = shaping.keep_draft(request.user, dataset, named, now.base)
    answer["steps"] = [step.model_dump(mode="json") for step in draft.shaping.steps]
    context = _make_table_context(looked, there, now, draft, step_id)
    if editing and looked.stopped_at == editing.get("id"):
        context["problem"] = None  # the step's own form says it
        answer["unfinished"] = str(looked.problem)
    answer["list"] = render_to_string(
        "shaping/steps.html",
        {
            "items": _list_items(draft, looked),
            "at": step_id,
            "there": there,
            "sampled": context["sampled"],
            "edited": editing.get("id"),
        },
        request,
    )
    answer["table"] = render_to_string("shaping/table.html", context, request)
    if editing:
        answer["form"] = render_to_string(
            "shaping/form.html", _form_context(draft, kind, editing, now, answer.get("unfinished", "")), request
        )
    return JsonResponse(answer)


def _make_editing_context(
    request: Request, dataset: Dataset, now: PreviewRequest, kind: type[ShapingStep]
) -> dict[str, Any]:
    """The step as its form has it; one that is just being opened begins with what suits the rows before it."""
    editing = read_form(kind, now.editing)
    if not now.opening:
        return editing
    before = _load_before(_make_draft(request, dataset, now), editing.get("id", ""), now.place)
    return {**kind.start(before.schema), **editing}


def _insert_step(steps: list[dict], step: dict, position: int) -> list[dict]:
    ids = [each.get("id") for each in steps]
    if step.get("id") in ids:
        steps[ids.index(step.get("id"))] = step
    else:
        steps.insert(position, step)
    return steps


def _list_items(draft: ShapingDraft, looked: StepsPreview) -> list[dict[str, Any]]:
    """Each step with its sentence and what it did."""
    run, items, schema = draft.run, [], None
    for step in draft.shaping.steps:
        schema = looked.schemas.get(step.id) or looked.flow.schema
        report = looked.reports.get(step.id)
        words = step.describe(schema, run)
        items.append(
            {
                "step": step,
                "words": words,
                "report": report,
                "reached": report is not None and report.rows_out is not None,
            }
        )
    return items


def _make_table_context(
    looked: StepsPreview, there: int, now: PreviewRequest, draft: ShapingDraft, step_id: str
) -> dict[str, Any]:
    """A page of the rows with what the columns are, and the summary of the chosen column."""
    frame = looked.flow.rows.collect()
    fields = looked.flow.fields
    pages = max(1, -(-frame.height // ROWS_SHOWN))
    page = min(max(1, now.page), pages)
    shown = frame.slice((page - 1) * ROWS_SHOWN, ROWS_SHOWN)
    shown_fields = fields[:COLUMNS_SHOWN]
    formats = {f.id: record_format(f, shown[f.id]) for f in shown_fields}
    columns = [_make_cells(shown[f.id], f, formats[f.id]) for f in shown_fields]
    step = next(
        (each for each in draft.shaping.steps if each.id == step_id),
        draft.shaping.steps[-1] if draft.shaping.steps and not step_id else None,
    )
    grouped = step if isinstance(step, GroupRows) and not step.off and not looked.problem else None
    before = {field.id for field in looked.before.fields} if step else set()
    context = {
        "fields": shown_fields,
        "more_columns": len(fields) - len(shown_fields),
        "columns": len(fields),
        "new": {field.id for field in fields} - before if step and not looked.problem else set(),
        "rows": list(zip(*columns, strict=True)) if columns else [],
        "keys": _group_keys(grouped, shown) if grouped else None,
        "count": frame.height,
        "there": there,
        "sampled": not now.all and there > SAMPLE,
        "sample": SAMPLE,
        "page": page,
        "pages": pages,
        "first": (page - 1) * ROWS_SHOWN + 1 if frame.height else 0,
        "last": (page - 1) * ROWS_SHOWN + shown.height,
        "problem": looked.problem,
        "chosen": now.column,
    }
    chosen = next((field for field in fields if field.id == context["chosen"]), None)
    return context | {"summary": _summarise(frame[chosen.id], chosen) if chosen else None}


def _make_cells(values: pl.Series, field: DataField, number_format) -> list[dict[str, Any]]:
    """Each cell as text, with its value as JSON for what one does with it."""
    return [
        {
            "text": format_value(v, field.kind, number_format),
            "value": v.isoformat() if hasattr(v, "isoformat") else v,
            "empty": v is None,
            "number": field.kind.is_number,
            "field": field.id,
        }
        for v in values
    ]


def _group_keys(step: GroupRows, shown: pl.DataFrame) -> list[list[Any]]:
    keys = shown.columns[: len(step.by)]
    return (
        [[v.isoformat() if hasattr(v, "isoformat") else v for v in row] for row in shown.select(keys).iter_rows()]
        if keys
        else [[] for _ in range(shown.height)]
    )


def _summarise(values: pl.Series, field: DataField) -> list[tuple[str, str]]:
    """What stands at the foot: rows, distinct values, empties, and of numbers sum and mean."""
    profiled = profile_column(values, field.kind)
    said = [
        ("rows", f"{len(values):,}"),
        ("different values", f"{profiled.distinct:,}"),
        ("empty", f"{profiled.empties:,}"),
    ]
    if field.kind.is_number:
        exact = values.cast(pl.Int128).sum() if field.kind is DataType.WHOLE else values.sum()
        number_format = settle(field.format, [exact], field.kind, records=True)
        said += [
            ("sum", format_value(exact if profiled.empties < len(values) else None, field.kind, number_format)),
            (
                "mean",
                format_value(profiled.mean, DataType.DECIMAL, settle(field.format, [profiled.mean], DataType.DECIMAL)),
            ),
        ]
    if field.kind is not DataType.YES_NO and profiled.lowest is not None:
        low, high = (format_value(v, field.kind, field.format) for v in (values.min(), values.max()))
        said.append(("from", f"{low} to {high}"))
    elif field.kind is DataType.YES_NO and profiled.mean is not None:
        said.append(("yes", f"{profiled.mean * 100:.1f}%"))
    return said


def _form_context(
    draft: ShapingDraft, kind: type[ShapingStep], editing: dict[str, Any], now: PreviewRequest, unfinished: str
) -> dict[str, Any]:
    step_id = editing.get("id", "")
    context = {
        "kind": _describe_step_type(editing["do"]),
        "do": editing["do"],
        "id": step_id,
        "unfinished": unfinished,
        "new": now.fresh,
    }
    try:
        before = _load_before(draft, step_id, now.place)
        match = _match(draft, editing) if kind is JoinTables and editing.get("keys") else None
        several = kind is not JoinTables or match is None or match["share"].several > 0
        context |= {"match": match, "inputs": StepForm(kind, editing, draft, before, several).make_inputs()}
        if kind is AppendTable and editing.get("dataset") and not unfinished:
            step = load_step(editing)
            assert isinstance(step, AppendTable)
            here, there, kinds_differ = step.list_differences(before, draft.run)
            context["differences"] = {"here": here, "there": there, "kinds": kinds_differ}
    except VedutaError as problem:
        context |= {"unfinished": str(problem), "inputs": context.get("inputs", [])}
    return context


def _load_before(draft: ShapingDraft, step_id: str, place: int | None) -> Flow:
    """The rows that come to a step, or to the place where a new one is to stand, as far as they can be worked out."""
    ids = [step.id for step in draft.shaping.steps]
    if step_id not in ids and place is not None and 0 <= place < len(ids):
        step_id = ids[place]
    return draft.preview_before(step_id, sample=True, passing_over=True)


def _match(draft: ShapingDraft, editing: dict[str, Any]) -> dict[str, Any] | None:
    """The match share of a join, over all rows, whatever else of it is filled in."""
    step = load_step({**editing, "bring": [], "keep": "all"})
    assert isinstance(step, JoinTables)
    share = draft.match(step)
    other = draft.run.table_name(step.dataset)
    return {
        "share": share,
        "other": other,
        "own_width": round(100 * share.own.share, 1),
        "other_width": round(100 * share.other.share, 1),
        "multiplies": share.rows_after - share.own.rows,
    }


@require_POST
@require_builder
def group_rows(request: Request, pk: uuid.UUID) -> HttpResponse:
    """The rows of one group, as they came to the step that grouped them."""
    now = parse_json(request, GroupRowsRequest)
    draft = _make_draft(request, get_dataset(pk), now)
    step = draft.shaping.get_step(now.at)
    if not isinstance(step, GroupRows):
        raise DefinitionProblem("This step does not group.")
    before = draft.preview_before(step.id, sample=not now.all)
    groups, rows = [], before.rows
    for group, value in zip(step.by, now.values, strict=False):
        field = before.schema[group.field]
        if field.kind is DataType.DATETIME and not group.grain:
            rows = rows.filter(pl.col(field.id).cast(pl.String).str.replace(" ", "T").str.starts_with(str(value)))
            continue
        groups.append(
            (Grouping(field=field.id, grain=group.grain or (Grain.DAY if field.kind.is_date else None)), value)
        )
    if groups:
        points = PointsFilter(groups=tuple(g for g, _ in groups), points=(tuple(v for _, v in groups),))
        rows = rows.filter(points.build_expression(before.schema, draft.run.context))
    members = rows.collect()
    fields = before.fields[:COLUMNS_SHOWN]
    shown = members.head(50)
    formats = {f.id: record_format(f, shown[f.id]) for f in fields}
    columns = [_make_cells(shown[f.id], f, formats[f.id]) for f in fields]
    return render(
        request,
        "shaping/group_rows.html",
        {"fields": fields, "rows": list(zip(*columns, strict=True)), "count": members.height},
    )


@require_POST
@require_builder
def show_failures(request: Request, pk: uuid.UUID) -> HttpResponse:
    """The values that a step could not convert."""
    now = parse_json(request, StepsSent)
    draft = _make_draft(request, get_dataset(pk), now)
    looked, _ = draft.look(now.at, sample=not now.all)
    report = looked.reports.get(now.at)
    return render(request, "shaping/failures.html", {"failures": report.failures if report else {}})


@require_POST
@require_builder
def check_formula(request: Request, pk: uuid.UUID) -> JsonResponse:
    """Feedback on a formula while it is typed: what is wrong and where, what could follow, its values."""
    now = parse_json(request, StepFormulaTyped)
    draft, text, caret = _make_draft(request, get_dataset(pk), now), now.formula, now.caret
    before = _load_before(draft, now.id, now.place)
    answer: dict[str, Any] = {"suggestions": [vars(each) for each in complete(text, caret, before.schema)]}
    if around := call_around(text, caret):
        function = load_registry()[around[0]]
        answer["around"] = {"signature": function.signature, "says": function.says}
    if not text.strip():
        return JsonResponse(answer)
    try:
        checked = check(text, before.schema)
        compiled = compile_formula(checked)
        results = compiled.apply_to(before.rows, "__result").collect()
        full = results.filter(pl.col("__result").is_not_null()).head(SAMPLED_VALUES)
        sample = full if full.height else results.head(SAMPLED_VALUES)
        read = [field for field in before.fields if field.id in checked.fields][:4]
        formats = [record_format(f, sample[f.id]) for f in read]
        result = DataField(id="result", source="", name="Result", kind=compiled.kind)
        result_format = settle(result.format, sample["__result"], compiled.kind, records=True)
        answer |= {
            "kind": compiled.kind.words,
            "headings": [field.name for field in read],
            "sample": [
                [
                    *(format_value(row[f.id], f.kind, form) for f, form in zip(read, formats, strict=True)),
                    format_value(row["__result"], compiled.kind, result_format),
                ]
                for row in sample.iter_rows(named=True)
            ],
            "empties": int(results["__result"].null_count()),
            "rows": results.height,
            "tidy": tidy(text, before.schema),
        }
    except FormulaProblem as problem:
        answer["problem"] = problem.as_data()
    except pl.exceptions.PolarsError as error:
        answer["problem"] = {
            "message": f"It cannot be worked out: {str(error).splitlines()[0][:200]}",
            "hint": "",
            "start": 0,
            "end": len(text),
        }
    return JsonResponse(answer)


@require_GET
@require_builder
def show_formula_reference(request: Request) -> HttpResponse:
    """All functions, made from the registry."""
    everything = parse_query(request, ReferenceRequest).whom == "charts"
    functions = [
        f
        for f in load_registry().values()
        if (everything or f.level in (Level.ROW, Level.WINDOW)) and f.name not in ("plus",)
    ]
    themes = [(theme, [f for f in functions if f.theme == theme]) for theme in FUNCTION_THEMES]
    return render(request, "shaping/reference.html", {"themes": [(theme, own) for theme, own in themes if own]})


@require_POST
@require_builder
def apply(request: Request, pk: uuid.UUID) -> JsonResponse:
    """Put the drafted steps into force; answers where to watch it being done."""
    refresh = shaping.apply_draft(request.user, get_dataset(pk))
    return JsonResponse({"address": reverse("refresh", args=[refresh.pk])})


@require_POST
@require_builder
def discard(request: Request, pk: uuid.UUID) -> HttpResponse:
    shaping.discard_draft(request.user, get_dataset(pk))
    return redirect("shape", pk)


@require_POST
@require_builder
def derive(request: Request, pk: uuid.UUID) -> JsonResponse:
    """Make a dataset of what one did to a table."""
    dataset, now = get_dataset(pk), parse_json(request, DatasetNamed)
    made = shaping.derive(request.user, dataset, now.name, shaping.read_steps(now.steps))
    return JsonResponse({"address": reverse("refresh", args=[made.refreshes.latest("pk").pk])})


@require_POST
@require_builder
def duplicate(request: Request, pk: uuid.UUID) -> HttpResponse:
    made = shaping.duplicate(request.user, get_dataset(pk))
    return redirect("shape", made.pk) if made.current_id else redirect("refresh", made.refreshes.latest("pk").pk)

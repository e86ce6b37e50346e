from __future__ import annotations

import json
import time
import uuid
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import asdict
from typing import Annotated, Any
from urllib.parse import urlencode

from django.core.paginator import Paginator
from django.db.models.functions import Lower
from django.http import HttpResponse, JsonResponse, StreamingHttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.template.loader import render_to_string
from django.urls import reverse
from django.utils import timezone
from django.views.decorators.http import require_GET, require_POST, require_safe
from pydantic import Field

from veduta.core.chart.complete_specification import complete
from veduta.core.chart.definition import ChartDefinition, load_definition
from veduta.core.chart.edits import apply_edit
from veduta.core.chart.grammar.checking import find_problem, format_specification, list_completions
from veduta.core.chart.kinds import ChartShape
from veduta.core.chart.kinds.own_specification import ALWAYS, list_field_names, write_starting_text
from veduta.core.chart.mark_filters import make_points_filters
from veduta.core.chart.sentence import list_parameter_settings, write_sentence
from veduta.core.chart.texts import show_text
from veduta.core.dashboard.print_layout import PrintLayout
from veduta.core.errors import DefinitionProblem, QueryCancelled, VedutaError
from veduta.core.phrases import pluralise
from veduta.web.accounts.access import Request, require_builder
from veduta.web.accounts.models import User
from veduta.web.charts import merging, services
from veduta.web.charts.drill_menu import leads_of, leads_offered, open_everywhere
from veduta.web.charts.models import Chart
from veduta.web.charts.popovers import MISSING_CLAUSES, ClauseSent, make_popover_context
from veduta.web.charts.render import dump_definition, make_chart_data, render_rows
from veduta.web.charts.value_colours import keep_workspace_colours
from veduta.web.collaboration.live import HereSent, ThingWatch, be_present, stream_response
from veduta.web.common.downloads import send_as_file
from veduta.web.common.lists import Listed, ListHeading, list_context, sort_things
from veduta.web.common.requests import (
    Flag,
    FromRow,
    Line,
    Object,
    Objects,
    Point,
    Points,
    RequestModel,
    Text,
    Whole,
    decode_json,
    parse_form,
    parse_json,
    parse_query,
    read,
)
from veduta.web.common.revisions import RevisionConflict, get_numbered
from veduta.web.datasets.models import Dataset
from veduta.web.modelling.rows import RowsRequest, make_rows_context, send_csv
from veduta.web.modelling.services import list_chart_fields, load_model_and_context, load_model_for


def _get_chart(pk: uuid.UUID, deleted: bool = False) -> Chart:
    return get_object_or_404(
        Chart.objects.select_related("dataset", "dataset__current", "updated_by"), pk=pk, deleted_at__isnull=not deleted
    )


watch = ThingWatch(Chart)
_turns: OrderedDict[str, int] = OrderedDict()


class ChartSent(RequestModel):
    """A chart as it stands on the page."""

    definition: Object
    revision: Whole = 0

    def load(self, chart: Chart) -> ChartDefinition:
        """Raises DefinitionProblem for one that is not usable, or of another dataset."""
        definition = load_definition(self.definition)
        if definition.dataset != str(chart.dataset_id):
            raise DefinitionProblem("This definition belongs to another dataset.", hint="Load the page again.")
        return definition


class StatesSent(RequestModel):
    """A chart as it is on the page, with its undo states, begun from a revision.

    The states to which undoing (so many as are `behind`) and redoing lead are listed with the nearest last."""

    revision: Whole = 0
    states: Annotated[list[ChartSent], Field(min_length=1, max_length=60)]
    behind: Whole = 0


class ChartQuestion(ChartSent):
    """Edits to make first, which question of which page this is, and from where on rows of a long table are wanted."""

    edits: Annotated[Objects, Field(max_length=50)] = []
    page: Line = ""
    turn: Whole = 0
    rows_from: FromRow = 0


class SuggestionTaken(ChartSent, ClauseSent):
    """A clause whose popover opens."""


class UnderlyingRowsRequest(ChartSent, RowsRequest):
    """Marks, each the values of the chart's first dimensions."""

    points: Points = []


class MarkSent(ChartSent):
    """A mark, by the values of the chart's dimensions."""

    point: Point = []


class RowsFile(RequestModel):
    definition: Text = ""
    as_they_are: Flag = False


class NewChartRequest(RequestModel):
    """What a chart is of, and where to go on from it.

    On a dashboard it fills an empty placeholder or stands in a block already."""

    dataset: Line = ""
    dashboard: Line = ""
    place: Line = ""
    block: Line = ""


def _watch_newest(question: ChartQuestion) -> Callable[[], bool] | None:
    """A page asks one question after another; the function tells whether it has asked a newer one since."""
    page, turn = question.page[:40], question.turn
    if not page:
        return None
    _turns[page] = max(turn, _turns.get(page, 0))
    _turns.move_to_end(page)
    while len(_turns) > 1_000:
        _turns.popitem(last=False)
    return lambda: _turns.get(page, 0) > turn


HEADINGS = (
    ListHeading("name", "Chart", "name"),
    ListHeading("data", "Data", "dataset__name"),
    ListHeading("changed", "Changed", "updated_at", text=False),
    ListHeading("by", "By", "updated_by__first_name"),
)


@require_safe
@require_builder
def list_charts(request: Request) -> HttpResponse:
    listed = parse_query(request, Listed)
    charts = Chart.objects.filter(deleted_at=None).select_related("dataset", "updated_by")
    if listed.find:
        charts = charts.filter(name__icontains=listed.find)
    page = Paginator(sort_things(charts, HEADINGS, listed), 50).get_page(listed.page)
    datasets = Dataset.objects.filter(deleted_at=None, current__isnull=False).order_by(Lower("name"))
    return render(request, "charts/list.html", {"page": page, "datasets": datasets, **list_context(HEADINGS, listed)})


@require_POST
@require_builder
def start_chart(request: Request) -> HttpResponse:
    where = parse_form(request, NewChartRequest)
    dataset = get_object_or_404(Dataset, pk=_parse_uuid(where.dataset), deleted_at=None)
    chart = services.create_chart(request.user, dataset)
    address = reverse("chart", args=[chart.pk])
    back = _parse_uuid(where.dashboard)
    query = urlencode({"dashboard": back} | ({"place": where.place} if where.place else {}))
    return redirect(f"{address}?{query}" if back else address)


def _parse_uuid(text: str | None) -> uuid.UUID | None:
    try:
        return uuid.UUID(str(text))
    except ValueError:
        return None


@require_GET
@require_builder
def show_workbench(request: Request, pk: uuid.UUID) -> HttpResponse:
    chart = _get_chart(pk)
    draft = chart.drafts.filter(user=request.user).first()
    definition = load_definition(draft.definition if draft else chart.definition)
    where = parse_query(request, NewChartRequest)
    start = {
        "revision": draft.base_revision if draft else chart.revision,
        "saved": chart.revision > 0,
        "draft": bool(draft),
        "opens": not draft and not chart.revision,
        "dashboard": str(_parse_uuid(where.dashboard) or ""),
        "place": where.place,
    }
    return render_workbench(request, chart, definition, start, {"stands_in": where.block})


def render_workbench(
    request: Request, chart: Chart, definition: ChartDefinition, start: dict[str, Any], context: dict[str, Any]
) -> HttpResponse:
    """The workbench with a chart in it; `start` is what its script begins with besides."""
    try:
        groups = list_chart_fields(load_model_for(chart.dataset, request.user))
    except VedutaError as problem:
        return render(request, "charts/no_dataset.html", {"chart": chart, "problem": problem}, status=422)
    start = {"id": str(chart.pk), "definition": dump_definition(definition), **start}
    datasets = Dataset.objects.filter(deleted_at=None, current__isnull=False)
    shown = {"chart": chart, "groups": groups, "start": start, "datasets": datasets, "paper": PrintLayout(), **context}
    return render(request, "charts/workbench.html", shown)


@require_GET
@require_builder
def show_other_suggestions(request: Request, pk: uuid.UUID) -> JsonResponse:
    """What else a new chart could begin as: definitions, with their drawings."""
    chart = _get_chart(pk)
    others = services.suggest_other_charts(request.user, chart, load_definition(chart.definition))
    shown = [{"definition": dump_definition(each.definition), "chart": make_chart_data(each)} for each in others]
    return JsonResponse({"openings": shown})


@require_POST
@require_builder
def answer(request: Request, pk: uuid.UUID) -> JsonResponse:
    """Apply edits, if some are sent, and answer: the definition, its sentence, the drawing and the rows below it.

    A question that a newer one of its page has replaced is no fault: it is told that it was stopped."""
    chart, question = _get_chart(pk), parse_json(request, ChartQuestion)
    definition = question.load(chart)
    model = load_model_for(chart.dataset, request.user, definition.values)
    schema = model.schema
    for edit in question.edits:
        definition = apply_edit(definition, model, edit)
    started = time.perf_counter()
    try:
        answered = services.answer_chart(
            chart.dataset, definition, request.user, stopped=_watch_newest(question), rows_from=question.rows_from
        )
    except QueryCancelled:
        return JsonResponse({"stopped": True})
    took = (time.perf_counter() - started) * 1_000
    keep_workspace_colours(request.user, answered.kind, answered.definition, model)
    result = answered.result
    missing = [(clause, label) for clause, label, fits in MISSING_CLAUSES if fits(definition)]
    if not result.same_periods:  # both tables cover the same as it is
        missing = [(clause, label) for clause, label in missing if clause != "periods"]
    drawn = answered.kind.adapt_definition(ChartShape(definition, model))[0]
    parts = write_sentence(
        drawn, answered.kind, schema, list_parameter_settings(definition, model.apply_reader(definition.values))
    )
    return JsonResponse(
        {
            "definition": dump_definition(definition),
            "sentence": render_to_string("charts/sentence.html", {"parts": parts, "missing": missing}),
            "why": answered.why,
            "title": show_text(definition.title, model),
            "chart": make_chart_data(answered, model.ruling.describe()),
            "ways": leads_of(open_everywhere(definition), model),
            "rows": "" if answered.kind.shows_rows else render_rows(answered),
            "used": sorted(definition.list_fields()),
            "counted": f"{pluralise(result.frame.height, 'row')} from {result.rows_read:,} of "
            f"{result.rows_there:,} records · {took:.0f} ms",
        }
    )


@require_POST
@require_builder
def show_popover(request: Request, pk: uuid.UUID) -> HttpResponse:
    """The small editor of one clause."""
    chart = _get_chart(pk)
    opening = parse_json(request, SuggestionTaken)
    definition = opening.load(chart)
    model, context = load_model_and_context(chart.dataset, request.user, definition.values)
    shown = make_popover_context(definition, model, context, opening)
    return render(request, f"charts/popovers/{shown['template']}.html", shown)


@require_POST
@require_builder
def leads(request: Request, pk: uuid.UUID) -> HttpResponse:
    """Where a mark of the chart leads, or by what it can be broken down."""
    chart, asked_for = _get_chart(pk), parse_json(request, MarkSent)
    definition = open_everywhere(asked_for.load(chart))
    model = load_model_for(chart.dataset, request.user, definition.values)
    context = leads_offered(definition, model, asked_for.point) | {"title": "Drill"}
    return render(request, "charts/leads.html", context)


@require_POST
@require_builder
def keep_draft(request: Request, pk: uuid.UUID) -> JsonResponse:
    chart, now = _get_chart(pk), parse_json(request, ChartSent)
    draft = services.keep_draft(request.user, chart, now.load(chart), now.revision)
    return JsonResponse({"at": f"{timezone.localtime(draft.updated_at):%H:%M}"})


@require_POST
@require_builder
def save(request: Request, pk: uuid.UUID) -> JsonResponse:
    chart, now = _get_chart(pk), parse_json(request, ChartSent)
    try:
        saved = services.save_chart(request.user, chart, now.load(chart), now.revision)
    except RevisionConflict as conflict:
        return JsonResponse({"message": str(conflict)}, status=409)
    return JsonResponse({"revision": saved.revision, "at": f"{timezone.localtime(saved.updated_at):%H:%M}"})


@require_POST
@require_builder
def bring_together(request: Request, pk: uuid.UUID) -> JsonResponse:
    """Bring a chart as it is on the page together with what others saved meanwhile."""
    chart, wanted = _get_chart(pk), parse_json(request, StatesSent)
    states = [each.load(chart) for each in wanted.states]
    together = merging.bring_together(request.user, chart, wanted.revision, states, wanted.behind)
    return JsonResponse(
        {
            "revision": chart.revision,
            "who": together.who,
            "won": together.won,
            "theirs": together.theirs,
            "lost": together.lost,
            "mine": together.mine,
            "states": [{"definition": dump_definition(each)} for each in together.states],
            "left": together.left,
            "saved": together.is_saved,
        }
    )


@require_GET
@require_builder
def stream_events(request: Request, pk: uuid.UUID) -> StreamingHttpResponse:
    """What happens to a chart while it is open."""

    def may(user: User) -> bool:
        return user.builds and Chart.objects.filter(pk=pk, deleted_at=None).exists()

    return stream_response(watch, _get_chart(pk), request, may)


@require_POST
@require_builder
def present(request: Request, pk: uuid.UUID) -> JsonResponse:
    """Say that one has the chart open, or has no longer."""
    be_present(request.user, _get_chart(pk), parse_json(request, HereSent))
    return JsonResponse({})


@require_GET
@require_builder
def show_log(request: Request, pk: uuid.UUID) -> HttpResponse:
    """Who saved what of the chart."""
    chart = _get_chart(pk)
    context = {
        "entries": merging.log_of(chart),
        "revision": chart.revision,
        "newest": "saved now",
        "about": "What was saved for everybody.",
    }
    return render(request, "together/log.html", context)


@require_GET
@require_builder
def show_revision(request: Request, pk: uuid.UUID, number: int) -> JsonResponse:
    """A saved state of the chart, to go on from."""
    kept = get_numbered(_get_chart(pk).revisions.all(), number, "this chart")
    return JsonResponse({"definition": dump_definition(load_definition(kept.definition))})


@require_POST
@require_builder
def duplicate(request: Request, pk: uuid.UUID) -> HttpResponse:
    return redirect("chart", services.duplicate_chart(request.user, _get_chart(pk)).pk)


@require_POST
@require_builder
def drop_draft(request: Request, pk: uuid.UUID) -> JsonResponse:
    services.drop_draft(request.user, _get_chart(pk))
    return JsonResponse({})


@require_POST
@require_builder
def delete(request: Request, pk: uuid.UUID) -> JsonResponse:
    chart = _get_chart(pk)
    services.delete_chart(request.user, chart)
    return JsonResponse({"message": f"“{chart}” is deleted.", "undo": reverse("chart-restore", args=[pk])})


@require_POST
@require_builder
def restore(request: Request, pk: uuid.UUID) -> JsonResponse:
    chart = _get_chart(pk, deleted=True)
    services.restore_chart(request.user, chart)
    return JsonResponse({"message": f"“{chart}” is back."})


@require_POST
@require_builder
def show_underlying_rows(request: Request, pk: uuid.UUID) -> HttpResponse:
    """The records behind a mark of the chart, or behind the whole chart without a point."""
    chart, behind = _get_chart(pk), parse_json(request, UnderlyingRowsRequest)
    definition = behind.load(chart)
    marks = make_points_filters(definition, behind.points) if behind.points and definition.groups else ()
    filters, home = services.find_underlying_rows(chart.dataset, definition, request.user, marks=marks)
    context = make_rows_context(chart.dataset, filters, behind, request.user, home, definition.values)
    return render(request, "datasets/rows_behind.html", context)


@require_POST
@require_builder
def download_rows(request: Request, pk: uuid.UUID) -> StreamingHttpResponse:
    """The rows in the chart as CSV, exactly as they are shown below it but with full numbers."""
    chart, file = _get_chart(pk), parse_form(request, RowsFile)
    definition = read({"definition": decode_json(file.definition)}, ChartSent).load(chart)
    answered = services.answer_chart(chart.dataset, definition, request.user)
    columns = answered.result.columns
    headings = [column.name for column in columns]
    rows = answered.result.frame.lazy().select([column.key for column in columns])
    return send_csv(rows, headings, f"{chart}.csv", file.as_they_are)


@require_POST
@require_builder
def download_specification(request: Request, pk: uuid.UUID) -> HttpResponse:
    """The chart as a complete specification of the open chart grammar, with its rows."""
    chart, file = _get_chart(pk), parse_form(request, RowsFile)
    definition = read({"definition": decode_json(file.definition)}, ChartSent).load(chart)
    answered = services.answer_chart(chart.dataset, definition, request.user)
    text = json.dumps(complete(answered), ensure_ascii=False, indent=1)
    return send_as_file(HttpResponse(text, content_type="application/json"), f"{chart}.vl.json")


class SpecificationSent(ChartSent):
    """A specification as it is being written, with the place of the caret.

    `even` asks for even indents, `begins` for what the page needs to begin with."""

    text: Text = ""
    caret: Whole = 0
    even: Flag = False
    begins: Flag = False


@require_POST
@require_builder
def check_grammar(request: Request, pk: uuid.UUID) -> JsonResponse:
    """What is wrong with a specification that is being written, and what can be written at the caret."""
    chart, written = _get_chart(pk), parse_json(request, SpecificationSent)
    definition = written.load(chart)
    if written.even:
        return JsonResponse({"text": format_specification(written.text)})
    columns = services.list_columns(chart.dataset, definition, request.user)
    fields = list_field_names([column.name for column in columns])
    if written.begins:
        text = definition.specification
        if not text:
            text = write_starting_text(services.answer_chart(chart.dataset, definition, request.user).drawing)
        described = [(name, column.kind.words) for name, column in zip(fields, columns, strict=True)]
        return JsonResponse({"text": text, "fields": described})
    problem = find_problem(written.text, [*fields, *ALWAYS])
    completions, span = list_completions(written.text, max(0, written.caret), fields)
    return JsonResponse(
        {
            "problem": problem and asdict(problem),
            "completions": [asdict(each) for each in completions],
            "from": span.start,
            "to": span.end,
        }
    )


@require_POST
@require_builder
def explain(request: Request, pk: uuid.UUID) -> HttpResponse:
    """Step by step, with counts, how the chart's numbers come about."""
    chart = _get_chart(pk)
    definition = parse_json(request, ChartSent).load(chart)
    steps = services.explain_chart(chart.dataset, definition, request.user)
    return render(request, "charts/explain.html", {"steps": steps})

from __future__ import annotations

import json
import logging
import re
import uuid
from collections.abc import Iterator
from typing import Annotated, Any

from django.contrib import messages
from django.contrib.auth.models import Group
from django.http import Http404, HttpResponse, JsonResponse, StreamingHttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.template.loader import render_to_string
from django.urls import reverse
from django.utils import timezone
from django.views.decorators.http import require_GET, require_POST
from pydantic import BeforeValidator

from veduta.core.chart.value_colours import lists_of
from veduta.core.dashboard.definition import (
    Block,
    Control,
    DashboardDefinition,
    DatesChoice,
    ListChoice,
    ParameterChoice,
    load_dashboard,
    load_state,
)
from veduta.core.dashboard.edits import apply_edit
from veduta.core.dashboard.following import Choice, choice_of
from veduta.core.data.fields import Field, Kind
from veduta.core.errors import DefinitionProblem, VedutaError
from veduta.core.query.filters import Context, RelativeFilter
from veduta.web.accounts.access import Request, builders_only, signed_in
from veduta.web.accounts.models import User
from veduta.web.charts.choices import parameter_choices
from veduta.web.charts.filter_forms import RELATIVE_CHOICES, list_choices
from veduta.web.charts.models import Chart
from veduta.web.colours.models import CompanyLook
from veduta.web.common.lists import Heading, Listed, in_order, list_context
from veduta.web.common.markdown import to_html
from veduta.web.common.requests import (
    Flag,
    FromRow,
    Line,
    Maybe,
    Object,
    Searched,
    Sent,
    Text,
    Whole,
    asked,
    filled_in,
    json_in,
    rows_of,
    sent,
    wants_json,
)
from veduta.web.common.revisions import Conflict
from veduta.web.dashboards import services
from veduta.web.dashboards.access import dashboards_for, find_dashboard, grants, may_download, may_edit
from veduta.web.dashboards.models import Dashboard, Publication
from veduta.web.dashboards.reading import Reading, block_title
from veduta.web.datasets.models import Dataset
from veduta.web.modelling.rows import RowsRequest, csv_response, rows_context, rows_lazily
from veduta.web.modelling.services import model_for, model_of, parts_for

logger = logging.getLogger("veduta.dashboards")


class View(Sent):
    """How a dashboard is asked for: published, an earlier `version` of it or its draft, under a state (`v`, or the key
    `k` by which one is kept)."""

    v: Text = ""
    k: Line = ""
    version: Line = ""
    draft: Flag = False


class BlockView(Sent):
    """One block, also as a table, a long one from some row on; marks, as JSON, or those of a selection by its
    number."""

    table: Flag = False
    rows_from: FromRow = 0
    points: Text = ""
    selection: Whole | None = None


class StateSent(Sent):
    state: Object


class DraftSent(Sent):
    """A draft as it stands on the page."""

    definition: Object
    name: Line = ""
    revision: Whole = 0
    overwrite: Flag = False


class Change(Sent):
    """An edit of a draft as it stands on the page."""

    definition: Object
    change: Object


class ColourRow(Sent):
    """A field, a value and its colour; fields and values of several with · between them."""

    fields: Line = ""
    values: Line = ""
    colour: Line = ""


class ColoursSent(Sent):
    rows: Annotated[list[ColourRow], BeforeValidator(rows_of)] = []
    own: Flag = False


class ControlSent(Sent):
    dataset: Maybe = None
    field: Line = ""
    parameter: Line = ""


class Placed(Sent):
    chart: Maybe = None


class Markdown(Sent):
    text: Text = ""


class Named(Sent):
    name: Line = ""


class BroughtBack(Sent):
    what: Line = "draft"


class Grant(Sent):
    who: Line = ""
    level: Line = ""
    download: Flag = False


def _reading(request: Request, pk: uuid.UUID) -> Reading:
    """The dashboard as the request asks for it."""
    view = asked(request, View)
    dashboard = find_dashboard(request.user, pk, edit=bool(view.draft or view.version))
    state = services.kept_view(dashboard, view.k) if view.k else load_state(view.v)
    if view.version:
        number = int(view.version) if re.fullmatch("[0-9]{1,9}", view.version) else -1
        publication = get_object_or_404(Publication, dashboard=dashboard, number=number)
        return Reading(dashboard, publication.load(), state, request.user)
    return Reading.of(dashboard, state, request.user, draft=view.draft)


HEADINGS = (
    Heading("name", "Dashboard", "name"),
    Heading("published", "Published", "published__published_at", text=False),
    Heading("changed", "Changed", "updated_at", text=False),
)


@require_GET
@signed_in
def dashboard_list(request: Request) -> HttpResponse:
    listed = asked(request, Listed)
    dashboards = dashboards_for(request.user).select_related("updated_by")
    if listed.find:
        dashboards = dashboards.filter(name__icontains=listed.find)
    headings = HEADINGS if request.user.builds else HEADINGS[:2]
    context = {"dashboards": in_order(dashboards, headings, listed), **list_context(headings, listed)}
    return render(request, "dashboards/list.html", context)


@require_POST
@builders_only
def new_dashboard(request: Request) -> HttpResponse:
    dashboard = services.create_dashboard(request.user, filled_in(request, Named).name)
    if wants_json(request):
        return JsonResponse({"id": str(dashboard.pk)})
    return redirect("dashboard-edit", dashboard.pk)


@require_GET
@signed_in
def dashboard(request: Request, pk: uuid.UUID) -> HttpResponse:
    """The reader's view."""
    dashboard, view = find_dashboard(request.user, pk), asked(request, View)
    if dashboard.published is None and not view.version:
        return redirect("dashboard-edit", pk) if may_edit(request.user, dashboard) else _raise_not_found()
    problem = None
    try:
        reading = _reading(request, pk)
        trail = _trail(reading)
    except DefinitionProblem as error:
        # A link that was damaged on its way still opens the dashboard, with nothing narrowed.
        problem = error
        reading = Reading.of(dashboard, load_state(""), request.user)
        trail = _trail(reading)
    blocks = [
        {
            "block": block,
            "title": block_title(block, reading) if block.kind == "chart" else "",
            "html": to_html(block.text) if block.kind == "text" else "",
        }
        for block in reading.definition.in_reading_order
    ]
    context = {
        "dashboard": dashboard,
        "reading": reading,
        "version": view.version,
        "blocks": blocks,
        "layout": _layout(reading.definition),
        "company": CompanyLook.now(),
        **trail,
        "problem": problem,
        "rule_words": reading.words_of_rules(),
        "editable": may_edit(request.user, dashboard),
        "start": {
            "id": str(pk),
            "state": reading.state.model_dump(mode="json", exclude_unset=True),
            "key": view.k if problem is None else "",
            "version": view.version,
            "rows": may_download(request.user, dashboard),
        },
    }
    return render(request, "dashboards/view.html", context)


def _raise_not_found() -> HttpResponse:
    raise Http404


def _layout(definition: DashboardDefinition) -> str:
    """Where the blocks stand on a wide screen, as CSS; on a narrow one they follow each other."""
    places = (
        f"#block-{block.id} {{ grid-column: {block.x + 1} / span {block.w}; grid-row: {block.y + 1} / span {block.h} }}"
        for block in definition.blocks
    )
    return f"@media (min-width: 48.01rem) {{ {' '.join(places)} }}"


@require_POST
@signed_in
def keep_view(request: Request, pk: uuid.UUID) -> JsonResponse:
    """Keep a state that is too long for the address; answers with its key."""
    dashboard = find_dashboard(request.user, pk)
    state = load_state(sent(request, StateSent).state)
    return JsonResponse({"key": services.keep_view(request.user, dashboard, state)})


@require_GET
@signed_in
def block(request: Request, pk: uuid.UUID, block_id: str) -> JsonResponse:
    """One block worked out under the state in the address."""
    reading = _reading(request, pk)
    view = asked(request, BlockView)
    return JsonResponse(reading.block_data(reading.block(block_id), view.table, view.rows_from))


def _trail(reading: Reading) -> dict[str, Any]:
    """What narrows the view, in words, and which ways lead back from it."""
    items = reading.trail()
    return {
        "trail": items,
        "may_see_rows": may_download(reading.reader, reading.dashboard),
        "is_as_published": reading.is_as_published,
        "narrows": any(item.narrows for item in items),
    }


@require_GET
@signed_in
def blocks(request: Request, pk: uuid.UUID) -> StreamingHttpResponse:
    """The trail and then all blocks under the state in the address, a line of JSON each, sent as each is worked out.

    A block that fails sends its problem and leaves the others alone.
    """
    reading = _reading(request, pk)
    trail = _trail(reading)

    def lines() -> Iterator[str]:
        yield json.dumps({"trail": render_to_string("dashboards/trail.html", trail)}) + "\n"
        for block in reading.definition.in_reading_order:
            if block.kind == "chart":
                yield json.dumps({"block": block.id} | _data_or_problem(reading, block)) + "\n"

    return StreamingHttpResponse(lines(), content_type="application/x-ndjson")


def _data_or_problem(reading: Reading, block: Block) -> dict[str, Any]:
    try:
        return {"data": reading.block_data(block)}
    except VedutaError as problem:
        return {"problem": str(problem)}
    except Exception:
        logger.exception("Block %s of dashboard %s failed", block.id, reading.dashboard.pk)
        return {"problem": "This block could not be worked out because of a fault on our side."}


@require_GET
@signed_in
def control(request: Request, pk: uuid.UUID, control_id: str) -> HttpResponse:
    """The small editor of a control, as the reader has it set now."""
    reading = _reading(request, pk)
    control = reading.control(control_id)
    choice, dataset = choice_of(control, reading.state), reading.dataset(control.dataset)
    find = asked(request, Searched).find
    if control.kind == "parameter":
        shown = _parameter_control(request, control, choice, dataset, find)
        return render(request, "dashboards/parameter.html", {"control": control, **shown})
    model, context = parts_for(dataset, request.user)
    field = model.schema[control.field]
    if control.kind == "list":
        current = choice.filter(field.id) if isinstance(choice, ListChoice) else None
        shown = list_choices(field, current, model, find)
    else:
        shown = _dates_control(field, choice if isinstance(choice, DatesChoice) else None, context)
    return render(request, "dashboards/control.html", {"control": control, "choice": choice, "find": find, **shown})


def _dates_control(field: Field, choice: DatesChoice | None, context: Context) -> dict[str, Any]:
    """The editor of recent periods, and of a range of days, which begins as the periods lie."""
    set_as = choice.filter(field.id) if choice else None
    recent = set_as if isinstance(set_as, RelativeFilter) else None
    period = recent.bounds(context) if recent else None
    return {
        "relative": recent or RelativeFilter(field=field.id, anchor=choice.anchor if choice else "latest"),
        "choices": RELATIVE_CHOICES,
        "period": period,
        "range": {"start": period[0], "end": period[1]} if period else choice,
        "with_times": field.kind is Kind.DATETIME,
        "latest": context.latest.get(field.id),
    }


def _parameter_control(
    request: Request, control: Control, choice: Choice, dataset: Dataset, find: str
) -> dict[str, Any]:
    """The editor of a parameter: its list, the values of its field, or a value of its kind."""
    parameter = next((p for p in model_of(dataset).definition.parameters if p.id == control.field), None)
    if parameter is None:
        raise DefinitionProblem(
            f"The parameter “{control.name}” does not exist any more.", hint="Take the control out."
        )
    setting = list(choice.set) if isinstance(choice, ParameterChoice) and choice.set is not None else None
    return parameter_choices(parameter, setting, model_for(dataset, request.user), find)


def _behind(request: Request, pk: uuid.UUID, block_id: str):
    reading = _reading(request, pk)
    if not may_download(request.user, reading.dashboard):
        raise Http404
    view = asked(request, BlockView)
    points = json_in(view.points)
    if view.selection is not None and 0 <= view.selection < len(reading.state.selections):
        points = [list(point) for point in reading.state.selections[view.selection].points]
    return reading.filters_behind(reading.block(block_id), points)


@require_GET
@signed_in
def rows(request: Request, pk: uuid.UUID, block_id: str) -> HttpResponse:
    """The records behind a block or one of its marks, a page at a time."""
    dataset, filters, home, values = _behind(request, pk, block_id)
    context = rows_context(dataset, filters, asked(request, RowsRequest), request.user, home, values)
    query = request.GET.copy()
    for name in ("page", "sort", "descending", "find"):
        query.pop(name, None)
    file = f"{reverse('dashboard-rows-file', args=[pk, block_id])}?{query.urlencode()}"
    return render(request, "datasets/rows_behind.html", context | {"file": file})


@require_GET
@signed_in
def rows_file(request: Request, pk: uuid.UUID, block_id: str) -> StreamingHttpResponse:
    dataset, filters, home, values = _behind(request, pk, block_id)
    wanted = asked(request, RowsRequest)
    rows, fields, _ = rows_lazily(dataset, filters, wanted, request.user, home, values)
    headings = [field.name for field in fields]
    return csv_response(rows.drop("row"), headings, f"{dataset.name} rows.csv", wanted.as_they_are)


@require_GET
@builders_only
def edit(request: Request, pk: uuid.UUID) -> HttpResponse:
    dashboard = find_dashboard(request.user, pk, edit=True)
    definition = dashboard.load_draft()
    datasets: list[dict[str, Any]] = []
    for dataset in Dataset.objects.filter(deleted_at=None, current__isnull=False):
        datasets.append(
            {
                "dataset": dataset,
                "fields": [field for field in model_of(dataset).schema.visible if not _is_measure(field)],
                "parameters": model_of(dataset).definition.parameters,
            }
        )
    context = {
        "dashboard": dashboard,
        "start": {
            "id": str(pk),
            "name": dashboard.name,
            "revision": dashboard.revision,
            "definition": definition.model_dump(mode="json"),
            "published": dashboard.published.number if dashboard.published else None,
            "charts": _chart_names(definition),
        },
        "charts": Chart.objects.filter(deleted_at=None).select_related("dataset"),
        "datasets": datasets,
        "field_names": sorted({field.name for each in datasets for field in each["fields"]}, key=str.casefold),
        "versions": dashboard.publications.select_related("published_by")[:50],
    }
    return render(request, "dashboards/edit.html", context)


def _is_measure(field) -> bool:
    return field.role == "measure" or field.kind is Kind.DECIMAL


def _chart_names(definition: DashboardDefinition) -> dict[str, str]:
    charts = Chart.objects.filter(pk__in=[b.chart for b in definition.blocks if b.chart])
    return {str(chart.pk): str(chart) for chart in charts}


@require_POST
@builders_only
def save_draft(request: Request, pk: uuid.UUID) -> JsonResponse:
    dashboard, draft = find_dashboard(request.user, pk, edit=True), sent(request, DraftSent)
    definition = load_dashboard(draft.definition)
    try:
        saved = services.save_draft(request.user, dashboard, definition, draft.name, draft.revision, draft.overwrite)
    except Conflict as conflict:
        now = Dashboard.objects.get(pk=pk)
        mine, theirs = {b.id for b in definition.blocks}, {b.id for b in now.load_draft().blocks}
        context = {
            "message": str(conflict),
            "only_mine": len(mine - theirs),
            "only_theirs": len(theirs - mine),
            "both": len(mine & theirs),
        }
        return JsonResponse(
            {
                "conflict": render_to_string("dashboards/conflict.html", context),
                "theirs": {
                    "definition": now.load_draft().model_dump(mode="json"),
                    "name": now.name,
                    "revision": now.revision,
                },
            },
            status=409,
        )
    return JsonResponse({"revision": saved.revision, "at": f"{timezone.localtime(saved.updated_at):%H:%M}"})


@require_POST
@builders_only
def copy_draft(request: Request, pk: uuid.UUID) -> JsonResponse:
    dashboard, draft = find_dashboard(request.user, pk, edit=True), sent(request, DraftSent)
    new = services.copy_draft(request.user, dashboard, load_dashboard(draft.definition), draft.name)
    return JsonResponse({"address": reverse("dashboard-edit", args=[new.pk])})


@require_POST
@builders_only
def publish(request: Request, pk: uuid.UUID) -> JsonResponse:
    publication = services.publish(request.user, find_dashboard(request.user, pk, edit=True))
    messages.success(request, f"Version {publication.number} is published.")
    return JsonResponse({"address": reverse("dashboard", args=[pk])})


@require_POST
@builders_only
def bring_back(request: Request, pk: uuid.UUID, number: int) -> HttpResponse:
    dashboard = find_dashboard(request.user, pk, edit=True)
    what = filled_in(request, BroughtBack).what
    services.bring_back(request.user, dashboard, number, what)
    messages.success(request, f"Version {number} is {'published again' if what == 'published' else 'the draft now'}.")
    return redirect("dashboard" if what == "published" else "dashboard-edit", pk)


@require_POST
@builders_only
def place(request: Request, pk: uuid.UUID) -> JsonResponse:
    dashboard = find_dashboard(request.user, pk, edit=True)
    chart = Chart.objects.filter(pk=sent(request, Placed).chart, deleted_at=None).first()
    if chart is None:
        raise VedutaError("That chart does not exist any more.")
    services.place_chart(request.user, dashboard, chart)
    return JsonResponse({"address": reverse("dashboard-edit", args=[pk])})


@require_GET
@builders_only
def choices(request: Request) -> HttpResponse:
    """The dashboards a chart can be placed on."""
    editable = [d for d in dashboards_for(request.user) if may_edit(request.user, d)]
    return render(request, "dashboards/choices.html", {"dashboards": editable})


@require_POST
@builders_only
def new_control(request: Request, pk: uuid.UUID) -> JsonResponse:
    find_dashboard(request.user, pk, edit=True)
    wanted = sent(request, ControlSent)
    dataset = Dataset.objects.filter(pk=wanted.dataset, deleted_at=None).first()
    if dataset is None:
        raise VedutaError("That dataset does not exist any more.")
    made = services.control_for(dataset, wanted.field, wanted.parameter)
    return JsonResponse(made.model_dump(mode="json"))


@require_POST
@builders_only
def change(request: Request, pk: uuid.UUID) -> JsonResponse:
    """A draft after an edit; nothing is kept yet."""
    find_dashboard(request.user, pk, edit=True)
    asked = sent(request, Change)
    changed = apply_edit(load_dashboard(asked.definition), asked.change)
    return JsonResponse({"definition": changed.model_dump(mode="json")})


@require_POST
@builders_only
def colours(request: Request, pk: uuid.UUID) -> JsonResponse:
    """Colours of values as they are written in the editor, for its definition."""
    find_dashboard(request.user, pk, edit=True)
    asked = sent(request, ColoursSent)
    lists = lists_of((row.fields, row.values, row.colour) for row in asked.rows)
    return JsonResponse({"colours": [each.model_dump(mode="json") for each in lists], "own_colours": asked.own})


@require_POST
@builders_only
def text(request: Request) -> JsonResponse:
    """Markdown as safe HTML, for the editor's preview."""
    return JsonResponse({"html": to_html(sent(request, Markdown).text[:20_000])})


@require_POST
@builders_only
def duplicate(request: Request, pk: uuid.UUID) -> HttpResponse:
    dashboard = find_dashboard(request.user, pk, edit=True)
    return redirect("dashboard-edit", services.duplicate_dashboard(request.user, dashboard).pk)


@require_POST
@builders_only
def delete(request: Request, pk: uuid.UUID) -> JsonResponse:
    dashboard = find_dashboard(request.user, pk, edit=True)
    services.delete_dashboard(request.user, dashboard)
    return JsonResponse({"message": f"“{dashboard.name}” is deleted.", "undo": reverse("dashboard-restore", args=[pk])})


@require_POST
@builders_only
def restore(request: Request, pk: uuid.UUID) -> JsonResponse:
    dashboard = Dashboard.objects.filter(pk=pk).exclude(deleted_at=None).first()
    if dashboard is None or not may_edit(request.user, dashboard):
        raise Http404
    services.restore_dashboard(request.user, dashboard)
    return JsonResponse({"message": f"“{dashboard.name}” is back."})


@signed_in
def share(request: Request, pk: uuid.UUID) -> HttpResponse:
    """Who may see or edit the dashboard."""
    dashboard = find_dashboard(request.user, pk, edit=True)
    if request.method == "POST":
        given = filled_in(request, Grant)
        try:
            name = services.grant(request.user, dashboard, given.who, given.level, given.download)
        except VedutaError as problem:
            messages.error(request, str(problem))
        else:
            said = {
                "view": "may view this dashboard",
                "edit": "may edit this dashboard",
                "": "may not see this dashboard any more",
            }
            messages.success(request, f"{name} {said[given.level]}.")
        return redirect("dashboard-share", pk)
    granted = grants(dashboard)
    keys = {grant["key"] for grant in granted}
    people = [
        p
        for p in User.objects.filter(is_active=True).exclude(pk=dashboard.created_by_id).order_by("username")
        if f"person-{p.pk}" not in keys
    ]
    groups = [g for g in Group.objects.order_by("name") if f"group-{g.pk}" not in keys]
    context = {"dashboard": dashboard, "grants": granted, "people": people, "groups": groups}
    return render(request, "dashboards/share.html", context)

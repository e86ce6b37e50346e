"""Dashboards as they are read: lists, the page, its blocks and controls, and the rows behind them."""

from __future__ import annotations

import json
import logging
import uuid
from collections.abc import Iterator
from contextlib import suppress
from typing import Any

from csp.decorators import csp_replace
from django.http import Http404, HttpResponse, JsonResponse, StreamingHttpResponse
from django.shortcuts import redirect, render
from django.template.loader import render_to_string
from django.urls import reverse
from django.utils.safestring import mark_safe
from django.views.decorators.clickjacking import xframe_options_sameorigin
from django.views.decorators.http import require_GET, require_POST

from veduta.core.chart.choose import choose_kind
from veduta.core.chart.kinds import ChartShape
from veduta.core.chart.mark_filters import make_points_filters
from veduta.core.chart.sentence import list_parameter_settings, write_sentence_text
from veduta.core.dashboard.carried_controls import carry_controls
from veduta.core.dashboard.definition import DashboardBlock, Page, ViewState, load_state
from veduta.core.dashboard.visit_changes import Summary
from veduta.core.errors import DefinitionProblem, QueryCancelled, VedutaError
from veduta.web.accounts.access import Request, require_sign_in
from veduta.web.accounts.models import User
from veduta.web.charts.services import explain_over
from veduta.web.common.lists import Listed, ListHeading, list_context, sort_things
from veduta.web.common.requests import (
    Flag,
    FromRow,
    Line,
    Object,
    Points,
    RequestModel,
    Text,
    Whole,
    parse_json,
    parse_query,
    validate_part,
)
from veduta.web.common.streaming import SEND_NOW, end_with_words
from veduta.web.dashboards import favourites, saved_views, services
from veduta.web.dashboards.access import find_dashboard, list_dashboards, may_download, may_edit
from veduta.web.dashboards.block_shells import list_reader_blocks, make_shells
from veduta.web.dashboards.control_forms import list_buttons, list_steps
from veduta.web.dashboards.drill_crumbs import list_drill_notes, make_drill_data
from veduta.web.dashboards.favourites import note_seen, note_set
from veduta.web.dashboards.filter_bar import list_filter_bar, list_filter_bar_on
from veduta.web.dashboards.last_visit import ChangesSinceVisit, look
from veduta.web.dashboards.layout_styles import write_page_styles, write_print_styles
from veduta.web.dashboards.miniatures import add_miniatures
from veduta.web.dashboards.models import Dashboard
from veduta.web.dashboards.saved_view_views import describe_left_out
from veduta.web.dashboards.session import DashboardSession, Given, UnderlyingRows
from veduta.web.dashboards.view_requests import ViewRequest, open_session
from veduta.web.modelling.rows import RowsRequest, make_rows_context, scan_rows, send_csv
from veduta.web.palettes.models import CompanyLook

logger = logging.getLogger("veduta.dashboards")


class BlockView(RequestModel):
    """The underlying rows of a block.

    Also as a table, a long one from some row on; of marks, as JSON, or those of a selection by its place; of a text one
    of its numbers, by its place."""

    table: Flag = False
    rows_from: FromRow = 0
    points: Text = ""
    selection: Whole | None = None
    number: Whole | None = None


class OnlyAsked(RequestModel):
    """The block that changes, where it is only one."""

    only: Line = ""


class ClickSent(RequestModel):
    """Marks that were clicked, as a selection."""

    selection: Object


class StateSent(RequestModel):
    state: Object


HEADINGS = (
    ListHeading("name", "Dashboard", "name"),
    ListHeading("published", "Published", "published__published_at", text=False),
    ListHeading("changed", "Changed", "updated_at", text=False),
)


@require_GET
@require_sign_in
def show_dashboard_list(request: Request) -> HttpResponse:
    listed = parse_query(request, Listed)
    dashboards = list_dashboards(request.user).select_related("updated_by")
    if listed.find:
        dashboards = dashboards.filter(name__icontains=listed.find)
    headings = HEADINGS if request.user.builds else HEADINGS[:2]
    shown = add_miniatures(sort_things(dashboards, headings, listed))
    context = {"dashboards": shown, **list_context(headings, listed)}
    return render(request, "dashboards/list.html", context)


@require_GET
@xframe_options_sameorigin
@csp_replace({"frame-ancestors": ["'self'"]})  # type: ignore[arg-type]
@require_sign_in
def show_dashboard(request: Request, pk: uuid.UUID) -> HttpResponse:
    """The reader's view."""
    view = parse_query(request, ViewRequest)
    dashboard = find_dashboard(request.user, pk, edit=view.draft)
    usual = None if request.GET else saved_views.find_usual(request.user, dashboard)
    if usual:
        return redirect("dashboard-kept-open", pk, usual.key)
    if dashboard.published is None and not view.version and not view.draft:
        return redirect("dashboard-edit", pk) if may_edit(request.user, dashboard) else _raise_not_found()
    problem = None
    try:
        reading = open_session(request, pk)
        trail = _make_filter_bar(reading, _find_page(reading, view))
    except DefinitionProblem as error:
        # A link that was damaged on its way still opens the dashboard, with nothing narrowed.
        problem = error
        problem.hint = "The dashboard is shown without them."
        reading = DashboardSession.open(dashboard, load_state(""), request.user, draft=view.draft)
        trail = _make_filter_bar(reading, _find_page(reading, view))
    page = _find_page(reading, view)
    if problem is None and (words := describe_left_out(reading, view)):
        problem = DefinitionProblem(words)
    if view.page and page.id != view.page:
        problem = DefinitionProblem("That page is not there any more.", hint=f"“{page.name}” is shown instead.")
    note_seen(request.user, dashboard)
    context = {
        "dashboard": dashboard,
        "open_comments": dashboard.comments.filter(thread=None, resolved_at=None, deleted_at=None).count(),
        "starred": dashboard.starred_by.filter(pk=request.user.pk).exists(),
        "reading": reading,
        "version": view.version,
        "draft": view.draft,
        "page": page,
        "pages": [each for each in reading.definition.pages if not each.hidden or each == page],
        "faces": make_shells(reading, list_reader_blocks(page)),
        # Ids of blocks, numbers, colours, and words of which only letters and digits stand as they are.
        "layout": mark_safe(  # noqa: S308 - of ids, numbers, colours and escaped words
            write_page_styles(page, reading.paints) + write_print_styles(reading.definition, page, reading.latest)
        ),
        "company": CompanyLook.load(),
        **trail,
        "problem": problem,
        "rule_words": reading.describe_row_rules(),
        "editable": may_edit(request.user, dashboard),
        "start": {
            "id": str(pk),
            "state": reading.state.model_dump(mode="json", exclude_unset=True),
            "key": view.k if problem is None else "",
            "kept": _describe_saved_view(request, dashboard, view),
            "version": view.version,
            "page": page.id if view.page else "",
            "draft": view.draft,
            "rows": may_download(request.user, dashboard),
            "applies": reading.definition.applies,
        },
    }
    return render(request, "dashboards/view.html", context)


def _describe_saved_view(request: Request, dashboard: Dashboard, view: ViewRequest) -> dict[str, Any] | None:
    """The kept view that is open, as its page needs it."""
    if not view.kept:
        return None
    opened = saved_views.find(request.user, dashboard, view.kept)
    return {"key": opened.key, "name": opened.name, "own": opened.owner_id == request.user.pk}


@require_POST
@require_sign_in
def toggle_star(request: Request, pk: uuid.UUID) -> JsonResponse:
    """Star a dashboard, or no longer."""
    return JsonResponse({"starred": favourites.toggle_star(request.user, find_dashboard(request.user, pk))})


def _raise_not_found() -> HttpResponse:
    raise Http404


def _find_page(reading: DashboardSession, view: ViewRequest) -> Page:
    """The page that is asked for; the first that has a tab for one that is gone."""
    return reading.definition.find_page(view.page) or reading.definition.shown[0]


@require_POST
@require_sign_in
def keep_long_state(request: Request, pk: uuid.UUID) -> JsonResponse:
    """Keep a state that is too long for the address; answers with its key."""
    dashboard = find_dashboard(request.user, pk)
    state = load_state(parse_json(request, StateSent).state)
    return JsonResponse({"key": services.keep_long_state(request.user, dashboard, state)})


@require_GET
@require_sign_in
def show_block(request: Request, pk: uuid.UUID, block_id: str) -> JsonResponse:
    """One block worked out under the state in the address."""
    reading = open_session(request, pk)
    view = parse_query(request, BlockView)
    return JsonResponse(
        _make_block_data(reading, reading.get_block(block_id), as_table=view.table, rows_from=view.rows_from)
    )


def _make_block_data(reading: DashboardSession, block: DashboardBlock, **how: Any) -> dict[str, Any]:
    """A block worked out, and where it leads."""
    data = reading.make_block_data(block, **how)
    data["notes"] = [*data["notes"], *list_drill_notes(reading, block)]
    return data | {"drill": make_drill_data(reading, block)}


def _make_filter_bar(reading: DashboardSession, page: Page) -> dict[str, Any]:
    """What narrows a page of the view, in words, and which ways lead back from it."""
    items = list_filter_bar(reading)
    return {
        "trail": list_filter_bar_on(reading, page),
        "buttons": {each.id: list_buttons(reading, each) for each in reading.definition.controls if each.buttons},
        "steps": {each.id: list_steps(reading, each) for each in reading.definition.controls},
        "may_see_rows": may_download(reading.reader, reading.dashboard),
        "is_as_published": reading.is_as_published,
        "narrows": any(item.narrows and item.mode != "fixed" for item in items),
    }


@require_GET
@require_sign_in
def stream_blocks(request: Request, pk: uuid.UUID) -> StreamingHttpResponse:
    """Stream the filters, the controls and then the blocks of a page, a line of JSON each.

    The state is in the address. After a change, only the filters and the `only` block are sent. The blocks' questions
    are asked together, and each comes as soon as it is computed. A block that fails sends its problem and leaves the
    others alone."""
    reading, view = open_session(request, pk), parse_query(request, ViewRequest)
    page = _find_page(reading, view)
    trail = _make_filter_bar(reading, page)
    figures: dict[str, Summary] = {}
    only = parse_query(request, OnlyAsked).only
    wanted = [block for block in page.in_reading_order if only in ("", block.id)]
    again = [each.id for each in reading.definition.controls if each.first == "last"]
    note_set(request.user, reading.dashboard, _set_now(reading, again))

    def lines() -> Iterator[str]:
        yield json.dumps({"trail": render_to_string("dashboards/trail.html", trail)}) + "\n"
        for block in wanted:
            if block.kind == "control":
                yield json.dumps({"control": block.id, "html": _render_control(reading, block)}) + "\n"
        with suppress(QueryCancelled):  # for nobody waits any more
            for answered in reading.answer_all(wanted):
                line = _make_line(reading, *answered) if answered else {}
                figures.update(_collect_figures(line))
                yield json.dumps(line) + "\n" if answered else SEND_NOW
            if not only and (since := _note_visit(request.user, reading, view, figures)):
                yield json.dumps({"since": render_to_string("dashboards/since.html", {"since": since})}) + "\n"

    return StreamingHttpResponse(end_with_words(lines()), content_type="application/x-ndjson")


def _collect_figures(line: dict[str, Any]) -> dict[str, Summary]:
    """The figures of a block, by the names of their places."""
    said = line.get("data", {}).get("summary", ())
    return {f"{line['block']} {i}": Summary.model_validate(each) for i, each in enumerate(said)}


def _note_visit(
    user: User, reading: DashboardSession, view: ViewRequest, figures: dict[str, Summary]
) -> ChangesSinceVisit | None:
    """What has changed since the reader last looked at the dashboard as it is published, or at a view of it."""
    is_one = bool(view.kept) or (reading.is_as_published and not view.version and not view.draft)
    return look(user, reading.dashboard, view.kept, figures) if is_one else None


@require_GET
@require_sign_in
def show_filter_bar(request: Request, pk: uuid.UUID) -> JsonResponse:
    """The trail and the controls on a page under the state in the address, before anything is worked out for it."""
    reading = open_session(request, pk)
    page = _find_page(reading, parse_query(request, ViewRequest))
    controls = {each.id: _render_control(reading, each) for each in page.blocks if each.kind == "control"}
    return JsonResponse(
        {"trail": render_to_string("dashboards/trail.html", _make_filter_bar(reading, page)), "controls": controls}
    )


def _render_control(reading: DashboardSession, block: DashboardBlock) -> str:
    (face,) = make_shells(reading, [block])
    return render_to_string(face.template, {"face": face})


def _set_now(reading: DashboardSession, controls: list[str]) -> dict[str, Any]:
    """What the reader has these controls set to."""
    now = reading.state.model_dump(mode="json")["controls"]
    return {name: now[name] for name in controls if name in now}


def _make_line(reading: DashboardSession, block: DashboardBlock, given: list[Given]) -> dict[str, Any]:
    if block.kind == "text":
        return {"text": block.id, "numbers": reading.format_numbers(block, given)}
    return {"block": block.id} | _make_data_or_problem(reading, block, given[0])


def _make_data_or_problem(reading: DashboardSession, block: DashboardBlock, give: Given) -> dict[str, Any]:
    try:
        return {"data": _make_block_data(reading, block, result=give())}
    except VedutaError as problem:
        return {"problem": str(problem)}
    except Exception:
        logger.exception("Block %s of dashboard %s failed", block.id, reading.dashboard.pk)
        return {"problem": "This block could not be worked out because of a fault on our side."}


@require_POST
@require_sign_in
def lead_onward(request: Request, pk: uuid.UUID, target: uuid.UUID) -> JsonResponse:
    """Where another dashboard is shown narrowed to what was clicked here, with what like controls are set to."""
    reading = open_session(request, pk)
    other = DashboardSession.open(find_dashboard(request.user, target), ViewState(), request.user)
    clicked = load_state({"selections": [parse_json(request, ClickSent).selection | {"dashboard": str(pk)}]})
    carried = carry_controls(reading.definition, reading.state, other.definition)
    state = clicked.model_copy(update={"controls": carried})
    key = services.keep_long_state(request.user, other.dashboard, state)
    return JsonResponse({"address": f"{reverse('dashboard', args=[target])}?k={key}"})


@require_GET
@require_sign_in
def explain_block(request: Request, pk: uuid.UUID, block_id: str) -> HttpResponse:
    """How the numbers of a block are calculated.

    From which data, under which filters, in which steps."""
    reading = open_session(request, pk)
    block = reading.get_block(block_id)
    chart = reading.get_chart(block)
    model, following = reading.prepare(block, chart)
    steps = explain_over(model, chart, tuple(following.filters))
    kind = choose_kind(chart, model)[0]
    drawn = kind.adapt_definition(ChartShape(chart, model))[0]
    context = {
        "steps": steps,
        "dataset": reading.get_dataset(chart.dataset),
        "latest": reading.latest,
        "sentence": write_sentence_text(drawn, kind, model.schema, list_parameter_settings(chart, model)),
        "not_followed": [each for each in following.narrowings if each.why_not],
    }
    return render(request, "charts/explain.html", context)


@require_GET
@require_sign_in
def show_click_address(request: Request, pk: uuid.UUID, block_id: str) -> HttpResponse:
    """The web address to which a click on a mark leads, to be looked at before it is opened."""
    reading = open_session(request, pk)
    block = reading.get_block(block_id)
    points = validate_part(parse_query(request, BlockView).points, Points)
    made = reading.build_click_address(block, points[0] if points else [])
    return render(request, "dashboards/address.html", {"address": made})


def _find_underlying_rows(request: Request, pk: uuid.UUID, block_id: str) -> UnderlyingRows:
    reading = open_session(request, pk)
    if not may_download(request.user, reading.dashboard):
        raise Http404
    view = parse_query(request, BlockView)
    if view.selection is not None and 0 <= view.selection < len(reading.state.selections):
        return reading.find_rows_of_selection(reading.state.selections[view.selection])
    block, chart = reading.get_block_chart(block_id, view.number)
    points = validate_part(view.points, Points)
    return reading.find_underlying_rows(
        block, chart, make_points_filters(chart, points) if points and chart.groups else ()
    )


@require_GET
@require_sign_in
def show_underlying_rows(request: Request, pk: uuid.UUID, block_id: str) -> HttpResponse:
    """The records behind a block or one of its marks, a page at a time."""
    dataset, filters, home, values = _find_underlying_rows(request, pk, block_id)
    context = make_rows_context(dataset, filters, parse_query(request, RowsRequest), request.user, home, values)
    query = request.GET.copy()
    for name in ("page", "sort", "descending", "find"):
        query.pop(name, None)
    file = f"{reverse('dashboard-rows-file', args=[pk, block_id])}?{query.urlencode()}"
    return render(request, "datasets/rows_behind.html", context | {"file": file})


@require_GET
@require_sign_in
def download_underlying_rows(request: Request, pk: uuid.UUID, block_id: str) -> StreamingHttpResponse:
    dataset, filters, home, values = _find_underlying_rows(request, pk, block_id)
    wanted = parse_query(request, RowsRequest)
    rows, fields, _ = scan_rows(dataset, filters, wanted, request.user, home, values)
    headings = [field.name for field in fields]
    return send_csv(rows.drop("row"), headings, f"{dataset.name} rows.csv", wanted.as_they_are)

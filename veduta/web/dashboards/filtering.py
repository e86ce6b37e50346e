"""What narrows a dashboard: said to readers block by block, and set by analysts: its filters, and what each reaches."""

from __future__ import annotations

import uuid
from typing import Annotated, Any

from django.http import HttpResponse, JsonResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET, require_POST
from pydantic import Field

from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.edits import apply_edit
from veduta.core.dashboard.block_filters import NOT_FILTERS, find_matching_field
from veduta.core.dashboard.controls import FIRST_WORDS, KIND_WORDS, Control, list_control_kinds, list_defaults
from veduta.core.dashboard.definition import DashboardBlock, DashboardDefinition, Page, ViewState, load_dashboard
from veduta.core.dashboard.edits.filtering import Narrows
from veduta.core.dashboard.filters import DashboardFilter
from veduta.core.data.fields import DataField
from veduta.core.errors import VedutaError
from veduta.core.query.filters.base import FieldCondition
from veduta.web.accounts.access import Request, require_builder, require_sign_in
from veduta.web.charts.popovers import ClauseSent, make_popover_context
from veduta.web.common.requests import Line, Object, RequestModel, Whole, parse_json
from veduta.web.dashboards import services
from veduta.web.dashboards.access import find_dashboard
from veduta.web.dashboards.block_looks import BlockAsked
from veduta.web.dashboards.block_shells import list_block_names
from veduta.web.dashboards.publishing import freeze_charts
from veduta.web.dashboards.session import DashboardSession
from veduta.web.dashboards.view_requests import open_session
from veduta.web.datasets.row_access import collect_attributes
from veduta.web.modelling.services import load_model_and_context, load_model_for

CHOICES = (("all", "all blocks"), ("pages", "those of some pages"), ("ticked", "the blocks that are ticked"))


class OfData(RequestModel):
    """The filters of a draft on one dataset, as they stand on the page."""

    definition: Object
    dataset: Line

    def make_chart(self) -> ChartDefinition:
        """What has these filters as its own, for a filter of a dashboard is made as one of a chart is."""
        filters = [each for each in load_dashboard(self.definition).filters if each.dataset == self.dataset]
        return ChartDefinition(dataset=self.dataset, only=tuple(each.filter for each in filters))


class FilterOpened(OfData, ClauseSent):
    """One of them that is opened, by its place among them; a new one after the last."""


class FilterChanged(OfData):
    """An edit of one of them."""

    index: Annotated[Whole, Field(ge=0)] = 0
    edit: Object


class ScopeAsked(RequestModel):
    """A control or a filter of a draft as it stands on the page."""

    definition: Object
    narrows: Line


@require_GET
@require_sign_in
def show_block_filters(request: Request, pk: uuid.UUID, block_id: str) -> HttpResponse:
    """What narrows a block as it is read, and what it does not follow, with the reason."""
    reading = open_session(request, pk)
    return render(request, "dashboards/narrowings.html", _describe_block_filters(reading, reading.get_block(block_id)))


@require_POST
@require_builder
def follows(request: Request, pk: uuid.UUID) -> HttpResponse:
    """The same of a block of a draft, to be set."""
    dashboard, asked = find_dashboard(request.user, pk, edit=True), parse_json(request, BlockAsked)
    reading = DashboardSession(dashboard, freeze_charts(load_dashboard(asked.definition)), ViewState(), request.user)
    block = reading.definition.find_block(asked.block)
    if block is None or block.kind != "chart":
        raise VedutaError("That block is not there any more.", hint="Undo, or load the page again.")
    page = reading.definition.find_page_of(block.id)
    assert page is not None
    settable = [
        (each.id, _name(each, reading), each.scope.has(page.id, block.id))
        for each in _list_filtering(reading.definition)
    ]
    others = [each for each in reading.definition.charts if each.id != block.id and each in page.blocks]
    names = list_block_names(reading, page.blocks)
    reached = [(each.id, names.get(each.id, ""), _reach(block, page.id, each.id)) for each in others]
    return render(
        request,
        "dashboards/narrowings.html",
        {**_describe_block_filters(reading, block), "editing": True, "settable": settable, "reached": reached},
    )


def _list_filtering(definition: DashboardDefinition) -> list[Narrows]:
    return [*definition.filters, *definition.controls]


def _reach(block: DashboardBlock, page: str, other: str) -> str:
    """What a click on a block does to another one."""
    if not block.reaches.has(page, other):
        return "nothing"
    return "highlight" if other in block.highlights else "narrow"


def _describe_block_filters(reading: DashboardSession, block: DashboardBlock) -> dict[str, Any]:
    chart = reading.get_chart(block)
    dataset, following = reading.find_block_filters(block, chart)
    schema = reading.get_schema(dataset)
    return {
        "block": block,
        "own": [each.describe(schema) for each in chart.only],
        "follows": [each for each in following.narrowings if not each.why_not],
        "not_followed": [each for each in following.narrowings if each.why_not],
    }


def _name(narrows: Narrows, reading: DashboardSession) -> str:
    if isinstance(narrows, Control):
        return narrows.name
    try:
        return narrows.describe(reading.get_schema_by_id(narrows.dataset))
    except VedutaError:
        return "A filter whose data are gone"


@require_POST
@require_builder
def show_clause(request: Request, pk: uuid.UUID) -> HttpResponse:
    """The small editor of a filter, that of a chart's."""
    find_dashboard(request.user, pk, edit=True)
    opened = parse_json(request, FilterOpened)
    definition = opened.make_chart()
    model, context = load_model_and_context(services.get_dataset(opened.dataset), request.user)
    shown = make_popover_context(definition, model, context, opened)
    return render(request, f"charts/popovers/{shown['template']}.html", shown)


@require_POST
@require_builder
def filter_made(request: Request, pk: uuid.UUID) -> JsonResponse:
    """A filter as it is after an edit of it."""
    find_dashboard(request.user, pk, edit=True)
    changed = parse_json(request, FilterChanged)
    model = load_model_for(services.get_dataset(changed.dataset), request.user)
    made = apply_edit(changed.make_chart(), model, changed.edit)
    if changed.index >= len(made.only):
        raise VedutaError("That filter is not there any more.", hint="Undo, or load the page again.")
    return JsonResponse({"filter": made.only[changed.index].model_dump(mode="json")})


def filter_words(reading: DashboardSession) -> dict[str, str]:
    """What the filters of a dashboard say, by their ids."""
    return {each.id: _name(each, reading) for each in reading.definition.filters}


@require_POST
@require_builder
def show_scope(request: Request, pk: uuid.UUID) -> HttpResponse:
    """Which blocks a control or a filter reaches, and by which fields other data follow.

    Blocks are shown on small pictures of the pages."""
    dashboard, asked = find_dashboard(request.user, pk, edit=True), parse_json(request, ScopeAsked)
    reading = DashboardSession(dashboard, freeze_charts(load_dashboard(asked.definition)), ViewState(), request.user)
    definition = reading.definition
    narrows = next((each for each in _list_filtering(definition) if each.id == asked.narrows), None)
    if narrows is None:
        raise VedutaError("That control or filter is not there any more.", hint="Undo, or load the page again.")
    context = {
        "narrows": narrows,
        "name": _name(narrows, reading),
        "is_filter": isinstance(narrows, DashboardFilter),
        "pages": [_make_page_miniature(reading, page, narrows) for page in definition.pages],
        "others": _list_others(reading, narrows),
        "kinds": _list_kinds(narrows),
        "firsts": _list_defaults(narrows),
        "attributes": sorted(collect_attributes(request.user)),
        "choices": CHOICES,
        "chosen": narrows.scope.of if narrows.scope.of in ("all", "pages") else "ticked",
    }
    return render(request, "dashboards/scope.html", context)


def _make_page_miniature(reading: DashboardSession, page: Page, narrows: Narrows) -> dict[str, Any]:
    names = list_block_names(reading, page.blocks)
    blocks = [
        {"id": block.id, "name": names[block.id], "reached": narrows.scope.has(page.id, block.id)}
        for block in page.in_reading_order
        if block.kind == "chart" or block.numbers
    ]
    return {"page": page, "blocks": blocks, "named": page.id in narrows.scope.names}


def _list_kinds(narrows: Narrows) -> list[tuple[str, str]]:
    """The ways in which readers can set a control; none of a filter."""
    if not isinstance(narrows, Control):
        return []
    if narrows.kind in NOT_FILTERS:
        return [(narrows.kind, "")]
    return [(kind, KIND_WORDS[kind]) for kind in list_control_kinds(narrows.field_kind)]


def _list_defaults(narrows: Narrows) -> list[tuple[str, str]]:
    """What a control can be set to when readers come; none of a filter."""
    if not isinstance(narrows, Control):
        return []
    return [(first, FIRST_WORDS[first]) for first in list_defaults(narrows.kind)]


def _list_others(reading: DashboardSession, narrows: Narrows) -> list[dict[str, Any]]:
    """The other data of the dashboard's blocks, each with the field by which it follows and those that could be it."""
    field = _find_field(narrows, reading)
    found = []
    for pk in dict.fromkeys(str((block.definition or {}).get("dataset", "")) for block in reading.definition.charts):
        if field is None or pk in ("", narrows.dataset):
            continue
        try:
            dataset, schema = reading.get_dataset(pk), reading.get_schema_by_id(pk)
        except VedutaError:
            continue  # its blocks say what is wrong
        proposed = find_matching_field(field.id, field.name, field.kind, narrows.dataset, pk, schema, {})
        alike = [each for each in schema.visible if _are_alike(each, field)]
        chosen = narrows.fields.get(pk, "-")
        found.append(
            {"pk": pk, "dataset": dataset, "fields": alike, "chosen": chosen, "proposed": proposed and schema[proposed]}
        )
    return found


def _find_field(narrows: Narrows, reading: DashboardSession) -> DataField | None:
    """The field of a control or a filter.

    None for one that is not on a single field, or whose data are gone."""
    try:
        schema = reading.get_schema_by_id(narrows.dataset)
    except VedutaError:
        return None
    if isinstance(narrows, Control):
        return None if narrows.kind in NOT_FILTERS else schema.get(narrows.field)
    return schema.get(narrows.filter.field) if isinstance(narrows.filter, FieldCondition) else None


def _are_alike(one: DataField, other: DataField) -> bool:
    """Whether values of two fields can be the same."""
    a, b = one.kind, other.kind
    return a is b or (a.is_date and b.is_date) or (a.is_number and b.is_number)

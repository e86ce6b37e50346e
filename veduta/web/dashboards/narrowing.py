"""What narrows a dashboard: said to readers block by block, and set by analysts: its filters, and what each reaches."""

from __future__ import annotations

import uuid
from typing import Annotated, Any

from django.http import HttpResponse, JsonResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET, require_POST
from pydantic import Field as Attribute

from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.edits import apply_edit
from veduta.core.dashboard.controls import FIRST_WORDS, KIND_WORDS, Control, firsts_for, kinds_for
from veduta.core.dashboard.definition import Block, DashboardDefinition, Page, ViewState, load_dashboard
from veduta.core.dashboard.edits.narrowing import Narrows
from veduta.core.dashboard.filters import DashboardFilter
from veduta.core.dashboard.following import NOT_FILTERS, matching_field
from veduta.core.data.fields import Field
from veduta.core.errors import VedutaError
from veduta.core.query.filters.base import FieldCondition
from veduta.web.accounts.access import Request, builders_only, signed_in
from veduta.web.charts.popovers import ClauseSent, popover_context
from veduta.web.common.requests import Line, Object, Sent, Whole, sent
from veduta.web.dashboards import services
from veduta.web.dashboards.access import find_dashboard
from veduta.web.dashboards.asking import reading_for
from veduta.web.dashboards.dressing import BlockAsked
from veduta.web.dashboards.faces import names_of
from veduta.web.dashboards.publishing import frozen
from veduta.web.dashboards.reading import Reading
from veduta.web.datasets.binding import attributes_of
from veduta.web.modelling.services import model_for, parts_for

CHOICES = (("all", "all blocks"), ("pages", "those of some pages"), ("ticked", "the blocks that are ticked"))


class OfData(Sent):
    """The filters of a draft on one dataset, as they stand on the page."""

    definition: Object
    dataset: Line

    def as_chart(self) -> ChartDefinition:
        """What has these filters as its own, for a filter of a dashboard is made as one of a chart is."""
        filters = [each for each in load_dashboard(self.definition).filters if each.dataset == self.dataset]
        return ChartDefinition(dataset=self.dataset, only=tuple(each.filter for each in filters))


class FilterOpened(OfData, ClauseSent):
    """One of them that is opened, by its place among them; a new one after the last."""


class FilterChanged(OfData):
    """An edit of one of them."""

    index: Annotated[Whole, Attribute(ge=0)] = 0
    edit: Object


class ScopeAsked(Sent):
    """A control or a filter of a draft as it stands on the page."""

    definition: Object
    narrows: Line


@require_GET
@signed_in
def narrowings(request: Request, pk: uuid.UUID, block_id: str) -> HttpResponse:
    """What narrows a block as it is read, and what it does not follow, with the reason."""
    reading = reading_for(request, pk)
    return render(request, "dashboards/narrowings.html", _said(reading, reading.block(block_id)))


@require_POST
@builders_only
def follows(request: Request, pk: uuid.UUID) -> HttpResponse:
    """The same of a block of a draft, to be set."""
    dashboard, asked = find_dashboard(request.user, pk, edit=True), sent(request, BlockAsked)
    reading = Reading(dashboard, frozen(load_dashboard(asked.definition)), ViewState(), request.user)
    block = reading.definition.block(asked.block)
    if block is None or block.kind != "chart":
        raise VedutaError("That block is not there any more.", hint="Undo, or load the page again.")
    page = reading.definition.page_of(block.id)
    assert page is not None
    settable = [(each.id, _name(each, reading), each.scope.has(page.id, block.id)) for each in _all(reading.definition)]
    others = [each for each in reading.definition.charts if each.id != block.id and each in page.blocks]
    names = names_of(reading, page.blocks)
    reached = [(each.id, names.get(each.id, ""), _reach(block, page.id, each.id)) for each in others]
    return render(
        request,
        "dashboards/narrowings.html",
        {**_said(reading, block), "editing": True, "settable": settable, "reached": reached},
    )


def _all(definition: DashboardDefinition) -> list[Narrows]:
    return [*definition.filters, *definition.controls]


def _reach(block: Block, page: str, other: str) -> str:
    """What a click on a block does to another one."""
    if not block.reaches.has(page, other):
        return "nothing"
    return "highlight" if other in block.highlights else "narrow"


def _said(reading: Reading, block: Block) -> dict[str, Any]:
    chart = reading.chart(block)
    dataset, following = reading.following(block, chart)
    schema = reading.schema(dataset)
    return {
        "block": block,
        "own": [each.words(schema) for each in chart.only],
        "follows": [each for each in following.narrowings if not each.why_not],
        "not_followed": [each for each in following.narrowings if each.why_not],
    }


def _name(narrows: Narrows, reading: Reading) -> str:
    if isinstance(narrows, Control):
        return narrows.name
    try:
        return narrows.words(reading.schema_of(narrows.dataset))
    except VedutaError:
        return "A filter whose data are gone"


@require_POST
@builders_only
def clause(request: Request, pk: uuid.UUID) -> HttpResponse:
    """The small editor of a filter, that of a chart's."""
    find_dashboard(request.user, pk, edit=True)
    opened = sent(request, FilterOpened)
    definition = opened.as_chart()
    model, context = parts_for(services.dataset_named(opened.dataset), request.user)
    shown = popover_context(definition, model, context, opened)
    return render(request, f"charts/popovers/{shown['template']}.html", shown)


@require_POST
@builders_only
def filter_made(request: Request, pk: uuid.UUID) -> JsonResponse:
    """A filter as it is after an edit of it."""
    find_dashboard(request.user, pk, edit=True)
    changed = sent(request, FilterChanged)
    model = model_for(services.dataset_named(changed.dataset), request.user)
    made = apply_edit(changed.as_chart(), model, changed.edit)
    if changed.index >= len(made.only):
        raise VedutaError("That filter is not there any more.", hint="Undo, or load the page again.")
    return JsonResponse({"filter": made.only[changed.index].model_dump(mode="json")})


def filter_words(reading: Reading) -> dict[str, str]:
    """What the filters of a dashboard say, by their ids."""
    return {each.id: _name(each, reading) for each in reading.definition.filters}


@require_POST
@builders_only
def scope(request: Request, pk: uuid.UUID) -> HttpResponse:
    """Which blocks a control or a filter reaches, on small pictures of the pages, and by which fields other data
    follow."""
    dashboard, asked = find_dashboard(request.user, pk, edit=True), sent(request, ScopeAsked)
    reading = Reading(dashboard, frozen(load_dashboard(asked.definition)), ViewState(), request.user)
    definition = reading.definition
    narrows = next((each for each in _all(definition) if each.id == asked.narrows), None)
    if narrows is None:
        raise VedutaError("That control or filter is not there any more.", hint="Undo, or load the page again.")
    context = {
        "narrows": narrows,
        "name": _name(narrows, reading),
        "is_filter": isinstance(narrows, DashboardFilter),
        "pages": [_page_in_small(reading, page, narrows) for page in definition.pages],
        "others": _others(reading, narrows),
        "kinds": _kinds(narrows),
        "firsts": _firsts(narrows),
        "attributes": sorted(attributes_of(request.user)),
        "choices": CHOICES,
        "chosen": narrows.scope.of if narrows.scope.of in ("all", "pages") else "ticked",
    }
    return render(request, "dashboards/scope.html", context)


def _page_in_small(reading: Reading, page: Page, narrows: Narrows) -> dict[str, Any]:
    names = names_of(reading, page.blocks)
    blocks = [
        {"id": block.id, "name": names[block.id], "reached": narrows.scope.has(page.id, block.id)}
        for block in page.in_reading_order
        if block.kind == "chart" or block.numbers
    ]
    return {"page": page, "blocks": blocks, "named": page.id in narrows.scope.names}


def _kinds(narrows: Narrows) -> list[tuple[str, str]]:
    """The ways in which readers can set a control; none of a filter."""
    if not isinstance(narrows, Control):
        return []
    if narrows.kind in NOT_FILTERS:
        return [(narrows.kind, "")]
    return [(kind, KIND_WORDS[kind]) for kind in kinds_for(narrows.field_kind)]


def _firsts(narrows: Narrows) -> list[tuple[str, str]]:
    """What a control can be set to when readers come; none of a filter."""
    if not isinstance(narrows, Control):
        return []
    return [(first, FIRST_WORDS[first]) for first in firsts_for(narrows.kind)]


def _others(reading: Reading, narrows: Narrows) -> list[dict[str, Any]]:
    """The other data of the dashboard's blocks, each with the field by which it follows and those that could be it."""
    field = _field_of(narrows, reading)
    found = []
    for pk in dict.fromkeys(str((block.definition or {}).get("dataset", "")) for block in reading.definition.charts):
        if field is None or pk in ("", narrows.dataset):
            continue
        try:
            dataset, schema = reading.dataset(pk), reading.schema_of(pk)
        except VedutaError:
            continue  # its blocks say what is wrong
        proposed = matching_field(field.id, field.name, field.kind, narrows.dataset, pk, schema, {})
        alike = [each for each in schema.visible if _alike(each, field)]
        chosen = narrows.fields.get(pk, "-")
        found.append(
            {"pk": pk, "dataset": dataset, "fields": alike, "chosen": chosen, "proposed": proposed and schema[proposed]}
        )
    return found


def _field_of(narrows: Narrows, reading: Reading) -> Field | None:
    """The field that a control or a filter is on; None for one that is not on a single field, or whose data are
    gone."""
    try:
        schema = reading.schema_of(narrows.dataset)
    except VedutaError:
        return None
    if isinstance(narrows, Control):
        return None if narrows.kind in NOT_FILTERS else schema.get(narrows.field)
    return schema.get(narrows.filter.field) if isinstance(narrows.filter, FieldCondition) else None


def _alike(one: Field, other: Field) -> bool:
    """Whether values of two fields can be the same."""
    a, b = one.kind, other.kind
    return a is b or (a.is_date and b.is_date) or (a.is_number and b.is_number)

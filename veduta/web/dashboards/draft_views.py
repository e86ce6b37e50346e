"""The shared draft while it is open: saved, brought together with what others do, told of, and its log."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from itertools import groupby, pairwise
from typing import Annotated, Any

from django.http import HttpResponse, JsonResponse, StreamingHttpResponse
from django.shortcuts import render
from django.urls import reverse
from django.utils import timezone
from django.views.decorators.http import require_GET, require_POST
from pydantic import Field

from veduta.core.dashboard.changes import describe_conflict, list_changes
from veduta.core.dashboard.definition import DashboardDefinition, load_dashboard
from veduta.core.dashboard.log import Sitting
from veduta.core.phrases import join_names, pluralise
from veduta.web.accounts.access import Request, require_builder
from veduta.web.accounts.models import User, label_of
from veduta.web.collaboration.live import HereSent, ThingWatch, be_present, stream_response
from veduta.web.collaboration.log import Entry
from veduta.web.common.requests import Line, Object, RequestModel, Whole, parse_json, parse_query
from veduta.web.common.revisions import RevisionConflict
from veduta.web.dashboards import drafts, services
from veduta.web.dashboards.access import find_dashboard, may_edit
from veduta.web.dashboards.block_names import make_namer
from veduta.web.dashboards.models import Dashboard

watch = ThingWatch(Dashboard)
SITTINGS = 15
"""How many sittings are listed at a time."""


class DraftSent(RequestModel):
    """A draft as it stands on the page."""

    definition: Object
    name: Line = ""
    revision: Whole = 0


class StateOnPage(RequestModel):
    definition: Object
    name: Line = ""


class ToMerge(RequestModel):
    """A draft's states on somebody's page.

    The one that last equalled the shared draft, the one now, and those to which undoing (so many as are `behind`) and
    redoing lead, the nearest last."""

    base: StateOnPage
    revision: Whole = 0
    states: Annotated[list[StateOnPage], Field(min_length=1, max_length=60)]
    behind: Whole = 0


class LogAsked(RequestModel):
    """A part of the log: sittings before the one that began with a save, or the single saves between two."""

    before: Whole = 0
    first: Whole = 0
    last: Whole = 0


@require_POST
@require_builder
def save_draft(request: Request, pk: uuid.UUID) -> JsonResponse:
    dashboard, draft = find_dashboard(request.user, pk, edit=True), parse_json(request, DraftSent)
    definition = load_dashboard(draft.definition)
    try:
        saved = services.save_draft(request.user, dashboard, definition, draft.name, draft.revision)
    except RevisionConflict as conflict:
        return JsonResponse({"message": str(conflict)}, status=409)
    return JsonResponse({"revision": saved.revision, "at": _format_time(saved)})


@require_GET
@require_builder
def stream_events(request: Request, pk: uuid.UUID) -> StreamingHttpResponse:
    """What happens to a draft while it is open."""
    dashboard = find_dashboard(request.user, pk, edit=True)
    return stream_response(watch, dashboard, request, lambda user: may_edit(user, dashboard))


@require_POST
@require_builder
def present(request: Request, pk: uuid.UUID) -> JsonResponse:
    """Say that one is there, and on which block; or that one leaves."""
    be_present(request.user, find_dashboard(request.user, pk, edit=True), parse_json(request, HereSent))
    return JsonResponse({})


def _format_time(saved: Dashboard) -> str:
    return f"{timezone.localtime(saved.updated_at):%H:%M}"


@require_POST
@require_builder
def merge_draft(request: Request, pk: uuid.UUID) -> JsonResponse:
    """Bring a draft together with what others made of it since it was like the shared one."""
    dashboard, wanted = find_dashboard(request.user, pk, edit=True), parse_json(request, ToMerge)
    base, *states = (
        services.SavedState(load_dashboard(each.definition), each.name) for each in (wanted.base, *wanted.states)
    )
    together = services.merge_draft(request.user, dashboard, base, wanted.revision, states, wanted.behind)
    now = together.states[0].definition
    return JsonResponse(
        {
            "revision": together.dashboard.revision,
            "at": _format_time(together.dashboard),
            "who": label_of(together.who),
            "won": _describe_conflicts(together.won, now, "It is as you have it"),
            "theirs": together.theirs.model_dump(mode="json"),
            "lost": _describe_conflicts(together.lost, now, "It is as they have it"),
            "mine": together.mine.model_dump(mode="json"),
            "states": [
                {"definition": each.definition.model_dump(mode="json"), "name": each.name} for each in together.states
            ],
            "left": [_describe_left(clashes, now) for clashes in together.left],
        }
    )


def _describe_left(clashes: list[services.Clash], now: DashboardDefinition) -> dict[str, Any] | None:
    """What a step leaves, in words, and as the edit `take_settings` names it; None where it leaves nothing."""
    settings = [(each.both.kind, each.both.id, each.both.setting) for each in clashes]
    return (
        {"words": _describe_conflicts(clashes, now, "It stays as they have it"), "settings": settings}
        if clashes
        else None
    )


def _describe_conflicts(clashes: list[services.Clash], now: DashboardDefinition, so: str) -> str:
    """Who changed which settings too, and how they are now; "" if there are none."""
    name = make_namer([now])
    said = []
    for who, those in groupby(sorted(clashes, key=lambda each: label_of(each.who)), lambda each: label_of(each.who)):
        settings = dict.fromkeys(describe_conflict(each.both, now, name) for each in those)
        said.append(f"{who} changed {'; '.join(settings)}")
    return f"{join_names(said)}, too. {so}." if said else ""


@require_GET
@require_builder
def show_log(request: Request, pk: uuid.UUID) -> HttpResponse:
    """Who changed what of the draft in the last days: sitting by sitting, or save by save."""
    dashboard, wanted = find_dashboard(request.user, pk, edit=True), parse_query(request, LogAsked)
    found = drafts.list_sittings(dashboard)
    saves = [save for sitting in reversed(found) for save in sitting.saves]
    if wanted.last:
        shown = [Sitting((save,)) for save in reversed(saves) if wanted.first <= save.number <= wanted.last]
    else:
        shown = [each for each in found if not wanted.before or each.last.number < wanted.before]
    listed_now = shown[:SITTINGS]
    rest = shown[SITTINGS:]
    context = {
        "entries": _list_entries(
            dashboard, listed_now, {save.number: before.number for before, save in pairwise(saves)}
        ),
        "is_part": bool(wanted.last or wanted.before),
        "earlier": _make_earlier_address(wanted, rest[0]) if rest else "",
        "revision": dashboard.revision,
        "newest": "the draft now",
        "seen_at": f"{reverse('dashboard', args=[pk])}?version=draft-",
        "about": f"What was done in the last {pluralise(drafts.KEPT_FOR.days, 'day')}.",
    }
    return render(request, "together/log.html", context)


def _make_earlier_address(wanted: LogAsked, rest: Sitting) -> str:
    """What is asked for what does not fit."""
    if wanted.last:
        return f"first={wanted.first}&last={rest.last.number}"
    return f"before={rest.last.number + 1}"


def _list_entries(dashboard: Dashboard, shown: Sequence[Sitting], before_that: dict[int, int]) -> list[Entry]:
    numbers = {sitting.last.number for sitting in shown}
    numbers |= {before_that.get(sitting.first.number, sitting.first.number) for sitting in shown}
    states = {state.number: state for state in dashboard.draft_states.filter(number__in=numbers)}
    loaded = {number: state.load() for number, state in states.items()}
    people = {user.pk: user for user in User.objects.filter(pk__in={sitting.last.who for sitting in shown})}
    name = make_namer(loaded.values())
    entries = []
    for sitting in shown:
        before = before_that.get(sitting.first.number, sitting.first.number)
        last, found = sitting.last.number, None
        if before != last:
            found = [(change.name, change.words) for change in list_changes(loaded[before], loaded[last], name)]
            if states[before].name != states[last].name:
                found.insert(0, ("The dashboard", f"is called “{states[last].name}”"))
            if not found and loaded[before] != loaded[last]:
                found = [("What readers do not see", "changes")]
        entries.append(
            Entry(
                who=label_of(people.get(sitting.last.who or 0)),
                began=sitting.first.at,
                ended=sitting.last.at,
                first=sitting.first.number,
                last=last,
                saves=len(sitting.saves),
                changes=found,
            )
        )
    return entries


@require_GET
@require_builder
def show_state(request: Request, pk: uuid.UUID, number: int) -> JsonResponse:
    """An earlier state of the draft, to go on from."""
    dashboard = find_dashboard(request.user, pk, edit=True)
    kept = drafts.get_state(dashboard, number)
    return JsonResponse({"definition": kept.load().model_dump(mode="json"), "name": kept.name})

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
from pydantic import Field as Attribute

from veduta.core.dashboard.changes import both_words, changes
from veduta.core.dashboard.definition import DashboardDefinition, load_dashboard
from veduta.core.dashboard.log import Sitting
from veduta.core.words import counted, listed
from veduta.web.accounts.access import Request, builders_only
from veduta.web.accounts.models import User, label_of
from veduta.web.common.requests import Line, Object, Sent, Whole, asked, sent
from veduta.web.common.revisions import Conflict
from veduta.web.dashboards import drafts, services
from veduta.web.dashboards.access import find_dashboard, may_edit
from veduta.web.dashboards.block_names import namer
from veduta.web.dashboards.models import Dashboard
from veduta.web.together.live import HereSent, Watch, be_present, streamed
from veduta.web.together.log import Entry

watch = Watch(Dashboard)
SITTINGS = 15
"""How many sittings are listed at a time."""


class DraftSent(Sent):
    """A draft as it stands on the page."""

    definition: Object
    name: Line = ""
    revision: Whole = 0


class StateOnPage(Sent):
    definition: Object
    name: Line = ""


class ToMerge(Sent):
    """The state that was last like the shared draft, and those on the page since: the one now, and those to which
    undoing (so many as are `behind`) and redoing lead, the nearest last."""

    base: StateOnPage
    revision: Whole = 0
    states: Annotated[list[StateOnPage], Attribute(min_length=1, max_length=60)]
    behind: Whole = 0


class LogAsked(Sent):
    """A part of the log: sittings before the one that began with a save, or the single saves between two."""

    before: Whole = 0
    first: Whole = 0
    last: Whole = 0


@require_POST
@builders_only
def save_draft(request: Request, pk: uuid.UUID) -> JsonResponse:
    dashboard, draft = find_dashboard(request.user, pk, edit=True), sent(request, DraftSent)
    definition = load_dashboard(draft.definition)
    try:
        saved = services.save_draft(request.user, dashboard, definition, draft.name, draft.revision)
    except Conflict as conflict:
        return JsonResponse({"message": str(conflict)}, status=409)
    return JsonResponse({"revision": saved.revision, "at": _time(saved)})


@require_GET
@builders_only
def live(request: Request, pk: uuid.UUID) -> StreamingHttpResponse:
    """What happens to a draft while it is open."""
    dashboard = find_dashboard(request.user, pk, edit=True)
    return streamed(watch, dashboard, request, lambda user: may_edit(user, dashboard))


@require_POST
@builders_only
def present(request: Request, pk: uuid.UUID) -> JsonResponse:
    """Say that one is there, and on which block; or that one leaves."""
    be_present(request.user, find_dashboard(request.user, pk, edit=True), sent(request, HereSent))
    return JsonResponse({})


def _time(saved: Dashboard) -> str:
    return f"{timezone.localtime(saved.updated_at):%H:%M}"


@require_POST
@builders_only
def merge_draft(request: Request, pk: uuid.UUID) -> JsonResponse:
    """Bring a draft together with what others made of it since it was like the shared one."""
    dashboard, wanted = find_dashboard(request.user, pk, edit=True), sent(request, ToMerge)
    base, *states = (
        services.State(load_dashboard(each.definition), each.name) for each in (wanted.base, *wanted.states)
    )
    together = services.merge_draft(request.user, dashboard, base, wanted.revision, states, wanted.behind)
    now = together.states[0].definition
    return JsonResponse(
        {
            "revision": together.dashboard.revision,
            "at": _time(together.dashboard),
            "who": label_of(together.who),
            "won": _told(together.won, now, "It is as you have it"),
            "theirs": together.theirs.model_dump(mode="json"),
            "lost": _told(together.lost, now, "It is as they have it"),
            "mine": together.mine.model_dump(mode="json"),
            "states": [
                {"definition": each.definition.model_dump(mode="json"), "name": each.name} for each in together.states
            ],
            "left": [_left(clashes, now) for clashes in together.left],
        }
    )


def _left(clashes: list[services.Clash], now: DashboardDefinition) -> dict[str, Any] | None:
    """What a step leaves, in words, and as the edit `take_settings` names it; None where it leaves nothing."""
    settings = [(each.both.kind, each.both.id, each.both.setting) for each in clashes]
    return {"words": _told(clashes, now, "It stays as they have it"), "settings": settings} if clashes else None


def _told(clashes: list[services.Clash], now: DashboardDefinition, so: str) -> str:
    """Who changed which settings too, and how they are now; "" if there are none."""
    name = namer([now])
    said = []
    for who, those in groupby(sorted(clashes, key=lambda each: label_of(each.who)), lambda each: label_of(each.who)):
        settings = dict.fromkeys(both_words(each.both, now, name) for each in those)
        said.append(f"{who} changed {'; '.join(settings)}")
    return f"{listed(said)}, too. {so}." if said else ""


@require_GET
@builders_only
def log(request: Request, pk: uuid.UUID) -> HttpResponse:
    """Who changed what of the draft in the last days: sitting by sitting, or save by save."""
    dashboard, wanted = find_dashboard(request.user, pk, edit=True), asked(request, LogAsked)
    found = drafts.sittings_of(dashboard)
    saves = [save for sitting in reversed(found) for save in sitting.saves]
    if wanted.last:
        shown = [Sitting((save,)) for save in reversed(saves) if wanted.first <= save.number <= wanted.last]
    else:
        shown = [each for each in found if not wanted.before or each.last.number < wanted.before]
    listed_now = shown[:SITTINGS]
    rest = shown[SITTINGS:]
    context = {
        "entries": _entries(dashboard, listed_now, {save.number: before.number for before, save in pairwise(saves)}),
        "is_part": bool(wanted.last or wanted.before),
        "earlier": _earlier(wanted, rest[0]) if rest else "",
        "revision": dashboard.revision,
        "newest": "the draft now",
        "seen_at": f"{reverse('dashboard', args=[pk])}?version=draft-",
        "about": f"What was done in the last {counted(drafts.KEPT_FOR.days, 'day')}.",
    }
    return render(request, "together/log.html", context)


def _earlier(wanted: LogAsked, rest: Sitting) -> str:
    """What is asked for what does not fit."""
    if wanted.last:
        return f"first={wanted.first}&last={rest.last.number}"
    return f"before={rest.last.number + 1}"


def _entries(dashboard: Dashboard, shown: Sequence[Sitting], before_that: dict[int, int]) -> list[Entry]:
    numbers = {sitting.last.number for sitting in shown}
    numbers |= {before_that.get(sitting.first.number, sitting.first.number) for sitting in shown}
    states = {state.number: state for state in dashboard.draft_states.filter(number__in=numbers)}
    loaded = {number: state.load() for number, state in states.items()}
    people = {user.pk: user for user in User.objects.filter(pk__in={sitting.last.who for sitting in shown})}
    name = namer(loaded.values())
    entries = []
    for sitting in shown:
        before = before_that.get(sitting.first.number, sitting.first.number)
        last, found = sitting.last.number, None
        if before != last:
            found = [(change.name, change.words) for change in changes(loaded[before], loaded[last], name)]
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
@builders_only
def state(request: Request, pk: uuid.UUID, number: int) -> JsonResponse:
    """An earlier state of the draft, to go on from."""
    dashboard = find_dashboard(request.user, pk, edit=True)
    kept = drafts.state_of(dashboard, number)
    return JsonResponse({"definition": kept.load().model_dump(mode="json"), "name": kept.name})

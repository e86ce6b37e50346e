"""Every change to dashboards, each with its permission check."""

from __future__ import annotations

import hashlib
import json
import secrets
import string
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

from django.contrib.auth.models import Group
from django.core.exceptions import ValidationError
from django.db import transaction
from django.utils import timezone

from veduta.core.dashboard.controls import Control, ParameterChoice, list_control_kinds
from veduta.core.dashboard.definition import DashboardDefinition, ViewState, load_dashboard, load_state
from veduta.core.dashboard.edits import apply_edit
from veduta.core.dashboard.merging import (
    MergeConflict,
    MergedDashboard,
    list_overridden,
    merge_definitions,
    rebase_definition,
    replace_settings,
)
from veduta.core.data.fields import DataType
from veduta.core.errors import DefinitionProblem, VedutaError
from veduta.web.accounts.access import must_build
from veduta.web.accounts.models import User
from veduta.web.accounts.rights import What, keep
from veduta.web.charts.models import Chart
from veduta.web.collaboration.steps import iterate_steps
from veduta.web.common.revisions import must_build_on
from veduta.web.dashboards import drafts, notices, tasks
from veduta.web.dashboards.access import must_edit, must_view, set_grant
from veduta.web.dashboards.models import Dashboard, DraftState, LongState
from veduta.web.datasets.models import Dataset
from veduta.web.modelling.services import load_whole_model

VIEWS_KEPT = 2_000


def make_id() -> str:
    return "".join(secrets.choice(string.ascii_lowercase + string.digits) for _ in range(6))


def create_dashboard(user: User, name: str = "") -> Dashboard:
    must_build(user)
    empty = DashboardDefinition().model_dump(mode="json")
    return Dashboard.objects.create(
        name=name.strip()[:200] or "New dashboard", draft=empty, created_by=user, updated_by=user
    )


@dataclass(frozen=True)
class Clash:
    """A setting that somebody (`who`) changed as well as the person who is told."""

    who: User | None
    both: MergeConflict


def save_draft(
    user: User,
    dashboard: Dashboard,
    definition: DashboardDefinition,
    name: str,
    base_revision: int,
) -> Dashboard:
    """Save the shared draft. Raises Conflict if somebody saved since `base_revision`."""
    must_edit(user, dashboard)
    _check_charts(definition)
    with transaction.atomic():
        dashboard = Dashboard.objects.select_for_update().select_related("updated_by").get(pk=dashboard.pk)
        must_build_on(dashboard.revision, base_revision, dashboard, "this dashboard", dashboard.updated_by)
        _save(user, dashboard, definition, name)
    return dashboard


def _save(
    user: User,
    dashboard: Dashboard,
    definition: DashboardDefinition,
    name: str,
    won: Sequence[Clash] = (),
    theirs: DashboardDefinition | None = None,
) -> None:
    """Save a draft, and notify those over whose settings it goes.

    Those are the settings that were `won`, without which it would be `theirs`, and those set a moment ago, as somebody
    may write without having seen them."""
    before = dashboard.load_draft()
    told = {each.both.key for each in won}
    quick = [each for each in drafts.set_just_before(user, dashboard, before, definition) if each[1].key not in told]
    state = drafts.keep(user, dashboard, definition, name)
    tasks.settle(dashboard)
    otherwise = replace_settings(theirs or definition, before, [both for _, both in quick])
    drafts.note_over(state, [*((each.who, each.both) for each in won), *quick], otherwise)
    notices.tell_who_is_away(state)


@dataclass(frozen=True)
class SavedState:
    """A draft as it stands on somebody's page, or stood there."""

    definition: DashboardDefinition
    name: str


@dataclass(frozen=True)
class MergedDraft:
    """What somebody's states are with what others did meanwhile: the first is the draft now.

    `who` changed it last before. `won` are the settings that others changed too and that are as this person has them,
    and `theirs` the draft in which they are as the others had them; `lost` those that others have set over what this
    person had set, and `mine` the draft in which they are as this person had them. `left` says of each state what the
    step to it leaves, as others have changed it since."""

    dashboard: Dashboard
    states: list[SavedState]
    who: User | None
    won: list[Clash]
    theirs: DashboardDefinition
    lost: list[Clash]
    mine: DashboardDefinition
    left: list[list[Clash]]


def merge_draft(
    user: User, dashboard: Dashboard, base: SavedState, base_revision: int, states: list[SavedState], behind: int = 0
) -> MergedDraft:
    """Merge somebody's draft, the first of their `states`, with the shared one.

    Both began from the same `base`. Their other states, to which undoing (so many as are `behind`) and redoing lead,
    are merged as well, so that they take back nothing that others did."""
    must_edit(user, dashboard)
    _check_charts(states[0].definition)
    with transaction.atomic():
        dashboard = Dashboard.objects.select_for_update().select_related("updated_by").get(pk=dashboard.pk)
        shared, name, who = dashboard.load_draft(), dashboard.name, dashboard.updated_by
        meanwhile = drafts.list_states_since(dashboard, base_revision)

        def who_set(both: MergeConflict) -> Clash:
            return Clash(drafts.find_author(both, base.definition, meanwhile) or who, both)

        made = [merge_definitions(base.definition, shared, states[0].definition)]
        made += [rebase_definition(base.definition, shared, each.definition) for each in states[1:]]
        names = [name if states[0].name == base.name else states[0].name]
        names += [each.name if name == base.name else name for each in states[1:]]
        theirs = merge_definitions(base.definition, states[0].definition, shared).definition
        won = [who_set(both) for both in made[0].both]
        if (made[0].definition, names[0]) != (shared, name):
            _save(user, dashboard, made[0].definition, names[0], won, theirs)
    together = [SavedState(each.definition, named) for each, named in zip(made, names, strict=True)]
    lost, mine = _find_lost(user, meanwhile, made[0])

    left = [[who_set(both) for both in each] for each in _list_left(made, states, behind)]
    return MergedDraft(dashboard, together, who, won, theirs, lost, mine, left)


def _list_left(made: list[MergedDashboard], states: list[SavedState], behind: int) -> list[list[MergeConflict]]:
    """What the step to each state leaves: what others changed since, of what the step changes."""
    left: list[list[MergeConflict]] = [[]]
    for place, nearer in iterate_steps(len(states), behind):
        left.append(list_overridden(made[place].both, states[place].definition, states[nearer].definition))
    return left


def bring_back(user: User, dashboard: Dashboard, state: DraftState) -> MergedDraft:
    """Have what somebody had set, and over which a state of the draft went, in the draft as they had it."""
    otherwise = load_dashboard(state.otherwise or state.definition)
    name = state.name
    return merge_draft(user, dashboard, SavedState(state.load(), name), state.number, [SavedState(otherwise, name)])


def _find_lost(
    user: User, meanwhile: Iterable[DraftState], now: MergedDashboard
) -> tuple[list[Clash], DashboardDefinition]:
    """The settings of somebody over which others have set theirs meanwhile.

    With the draft in which they are as they were."""
    lost: list[Clash] = []
    mine = now.definition
    kept = {(both.kind, both.id, both.setting) for both in now.both}  # which are as this person has them again
    for state in meanwhile:
        settings = [tuple(setting) for who, *setting in state.over if who == user.pk]
        gone = [MergeConflict(*setting) for setting in settings if setting not in kept]
        if gone and state.saved_by != user:
            lost += [Clash(state.saved_by, both) for both in gone]
            mine = merge_definitions(state.load(), mine, load_dashboard(state.otherwise)).definition
    return lost, mine


def _check_charts(definition: DashboardDefinition) -> None:
    wanted = {block.chart for block in definition.charts}
    try:
        there = {str(pk) for pk in Chart.objects.filter(pk__in=wanted).values_list("pk", flat=True)}
    except ValidationError:  # an id that is none
        there = set()
    if wanted - there:
        raise VedutaError("A block names a chart that does not exist.", hint="Load the page again.")


def place_chart(user: User, dashboard: Dashboard, chart: Chart) -> None:
    """Put a chart below everything that is on the first page of the draft."""
    edit_draft(user, dashboard, {"edit": "add_block", "id": make_id(), "kind": "chart", "chart": str(chart.pk)})


def edit_draft(user: User, dashboard: Dashboard, change: dict[str, Any]) -> None:
    """Make an edit of the draft from outside the editor. Raises DefinitionProblem for one that cannot be made."""
    must_edit(user, dashboard)
    with transaction.atomic():
        dashboard = Dashboard.objects.select_for_update().get(pk=dashboard.pk)
        drafts.keep(user, dashboard, apply_edit(dashboard.load_draft(), change))


def get_dataset(pk: str) -> Dataset:
    """Raises VedutaError for a dataset that is gone."""
    dataset = next((each for each in Dataset.objects.filter(deleted_at=None) if str(each.pk) == pk), None)
    if dataset is None:
        raise VedutaError("That dataset does not exist any more.", hint="Load the page again.")
    return dataset


def make_control(dataset: Dataset, field_id: str, parameter_id: str = "") -> Control:
    """A new control: of the usual kind for a field, or a parameter of the model."""
    model = load_whole_model(dataset)
    if parameter_id:
        parameter = next((each for each in model.definition.parameters if each.id == parameter_id), None)
        if parameter is None:
            raise VedutaError("That parameter does not exist any more.")
        return Control(
            id=make_id(),
            kind="parameter",
            dataset=str(dataset.pk),
            field=parameter.id,
            field_kind=parameter.kind,
            name=parameter.name,
            parameter=ParameterChoice(set=parameter.default or None),
            choices=parameter.choices,
        )
    field = model.schema[field_id]
    kind = list_control_kinds(field.kind)[0]
    return Control(
        id=make_id(),
        kind=kind,
        dataset=str(dataset.pk),
        field=field.id,
        field_kind=DataType(field.kind),
        name=field.name,
    )


def duplicate_dashboard(user: User, dashboard: Dashboard) -> Dashboard:
    must_edit(user, dashboard)
    name = f"{dashboard.name} (copy)"[:200]
    return Dashboard.objects.create(name=name, draft=dashboard.draft, created_by=user, updated_by=user)


def delete_dashboard(user: User, dashboard: Dashboard) -> None:
    must_edit(user, dashboard)
    with transaction.atomic():
        Dashboard.objects.filter(pk=dashboard.pk).update(deleted_at=timezone.now())
        keep(user, What.DELETED, f"the dashboard “{dashboard}”")


def restore_dashboard(user: User, dashboard: Dashboard) -> None:
    must_edit(user, dashboard)
    with transaction.atomic():
        Dashboard.objects.filter(pk=dashboard.pk).update(deleted_at=None)
        keep(user, What.RESTORED, f"the dashboard “{dashboard}”")


def grant(user: User, dashboard: Dashboard, who: str, level: str, download: bool) -> str:
    """Grant to "person-<id>" or "group-<id>"; level "" takes the grant away. Returns the name."""
    must_edit(user, dashboard)
    kind, _, pk = who.partition("-")
    model: Any = {"person": User, "group": Group}.get(kind)
    grantee = model.objects.filter(pk=int(pk)).first() if model and pk.isdigit() else None
    if grantee is None or level not in ("view", "edit", ""):
        raise VedutaError("That person or group does not exist.", hint="Choose one from the list.")
    with transaction.atomic():
        set_grant(grantee, dashboard, level, download)
    return grantee.label if isinstance(grantee, User) else grantee.name


def keep_long_state(user: User, dashboard: Dashboard, state: ViewState) -> str:
    """Keep a state that is too long for an address.

    Returns its key, which is the same for the same state; the least used ones of a dashboard go when there are very
    many."""
    must_view(user, dashboard)
    data = state.model_dump(mode="json")
    key = hashlib.sha256(json.dumps(data, sort_keys=True).encode()).hexdigest()[:24]
    with transaction.atomic():
        LongState.objects.update_or_create(dashboard=dashboard, key=key, defaults={"state": data})
        newest = LongState.objects.filter(dashboard=dashboard).order_by("-used_at").values("pk")[:VIEWS_KEPT]
        LongState.objects.filter(dashboard=dashboard).exclude(pk__in=list(newest.values_list("pk", flat=True))).delete()
    return key


def load_long_state(dashboard: Dashboard, key: str) -> ViewState:
    """Raises DefinitionProblem if nothing is kept by this key."""
    kept = LongState.objects.filter(dashboard=dashboard, key=key).first()
    if kept is None:
        raise DefinitionProblem(
            "What this link narrows is not kept any more.", hint="Start again from the plain address."
        )
    return load_state(kept.state)

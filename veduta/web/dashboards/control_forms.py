"""The small editors of controls, one for each kind, as a reader or whoever makes the dashboard has it set."""

from __future__ import annotations

import uuid
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from django.http import HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from veduta.core.calendar import Grain, make_grouping
from veduta.core.dashboard.block_filters import get_choice
from veduta.core.dashboard.controls import (
    Choice,
    ChooserChoice,
    Control,
    ControlKind,
    DatesChoice,
    ListChoice,
    ParameterChoice,
    RangeChoice,
    TextChoice,
)
from veduta.core.data.fields import DataField, DataType
from veduta.core.errors import DefinitionProblem, VedutaError
from veduta.core.model.model import Model
from veduta.core.query.filters import Context, Filter, RelativeFilter
from veduta.core.query.listing import count_distribution, group_values
from veduta.web.accounts.access import Request, require_sign_in
from veduta.web.charts.choices import list_parameter_choices, simplify
from veduta.web.charts.filter_forms import RELATIVE_CHOICES, list_choices
from veduta.web.common.requests import Searched, parse_query
from veduta.web.dashboards.session import DashboardSession
from veduta.web.dashboards.view_requests import open_session
from veduta.web.modelling.services import load_model_and_context

BUTTONS = 12
"""How many values of a list stand side by side at most."""
HEIGHT = 34
"""px of a small distribution."""


@dataclass(frozen=True)
class ControlSetting:
    """A control that is being set.

    Its field (none of a parameter), its setting, what is searched for, and what else filters the values it offers."""

    control: Control
    choice: Choice | None
    model: Model
    context: Context
    find: str
    under: tuple[tuple[Filter, ...], Context] | None

    @property
    def field(self) -> DataField:
        return self.model.schema[self.control.field]


Form = Callable[[ControlSetting], dict[str, Any]]
FORMS: dict[ControlKind, Form] = {}
"""By the kind of a control what its template shows."""


def form(kind: ControlKind) -> Callable[[Form], Form]:
    """Registers the editor of a kind of control."""

    def register(make: Form) -> Form:
        FORMS[kind] = make
        return make

    return register


@require_GET
@require_sign_in
def show_control(request: Request, pk: uuid.UUID, control_id: str) -> HttpResponse:
    """The small editor of a control."""
    reading = open_session(request, pk)
    setting = make_setting(reading, reading.get_control(control_id), parse_query(request, Searched).find)
    shown = {"control": setting.control, "choice": setting.choice, "find": setting.find}
    context = shown | FORMS[setting.control.kind](setting)
    context["template"] = f"dashboards/controls/{setting.control.kind}.html"
    return render(request, "dashboards/control.html", context)


def make_setting(reading: DashboardSession, control: Control, find: str = "") -> ControlSetting:
    dataset = reading.get_dataset(control.dataset)
    model, context = load_model_and_context(dataset, reading.reader)
    under = (reading.list_other_filters(control), context) if control.depends else None
    return ControlSetting(control, get_choice(control, reading.state), model, context, find, under)


@form("list")
def _list(setting: ControlSetting) -> dict[str, Any]:
    field, choice = setting.field, setting.choice
    current = choice.filter(field.id) if isinstance(choice, ListChoice) else None
    return list_choices(field, current, setting.model, setting.find, setting.under)


@form("dates")
def _make_dates_context(setting: ControlSetting) -> dict[str, Any]:
    """Recent periods, and a range of days, which begins as the periods lie."""
    field, choice = setting.field, setting.choice
    choice = choice if isinstance(choice, DatesChoice) else None
    set_as = choice.filter(field.id) if choice else None
    recent = set_as if isinstance(set_as, RelativeFilter) else None
    period = recent.find_bounds(setting.context) if recent else None
    return {
        "relative": recent or RelativeFilter(field=field.id, anchor=choice.anchor if choice else "latest"),
        "choices": RELATIVE_CHOICES,
        "period": period,
        "range": {"start": period[0], "end": period[1]} if period else choice,
        "with_times": field.kind is DataType.DATETIME,
        "year_before": _make_year_before(setting),
        "latest": setting.context.latest.get(field.id),
    }


def _make_year_before(setting: ControlSetting) -> dict[str, Any] | None:
    """What sets a date control to the same a year before."""
    choice = setting.choice
    made = choice.filter(setting.field.id) if isinstance(choice, DatesChoice) else None
    first, last = made.find_bounds(setting.context) if made else (None, None)
    moved = choice.move_year_back(first, last) if isinstance(choice, DatesChoice) and first and last else None
    return moved.model_dump(mode="json") if moved else None


@dataclass(frozen=True)
class ControlStep:
    """A step from what a date control is set to: its sign, what it is called, and what it sets the control to."""

    sign: str
    words: str
    choice: dict[str, Any]


def list_steps(reading: DashboardSession, control: Control) -> list[ControlStep]:
    """The steps to what is earlier and later than what a date control shows."""
    choice = get_choice(control, reading.state)
    if not isinstance(choice, DatesChoice):
        return []
    ways = (("‹", f"Earlier: {control.name}", -1), ("›", f"Later: {control.name}", 1))
    stepped = [(sign, words, choice.step(by)) for sign, words, by in ways]
    return [ControlStep(sign, words, to.model_dump(mode="json")) for sign, words, to in stepped if to]


@form("range")
def _make_range_context(setting: ControlSetting) -> dict[str, Any]:
    """Two bounds, over a small picture of how many rows have which numbers."""
    field, facts = setting.field, setting.model.get_facts(setting.control.field)
    bars = count_distribution(setting.model, field.id, under=setting.under)
    most = max(bars, default=0) or 1
    choice = setting.choice if isinstance(setting.choice, RangeChoice) else RangeChoice()
    heights = [round(HEIGHT * count / most, 1) for count in bars]
    return {
        "current": choice,
        "lowest": facts.lowest,
        "highest": facts.highest,
        "low": facts.lowest if choice.low is None else choice.low,
        "high": facts.highest if choice.high is None else choice.high,
        "step": 1 if field.kind is DataType.WHOLE else "any",
        "bars": [(place, HEIGHT - height, height) for place, height in enumerate(heights)],
        "height": HEIGHT,
    }


@form("text")
def _make_text_context(setting: ControlSetting) -> dict[str, Any]:
    return {"current": setting.choice if isinstance(setting.choice, TextChoice) else TextChoice()}


@form("parameter")
def _make_parameter_context(setting: ControlSetting) -> dict[str, Any]:
    """Its list, the values of its field, or a value of its kind. Raises DefinitionProblem for one that is gone."""
    control, choice = setting.control, setting.choice
    parameter = next((p for p in setting.model.definition.parameters if p.id == control.field), None)
    if parameter is None:
        raise DefinitionProblem(
            f"The parameter “{control.name}” does not exist any more.", hint="Take the control out."
        )
    value = list(choice.set) if isinstance(choice, ParameterChoice) and choice.set is not None else None
    return list_parameter_choices(parameter, value, setting.model, setting.find)


@form("chooser")
def _make_chooser_context(setting: ControlSetting) -> dict[str, Any]:
    chosen = setting.choice.option if isinstance(setting.choice, ChooserChoice) else None
    return {"options": [(place, each.name, place == chosen) for place, each in enumerate(setting.control.options)]}


@dataclass(frozen=True)
class ControlButton:
    """A choice that stands beside others: what it says, what it sets its control to as JSON, and whether it is."""

    words: str
    choice: dict[str, Any] | None
    is_set: bool


def list_buttons(reading: DashboardSession, control: Control) -> list[ControlButton]:
    """The choices of a control side by side, computed once.

    None for a control with too many, or with unknown choices, as where its data are gone."""
    key = f"buttons {control.id}"
    if key not in reading.kept:
        reading.kept[key] = _list_other_buttons(reading, control)
    return reading.kept[key]


def _list_other_buttons(reading: DashboardSession, control: Control) -> list[ControlButton]:
    try:
        setting = make_setting(reading, control)
    except VedutaError:
        return []
    made = BESIDE[control.kind](setting) if control.kind in BESIDE else []
    if not made or len(made) > BUTTONS:
        return []
    words = "As made" if control.kind == "chooser" else "All"
    none = [] if control.required else [ControlButton(words, None, not any(each.is_set for each in made))]
    return [*made, *none]


def _list_parameter_buttons(setting: ControlSetting) -> list[ControlButton]:
    choice = setting.choice
    chosen = [str(each) for each in choice.set or ()] if isinstance(choice, ParameterChoice) else []
    return [
        ControlButton(each.label or str(each.value), {"set": [each.value]}, chosen == [str(each.value)])
        for each in setting.control.choices
    ]


def _list_buttons(setting: ControlSetting) -> list[ControlButton]:
    choice = setting.choice
    chosen = choice.values if isinstance(choice, ListChoice) and not choice.exclude else ()
    field = setting.field
    group = make_grouping(field, Grain.DAY) if field.kind.is_date else make_grouping(field)
    values, _ = group_values(setting.model, group, limit=BUTTONS + 1, under=setting.under)
    return [
        ControlButton(words, {"values": [simplify(value)]}, simplify(value) in chosen)
        for value, words, _ in sorted(values, key=lambda each: each[1])
    ]


def _list_chooser_buttons(setting: ControlSetting) -> list[ControlButton]:
    chosen = setting.choice.option if isinstance(setting.choice, ChooserChoice) else None
    options = enumerate(setting.control.options)
    return [ControlButton(each.name, {"option": place}, place == chosen) for place, each in options]


BESIDE: dict[ControlKind, Callable[[ControlSetting], list[ControlButton]]] = {
    "parameter": _list_parameter_buttons,
    "list": _list_buttons,
    "chooser": _list_chooser_buttons,
}
"""By the kind of a control its choices side by side."""

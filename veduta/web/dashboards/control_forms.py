"""The small editors of controls, one for each kind, as a reader or whoever makes the dashboard has it set."""

from __future__ import annotations

import uuid
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from django.http import HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from veduta.core.calendar import Grain, grouping_for
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
from veduta.core.dashboard.following import choice_of
from veduta.core.data.fields import Field, Kind
from veduta.core.errors import DefinitionProblem, VedutaError
from veduta.core.model.model import Model
from veduta.core.query.filters import Context, Filter, RelativeFilter
from veduta.core.query.listing import distribution, group_values
from veduta.web.accounts.access import Request, signed_in
from veduta.web.charts.choices import parameter_choices, plain
from veduta.web.charts.filter_forms import RELATIVE_CHOICES, list_choices
from veduta.web.common.requests import Searched, asked
from veduta.web.dashboards.asking import reading_for
from veduta.web.dashboards.reading import Reading
from veduta.web.modelling.services import parts_for

BUTTONS = 12
"""How many values of a list stand side by side at most."""
HEIGHT = 34
"""px of a small distribution."""


@dataclass(frozen=True)
class Setting:
    """A control that is being set: its field (none of a parameter), what it is set to, what is searched for, and what
    else narrows the values it offers."""

    control: Control
    choice: Choice | None
    model: Model
    context: Context
    find: str
    under: tuple[tuple[Filter, ...], Context] | None

    @property
    def field(self) -> Field:
        return self.model.schema[self.control.field]


Form = Callable[[Setting], dict[str, Any]]
FORMS: dict[ControlKind, Form] = {}
"""By the kind of a control what its template shows."""


def form(kind: ControlKind) -> Callable[[Form], Form]:
    """Registers the editor of a kind of control."""

    def register(make: Form) -> Form:
        FORMS[kind] = make
        return make

    return register


@require_GET
@signed_in
def control(request: Request, pk: uuid.UUID, control_id: str) -> HttpResponse:
    """The small editor of a control."""
    reading = reading_for(request, pk)
    setting = setting_of(reading, reading.control(control_id), asked(request, Searched).find)
    shown = {"control": setting.control, "choice": setting.choice, "find": setting.find}
    context = shown | FORMS[setting.control.kind](setting)
    context["template"] = f"dashboards/controls/{setting.control.kind}.html"
    return render(request, "dashboards/control.html", context)


def setting_of(reading: Reading, control: Control, find: str = "") -> Setting:
    dataset = reading.dataset(control.dataset)
    model, context = parts_for(dataset, reading.reader)
    under = (reading.filters_beside(control), context) if control.depends else None
    return Setting(control, choice_of(control, reading.state), model, context, find, under)


@form("list")
def _list(setting: Setting) -> dict[str, Any]:
    field, choice = setting.field, setting.choice
    current = choice.filter(field.id) if isinstance(choice, ListChoice) else None
    return list_choices(field, current, setting.model, setting.find, setting.under)


@form("dates")
def _dates(setting: Setting) -> dict[str, Any]:
    """Recent periods, and a range of days, which begins as the periods lie."""
    field, choice = setting.field, setting.choice
    choice = choice if isinstance(choice, DatesChoice) else None
    set_as = choice.filter(field.id) if choice else None
    recent = set_as if isinstance(set_as, RelativeFilter) else None
    period = recent.bounds(setting.context) if recent else None
    return {
        "relative": recent or RelativeFilter(field=field.id, anchor=choice.anchor if choice else "latest"),
        "choices": RELATIVE_CHOICES,
        "period": period,
        "range": {"start": period[0], "end": period[1]} if period else choice,
        "with_times": field.kind is Kind.DATETIME,
        "year_before": _year_before(setting),
        "latest": setting.context.latest.get(field.id),
    }


def _year_before(setting: Setting) -> dict[str, Any] | None:
    """What sets a date control to the same a year before."""
    choice = setting.choice
    made = choice.filter(setting.field.id) if isinstance(choice, DatesChoice) else None
    first, last = made.bounds(setting.context) if made else (None, None)
    moved = choice.year_before(first, last) if isinstance(choice, DatesChoice) and first and last else None
    return moved.model_dump(mode="json") if moved else None


@dataclass(frozen=True)
class Step:
    """A step from what a date control is set to: its sign, what it is called, and what it sets the control to."""

    sign: str
    words: str
    choice: dict[str, Any]


def steps_of(reading: Reading, control: Control) -> list[Step]:
    """The steps to what is earlier and later than what a date control shows."""
    choice = choice_of(control, reading.state)
    if not isinstance(choice, DatesChoice):
        return []
    ways = (("‹", f"Earlier: {control.name}", -1), ("›", f"Later: {control.name}", 1))
    stepped = [(sign, words, choice.stepped(by)) for sign, words, by in ways]
    return [Step(sign, words, to.model_dump(mode="json")) for sign, words, to in stepped if to]


@form("range")
def _range(setting: Setting) -> dict[str, Any]:
    """Two bounds, over a small picture of how many rows have which numbers."""
    field, facts = setting.field, setting.model.facts(setting.control.field)
    bars = distribution(setting.model, field.id, under=setting.under)
    most = max(bars, default=0) or 1
    choice = setting.choice if isinstance(setting.choice, RangeChoice) else RangeChoice()
    heights = [round(HEIGHT * count / most, 1) for count in bars]
    return {
        "current": choice,
        "lowest": facts.lowest,
        "highest": facts.highest,
        "low": facts.lowest if choice.low is None else choice.low,
        "high": facts.highest if choice.high is None else choice.high,
        "step": 1 if field.kind is Kind.WHOLE else "any",
        "bars": [(place, HEIGHT - height, height) for place, height in enumerate(heights)],
        "height": HEIGHT,
    }


@form("text")
def _text(setting: Setting) -> dict[str, Any]:
    return {"current": setting.choice if isinstance(setting.choice, TextChoice) else TextChoice()}


@form("parameter")
def _parameter(setting: Setting) -> dict[str, Any]:
    """Its list, the values of its field, or a value of its kind. Raises DefinitionProblem for one that is gone."""
    control, choice = setting.control, setting.choice
    parameter = next((p for p in setting.model.definition.parameters if p.id == control.field), None)
    if parameter is None:
        raise DefinitionProblem(
            f"The parameter “{control.name}” does not exist any more.", hint="Take the control out."
        )
    value = list(choice.set) if isinstance(choice, ParameterChoice) and choice.set is not None else None
    return parameter_choices(parameter, value, setting.model, setting.find)


@form("chooser")
def _chooser(setting: Setting) -> dict[str, Any]:
    chosen = setting.choice.option if isinstance(setting.choice, ChooserChoice) else None
    return {"options": [(place, each.name, place == chosen) for place, each in enumerate(setting.control.options)]}


@dataclass(frozen=True)
class Button:
    """A choice that stands beside others: what it says, what it sets its control to as JSON, and whether it is."""

    words: str
    choice: dict[str, Any] | None
    is_set: bool


def buttons_of(reading: Reading, control: Control) -> list[Button]:
    """The choices of a control side by side, worked out once; none of one that has too many, or whose choices are not
    known, as where its data are gone."""
    key = f"buttons {control.id}"
    if key not in reading.kept:
        reading.kept[key] = _beside(reading, control)
    return reading.kept[key]


def _beside(reading: Reading, control: Control) -> list[Button]:
    try:
        setting = setting_of(reading, control)
    except VedutaError:
        return []
    made = BESIDE[control.kind](setting) if control.kind in BESIDE else []
    if not made or len(made) > BUTTONS:
        return []
    words = "As made" if control.kind == "chooser" else "All"
    none = [] if control.required else [Button(words, None, not any(each.is_set for each in made))]
    return [*made, *none]


def _parameter_buttons(setting: Setting) -> list[Button]:
    choice = setting.choice
    chosen = [str(each) for each in choice.set or ()] if isinstance(choice, ParameterChoice) else []
    return [
        Button(each.label or str(each.value), {"set": [each.value]}, chosen == [str(each.value)])
        for each in setting.control.choices
    ]


def _list_buttons(setting: Setting) -> list[Button]:
    choice = setting.choice
    chosen = choice.values if isinstance(choice, ListChoice) and not choice.exclude else ()
    field = setting.field
    group = grouping_for(field, Grain.DAY) if field.kind.is_date else grouping_for(field)
    values, _ = group_values(setting.model, group, limit=BUTTONS + 1, under=setting.under)
    return [
        Button(words, {"values": [plain(value)]}, plain(value) in chosen)
        for value, words, _ in sorted(values, key=lambda each: each[1])
    ]


def _chooser_buttons(setting: Setting) -> list[Button]:
    chosen = setting.choice.option if isinstance(setting.choice, ChooserChoice) else None
    options = enumerate(setting.control.options)
    return [Button(each.name, {"option": place}, place == chosen) for place, each in options]


BESIDE: dict[ControlKind, Callable[[Setting], list[Button]]] = {
    "parameter": _parameter_buttons,
    "list": _list_buttons,
    "chooser": _chooser_buttons,
}
"""By the kind of a control its choices side by side."""

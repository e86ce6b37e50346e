"""What the forms of filters offer, one for each kind of filter.

A form stands in `charts/popovers/filters/<kind>.html`: that of a filter on a field as one of its tabs, any other alone.
"""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from veduta.core.calendar import Grain, make_grouping
from veduta.core.data.fields import DataField, DataType, FieldRole
from veduta.core.model.model import Model
from veduta.core.phrases import lower_first
from veduta.core.query.filters import (
    Context,
    DatesFilter,
    Filter,
    ListFilter,
    MembershipFilter,
    RelativeFilter,
    convert_point_value,
    describe_dates,
)
from veduta.core.query.listing import group_values
from veduta.core.query.measures import Measure
from veduta.web.charts.choices import VALUES_SHOWN, OpenPopover, list_number_parameters, measure_choices, simplify

RELATIVE_CHOICES: tuple[tuple[str, dict[str, Any]], ...] = (
    ("The latest month", {"unit": "month", "count": 1}),
    ("This month", {"unit": "month", "count": 1, "anchor": "today"}),
    ("Last 3 months", {"unit": "month", "count": 3}),
    ("Last 12 months", {"unit": "month", "count": 12}),
    ("The latest year", {"unit": "year", "count": 1}),
    ("Year to date", {"unit": "year", "count": 1, "to_date": True}),
    ("The previous year", {"unit": "year", "count": 1, "back": 1}),
    ("Last 2 years", {"unit": "year", "count": 2}),
)

Offers = Callable[[OpenPopover, Any, Any], dict[str, Any]]
"""What a form offers: in a popover, for the field (None where it is on none) and the filter that is there, if any."""


@dataclass(frozen=True)
class FilterForm:
    """A form, by its name `kind`, and the kind of filter that it makes; `fits` says which filters it can show."""

    kind: str
    tab: str
    suits: Callable[[DataField], bool]
    offers: Offers
    makes: str
    fits: Callable[[Any], bool]

    @property
    def template(self) -> str:
        return f"charts/popovers/filters/{self.kind}.html"


FORMS: dict[str, FilterForm] = {}
"""By the kind of filter, in the order of the tabs."""


def filter_form(
    kind: str,
    tab: str = "",
    suits: Callable[[DataField], bool] = lambda field: False,
    makes: str = "",
    fits: Callable[[Any], bool] = lambda there: True,
):
    """Registers what the form of a kind of filter offers; one on a field has a tab and says which fields it suits."""

    def register(offers: Offers) -> Offers:
        FORMS[kind] = FilterForm(kind, tab, suits, offers, makes or kind, fits)
        return offers

    return register


def shows(form: FilterForm, there: Filter) -> bool:
    """Whether a form shows a filter that is there."""
    return there.kind == form.makes and form.fits(there)


def list_forms(field: DataField) -> list[FilterForm]:
    """The forms that suit a field, the usual one first."""
    usual = "range" if field.role is FieldRole.MEASURE else ""
    return sorted((form for form in FORMS.values() if form.suits(field)), key=lambda form: form.kind != usual)


@filter_form("relative", "Recent", lambda field: field.kind.is_date)
def _make_relative_context(opened: OpenPopover, field: DataField, current: RelativeFilter | None) -> dict[str, Any]:
    now = current or RelativeFilter(field=field.id)
    start, end = now.find_bounds(opened.context)
    latest = opened.context.latest.get(field.id)
    return {"relative": now, "choices": RELATIVE_CHOICES, "from": start, "to": end, "latest": latest}


@filter_form("dates", "Between", lambda field: field.kind.is_date)
def _make_dates_context(opened: OpenPopover, field: DataField, current: Any) -> dict[str, Any]:
    facts = opened.model.get_facts(field.id)
    choices: dict[str, Any] = {"with_times": field.kind is DataType.DATETIME}
    if facts.lowest:
        first, last = (dt.date.fromisoformat(str(bound)[:10]) for bound in (facts.lowest, facts.highest))
        choices["in_the_data"] = describe_dates(first, last)
    return choices


@filter_form("list", "Values", lambda field: not field.kind.is_date)
def _list(opened: OpenPopover, field: DataField, current: ListFilter | None) -> dict[str, Any]:
    parameters = [each for each in opened.model.definition.parameters if each.kind is field.kind]
    return {"parameters": parameters} | list_choices(field, current, opened.model, opened.find)


@filter_form("range", "Range", lambda field: field.kind.is_number)
def _make_range_context(opened: OpenPopover, field: DataField, current: Any) -> dict[str, Any]:
    facts = opened.model.get_facts(field.id)
    return {"lowest": facts.lowest, "highest": facts.highest, "parameters": list_number_parameters(opened.model)}


@filter_form("text", "Text", lambda field: field.kind is DataType.TEXT)
def _make_text_context(opened: OpenPopover, field: DataField, current: Any) -> dict[str, Any]:
    return {}


def _is_named(field: DataField) -> bool:
    """Whether the values of a field are members that a measure can be asked of."""
    return field.kind is DataType.TEXT or (field.kind.is_number and field.role is not FieldRole.MEASURE)


@filter_form("member", "Ranked", _is_named, fits=lambda there: there.keep is not None)
def _make_member_context(opened: OpenPopover, field: DataField, current: MembershipFilter | None) -> dict[str, Any]:
    by = current.keep.by if current and current.keep else opened.definition.measures[0]
    return _make_asked_by_context(opened, by)


@filter_form("having", "Condition", _is_named, makes="member", fits=lambda there: there.keep is None)
def _make_having_context(opened: OpenPopover, field: DataField, current: MembershipFilter | None) -> dict[str, Any]:
    """Members of which a measure lies between bounds, perhaps of the rows of some days only."""
    by = current.measure if current and current.measure else opened.definition.measures[0]
    days = next((each for each in current.filters if isinstance(each, DatesFilter)), None) if current else None
    dates = [(each.id, each.name) for each in opened.model.schema.visible if each.kind.is_date]
    return _make_asked_by_context(opened, by) | {"days": days, "dates": dates}


def _make_asked_by_context(opened: OpenPopover, by: Measure) -> dict[str, Any]:
    return {
        "measures": measure_choices(opened.definition, opened.model.schema, by),
        "parameters": list_number_parameters(opened.model),
    }


@filter_form("empty", "Empty", lambda field: True)
def _empty(opened: OpenPopover, field: DataField, current: Any) -> dict[str, Any]:
    return {}


@filter_form("measure")
def _measure(opened: OpenPopover, field: None, current: Any) -> dict[str, Any]:
    by = current.measure if current else opened.definition.measures[0]
    return {
        "measures": measure_choices(opened.definition, opened.model.schema, by),
        "parameters": list_number_parameters(opened.model),
    }


@filter_form("points")
def _make_points_context(opened: OpenPopover, field: None, current: Any) -> dict[str, Any]:
    return {"words": current.describe(opened.model.schema) if current else ""}


def list_choices(
    field: DataField,
    current: ListFilter | None,
    model: Model,
    find: str,
    under: tuple[tuple[Filter, ...], Context] | None = None,
) -> dict[str, Any]:
    """A bounded list of values to tick, the ticked ones first.

    Perhaps only those that occur `under` some filters. Values that are gone from the data are marked so."""
    ticked = [convert_point_value(value, field) for value in current.values] if current else []
    group = make_grouping(field, Grain.DAY) if field.kind.is_date else make_grouping(field)
    values, count = group_values(model, group, find, VALUES_SHOWN, tuple(ticked), under)
    there = {value for value, _, _ in values}
    gone = [] if find else [value for value in ticked if value not in there]
    shown = [(json.dumps(simplify(value)), said, rows, value in ticked) for value, said, rows in values]
    hidden = [json.dumps(simplify(value)) for value in ticked if find and value not in there]
    return {
        "values": [(json.dumps(simplify(v)), lower_first(str(v)), None, True) for v in gone] + shown,
        "count": count,
        "shown": len(values),
        "hidden": hidden,
        "exclude": bool(current and current.exclude),
    }

"""Numbers in texts, in the editor: which measures there are, and what narrows one."""

from __future__ import annotations

import uuid
from collections import Counter
from typing import Any

from django.http import HttpResponse, JsonResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET, require_POST

from veduta.core.calendar import Grain, make_grouping
from veduta.core.chart.definition import ChartDefinition
from veduta.core.dashboard.numbers import TextNumber
from veduta.core.data.fields import DataField, FieldRole
from veduta.core.errors import DefinitionProblem, VedutaError
from veduta.core.formula.measures import replace_names_with_ids
from veduta.core.model.model import Model
from veduta.core.query.filters import ListFilter
from veduta.core.query.listing import group_values
from veduta.core.query.measures import Measure, measure_node, measure_words
from veduta.web.accounts.access import Request, require_builder
from veduta.web.accounts.models import User
from veduta.web.charts.choices import measure_choices
from veduta.web.charts.models import Chart
from veduta.web.common.requests import Line, Maybe, Object, RequestModel, Text, parse_json, parse_query, validate_as
from veduta.web.dashboards.access import find_dashboard
from veduta.web.dashboards.models import Dashboard
from veduta.web.datasets.models import Dataset
from veduta.web.modelling.services import load_model_for

VALUES_SHOWN = 200


class NumberRequest(RequestModel):
    """Of which dataset, and which field's values are asked for."""

    dataset: Maybe = None
    field: Line = ""
    find: Line = ""


class NumberSent(RequestModel):
    """A number in a text: a measure, or a `formula` with what that is `named`.

    Perhaps of the only value of a field."""

    dataset: Maybe = None
    measure: Object
    formula: Text = ""
    named: Line = ""
    field: Line = ""
    value: Line = ""


def _list_datasets(dashboard: Dashboard) -> list[Dataset]:
    """All datasets by name, those of most of the dashboard's own charts first."""
    there = Dataset.objects.filter(deleted_at=None, current__isnull=False).order_by("name")
    charts = Chart.objects.filter(pk__in=[block.chart for block in dashboard.load_draft().charts if block.chart])
    own = Counter(charts.values_list("dataset", flat=True))
    return sorted(there, key=lambda each: -own[each.pk])


def _get_model(user: User, wanted: Any) -> tuple[Dataset, Model]:
    there = Dataset.objects.filter(deleted_at=None, current__isnull=False)
    dataset = next((each for each in there if str(each.pk) == str(wanted)), None)
    if dataset is None:
        raise VedutaError("That dataset does not exist any more.", hint="Choose another one.")
    return dataset, load_model_for(dataset, user)


@require_GET
@require_builder
def show_number_form(request: Request, pk: uuid.UUID) -> HttpResponse:
    """The form by which a number is chosen: of which data, which measure, and of what only."""
    datasets = _list_datasets(find_dashboard(request.user, pk, edit=True))
    if not datasets:
        raise VedutaError("There is no data yet.", hint="Bring in a file first.")
    dataset, model = _get_model(request.user, parse_query(request, NumberRequest).dataset or datasets[0].pk)
    context = {
        "datasets": datasets,
        "dataset": dataset,
        "measures": measure_choices(ChartDefinition(dataset=str(dataset.pk)), model.schema, None),
        "fields": [field for field in model.schema.visible if field.role is not FieldRole.MEASURE],
    }
    return render(request, "dashboards/number.html", context)


@require_GET
@require_builder
def show_values(request: Request, pk: uuid.UUID) -> HttpResponse:
    """The values of a field, as a list that a box offers."""
    find_dashboard(request.user, pk, edit=True)
    wanted = parse_query(request, NumberRequest)
    _, model = _get_model(request.user, wanted.dataset)
    shown = _list_values(model, model.schema[wanted.field], wanted.find)
    return render(request, "dashboards/number_values.html", {"values": [words for _, words in shown]})


def _list_values(model: Model, field: DataField, find: str) -> list[tuple[Any, str]]:
    group = make_grouping(field, Grain.DAY) if field.kind.is_date else make_grouping(field)
    return [(value, words) for value, words, _ in group_values(model, group, find, VALUES_SHOWN)[0]]


@require_POST
@require_builder
def make_number(request: Request, pk: uuid.UUID) -> JsonResponse:
    """A number as it goes into a text, by the name by which it stands there."""
    find_dashboard(request.user, pk, edit=True)
    wanted = parse_json(request, NumberSent)
    dataset, model = _get_model(request.user, wanted.dataset)
    measure = _measure(model, wanted)
    name = measure_words(measure, model.schema)
    only: tuple[ListFilter, ...] = ()
    if wanted.field and wanted.value.strip():
        field = model.schema[wanted.field]
        value, words = _find_value(model, field, wanted.value.strip())
        name = f"{name}, {words}"
        only = (ListFilter(field=field.id, values=(value,)),)
    name = name.translate({ord("{"): "(", ord("}"): ")"})[:200]
    number = TextNumber(name=name[:1].upper() + name[1:], dataset=str(dataset.pk), measure=measure, only=only)
    return JsonResponse({"number": number.model_dump(mode="json")})


def _measure(model: Model, wanted: NumberSent) -> Measure:
    """The measure that is chosen, or the formula that is written. Raises FormulaProblem for one that cannot be."""
    if not wanted.formula.strip():
        return validate_as(Measure, wanted.measure)
    measure = Measure(formula=replace_names_with_ids(wanted.formula.strip(), model.schema), name=wanted.named.strip())
    measure_node(measure, model.schema, model.parameters)
    return measure


def _find_value(model: Model, field: DataField, written: str) -> tuple[Any, str]:
    """A value by how it is written. Raises DefinitionProblem for one that the field does not have."""
    for value, words in _list_values(model, field, written):
        if words.casefold() == written.casefold():
            return value, words
    raise DefinitionProblem(
        f"No row has “{written}” in {field.name}.", where=field.id, hint="Choose one of those that the box offers."
    )

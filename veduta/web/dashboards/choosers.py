"""Making controls by which readers choose what charts show."""

from __future__ import annotations

import json
import uuid
from typing import Any

from django.http import HttpResponse, JsonResponse
from django.shortcuts import render
from django.views.decorators.http import require_POST

from veduta.core.calendar import Grain
from veduta.core.chart.definition import make_default_measure
from veduta.core.data.fields import FieldRole
from veduta.core.errors import DefinitionProblem
from veduta.core.model.model import Model
from veduta.core.query.measures import label_measures
from veduta.web.accounts.access import Request, require_builder
from veduta.web.common.requests import Line, Objects, RequestModel, parse_json
from veduta.web.dashboards import services
from veduta.web.dashboards.access import find_dashboard
from veduta.web.modelling.services import load_model_for


class ChooserAsked(RequestModel):
    """What readers are to choose, and of which data."""

    dataset: Line
    of: Line


class ChooserSent(ChooserAsked):
    """The options that are ticked, as JSON of each."""

    name: Line = ""
    options: Objects = []


CHOOSERS = {"measure": "Measure", "by": "What it is by", "grain": "Periods"}
"""What readers can choose, and what a chooser is called if it is not told."""


@require_POST
@require_builder
def show_chooser(request: Request, pk: uuid.UUID) -> HttpResponse:
    """What readers could choose, to be ticked."""
    find_dashboard(request.user, pk, edit=True)
    wanted = parse_json(request, ChooserAsked)
    if wanted.of not in CHOOSERS:
        raise DefinitionProblem("Veduta does not know that choice.", hint="Load the page again.")
    model = load_model_for(services.get_dataset(wanted.dataset), request.user)
    context = {"of": wanted.of, "name": CHOOSERS[wanted.of], "options": _list_offered(wanted.of, model)}
    return render(request, "dashboards/chooser.html", context | {"dataset": wanted.dataset})


def _list_offered(of: str, model: Model) -> list[tuple[str, str]]:
    """Options as JSON, each with its name."""
    made: list[dict[str, Any]] = []
    if of == "grain":
        grains = (Grain.DAY, Grain.WEEK, Grain.MONTH, Grain.QUARTER, Grain.YEAR)
        made = [{"name": f"{each.words.capitalize()}s", "grain": each.value} for each in grains]
    elif of == "by":
        fields = [
            field for field in model.offered if field.role is not FieldRole.MEASURE and field.level != "aggregate"
        ]
        made = [{"name": each.name, "by": model.make_grouping(each.id).model_dump(mode="json")} for each in fields]
    else:
        measures = [make_default_measure(field) for field in model.offered if field.role is FieldRole.MEASURE]
        words = label_measures(tuple(measures), model.schema)
        pairs = zip(words, measures, strict=True)
        made = [{"name": said[:1].upper() + said[1:], "measure": each.model_dump(mode="json")} for said, each in pairs]
    return [(json.dumps(each), each["name"]) for each in made]


@require_POST
@require_builder
def make_chooser(request: Request, pk: uuid.UUID) -> JsonResponse:
    """A control of the options that are ticked."""
    find_dashboard(request.user, pk, edit=True)
    made = parse_json(request, ChooserSent)
    dataset = services.get_dataset(made.dataset)
    if len(made.options) < 2:
        raise DefinitionProblem("Readers have nothing to choose.", hint="Tick two or more.")
    control = {
        "id": services.make_id(),
        "kind": "chooser",
        "dataset": str(dataset.pk),
        "field": made.of,
        "field_kind": "text",
        "name": made.name.strip()[:200] or CHOOSERS.get(made.of, "Choice"),
        "options": made.options,
    }
    return JsonResponse(control)

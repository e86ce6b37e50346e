"""Every change to chart templates, each with its permission check, and charts made with them."""

from __future__ import annotations

import base64
from collections.abc import Mapping
from typing import Any

from django.db.models import QuerySet
from django.utils import timezone

from veduta.core.chart.definition import ChartDefinition, load_definition
from veduta.core.chart.templates import MadeTemplate, Template, fill_template, load_template, make_template
from veduta.core.errors import DefinitionProblem
from veduta.web.accounts.access import must_build
from veduta.web.accounts.models import User
from veduta.web.chart_templates.models import ChartTemplate
from veduta.web.charts.models import Chart
from veduta.web.charts.services import create_chart, keep_draft, name_in_lists
from veduta.web.datasets.models import Dataset
from veduta.web.datasets.row_access import is_bound
from veduta.web.modelling.services import load_model_for


def list_templates() -> QuerySet[ChartTemplate]:
    return ChartTemplate.objects.filter(deleted_at=None).defer("picture").select_related("created_by")


def load_current_definition(user: User, chart: Chart) -> ChartDefinition:
    """A chart as somebody has it before them: with their draft's changes, if there are any."""
    draft = chart.drafts.filter(user=user).first()
    return load_definition(draft.definition if draft else chart.definition)


def make_from_chart(user: User, chart: Chart, definition: ChartDefinition | None = None) -> MadeTemplate:
    """The template that a chart makes. Raises VedutaError for a chart that does not fit its data."""
    must_build(user)
    definition = definition or load_current_definition(user, chart)
    model = load_model_for(chart.dataset, user, definition.values)
    return make_template(definition, model, name_in_lists(user, chart.dataset, definition)[:200], user.label)


def describe_template(template: Template, said: Mapping[str, Any]) -> Template:
    """A template with other texts.

    These are `name`, `description`, and of each of its `places` in order, `name`, `needed` and `guidance`. Raises
    DefinitionProblem for what cannot be saved."""
    words = list(said.get("places", ()))
    if len(words) != len(template.places):
        raise DefinitionProblem("The template has changed meanwhile.", hint="Load the page again.")
    places = [
        place.model_dump() | {key: each[key] for key in ("name", "needed", "guidance") if key in each}
        for place, each in zip(template.places, words, strict=True)
    ]
    for place in places:
        place["name"] = str(place["name"]).strip()
        if not place["name"]:
            raise DefinitionProblem("A place has no name.", hint="Say what belongs there.")
    name = str(said.get("name", "")).strip()
    if not name:
        raise DefinitionProblem("The template has no name.", hint="Give it one.")
    data = template.model_dump(mode="json")
    return load_template(data | {"name": name, "description": str(said.get("description", "")), "places": places})


def keep(
    user: User, template: Template, kept: ChartTemplate | None = None, drawn_from: Dataset | None = None
) -> ChartTemplate:
    """Save a template, as a new one or over an old one.

    Its picture, if it has one, is of a dataset's rows."""
    must_build(user)
    kept = kept or ChartTemplate(created_by=user)
    kept.name = template.name
    kept.drawn_from = drawn_from or kept.drawn_from
    kept.content = template.model_copy(update={"picture": ""}).model_dump(mode="json")
    if template.picture or not kept.picture:  # one that whoever changes its words may not see stays
        kept.picture = base64.b64decode(template.picture)
    kept.save()
    return kept


def may_see_picture(user: User, kept: ChartTemplate) -> bool:
    """Whether a template has a picture that somebody may see: one of rows of which rules keep none from them."""
    return bool(kept.picture) and (kept.drawn_from is None or not is_bound(kept.drawn_from, user))


def load_whole(user: User, kept: ChartTemplate) -> Template:
    """A template as its file has it, with its picture if somebody may see that."""
    if not may_see_picture(user, kept):
        return kept.load()
    return kept.load().model_copy(update={"picture": base64.b64encode(kept.picture).decode()})


def receive(user: User, content: bytes) -> ChartTemplate:
    """Take a file as it is downloaded here. Raises DefinitionProblem for anything else."""
    return keep(user, load_template(content))


def use(user: User, kept: ChartTemplate, dataset: Dataset, chosen: Mapping[str, str]) -> Chart:
    """A new chart with fields of a dataset in the template's places. Raises DefinitionProblem with what is missing."""
    must_build(user)
    definition = fill_template(kept.load(), chosen, load_model_for(dataset, user), str(dataset.pk))
    chart = create_chart(user, dataset, definition)
    keep_draft(user, chart, definition, 0)
    kept.made.add(chart)
    return chart


def delete(user: User, kept: ChartTemplate) -> None:
    must_build(user)
    ChartTemplate.objects.filter(pk=kept.pk).update(deleted_at=timezone.now())


def restore(user: User, kept: ChartTemplate) -> None:
    must_build(user)
    ChartTemplate.objects.filter(pk=kept.pk).update(deleted_at=None)

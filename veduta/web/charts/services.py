"""Every change to charts, and the one way in which the web half asks the core for an answer."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from typing import Any

from django.db import transaction
from django.utils import timezone

from veduta.core.chart.chart_suggestions import suggest_charts
from veduta.core.chart.choose import choose_kind
from veduta.core.chart.conditional import describe_condition
from veduta.core.chart.definition import ChartDefinition, check_fields, load_definition
from veduta.core.chart.kinds import get_kind
from veduta.core.chart.palettes import Paints
from veduta.core.chart.question import (
    AnsweredChart,
    OwnSelection,
    ask,
    build_model_query,
    build_query,
    find_underlying_filters,
    work_out,
)
from veduta.core.chart.sentence import list_parameter_settings, write_default_title, write_sentence
from veduta.core.chart.texts import strip_placeholders
from veduta.core.chart.value_colours import ValueColours
from veduta.core.dashboard.definition import DashboardDefinition
from veduta.core.data.fields import Schema
from veduta.core.errors import VedutaError
from veduta.core.model.model import Model
from veduta.core.query.batch import ModelQuery
from veduta.core.query.explain import ExplainStep, explain
from veduta.core.query.filters import Filter
from veduta.core.query.measures import list_counted_tables, measure_node
from veduta.core.query.query import Column, Result
from veduta.web.accounts.access import must_build
from veduta.web.accounts.models import User
from veduta.web.accounts.rights import What, keep, must_own
from veduta.web.charts.drawn import DrawnChart, keep_drawing, make_drawing_key
from veduta.web.charts.models import Chart, Draft, Revision
from veduta.web.charts.value_colours import keep_workspace_colours, load_workspace_colours
from veduta.web.common.revisions import must_build_on
from veduta.web.datasets.models import Dataset
from veduta.web.datasets.shape_store import Atlas
from veduta.web.modelling.services import OtherDatasets, load_model_and_context, load_model_for, make_current_context
from veduta.web.palettes.models import load_paints


def answer_chart(  # noqa: PLR0913 - options, each given by name
    dataset: Dataset,
    definition: ChartDefinition,
    reader: User | None,
    extra: tuple[Filter, ...] = (),
    selection: OwnSelection | None = None,
    values: dict[str, Any] | None = None,
    stopped: Callable[[], bool] | None = None,
    rows_from: int = 0,
) -> AnsweredChart:
    """A chart answered on the current versions of its model's datasets, as a reader may see them.

    `values` override the chart's own for parameters. Of a long table, rows from `rows_from` on are shown. Raises
    VedutaError with what does not fit."""
    model = load_model_for(dataset, reader, definition.values | (values or {}))
    return draw_over(model, definition, reader, extra, selection, stopped, rows_from=rows_from).answered


def draw_over(  # noqa: PLR0913 - options, each given by name
    model: Model,
    definition: ChartDefinition,
    reader: User | None,
    extra: tuple[Filter, ...] = (),
    selection: OwnSelection | None = None,
    stopped: Callable[[], bool] | None = None,
    dashboard: DashboardDefinition | None = None,
    rows_from: int = 0,
    paints: Paints | None = None,
    result: Result | None = None,
) -> DrawnChart:
    """A chart answered and drawn over a model as a reader may see it.

    It may stand on a dashboard; `result` is its answer where that was computed together with others. Raises VedutaError
    with what does not fit."""
    check_fields(definition, model.schema)
    context = make_current_context(model, stopped)
    own_only = dashboard and dashboard.own_colours
    colours = ValueColours() if own_only else load_workspace_colours(definition, model)
    colours = colours.override(dashboard.colours) if dashboard else colours
    others, atlas, paints = OtherDatasets(reader), Atlas(), paints or load_paints()

    def draw() -> tuple[AnsweredChart, bool]:
        made = ask(definition, model, context, extra, selection, atlas, others, colours, rows_from, paints, result)
        return made, not (atlas.was_read or others.was_read)

    key = make_drawing_key(definition, model, context, extra, selection, colours, paints, rows_from)
    return keep_drawing(key, draw)


def build_question(
    model: Model, definition: ChartDefinition, extra: tuple[Filter, ...] = (), stopped: Callable[[], bool] | None = None
) -> ModelQuery:
    """The question of a chart to a model, to be answered together with others.

    Raises VedutaError with what does not fit."""
    check_fields(definition, model.schema)
    return build_model_query(definition, model, make_current_context(model, stopped), extra)


def list_columns(dataset: Dataset, definition: ChartDefinition, reader: User | None) -> list[Column]:
    """The columns of a chart's answer, which is not drawn."""
    model, context = load_model_and_context(dataset, reader, definition.values)
    check_fields(definition, model.schema)
    return work_out(definition, model, context)[2].columns


def explain_chart(dataset: Dataset, definition: ChartDefinition, reader: User | None) -> list[ExplainStep]:
    """How a chart's numbers come about, step by step."""
    return explain_over(load_model_for(dataset, reader, definition.values), definition)


def explain_over(model: Model, definition: ChartDefinition, extra: tuple[Filter, ...] = ()) -> list[ExplainStep]:
    """How the numbers of a chart come about over a model as a reader may see it, with filters on top of its own."""
    check_fields(definition, model.schema)
    query = build_query(definition, choose_kind(definition, model)[0], extra)
    steps = explain(query, model, make_current_context(model), list_parameter_settings(definition, model))
    conditions = tuple(
        f"{'First' if i == 0 else 'Then'}{f' “{each.said}”' if each.said else ''}: where "
        f"{describe_condition(each, definition.measures, model)}."
        for i, each in enumerate(definition.conditional)
    )
    return [*steps, ExplainStep("Conditional formats", conditions)] if conditions else steps


def find_underlying_rows(
    dataset: Dataset,
    definition: ChartDefinition,
    reader: User | None,
    extra: tuple[Filter, ...] = (),
    marks: tuple[Filter, ...] = (),
    values: dict[str, Any] | None = None,
) -> tuple[tuple[Filter, ...], str]:
    """The filters on the rows behind a chart or some of its marks, and the table of the rows.

    The table is that of the chart's first measure. Of a chart that cannot be computed, the filters are its own."""
    model, context = load_model_and_context(dataset, reader, definition.values | (values or {}))
    try:
        homes = list_counted_tables(measure_node(definition.measures[0], model.schema, model.parameters), model)
        return find_underlying_filters(definition, model, context, extra, marks), homes[0] if homes else ""
    except VedutaError:
        return (*definition.only, *extra, *marks), ""


def create_chart(user: User, dataset: Dataset, definition: ChartDefinition | None = None, title: str = "") -> Chart:
    """A new chart, not yet saved, that starts with something sensible."""
    must_build(user)
    definition = definition or suggest_charts(str(dataset.pk), load_model_for(dataset, user))[0]
    if title:
        definition = definition.model_copy(update={"title": title[:300]})
    return Chart.objects.create(
        dataset=dataset,
        name=name_in_lists(user, dataset, definition),
        definition=definition.model_dump(mode="json"),
        created_by=user,
        updated_by=user,
    )


def name_in_lists(user: User, dataset: Dataset, definition: ChartDefinition) -> str:
    """What a chart is called in lists: its title, or else what its sentence says."""
    said = strip_placeholders(definition.title)
    if said and said == definition.title:
        return said[:300]
    try:
        asked = write_default_title(definition, load_model_for(dataset, user).schema)
    except VedutaError:
        return (said or f"Chart of {dataset.name}")[:300]
    return f"{said} · {asked}"[:300] if said else asked[:300]


def suggest_other_charts(user: User, chart: Chart, definition: ChartDefinition) -> list[AnsweredChart]:
    """The other charts that the dataset could be opened with, worked out; those that cannot be are left out."""
    must_build(user)
    found = []
    for opening in suggest_charts(str(chart.dataset_id), load_model_for(chart.dataset, user)):
        with suppress(VedutaError):
            if opening != definition:
                found.append(answer_chart(chart.dataset, opening, user))
    return found


def keep_draft(user: User, chart: Chart, definition: ChartDefinition, base_revision: int) -> Draft:
    """Save what somebody is working on, for them alone."""
    must_build(user)
    values = {
        "definition": definition.model_dump(mode="json"),
        "name": name_in_lists(user, chart.dataset, definition),
        "base_revision": base_revision,
    }
    return Draft.objects.update_or_create(chart=chart, user=user, defaults=values)[0]


def save_chart(user: User, chart: Chart, definition: ChartDefinition, base_revision: int) -> Chart:
    """Save for everybody. Raises Conflict if somebody saved since `base_revision`."""
    must_build(user)
    with transaction.atomic():
        chart = Chart.objects.select_for_update().select_related("updated_by", "dataset").get(pk=chart.pk)
        must_build_on(chart.revision, base_revision, chart, "this chart", chart.updated_by)
        chart.revision += 1
        chart.name = name_in_lists(user, chart.dataset, definition)
        chart.definition, chart.updated_by = definition.model_dump(mode="json"), user
        chart.save()
        Revision.objects.create(
            chart=chart, number=chart.revision, name=chart.name, definition=chart.definition, saved_by=user
        )
        Draft.objects.filter(chart=chart, user=user).delete()
    with suppress(VedutaError):  # what cannot be drawn has no colours
        model = load_model_for(chart.dataset, user)
        keep_workspace_colours(user, choose_kind(definition, model)[0], definition, model)
    return chart


def duplicate_chart(user: User, chart: Chart) -> Chart:
    must_build(user)
    draft = chart.drafts.filter(user=user).first()
    definition = load_definition(draft.definition if draft else chart.definition)
    named = draft.name if draft else str(chart)
    return create_chart(user, chart.dataset, definition, f"{named} (copy)")


def delete_chart(user: User, chart: Chart) -> None:
    must_own(user, chart, "delete it")
    with transaction.atomic():
        Chart.objects.filter(pk=chart.pk).update(deleted_at=timezone.now())
        keep(user, What.DELETED, f"the chart “{chart}”")


def restore_chart(user: User, chart: Chart) -> None:
    must_own(user, chart, "bring it back")
    with transaction.atomic():
        Chart.objects.filter(pk=chart.pk).update(deleted_at=None)
        keep(user, What.RESTORED, f"the chart “{chart}”")


def drop_draft(user: User, chart: Chart) -> None:
    """Give up one's unsaved changes and go back to what is saved."""
    must_build(user)
    chart.drafts.filter(user=user).delete()


def list_differences(mine: ChartDefinition, theirs: ChartDefinition, schema: Schema) -> list[dict[str, str]]:
    """The clauses in which two definitions differ, in words."""
    names = {
        "show": "Show",
        "as": "As",
        "by": "By",
        "split": "Split by",
        "only": "Only",
        "keep": "Keep",
        "sort": "Sorted",
    }

    def clauses(definition: ChartDefinition) -> dict[str, str]:
        texts_of: dict[str, list[str]] = {}
        for part in write_sentence(definition, get_kind(definition.kind or "table"), schema):
            if part.clause:
                texts_of.setdefault(part.clause, []).append(part.text)
        if definition.kind is None:
            texts_of["as"] = ["chosen by Veduta"]
        said = {clause: ", ".join(texts) for clause, texts in texts_of.items()}
        return said | {"title": definition.title, "note": definition.note}

    a, b = clauses(mine), clauses(theirs)
    return [
        {
            "clause": names.get(clause, clause.capitalize()),
            "mine": a.get(clause) or "nothing",
            "theirs": b.get(clause) or "nothing",
        }
        for clause in dict.fromkeys([*names, "title", "note"])
        if a.get(clause, "") != b.get(clause, "")
    ]

"""The workspace's colours of the values that charts show.

A value without a colour is drawn in the one that comes next, which is the same for everybody as it follows from all
values of its field. It is kept when somebody edits a chart that shows it and when new rows bring it, never because
somebody reads: so it stays the same when values are added later."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress

from veduta.core.calendar import Grouping
from veduta.core.chart.choose import choose_kind
from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.kinds import ChartKind
from veduta.core.chart.question import list_all_values
from veduta.core.chart.value_colours import ValueColours
from veduta.core.errors import VedutaError
from veduta.core.model.model import Model
from veduta.core.query.filters import label_grouping
from veduta.web.accounts.access import must_build
from veduta.web.accounts.models import User
from veduta.web.charts.models import Chart
from veduta.web.datasets.models import Dataset
from veduta.web.modelling.services import list_datasets_around, load_whole_model
from veduta.web.palettes import services
from veduta.web.refreshing.services import after_refresh


def load_workspace_colours(definition: ChartDefinition, model: Model) -> ValueColours:
    """The workspace's colours of the values that a chart shows in colours, of all the values there are."""
    dimensions = _list_coloured(choose_kind(definition, model)[0], definition)
    if not dimensions:
        return ValueColours()
    names = [label_grouping(each, model.schema) for each in dimensions]
    return services.load_value_colours(names, list_all_values(dimensions[0], model) if len(dimensions) == 1 else None)


def keep_workspace_colours(user: User, kind: ChartKind, definition: ChartDefinition, model: Model) -> None:
    """Keep the colours in which somebody's chart of a kind is drawn."""
    must_build(user)
    _keep_colours(kind, definition, model)


def keep_colours_of_new_values(dataset: Dataset) -> None:
    """Once a dataset has new rows: the colours of the values that charts of it, and of what it is joined to, show."""
    for around in list_datasets_around(dataset):
        for chart in Chart.objects.filter(dataset=around, deleted_at=None):
            with suppress(VedutaError):  # a chart that lacks a field says so where it is opened
                definition, model = chart.load(), load_whole_model(around)
                _keep_colours(choose_kind(definition, model)[0], definition, model)


after_refresh.append(keep_colours_of_new_values)


def _keep_colours(kind: ChartKind, definition: ChartDefinition, model: Model) -> None:
    dimensions = _list_coloured(kind, definition)
    if len(dimensions) == 1:
        name = label_grouping(dimensions[0], model.schema)
        services.keep_value_colours(name, list_all_values(dimensions[0], model))


def _list_coloured(kind: ChartKind, definition: ChartDefinition) -> Sequence[Grouping]:
    return () if definition.own_colours else kind.list_coloured_groups(definition)

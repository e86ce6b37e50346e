"""A chart template, and the two charts of different data that were made with it."""

from __future__ import annotations

from typing import Any

from veduta.core.chart.definition import load_definition
from veduta.web.accounts.models import User
from veduta.web.chart_templates.models import ChartTemplate
from veduta.web.chart_templates.services import describe_template, keep, make_from_chart, use
from veduta.web.charts.services import create_chart, save_chart
from veduta.web.datasets.models import Dataset

NAME = "Above the mean"
DESCRIPTION = "For a ranking in which it matters who stands above the mean: those bars are strong, the others quiet."
FILLED = {
    "Sailings": {"Number": "Fare revenue", "Groups": "Route"},
    "Bookings": {"Number": "Paid", "Groups": "Channel"},
}
"""By dataset the fields in the places."""


def load_templates(user: User) -> None:
    """Nothing happens where it is there already."""
    if ChartTemplate.objects.filter(name=NAME).exists():
        return
    sailings = Dataset.objects.get(name="Sailings")
    first = create_chart(user, sailings, load_definition({"dataset": str(sailings.pk), **_design(sailings)}))
    template = make_from_chart(user, first).template
    first.delete()
    places = [
        {"name": "Number", "guidance": "What is compared: its sum makes the bars.", "needed": True},
        {"name": "Groups", "guidance": "Who is compared, such as routes or ports.", "needed": True},
    ]
    kept = keep(user, describe_template(template, {"name": NAME, "description": DESCRIPTION, "places": places}))
    for name, fields in FILLED.items():
        dataset = Dataset.objects.select_related("current").get(name=name)
        ids = {field.name: field.id for field in dataset.schema}
        chart = use(user, kept, dataset, {place.key: ids[fields[place.name]] for place in kept.load().places})
        save_chart(user, chart, chart.load(), 0)


def _design(sailings: Dataset) -> dict[str, Any]:
    ids = {field.name: field.id for field in sailings.schema}
    measure = {"field": ids["Fare revenue"], "aggregate": "sum"}
    return {
        "kind": "lying",
        "title": "{highest} stands out",
        "show": [measure],
        "by": [ids["Route"]],
        "keep": {"count": 12, "by": measure},
        "references": [{"of": "groups", "said": "the mean"}],
        "conditional": [
            {"measure": measure, "test": "above", "against": "mean", "ground": "1", "said": "above the mean"},
            {"measure": measure, "test": "to", "against": "mean", "ground": "quiet", "said": "at most the mean"},
        ],
        "look": {"whole": {"lists_conditions": True}, "legend": {"place": "none"}},
    }

"""The parts that pages are made of, each in its states, for developers."""

from __future__ import annotations

from django.conf import settings
from django.core.paginator import Paginator
from django.http import Http404, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_safe

from veduta.core.calendar import Grain
from veduta.core.chart.kinds import CHART_KINDS
from veduta.core.data.fields import DataField, DataType
from veduta.core.errors import DefinitionProblem
from veduta.web.accounts.access import Request, require_sign_in
from veduta.web.charts.choices import list_colour_choices
from veduta.web.charts.setting_inputs import SettingInput
from veduta.web.common.lists import ListHeading


@require_safe
@require_sign_in
def show_parts(request: Request) -> HttpResponse:
    """Only where the server runs for developers."""
    if not settings.DEBUG:
        raise Http404
    listed = Paginator(range(60), 20)
    return render(
        request,
        "pages/parts.html",
        {
            "themes": ("in-light", "in-dark"),
            "pairs": [(grain.value, grain.words) for grain in (Grain.DAY, Grain.WEEK, Grain.MONTH)],
            "measures": [
                {"value": '{"field":"c1"}', "name": "sum of fare revenue", "chosen": False},
                {"value": '{"field":"c2"}', "name": "mean of passengers", "chosen": True},
            ],
            "kinds": list(DataType),
            "colours": list_colour_choices()[:3],
            "drawn": list(CHART_KINDS.values()),
            "settings": (
                SettingInput("curve", "Curve", "stepped", "straight", [("straight", "Even"), ("stepped", "In steps")]),
                SettingInput("outliers", "Outliers", True, False, []),
                SettingInput("classes", "Classes", 12, 10, []),
                SettingInput("words", "Words for it", "on time", "", []),
            ),
            "problem": DefinitionProblem("There is no field “Fair”.", hint="Did you mean Fare revenue?"),
            "pages": [listed.page(number) for number in (1, 2, 3)],
            "headings": (ListHeading("name", "Dataset", "name"), ListHeading("rows", "Rows", "rows", number=True)),
            "fields": [
                DataField(id="c1", source="route", name="Route", kind=DataType.TEXT),
                DataField(id="c2", source="fare", name="Fare revenue", kind=DataType.DECIMAL),
            ],
        },
    )

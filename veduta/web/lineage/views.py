"""The lineage on screen."""

from __future__ import annotations

from django.http import HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from veduta.web.accounts.access import Request, builders_only
from veduta.web.common.requests import Line, Sent, asked
from veduta.web.datasets.requests import as_uuid_or_404, dataset_at
from veduta.web.lineage import drawing


class Focus(Sent):
    dataset: Line = ""


@require_GET
@builders_only
def lineage(request: Request) -> HttpResponse:
    """What is made from what, drawn; around one dataset if it is named."""
    focus = None
    if key := asked(request, Focus).dataset:
        focus = dataset_at(as_uuid_or_404(key))
    drawn = drawing.draw(request.user, focus)
    return render(request, "datasets/lineage.html", {"drawing": drawn, "focus": focus})

"""The lineage on screen."""

from __future__ import annotations

from django.http import HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from veduta.web.accounts.access import Request, require_builder
from veduta.web.common.requests import Flag, Line, RequestModel, parse_query
from veduta.web.datasets.requests import get_dataset, parse_uuid_or_404
from veduta.web.lineage import drawing


class Focus(RequestModel):
    dataset: Line = ""
    unfolded: Flag = False


@require_GET
@require_builder
def show_lineage(request: Request) -> HttpResponse:
    """What is made from what, drawn; around one dataset if it is named."""
    focus = None
    wanted = parse_query(request, Focus)
    if key := wanted.dataset:
        focus = get_dataset(parse_uuid_or_404(key))
    drawn = drawing.draw(request.user, focus, wanted.unfolded)
    context = {"drawing": drawn, "focus": focus, "unfolded": wanted.unfolded}
    return render(request, "datasets/lineage.html", context)

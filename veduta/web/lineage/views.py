"""The lineage on screen."""

from __future__ import annotations

from django.http import HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from veduta.web.accounts.access import Request, builders_only
from veduta.web.common.requests import Flag, Line, Sent, asked
from veduta.web.datasets.requests import as_uuid_or_404, dataset_at
from veduta.web.lineage import drawing


class Focus(Sent):
    dataset: Line = ""
    unfolded: Flag = False


@require_GET
@builders_only
def lineage(request: Request) -> HttpResponse:
    """What is made from what, drawn; around one dataset if it is named."""
    focus = None
    wanted = asked(request, Focus)
    if key := wanted.dataset:
        focus = dataset_at(as_uuid_or_404(key))
    drawn = drawing.draw(request.user, focus, wanted.unfolded)
    context = {"drawing": drawn, "focus": focus, "unfolded": wanted.unfolded}
    return render(request, "datasets/lineage.html", context)

from __future__ import annotations

from pathlib import Path
from typing import Any, Literal

from django.conf import settings
from django.db.models import Max
from django.http import Http404, HttpResponse, JsonResponse
from django.shortcuts import render
from django.utils import timezone
from django.views.decorators.http import require_GET

from veduta.core.calendar import Grain, period_words
from veduta.core.data.typed import typed_day, typed_number
from veduta.core.errors import DefinitionProblem
from veduta.web.accounts.access import Request, signed_in
from veduta.web.charts.models import Chart
from veduta.web.common.markdown import to_html
from veduta.web.common.requests import Line, Searched, Sent, asked, wants_json
from veduta.web.common.templatetags.veduta import in_box
from veduta.web.dashboards.access import dashboards_for
from veduta.web.dashboards.favourites import seen_last, starred
from veduta.web.dashboards.miniatures import pictured
from veduta.web.dashboards.tasks import tasks_of
from veduta.web.datasets.models import Dataset, Refresh

GUIDE = Path(settings.BASE_DIR) / "docs" / "guide"


@signed_in
def home(request: Request) -> HttpResponse:
    user = request.user
    stars = starred(user)
    last = [each for each in seen_last(user, 12) if each not in stars][:8]
    new = dashboards_for(user).exclude(pk__in=[each.pk for each in (*stars, *last)]).order_by("-updated_at")[:8]
    context: dict[str, Any] = {
        "rows_of_dashboards": [
            (words, pictured(found))
            for words, found in (("Starred", stars), ("Seen last", last), ("Others", new))
            if found
        ]
    }
    if user.builds:
        context["tasks"] = tasks_of(user)[:5]
        context["charts"] = Chart.objects.filter(deleted_at=None).order_by("-updated_at").select_related("dataset")[:8]
        context["refreshes"] = _last_refreshes()
    return render(request, "pages/home.html", context)


def _last_refreshes() -> list[Refresh]:
    """The newest refresh of each dataset, those that failed first."""
    newest = Refresh.objects.filter(dataset__deleted_at=None).values("dataset").annotate(last=Max("pk")).values("last")
    found = Refresh.objects.filter(pk__in=newest).select_related("dataset")[:50]
    return sorted(found, key=lambda each: (each.state != Refresh.State.FAILED, -each.pk))[:8]


class Typed(Sent):
    """What somebody has typed into a box for a day or a number."""

    what: Literal["day", "number"] = "day"
    text: Line = ""


@require_GET
@signed_in
def understood(request: Request) -> JsonResponse:
    """What was typed into a box: its value, and how it is written in the box; or why it is neither."""
    typed = asked(request, Typed)
    try:
        if typed.what == "day":
            day = typed_day(typed.text, timezone.localdate())
            return JsonResponse({"value": day.isoformat(), "said": period_words(day, Grain.DAY)})
        number = in_box(typed_number(typed.text))
        return JsonResponse({"value": number, "said": str(number)})
    except DefinitionProblem as problem:
        return JsonResponse({"problem": str(problem)})


@signed_in
def find(request: Request) -> HttpResponse:
    """Anything by its name, for the box at the top of every page."""
    words = asked(request, Searched).find
    context: dict = {"find": words}
    if words:
        context["dashboards"] = dashboards_for(request.user).filter(name__icontains=words)[:20]
        if request.user.builds:
            context["charts"] = Chart.objects.filter(deleted_at=None, name__icontains=words)[:20]
            context["datasets"] = Dataset.objects.filter(deleted_at=None, name__icontains=words)[:20]
    return render(request, "pages/find.html", context)


def _pages() -> list[Path]:
    """The files of the guide in the order of their numbers."""
    return sorted(GUIDE.glob("*.md"), key=lambda path: int(path.stem.split("-", 1)[0]))


def guide_pages() -> list[tuple[str, str]]:
    """(slug, title) of the guide's pages in their order."""
    return [(path.stem.split("-", 1)[1], path.read_text().splitlines()[0].lstrip("# ")) for path in _pages()]


@signed_in
def guide(request: Request, slug: str = "") -> HttpResponse:
    pages = guide_pages()
    slug = slug or (pages[0][0] if pages else "")
    page = next((path for path in _pages() if path.stem.split("-", 1)[1] == slug), None)
    if page is None:
        raise Http404
    return render(request, "pages/guide.html", {"pages": pages, "slug": slug, "html": to_html(page.read_text())})


def _problem(request: Request, status: int, title: str, message: str) -> HttpResponse:
    if wants_json(request):
        return JsonResponse({"message": message}, status=status)
    return render(request, "error.html", {"title": title, "message": message}, status=status)


def not_found(request: Request, exception: Exception) -> HttpResponse:
    message = (
        "There is no such page, or it is not for you. If somebody sent you this address, ask them to share it with you."
    )
    return _problem(request, 404, "Not found", message)


def not_allowed(request: Request, exception: Exception) -> HttpResponse:
    return _problem(request, 403, "Not allowed", str(exception) or "You may not do this.")


def went_wrong(request: Request) -> HttpResponse:
    message = "Something went wrong on our side. Nothing was lost: go back and try again."
    return _problem(request, 500, "Something went wrong", message)

from __future__ import annotations

from pathlib import Path
from typing import Any, Literal

from django.conf import settings
from django.db.models import Max
from django.http import Http404, HttpResponse, JsonResponse
from django.shortcuts import render
from django.utils import timezone
from django.views.decorators.http import require_GET, require_safe

from veduta.core.calendar import Grain, label_period
from veduta.core.data.typed_values import parse_typed_day, parse_typed_number
from veduta.core.errors import DefinitionProblem
from veduta.web.accounts.access import Request, require_sign_in
from veduta.web.charts.models import Chart
from veduta.web.common.markdown import render_markdown
from veduta.web.common.requests import Line, RequestModel, Searched, parse_query, wants_json
from veduta.web.common.templatetags.veduta import in_box
from veduta.web.dashboards.access import list_dashboards
from veduta.web.dashboards.favourites import list_recently_viewed, list_starred
from veduta.web.dashboards.miniatures import add_miniatures
from veduta.web.dashboards.tasks import list_tasks
from veduta.web.datasets.models import Dataset, Refresh

GUIDE = Path(settings.BASE_DIR) / "docs" / "guide"


@require_safe
@require_sign_in
def show_home(request: Request) -> HttpResponse:
    user = request.user
    stars = list_starred(user)
    last = [each for each in list_recently_viewed(user, 12) if each not in stars][:8]
    new = list_dashboards(user).exclude(pk__in=[each.pk for each in (*stars, *last)]).order_by("-updated_at")[:8]
    context: dict[str, Any] = {
        "rows_of_dashboards": [
            (words, add_miniatures(found))
            for words, found in (("Starred", stars), ("Seen last", last), ("Others", new))
            if found
        ]
    }
    if user.builds:
        context["tasks"] = list_tasks(user)[:5]
        context["charts"] = Chart.objects.filter(deleted_at=None).order_by("-updated_at").select_related("dataset")[:8]
        context["refreshes"] = _list_last_refreshes()
    return render(request, "pages/home.html", context)


def _list_last_refreshes() -> list[Refresh]:
    """The newest refresh of each dataset, those that failed first."""
    newest = Refresh.objects.filter(dataset__deleted_at=None).values("dataset").annotate(last=Max("pk")).values("last")
    found = Refresh.objects.filter(pk__in=newest).select_related("dataset")[:50]
    return sorted(found, key=lambda each: (each.state != Refresh.State.FAILED, -each.pk))[:8]


class TypedText(RequestModel):
    """What somebody has typed into a box for a day or a number."""

    what: Literal["day", "number"] = "day"
    text: Line = ""


@require_GET
@require_sign_in
def parse_typed(request: Request) -> JsonResponse:
    """What was typed into a box: its value, and how it is written in the box; or why it is neither."""
    typed = parse_query(request, TypedText)
    try:
        if typed.what == "day":
            day = parse_typed_day(typed.text, timezone.localdate())
            return JsonResponse({"value": day.isoformat(), "said": label_period(day, Grain.DAY)})
        number = in_box(parse_typed_number(typed.text))
        return JsonResponse({"value": number, "said": str(number)})
    except DefinitionProblem as problem:
        return JsonResponse({"problem": str(problem)})


@require_safe
@require_sign_in
def find(request: Request) -> HttpResponse:
    """Anything by its name, for the box at the top of every page."""
    words = parse_query(request, Searched).find
    context: dict = {"find": words}
    if words:
        context["dashboards"] = list_dashboards(request.user).filter(name__icontains=words)[:20]
        if request.user.builds:
            context["charts"] = Chart.objects.filter(deleted_at=None, name__icontains=words)[:20]
            context["datasets"] = Dataset.objects.filter(deleted_at=None, name__icontains=words)[:20]
    return render(request, "pages/find.html", context)


def _list_pages() -> list[Path]:
    """The files of the guide in the order of their numbers."""
    return sorted(GUIDE.glob("*.md"), key=lambda path: int(path.stem.split("-", 1)[0]))


def list_guide_pages() -> list[tuple[str, str]]:
    """(slug, title) of the guide's pages in their order."""
    return [(path.stem.split("-", 1)[1], path.read_text().splitlines()[0].lstrip("# ")) for path in _list_pages()]


@require_safe
@require_sign_in
def show_guide(request: Request, slug: str = "") -> HttpResponse:
    pages = list_guide_pages()
    slug = slug or (pages[0][0] if pages else "")
    page = next((path for path in _list_pages() if path.stem.split("-", 1)[1] == slug), None)
    if page is None:
        raise Http404
    return render(
        request, "pages/guide.html", {"pages": pages, "slug": slug, "html": render_markdown(page.read_text())}
    )


def _render_problem(request: Request, status: int, title: str, message: str) -> HttpResponse:
    if wants_json(request):
        return JsonResponse({"message": message}, status=status)
    return render(request, "error.html", {"title": title, "message": message}, status=status)


def handle_not_found(request: Request, exception: Exception) -> HttpResponse:
    message = (
        "There is no such page, or it is not for you. If somebody sent you this address, ask them to share it with you."
    )
    return _render_problem(request, 404, "Not found", message)


def handle_not_allowed(request: Request, exception: Exception) -> HttpResponse:
    return _render_problem(request, 403, "Not allowed", str(exception) or "You may not do this.")


def handle_error(request: Request) -> HttpResponse:
    message = "Something went wrong on our side. Nothing was lost: go back and try again."
    return _render_problem(request, 500, "Something went wrong", message)

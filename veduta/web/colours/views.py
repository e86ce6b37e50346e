"""The colours of values in the workspace: looked at, set, brought in and taken along."""

from __future__ import annotations

from django.http import Http404, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST

from veduta.core.chart.paints import read_palette
from veduta.core.errors import DefinitionProblem, FileProblem
from veduta.web.accounts.access import Request, builders_only, signed_in, stewards_only
from veduta.web.colours import palettes as kept
from veduta.web.colours import services
from veduta.web.colours.models import CompanyLook, DarkColour, Palette, ValueColour
from veduta.web.common.bodies import small_file, takes_files
from veduta.web.common.downloads import as_file
from veduta.web.common.requests import Line, Sent, Text, Whole, sent

LARGEST = 2 * 1024 * 1024
LARGEST_LOGO = 300 * 1024


class SetColour(Sent):
    """A colour for a value of a list, which is another one than its row's if there are `values`."""

    colour: Line = ""
    value_0: Line = ""
    value_1: Line = ""
    value_2: Line = ""


class NewList(SetColour):
    fields: Line = ""


class PaletteSent(Sent):
    """A palette as it is written; of one that is there, its number."""

    kind: Line = ""
    name: Line = ""
    colours: Text = ""
    number: Whole | None = None


@require_GET
@builders_only
def all_lists(request: Request) -> HttpResponse:
    return render(request, "colours/lists.html", {"lists": services.lists(), "largest": LARGEST})


def _row(number: int) -> ValueColour:
    return get_object_or_404(ValueColour, pk=number)


@require_GET
@builders_only
def one_list(request: Request, number: int) -> HttpResponse:
    """The values of a field, or of several, with their colours; a list is known by any of its rows."""
    row = _row(number)
    rows = services.seen_by(request.user, services.of_list(row))
    return render(request, "colours/list.html", {"row": row, "rows": rows})


@require_POST
@builders_only
def set_one(request: Request, number: int) -> JsonResponse:
    """Set the colour of a row, or of a value that is added to its list."""
    row, asked = _row(number), sent(request, SetColour)
    written = [asked.value_0, asked.value_1, asked.value_2][: len(row.fields)]
    values = [value or None for value in written] if any(written) else list(row.keys)
    services.set_colours(request.user, services.sent_colours(row.fields, values, asked.colour))
    return JsonResponse({"address": reverse("colours-list", args=[number])})


@require_POST
@builders_only
def new(request: Request) -> JsonResponse:
    """A list of a field, or of up to three with commas between them, with its first value."""
    asked = sent(request, NewList)
    fields = [name.strip() for name in asked.fields.split(",") if name.strip()]
    values = [asked.value_0, asked.value_1, asked.value_2][: len(fields)]
    if not fields or len(fields) > 3 or not all(values) or not asked.colour:
        raise DefinitionProblem(
            "A list begins with one to three fields, a value of each, and a colour.",
            hint="Write fields with commas between them, such as Cancelled, Cancel reason.",
        )
    services.set_colours(request.user, services.sent_colours(fields, values, asked.colour))
    row = ValueColour.objects.filter(key=services.key_of_fields(tuple(fields))).order_by("-pk")[0]
    return JsonResponse({"address": reverse("colours-list", args=[row.pk])})


@require_POST
@builders_only
def forget(request: Request, number: int) -> JsonResponse:
    row = _row(number)
    services.forget(request.user, row)
    left = ValueColour.objects.filter(key=row.key).first()
    return JsonResponse({"address": reverse("colours-list", args=[left.pk]) if left else reverse("colours")})


@takes_files
@require_POST
@builders_only
def receive(request: Request) -> JsonResponse:
    """Take a file of colours, JSON or CSV, as the raw body of the request."""
    content = small_file(request, LARGEST, "Lists of colours")
    try:
        services.receive(request.user, content.decode("utf-8"))
    except UnicodeDecodeError:
        raise FileProblem("The file is not written in UTF-8.", hint="Save it as UTF-8.") from None
    return JsonResponse({"address": reverse("colours")})


@require_GET
@builders_only
def file(request: Request) -> HttpResponse:
    """All colours that were set or given, as JSON."""
    rows = services.seen_by(request.user, ValueColour.objects.all())
    answer = HttpResponse(services.as_json(rows), content_type="application/json")
    return as_file(answer, "Colours.json")


@require_GET
@builders_only
def list_file(request: Request, number: int) -> HttpResponse:
    """One list as CSV."""
    row = _row(number)
    rows = services.seen_by(request.user, services.of_list(row))
    answer = HttpResponse(services.as_csv(rows), content_type="text/csv; charset=utf-8")
    return as_file(answer, f"Colours of {' and '.join(row.fields)}.csv")


@require_GET
@builders_only
def palettes(request: Request) -> HttpResponse:
    context = {
        "kinds": kept.by_kind(),
        "dark_colours": DarkColour.objects.all(),
        "company": CompanyLook.now(),
        "largest": LARGEST_LOGO,
    }
    return render(request, "colours/palettes.html", context)


@require_POST
@builders_only
def check_palette(request: Request) -> HttpResponse:
    """What a palette looks like in both themes, and what readers would miss in it."""
    written = sent(request, PaletteSent)
    kind = kept.kind_named(written.kind)
    return render(
        request, "colours/palette_check.html", {"shown": kept.shown(kind, read_palette(kind, written.colours))}
    )


def _palette(number: int | None) -> Palette:
    return get_object_or_404(Palette, pk=number, deleted_at=None)


@require_POST
@stewards_only
def save_palette(request: Request) -> JsonResponse:
    written = sent(request, PaletteSent)
    there = _palette(written.number) if written.number else None
    kind = kept.kind_named(there.kind if there else written.kind)
    kept.save(request.user, kind, written.name, written.colours, there)
    return JsonResponse({"address": reverse("palettes")})


@require_POST
@stewards_only
def use_palette(request: Request) -> JsonResponse:
    """Use a palette, or without a number Veduta's own colours."""
    written = sent(request, PaletteSent)
    palette = _palette(written.number) if written.number else None
    kept.use(request.user, kept.kind_named(palette.kind if palette else written.kind), palette)
    return JsonResponse({"address": reverse("palettes")})


@require_POST
@stewards_only
def delete_palette(request: Request, number: int) -> JsonResponse:
    palette = _palette(number)
    kept.delete(request.user, palette)
    undo = reverse("palettes-restore", args=[number])
    return JsonResponse({"message": f"“{palette}” is deleted.", "undo": undo})


@require_POST
@stewards_only
def restore_palette(request: Request, number: int) -> JsonResponse:
    palette = get_object_or_404(Palette, pk=number, deleted_at__isnull=False)
    kept.restore(request.user, palette)
    return JsonResponse({"message": f"“{palette}” is back."})


class DarkSent(Sent):
    light: Line
    dark: Line = ""


@require_POST
@stewards_only
def set_dark(request: Request) -> JsonResponse:
    said = sent(request, DarkSent)
    kept.set_dark(request.user, said.light, said.dark)
    return JsonResponse({"address": reverse("palettes")})


class CompanySent(Sent):
    name: Line = ""
    accent: Line = ""


@require_POST
@stewards_only
def set_company(request: Request) -> JsonResponse:
    said = sent(request, CompanySent)
    kept.set_company(request.user, said.name, said.accent)
    return JsonResponse({"address": reverse("palettes")})


@takes_files
@require_POST
@stewards_only
def receive_logo(request: Request) -> JsonResponse:
    """Take a logo as the raw body of the request."""
    kept.set_logo(request.user, small_file(request, LARGEST_LOGO, "Logos"))
    return JsonResponse({"address": reverse("palettes")})


@require_POST
@stewards_only
def drop_logo(request: Request) -> JsonResponse:
    kept.set_logo(request.user, b"")
    return JsonResponse({"address": reverse("palettes")})


@require_GET
@signed_in
def logo(request: Request) -> HttpResponse:
    look = CompanyLook.now()
    if not look.logo:
        raise Http404
    return HttpResponse(bytes(look.logo), content_type=look.logo_type)

"""The colours of values in the workspace: looked at, set, brought in and taken along."""

from __future__ import annotations

from django.http import Http404, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST

from veduta.core.chart.palettes import read_palette
from veduta.core.errors import DefinitionProblem, FileProblem
from veduta.web.accounts.access import Request, require_builder, require_sign_in, require_steward
from veduta.web.common.bodies import read_small_file, takes_files
from veduta.web.common.downloads import send_as_file
from veduta.web.common.requests import Line, RequestModel, Text, Whole, parse_json
from veduta.web.palettes import palettes as kept
from veduta.web.palettes import services
from veduta.web.palettes.models import CompanyLook, DarkColour, Palette, ValueColour

LARGEST = 2 * 1024 * 1024
LARGEST_LOGO = 300 * 1024


class SetColour(RequestModel):
    """A colour for a value of a list, which is another one than its row's if there are `values`."""

    colour: Line = ""
    value_0: Line = ""
    value_1: Line = ""
    value_2: Line = ""


class NewList(SetColour):
    fields: Line = ""


class PaletteSent(RequestModel):
    """A palette as it is written; of one that is there, its number."""

    kind: Line = ""
    name: Line = ""
    colours: Text = ""
    number: Whole | None = None


@require_GET
@require_builder
def show_lists(request: Request) -> HttpResponse:
    return render(request, "colours/lists.html", {"lists": services.list_colour_lists(), "largest": LARGEST})


def _get_row(number: int) -> ValueColour:
    return get_object_or_404(ValueColour, pk=number)


@require_GET
@require_builder
def show_list(request: Request, number: int) -> HttpResponse:
    """The values of a field, or of several, with their colours; a list is known by any of its rows."""
    row = _get_row(number)
    rows = services.filter_visible(request.user, services.list_rows(row))
    return render(request, "colours/list.html", {"row": row, "rows": rows})


@require_POST
@require_builder
def set_one(request: Request, number: int) -> JsonResponse:
    """Set the colour of a row, or of a value that is added to its list."""
    row, asked = _get_row(number), parse_json(request, SetColour)
    written = [asked.value_0, asked.value_1, asked.value_2][: len(row.fields)]
    values = [value or None for value in written] if any(written) else list(row.keys)
    services.set_colours(request.user, services.make_colour_list(row.fields, values, asked.colour))
    return JsonResponse({"address": reverse("colours-list", args=[number])})


@require_POST
@require_builder
def create_list(request: Request) -> JsonResponse:
    """A list of a field, or of up to three with commas between them, with its first value."""
    asked = parse_json(request, NewList)
    fields = [name.strip() for name in asked.fields.split(",") if name.strip()]
    values = [asked.value_0, asked.value_1, asked.value_2][: len(fields)]
    if not fields or len(fields) > 3 or not all(values) or not asked.colour:
        raise DefinitionProblem(
            "A list begins with one to three fields, a value of each, and a colour.",
            hint="Write fields with commas between them, such as Cancelled, Cancel reason.",
        )
    services.set_colours(request.user, services.make_colour_list(fields, values, asked.colour))
    row = ValueColour.objects.filter(key=services.make_fields_key(tuple(fields))).order_by("-pk")[0]
    return JsonResponse({"address": reverse("colours-list", args=[row.pk])})


@require_POST
@require_builder
def forget(request: Request, number: int) -> JsonResponse:
    row = _get_row(number)
    services.forget(request.user, row)
    left = ValueColour.objects.filter(key=row.key).first()
    return JsonResponse({"address": reverse("colours-list", args=[left.pk]) if left else reverse("colours")})


@takes_files
@require_POST
@require_builder
def receive(request: Request) -> JsonResponse:
    """Take a file of colours, JSON or CSV, as the raw body of the request."""
    content = read_small_file(request, LARGEST, "Lists of colours")
    try:
        services.receive(request.user, content.decode("utf-8"))
    except UnicodeDecodeError:
        raise FileProblem("The file is not written in UTF-8.", hint="Save it as UTF-8.") from None
    return JsonResponse({"address": reverse("colours")})


@require_GET
@require_builder
def download_list(request: Request) -> HttpResponse:
    """All colours that were set or given, as JSON."""
    rows = services.filter_visible(request.user, ValueColour.objects.all())
    answer = HttpResponse(services.write_json(rows), content_type="application/json")
    return send_as_file(answer, "Colours.json")


@require_GET
@require_builder
def list_file(request: Request, number: int) -> HttpResponse:
    """One list as CSV."""
    row = _get_row(number)
    rows = services.filter_visible(request.user, services.list_rows(row))
    answer = HttpResponse(services.write_csv(rows), content_type="text/csv; charset=utf-8")
    return send_as_file(answer, f"Colours of {' and '.join(row.fields)}.csv")


@require_GET
@require_builder
def show_palettes(request: Request) -> HttpResponse:
    context = {
        "kinds": kept.group_by_kind(),
        "dark_colours": DarkColour.objects.all(),
        "company": CompanyLook.load(),
        "largest": LARGEST_LOGO,
    }
    return render(request, "colours/palettes.html", context)


@require_POST
@require_builder
def check_palette(request: Request) -> HttpResponse:
    """What a palette looks like in both themes, and what readers would miss in it."""
    written = parse_json(request, PaletteSent)
    kind = kept.get_palette_kind(written.kind)
    return render(
        request, "colours/palette_check.html", {"shown": kept.show_palette(kind, read_palette(kind, written.colours))}
    )


def _get_palette(number: int | None) -> Palette:
    return get_object_or_404(Palette, pk=number, deleted_at=None)


@require_POST
@require_steward
def save_palette(request: Request) -> JsonResponse:
    written = parse_json(request, PaletteSent)
    there = _get_palette(written.number) if written.number else None
    kind = kept.get_palette_kind(there.kind if there else written.kind)
    kept.save(request.user, kind, written.name, written.colours, there)
    return JsonResponse({"address": reverse("palettes")})


@require_POST
@require_steward
def use_palette(request: Request) -> JsonResponse:
    """Use a palette, or without a number Veduta's own colours."""
    written = parse_json(request, PaletteSent)
    palette = _get_palette(written.number) if written.number else None
    kept.use(request.user, kept.get_palette_kind(palette.kind if palette else written.kind), palette)
    return JsonResponse({"address": reverse("palettes")})


@require_POST
@require_steward
def delete_palette(request: Request, number: int) -> JsonResponse:
    palette = _get_palette(number)
    kept.delete(request.user, palette)
    undo = reverse("palettes-restore", args=[number])
    return JsonResponse({"message": f"“{palette}” is deleted.", "undo": undo})


@require_POST
@require_steward
def restore_palette(request: Request, number: int) -> JsonResponse:
    palette = get_object_or_404(Palette, pk=number, deleted_at__isnull=False)
    kept.restore(request.user, palette)
    return JsonResponse({"message": f"“{palette}” is back."})


class DarkSent(RequestModel):
    light: Line
    dark: Line = ""


@require_POST
@require_steward
def set_dark(request: Request) -> JsonResponse:
    said = parse_json(request, DarkSent)
    kept.set_dark(request.user, said.light, said.dark)
    return JsonResponse({"address": reverse("palettes")})


class CompanySent(RequestModel):
    name: Line = ""
    accent: Line = ""


@require_POST
@require_steward
def set_company(request: Request) -> JsonResponse:
    said = parse_json(request, CompanySent)
    kept.set_company(request.user, said.name, said.accent)
    return JsonResponse({"address": reverse("palettes")})


@takes_files
@require_POST
@require_steward
def receive_logo(request: Request) -> JsonResponse:
    """Take a logo as the raw body of the request."""
    kept.set_logo(request.user, read_small_file(request, LARGEST_LOGO, "Logos"))
    return JsonResponse({"address": reverse("palettes")})


@require_POST
@require_steward
def drop_logo(request: Request) -> JsonResponse:
    kept.set_logo(request.user, b"")
    return JsonResponse({"address": reverse("palettes")})


@require_GET
@require_sign_in
def show_logo(request: Request) -> HttpResponse:
    look = CompanyLook.load()
    if not look.logo:
        raise Http404
    return HttpResponse(bytes(look.logo), content_type=look.logo_type)

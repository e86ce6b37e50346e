"""The palettes of the workspace: every change, with its permission check, and what is said of them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from django.db import transaction
from django.utils import timezone

from veduta.core.chart.contrast import write_colour
from veduta.core.chart.palettes import OWN, PALETTES, Finding, PaletteKind, check_palette, read_palette
from veduta.core.chart.theme import get_both_colours
from veduta.core.errors import DefinitionProblem, FileProblem
from veduta.web.accounts.access import must_steward
from veduta.web.accounts.models import User
from veduta.web.palettes.models import CompanyLook, DarkColour, Palette

PICTURES = {b"\x89PNG\r\n\x1a\n": "image/png", b"\xff\xd8\xff": "image/jpeg"}
"""By how a file begins, what it is."""


@dataclass(frozen=True)
class ShownPalette:
    """A palette of a kind as it is looked at: its colours in both themes, and what readers would miss."""

    tones: list[tuple[str, str]]
    findings: list[Finding]


def show_palette(kind: PaletteKind, colours: tuple[str, ...]) -> ShownPalette:
    return ShownPalette([get_both_colours(colour) for colour in colours], check_palette(kind, colours))


def get_palette_kind(name: str) -> PaletteKind:
    """Raises DefinitionProblem for a kind that there is not."""
    found: PaletteKind | None = next((kind for kind in PALETTES if kind == name), None)
    if found is None:
        raise DefinitionProblem("There is no such kind of palette.", hint="Load the page again.")
    return found


def group_by_kind() -> list[dict[str, Any]]:
    """For each kind what it is for, Veduta's own, and the palettes of the workspace, one of which may be in use."""
    own = {"series": OWN.series, "rising": OWN.rising, "around": OWN.around}
    there = list(Palette.objects.filter(deleted_at=None).select_related("set_by"))
    return [
        {
            "kind": kind,
            "what": what,
            "own": [get_both_colours(colour) for colour in own[kind]],
            "palettes": [each for each in there if each.kind == kind],
            "own_in_use": not any(each.in_use for each in there if each.kind == kind),
        }
        for kind, (what, *_) in PALETTES.items()
    ]


@transaction.atomic
def save(user: User, kind: PaletteKind, name: str, text: str, palette: Palette | None = None) -> Palette:
    """Keep a palette, as a new one or in the place of one. Raises DefinitionProblem for what is none."""
    must_steward(user)
    if not name.strip():
        raise DefinitionProblem("The palette has no name.", hint="Give it one.")
    palette = palette or Palette(kind=kind)
    palette.name, palette.colours, palette.set_by = name.strip()[:100], list(read_palette(kind, text)), user
    palette.save()
    return palette


@transaction.atomic
def use(user: User, kind: PaletteKind, palette: Palette | None) -> None:
    """Draw all charts with a palette, or with Veduta's own colours."""
    must_steward(user)
    Palette.objects.filter(kind=kind, in_use=True).update(in_use=False)
    if palette:
        Palette.objects.filter(pk=palette.pk).update(in_use=True)


def set_dark(user: User, light: str, dark: str) -> None:
    """Say what stands for a colour in the dark theme; "" is as computed. Raises DefinitionProblem for what is none."""
    must_steward(user)
    colours = [_parse_colour(light), _parse_colour(dark) if dark.strip() else ""]
    if colours[1]:
        DarkColour.objects.update_or_create(light=colours[0], defaults={"dark": colours[1], "set_by": user})
    else:
        DarkColour.objects.filter(light=colours[0]).delete()


def _parse_colour(text: str) -> str:
    if colour := write_colour(text):
        return colour
    raise DefinitionProblem(f"“{text}” is no colour.", hint="Write it as #0B5D62 or teal.")


def set_company(user: User, name: str, accent: str) -> None:
    """Say whose dashboards these are, and in which accent colour; "" is Veduta's. Raises DefinitionProblem."""
    must_steward(user)
    colour = _parse_colour(accent) if accent.strip() else ""
    look = CompanyLook.load()
    look.name, look.accent = name.strip()[:100], colour
    look.save()


def set_logo(user: User, content: bytes) -> None:
    """Take a logo, or with nothing none. Raises FileProblem for what is no picture."""
    must_steward(user)
    kind = next((kind for begins, kind in PICTURES.items() if content.startswith(begins)), "")
    if content and not kind:
        raise FileProblem("The file is neither a PNG nor a JPEG.", hint="Save the logo as a PNG.")
    look = CompanyLook.load()
    look.logo, look.logo_type = content, kind
    look.save()


def delete(user: User, palette: Palette) -> None:
    must_steward(user)
    Palette.objects.filter(pk=palette.pk).update(deleted_at=timezone.now())


def restore(user: User, palette: Palette) -> None:
    """Bring a palette back; it is in use again only if no other one is by now."""
    must_steward(user)
    others = Palette.objects.filter(kind=palette.kind, in_use=True, deleted_at=None).exists()
    Palette.objects.filter(pk=palette.pk).update(deleted_at=None, in_use=palette.in_use and not others)

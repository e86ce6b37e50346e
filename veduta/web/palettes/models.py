"""The colours that values have in the whole workspace."""

from __future__ import annotations

import json
from collections.abc import Mapping
from types import MappingProxyType
from typing import cast

from django.conf import settings
from django.db import models
from django.db.models import Q

from veduta.core.chart.contrast import DARK_GROUND, SEEN, compute_contrast, derive_dark_colour
from veduta.core.chart.palettes import PALETTES, Paints, PaletteKind
from veduta.core.chart.theme import IN_DARK, compute_accent_tones, get_both_colours
from veduta.core.chart.value_colours import make_value_keys


class ValueColour(models.Model):
    """The colour of a field's value, or of values of several fields.

    One that it was `given`, or one that somebody has set. Fields are known by their names, in whatever case, and values
    by what `keys_of` makes of them, as JSON."""

    key = models.CharField(max_length=620)
    fields = models.JSONField()
    values = models.CharField(max_length=1_000)
    given = models.CharField(max_length=2, blank=True)
    colour = models.CharField(max_length=7, blank=True)
    set_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")

    class Meta:
        ordering = ["key", "pk"]
        constraints = (models.UniqueConstraint(fields=["key", "values"], name="one_colour_of_a_value"),)

    def __str__(self) -> str:
        return f"{' · '.join(self.fields)}: {self.words}"

    @property
    def keys(self) -> tuple[str | None, ...]:
        return tuple(json.loads(self.values))

    @property
    def words(self) -> str:
        return " · ".join("(empty)" if value is None else value for value in self.keys)

    @property
    def name(self) -> str:
        """The name of the colour that it has."""
        return self.colour or self.given

    @property
    def tones(self) -> tuple[str, str]:
        """The colour in the light and in the dark theme."""
        return get_both_colours(load_paints().get_colour(self.name))


class Palette(models.Model):
    """A palette that replaces Veduta's own while it is in use.

    Colours of series, from low to high, or around a middle."""

    name = models.CharField(max_length=100)
    kind = models.CharField(max_length=10, choices=[(kind, what) for kind, (what, *_) in PALETTES.items()])
    colours = models.JSONField()
    in_use = models.BooleanField(default=False)
    set_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    updated_at = models.DateTimeField(auto_now=True)
    deleted_at = models.DateTimeField(null=True, blank=True)

    class Meta:
        ordering = ["name", "pk"]

    def __str__(self) -> str:
        return self.name

    @property
    def tones(self) -> list[tuple[str, str]]:
        """Its colours in the light and in the dark theme."""
        return [get_both_colours(colour) for colour in self.colours]


class DarkColour(models.Model):
    """What stands for a colour in the dark theme, where that is not as Veduta would have it."""

    light = models.CharField(max_length=7, unique=True)
    dark = models.CharField(max_length=7)
    set_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")

    class Meta:
        ordering = ["light"]

    def __str__(self) -> str:
        return f"{self.light} is {self.dark} in the dark theme"

    @property
    def as_computed(self) -> str:
        """What Veduta would have."""
        return IN_DARK.get(self.light) or derive_dark_colour(self.light)

    @property
    def both(self) -> list[tuple[str, str]]:
        """It and what stands for it, each the same in both themes, to be looked at side by side."""
        return [(self.light, self.light), (self.dark, self.dark)]

    @property
    def contrast(self) -> float:
        """How well it stands out from the dark sheet, from 1 to 21."""
        return compute_contrast(self.dark, DARK_GROUND)

    @property
    def hardly_seen(self) -> bool:
        return self.contrast < SEEN


class CompanyLook(models.Model):
    """How dashboards show whose they are: a logo, a PNG or JPEG with its words, and an accent colour. There is one."""

    logo = models.BinaryField(blank=True, default=bytes)
    logo_type = models.CharField(max_length=20, blank=True)
    name = models.CharField(max_length=100, blank=True)
    accent = models.CharField(max_length=7, blank=True)
    updated_at = models.DateTimeField(auto_now=True)

    def __str__(self) -> str:
        return self.name

    @classmethod
    def load(cls) -> CompanyLook:
        return cls.objects.first() or cls()

    @property
    def style(self) -> str:
        """The accent as CSS, in tones that can be read in either theme; "" for Veduta's own."""
        if not self.accent:
            return ""
        tones = compute_accent_tones(self.accent)
        return ":root{" + "".join(f"--color-{name}:light-dark({a},{b});" for name, (a, b) in tones.items()) + "}"


def load_palettes(named: Mapping[PaletteKind, str] = MappingProxyType({})) -> dict[PaletteKind, tuple[str, ...]]:
    """The colours of the palettes in use, by their kinds; in their place those of these names, if they are there."""
    wanted = Q(in_use=True)
    for kind, name in named.items():
        wanted |= Q(kind=kind, name=name)
    used: dict[PaletteKind, tuple[str, ...]] = {}
    for each in Palette.objects.filter(wanted, deleted_at=None).order_by("-in_use"):
        kind = cast("PaletteKind", each.kind)
        if each.in_use or named.get(kind) == each.name:
            used[kind] = tuple(each.colours)
    return used


def load_paints() -> Paints:
    """The colours in use in the workspace."""
    return Paints.from_palettes(load_palettes())


def load_counterparts() -> dict[str, str]:
    """The colours that stand for others in the dark theme."""
    return dict(DarkColour.objects.values_list("light", "dark"))


def make_fields_key(fields: tuple[str, ...]) -> str:
    return "\n".join(name.casefold() for name in fields)


def dump_values(values: tuple[object, ...]) -> str:
    return json.dumps(make_value_keys(values), ensure_ascii=False)

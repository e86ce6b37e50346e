"""The colours that values have in the whole workspace."""

from __future__ import annotations

import json

from django.conf import settings
from django.db import models

from veduta.core.chart.theme import in_both
from veduta.core.chart.value_colours import keys_of


class ValueColour(models.Model):
    """The colour of a value of a field, or of values of several: the one that it was `given`, or one that somebody has
    set. Fields are known by their names, in whatever case, and values by what `keys_of` makes of them, as JSON."""

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
        return in_both(self.name)


def key_of_fields(fields: tuple[str, ...]) -> str:
    return "\n".join(name.casefold() for name in fields)


def values_as_kept(values: tuple[object, ...]) -> str:
    return json.dumps(keys_of(values), ensure_ascii=False)

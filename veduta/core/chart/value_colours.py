"""Colours of values: a value of a field has one colour, whatever else is shown.

Which one it has is given once, or set by people for the workspace, a dashboard or a chart; the narrower goes before."""

from __future__ import annotations

import datetime as dt
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from typing import Annotated, Any

from pydantic import Field, StringConstraints, ValidationError, model_validator

from veduta.core.calendar import Grouping
from veduta.core.chart.look import Colour
from veduta.core.data.fields import Frozen
from veduta.core.errors import DefinitionProblem, explain_validation_error
from veduta.core.query.filters import Value

EMPTY = "(empty)"
LONGEST = 300
"""Letters of a value that has a colour."""
GIVEN = 24
"""So many colours are given to values before they are given again."""
FieldName = Annotated[str, StringConstraints(min_length=1, max_length=200)]
Values = tuple[str | None, ...]


class ColourAssignment(Frozen):
    """The colour of a value, or of values of several fields together."""

    values: tuple[Value, ...] = Field(min_length=1, max_length=3)
    colour: Colour

    @model_validator(mode="after")
    def _validate(self) -> ColourAssignment:
        if any(len(str(value)) > LONGEST for value in self.values):
            raise ValueError(f"a value is longer than {LONGEST} letters")
        return self


class ColourList(Frozen):
    """The colours of a field's values, or of combinations of values of two or three.

    Values may be listed that no row has. A chart names its fields as `make_field_key` does, elsewhere they have the
    names people read."""

    fields: tuple[FieldName, ...] = Field(min_length=1, max_length=3)
    colours: tuple[ColourAssignment, ...] = Field((), max_length=2_000)

    @model_validator(mode="after")
    def _validate(self) -> ColourList:
        if any(len(each.values) != len(self.fields) for each in self.colours):
            raise ValueError("a colour is not of one value for each field")
        return self


def make_field_key(group: Grouping) -> str:
    """How a chart's colours name one of its dimensions."""
    return f"{group.field} {group.grain.value}" if group.grain else group.field


def make_value_keys(values: Sequence[Any]) -> Values:
    """Values as colours know them, however they came to be written: texts, or None for the empty one.

    Dates are ISO 8601, numbers have no idle fraction, yes and no are said so."""
    return tuple(make_value_key(value) for value in values)


def make_value_key(value: Any) -> str | None:
    if value is None:
        return None
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, dt.date):
        return value.isoformat()
    return str(int(value)) if isinstance(value, float) and value.is_integer() else str(value)


def load_colour_lists(rows: Iterable[tuple[str, str, str]]) -> list[ColourList]:
    """Lists of colours from the rows of a form.

    Each row has fields, values and a colour; several fields or values are joined with ·. Empty rows are left out.
    Raises DefinitionProblem for a row that is not whole."""
    found: dict[tuple[str, ...], list[ColourAssignment]] = {}
    for row in rows:
        fields, values = (tuple(part.strip() for part in text.split("·")) for text in row[:2])
        if not any(text.strip() for text in row):
            continue
        try:
            one = ColourAssignment(values=tuple(None if value == EMPTY else value for value in values), colour=row[2])
            ColourList(fields=fields, colours=(one,))
        except ValidationError as error:
            raise DefinitionProblem(
                f"“{' '.join(row)}” cannot be a colour: {explain_validation_error(error)[0]}."
            ) from None
        if not one.colour:
            raise DefinitionProblem(f"{row[1]} has no colour yet.", hint="Write one, or take the line out.")
        found.setdefault(fields, []).append(one)
    return [ColourList(fields=fields, colours=tuple(colours)) for fields, colours in found.items()]


class ValueColours:
    """The colours of several levels, the narrowest first."""

    def __init__(self, *levels: Sequence[ColourList]) -> None:
        self.levels = [_index_by_fields(lists) for lists in levels]

    def override(self, narrower: Sequence[ColourList]) -> ValueColours:
        """With a narrower level."""
        made = ValueColours(narrower)
        made.levels += self.levels
        return made

    def make_key(self) -> tuple[Any, ...]:
        """All that the colours are, as a key."""
        return tuple(
            tuple((names, tuple(colours.items())) for names, colours in level.items()) for level in self.levels
        )

    def find_colour(self, fields: Sequence[str], values: Sequence[Any]) -> str:
        """The name of the colour that the values of fields have; "" for none."""
        names, keys = _normalise_names(fields), make_value_keys(values)
        return next((found for level in self.levels if (found := level.get(names, {}).get(keys, ""))), "")


def _normalise_names(fields: Sequence[str]) -> tuple[str, ...]:
    return tuple(name.casefold() for name in fields)


def _index_by_fields(lists: Sequence[ColourList]) -> dict[tuple[str, ...], dict[Values, str]]:
    found: dict[tuple[str, ...], dict[Values, str]] = {}
    for each in lists:
        colours = {make_value_keys(of.values): of.colour for of in each.colours if of.colour}
        found.setdefault(_normalise_names(each.fields), {}).update(colours)
    return found


def pick_given(there: Mapping[Any, str], values: Sequence[Any]) -> dict[Any, str]:
    """The colours that are given to values which have none yet, in their order: those first that the fewest have."""
    used = Counter(there.values())
    found: dict[Any, str] = {}
    for value in values:
        if value not in there and value not in found:
            colour = min(range(1, GIVEN + 1), key=lambda number: (used[str(number)], number))
            used[str(colour)] += 1
            found[value] = str(colour)
    return found

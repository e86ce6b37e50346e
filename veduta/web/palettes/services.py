"""Giving values their colours, and every change that people make to them, each with its permission check."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Callable, Iterable, Sequence
from typing import Any

from django.db import transaction
from django.db.models import Count, Max, Q
from pydantic import ValidationError

from veduta.core.chart.drawing.colours import get_colour
from veduta.core.chart.value_colours import (
    LONGEST,
    ColourAssignment,
    ColourList,
    ValueColours,
    make_value_key,
    pick_given,
)
from veduta.core.errors import DefinitionProblem, FileProblem, explain_validation_error
from veduta.core.jsontext import InvalidJson, read_json
from veduta.web.accounts.access import must_build
from veduta.web.accounts.models import User
from veduta.web.common.best_effort import note
from veduta.web.palettes.models import ValueColour, dump_values, make_fields_key

MOST_GIVEN = 200
"""Fields with more values than that are not given colours; their series are coloured by their places."""
HEADING = "colour"


def load_value_colours(fields: Sequence[str], values: Sequence[Any] | None) -> ValueColours:
    """The workspace's colours of values of fields.

    Where it is one field whose values are told, those that have none get the ones that `keep_value_colours` would keep.
    """
    rows = list(ValueColour.objects.filter(key=make_fields_key(tuple(fields))))
    if len(fields) == 1 and values and len(values) <= MOST_GIVEN:
        rows += _pick_colours(fields[0], rows, values)
    colours = tuple(ColourAssignment(values=row.keys, colour=row.name) for row in rows if row.name)
    return ValueColours([ColourList(fields=tuple(fields), colours=colours)] if colours else [])


def keep_value_colours(field: str, values: Sequence[Any]) -> None:
    """Keep colours for those values of a field that have none, once for all."""
    if 0 < len(values) <= MOST_GIVEN:
        new = _pick_colours(field, list(ValueColour.objects.filter(key=make_fields_key((field,)))), values)
        if new:
            # Whoever edits next keeps them where this fails.
            note(lambda: ValueColour.objects.bulk_create(new, ignore_conflicts=True))


def _pick_colours(field: str, rows: Sequence[ValueColour], values: Sequence[Any]) -> list[ValueColour]:
    """What is not kept yet: the values that have no colour, with the colours that come next."""
    there = {row.keys[0]: row.given for row in rows}
    keys = [make_value_key(value) for value in values if len(str(value)) <= LONGEST]
    return [
        ValueColour(key=make_fields_key((field,)), fields=[field], values=dump_values((key,)), given=colour)
        for key, colour in pick_given(there, keys).items()
    ]


Keeping = Callable[[User, Sequence[str]], frozenset[str | None]]
keeps_from: list[Keeping] = []
"""What says which values of fields, known by their names, rules keep from somebody."""


def filter_visible(user: User, rows: Iterable[ValueColour]) -> list[ValueColour]:
    """Rows without those of values that somebody may not see."""
    hidden: dict[str, frozenset[str | None]] = {}
    seen = []
    for row in rows:
        if row.key not in hidden:
            hidden[row.key] = frozenset().union(*(keeping(user, row.fields) for keeping in keeps_from))
        if not hidden[row.key] & set(row.keys):
            seen.append(row)
    return seen


def list_colour_lists() -> list[dict[str, Any]]:
    """The fields whose values have colours: their names, how many values, and how many of those are set."""
    found = ValueColour.objects.values("key").order_by("key")
    counted = found.annotate(last=Max("pk"), count=Count("pk"), set=Count("pk", filter=~Q(colour="")))
    rows = ValueColour.objects.in_bulk([each["last"] for each in counted])
    return [each | {"pk": each["last"], "fields": rows[each["last"]].fields} for each in counted]


def list_rows(row: ValueColour) -> list[ValueColour]:
    """All values of the list that a row is of."""
    return sorted(ValueColour.objects.filter(key=row.key), key=lambda each: each.words.casefold())


@transaction.atomic
def set_colours(user: User, made: ColourList) -> None:
    """Set the colours of values, there or not; "" goes back to the one that was given."""
    must_build(user)
    fields = tuple(" ".join(name.split()) for name in made.fields)
    key = make_fields_key(fields)
    for each in made.colours:
        colour = get_colour(each.colour) if each.colour else ""
        ValueColour.objects.update_or_create(
            key=key,
            values=dump_values(each.values),
            defaults={"colour": colour, "set_by": user},
            create_defaults={"fields": list(fields), "colour": colour, "set_by": user},
        )
    ValueColour.objects.filter(key=key, colour="", given="").delete()


def forget(user: User, row: ValueColour) -> None:
    """Take a value out of its list; if it occurs again it is given a colour again."""
    must_build(user)
    row.delete()


def group_as_lists(rows: Iterable[ValueColour]) -> list[ColourList]:
    """Rows as they are exchanged."""
    found: dict[tuple[str, ...], list[ColourAssignment]] = {}
    for row in rows:
        found.setdefault(tuple(row.fields), []).append(ColourAssignment(values=row.keys, colour=get_colour(row.name)))
    return [ColourList(fields=fields, colours=tuple(colours)) for fields, colours in found.items()]


def write_json(rows: Iterable[ValueColour]) -> str:
    sent = [each.model_dump(mode="json") for each in group_as_lists(rows)]
    return json.dumps({"version": 1, "colours": sent}, ensure_ascii=False, indent=2)


def write_csv(rows: Sequence[ValueColour]) -> str:
    """One list as a table: a column for each field, and the colour."""
    written = io.StringIO()
    writer = csv.writer(written)
    writer.writerow([*rows[0].fields, HEADING] if rows else [HEADING])
    for row in rows:
        writer.writerow(["" if value is None else value for value in row.keys] + [get_colour(row.name)])
    return written.getvalue()


def receive(user: User, content: str) -> int:
    """Take colours from JSON or CSV as they are written here.

    Returns how many. Raises FileProblem if it is neither; nothing is taken then."""
    must_build(user)
    made = _read_json(content) if content.lstrip().startswith("{") else [_read_csv(content)]
    with transaction.atomic():
        for each in made:
            set_colours(user, each)
    return sum(len(each.colours) for each in made)


def _read_json(content: str) -> list[ColourList]:
    try:
        sent = read_json(content)
        if sent.get("version") != 1:
            raise FileProblem("This file is of a newer version of Veduta, or no list of colours.")
        return [ColourList.model_validate(each) for each in sent["colours"]]
    except (InvalidJson, KeyError, TypeError, AttributeError):
        raise FileProblem("This is no list of colours.", hint="Take the form of one that was downloaded.") from None
    except ValidationError as error:
        words, where = explain_validation_error(error)
        raise FileProblem(f"A colour in the file cannot be used: {words}.", where=where) from None


def _read_csv(content: str) -> ColourList:
    rows = [row for row in csv.reader(io.StringIO(content.removeprefix("\ufeff"))) if row]
    if not rows or len(rows[0]) < 2 or rows[0][-1].strip().casefold() not in (HEADING, "color"):
        raise FileProblem(
            "This is no table of colours.",
            hint="Its first line names the field, or up to three, and then “colour”: Region,colour.",
        )
    *fields, _ = (name.strip() for name in rows[0])
    try:
        colours = tuple(
            ColourAssignment(values=tuple(value if value != "" else None for value in values), colour=colour)
            for *values, colour in rows[1:]
        )
        return ColourList(fields=tuple(fields), colours=colours)
    except ValidationError as error:
        raise FileProblem(f"A line cannot be used: {explain_validation_error(error)[0]}.") from None


def make_colour_list(fields: Sequence[str], values: Sequence[Any], colour: str) -> ColourList:
    """A colour that is to be set. Raises DefinitionProblem for what is none."""
    try:
        return ColourList(fields=tuple(fields), colours=(ColourAssignment(values=tuple(values), colour=colour),))
    except ValidationError as error:
        raise DefinitionProblem(f"That does not work: {explain_validation_error(error)[0]}.") from None

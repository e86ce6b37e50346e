"""Lists that are searched and sorted by their headings, by the address of the page."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from django.db.models import F, Func, IntegerField, QuerySet
from django.db.models.functions import Lower

from veduta.web.common.requests import Flag, Line, Searched


class JSONArrayLength(Func):
    """How many items a list has that is kept as JSON."""

    function = "json_array_length"
    output_field = IntegerField()


class Listed(Searched):
    """What is searched for, by which column the list is sorted, and which page of it."""

    sort: Line = ""
    descending: Flag = False


@dataclass(frozen=True)
class ListHeading:
    """A column by which a list can be sorted: its key in the address, its words, and what of the model it shows."""

    key: str
    words: str
    of: str
    number: bool = False
    text: bool = True


def sort_things(things: QuerySet, headings: tuple[ListHeading, ...], asked: Listed) -> QuerySet:
    """The things by the heading that is asked for, without regard to capitals; what has none of it comes last."""
    chosen = next((heading for heading in headings if heading.key == asked.sort), None)
    if chosen is None:
        return things
    value = Lower(chosen.of) if chosen.text and not chosen.number else F(chosen.of)
    return things.order_by(
        value.desc(nulls_last=True) if asked.descending else value.asc(nulls_last=True), *things.model._meta.ordering
    )


def list_context(headings: tuple[ListHeading, ...], asked: Listed) -> dict[str, Any]:
    """What a template needs to show the headings."""
    return {"headings": headings, "sort": asked.sort, "descending": asked.descending, "find": asked.find}

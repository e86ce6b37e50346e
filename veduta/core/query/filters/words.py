"""Dimensions in words, and values as JSON holds them."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from typing import Any

from veduta.core.calendar import Grain, Grouping
from veduta.core.classes import width_of
from veduta.core.data.fields import Field, Kind, Schema
from veduta.core.errors import DefinitionProblem
from veduta.core.formats import REST_POINT, class_number, group_words, value_words
from veduta.core.words import in_sentence, listed

Value = bool | int | float | str | None


def typed(value: Value, field: Field, grain: Grain | None = None) -> Any:
    """A value from JSON as the grouped column holds it. Raises DefinitionProblem if it cannot be one."""
    if value is None or value == REST_POINT:
        return value
    try:
        return _typed_period(value, grain) if grain else TYPED[field.kind](value)
    except (ValueError, TypeError, KeyError, OverflowError):
        raise DefinitionProblem(f"“{value}” is not a value of {field.name}.", where=field.id) from None


def _typed_period(value: Any, grain: Grain) -> int | dt.date:
    if grain.is_part:
        return int(value)
    return dt.datetime.fromisoformat(str(value)) if grain.needs_time else dt.date.fromisoformat(str(value)[:10])


TYPED: dict[Kind, Callable[[Any], Any]] = {
    Kind.TEXT: str,
    Kind.WHOLE: int,
    Kind.DECIMAL: float,
    Kind.DATE: lambda value: dt.date.fromisoformat(str(value)),
    Kind.DATETIME: lambda value: dt.datetime.fromisoformat(str(value)),
    Kind.YES_NO: lambda value: {"true": True, "false": False}[str(value).lower()],
}


def said_of(value: Value, group: Grouping, field: Field) -> str:
    """A value of a dimension as it is said in a filter."""
    own = typed(value, field, group.grain)
    return value_words(own, field, group.grain) if group.width is None else group_words(own, group, field.kind)


PLAIN_NAMES = frozenset(("date", "time", "period", *(grain.words for grain in Grain)))
"""Names of dates that say no more than a grain does."""


def grouping_words(grouping: Grouping, schema: Schema) -> str:
    """A dimension's name, dates with their grain: "month of Sailing date", but plainly "month" of Date or Month;
    numbers with their classes: "Passengers in classes of 20"; texts with those that stand together."""
    field = schema[grouping.field]
    if grouping.width is not None:
        width = width_of(grouping.width, field.kind is Kind.WHOLE)
        return f"{field.name} in classes of {class_number(width, width, field.format)}"
    if grouping.together:
        return f"{field.name} with {listed([each.name for each in grouping.together], most=3)} put together"
    if not grouping.grain:
        return field.name
    if field.name.casefold() in PLAIN_NAMES:
        return grouping.grain.words
    return f"{grouping.grain.words} of {in_sentence(field.name)}"


def group_heading(group: Grouping, schema: Schema, aligned: bool = False) -> str:
    """What the column of a dimension is called, whose dates may be counted from the first."""
    if group.together:
        return schema[group.field].name
    if aligned and group.is_time_axis:
        return f"{group.period.words.capitalize()}s since the first"
    words = grouping_words(group, schema)
    return words[0].upper() + words[1:]

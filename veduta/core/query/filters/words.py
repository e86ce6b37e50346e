"""Values and dimensions in words, and values as JSON holds them."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from typing import Any

from veduta.core.calendar import MONTHS, WEEKDAYS, Grain, Grouping, period_words
from veduta.core.data.fields import Field, Kind, Schema
from veduta.core.errors import DefinitionProblem
from veduta.core.words import in_sentence

Value = bool | int | float | str | None


REST_POINT = "␟rest"
"""Stands in a mark's point for the values that were not kept but gathered in one."""


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


def value_words(value: Any, field: Field | None, grain: Grain | None = None) -> str:
    """A typed group value in words; empties are said as such."""
    if value is None:
        return "empty"
    if value == REST_POINT:
        return "what was gathered"
    if grain and grain.is_part:
        return _part_words(int(value), grain)
    if grain:
        return period_words(value, grain)
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, dt.datetime):
        return f"{period_words(value.date(), Grain.DAY)} {value:%H:%M}"
    if isinstance(value, dt.date):
        return period_words(value, Grain.DAY)
    if isinstance(value, float) and value == int(value) and abs(value) < 1e15:
        return str(int(value))
    return str(value)


def _part_words(value: int, grain: Grain) -> str:
    """A part of a date: "Monday", "March", "08:00"; numbers that are none stay as they are."""
    if grain is Grain.HOUR_OF_DAY:
        return f"{value:02}:00"
    names = WEEKDAYS if grain is Grain.WEEKDAY else MONTHS
    return names[value - 1] if 1 <= value <= len(names) else str(value)


def grouping_words(grouping: Grouping, schema: Schema) -> str:
    """A dimension's name, dates with their grain: "month of Sailing date"."""
    field = schema[grouping.field]
    return f"{grouping.grain.words} of {in_sentence(field.name)}" if grouping.grain else field.name

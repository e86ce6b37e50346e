"""Dimensions in words, and values as JSON holds them."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from typing import Any

from veduta.core.calendar import Grain, Grouping
from veduta.core.data.fields import DataField, DataType, Schema
from veduta.core.errors import DefinitionProblem
from veduta.core.number_format import REST_POINT, format_class_bound, group_words, label_value
from veduta.core.phrases import join_names, lower_first
from veduta.core.value_classes import round_width

Value = bool | int | float | str | None


def convert_point_value(value: Value, field: DataField, grain: Grain | None = None) -> Any:
    """A value from JSON as the grouped column holds it. Raises DefinitionProblem if it cannot be one."""
    if value is None or value == REST_POINT:
        return value
    try:
        return _convert_period(value, grain) if grain else TYPED[field.kind](value)
    except (ValueError, TypeError, KeyError, OverflowError):
        raise DefinitionProblem(f"“{value}” is not a value of {field.name}.", where=field.id) from None


def _convert_period(value: Any, grain: Grain) -> int | dt.date:
    if grain.is_part:
        return int(value)
    return dt.datetime.fromisoformat(str(value)) if grain.needs_time else dt.date.fromisoformat(str(value)[:10])


TYPED: dict[DataType, Callable[[Any], Any]] = {
    DataType.TEXT: str,
    DataType.WHOLE: int,
    DataType.DECIMAL: float,
    DataType.DATE: lambda value: dt.date.fromisoformat(str(value)),
    DataType.DATETIME: lambda value: dt.datetime.fromisoformat(str(value)),
    DataType.YES_NO: lambda value: {"true": True, "false": False}[str(value).lower()],
}


def describe_value(value: Value, group: Grouping, field: DataField) -> str:
    """A value of a dimension as it is said in a filter."""
    own = convert_point_value(value, field, group.grain)
    return label_value(own, group.grain) if group.width is None else group_words(own, group, field.kind)


PLAIN_NAMES = frozenset(("date", "time", "period", *(grain.words for grain in Grain)))
"""Names of dates that say no more than a grain does."""


def label_grouping(grouping: Grouping, schema: Schema) -> str:
    """A dimension's name with its grain: "month of Sailing date", but plainly "month" of Date or Month.

    Numbers are named with their classes, "Passengers in classes of 20"; texts with their groups of values."""
    field = schema[grouping.field]
    if grouping.width is not None:
        width = round_width(grouping.width, field.kind is DataType.WHOLE)
        return f"{field.name} in classes of {format_class_bound(width, width, field.format)}"
    if grouping.together:
        return f"{field.name} with {join_names([each.name for each in grouping.together], most=3)} put together"
    if not grouping.grain:
        return field.name
    if field.name.casefold() in PLAIN_NAMES:
        return grouping.grain.words
    return f"{grouping.grain.words} of {lower_first(field.name)}"


def group_heading(group: Grouping, schema: Schema, aligned: bool = False) -> str:
    """What the column of a dimension is called, whose dates may be counted from the first."""
    if group.together:
        return schema[group.field].name
    if aligned and group.is_time_axis:
        return f"{group.period.words.capitalize()}s since the first"
    words = label_grouping(group, schema)
    return words[0].upper() + words[1:]

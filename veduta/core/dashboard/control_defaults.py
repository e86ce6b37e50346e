"""What controls are set to when a reader comes: by whoever made the dashboard, or by who the reader is."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from veduta.core.dashboard.controls import (
    CHOICES,
    Choice,
    Control,
    DatesChoice,
    ListChoice,
    ParameterChoice,
    TextChoice,
)
from veduta.core.dashboard.definition import DashboardDefinition
from veduta.core.data.fields import DataType


def with_defaults(
    definition: DashboardDefinition,
    attributes: Mapping[str, Sequence[str]],
    last: Mapping[str, Choice],
    highest: Callable[[Control], Any],
) -> DashboardDefinition:
    """A dashboard with its controls set for a reader.

    The reader has these attributes, each of some texts, and set the controls of these ids the `last` time. `highest`
    gives the latest or highest value of a control's field, None if there is none. A control stays as the dashboard has
    it where nothing is known."""

    def of(control: Control) -> Control:
        first = _make_default(control, attributes, last, highest)
        return control.model_copy(update={control.kind: first}) if first else control

    return definition.model_copy(update={"controls": tuple(map(of, definition.controls))})


def _make_default(
    control: Control,
    attributes: Mapping[str, Sequence[str]],
    last: Mapping[str, Choice],
    highest: Callable[[Control], Any],
) -> Choice | None:
    if control.first == "last":
        choice = last.get(control.id)
        return choice if isinstance(choice, CHOICES[control.kind]) else None
    if control.first == "highest":
        value = highest(control)
        if value is None or control.kind == "list":
            return None if value is None else ListChoice(values=(value,))
        return DatesChoice(kind="dates", start=value, end=value)
    values = tuple(attributes.get(control.attribute, ())) if control.first == "reader" else ()
    if not values or control.field_kind is not DataType.TEXT:
        return None
    if control.kind == "text":
        return TextChoice(text=values[0])
    values = values[:1] if control.single else values
    return ParameterChoice(set=values) if control.kind == "parameter" else ListChoice(values=values)

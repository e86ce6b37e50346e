"""What the parameters of a model are set to."""

from __future__ import annotations

import datetime as dt
from typing import Any

from veduta.core.data.fields import DataType
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.measures import Parameters, ParameterValue
from veduta.core.model.definition import ParameterField


def get_parameter_value(name: str, parameters: Parameters) -> ParameterValue:
    """What a parameter is set to. Raises DefinitionProblem for one that there is not."""
    if name not in parameters:
        raise DefinitionProblem(
            f"There is no parameter :{name} any more.", where=name, hint="Choose another one, or write the value."
        )
    return parameters[name]


def get_set_number(name: str, parameters: Parameters) -> float | None:
    """The number that a parameter is set to; None is no limit. Raises DefinitionProblem if it holds something else."""
    held = get_parameter_value(name, parameters)
    if not held.kind.is_number:
        raise DefinitionProblem(
            f":{name} holds a {held.kind.words}, and a number is needed here.",
            where=name,
            hint="Choose another parameter.",
        )
    return float(held.values[0]) if held.values else None


def get_default_values(parameters: tuple[ParameterField, ...]) -> dict[str, ParameterValue]:
    return {parameter.id: set_to(parameter, list(parameter.default) or None) for parameter in parameters}


def set_to(parameter: ParameterField, value: Any) -> ParameterValue:
    """A parameter set to a value (a list for several), None for no limit.

    Raises DefinitionProblem for one it cannot have."""
    where, name = parameter.id, parameter.name
    if value is None or value == []:
        if parameter.required:
            raise DefinitionProblem(f"“{name}” needs a value.", where=where, hint="Choose one.")
        return ParameterValue(parameter.kind, None)
    given = value if isinstance(value, list | tuple) else [value]
    if len(given) > 1 and not parameter.several:
        raise DefinitionProblem(f"“{name}” holds one value.", where=where, hint="Choose one of them.")
    values = tuple(_convert_value(each, parameter) for each in given)
    allowed = [_convert_value(choice.value, parameter) for choice in parameter.choices]
    for each in values:
        if allowed and each not in allowed:
            raise DefinitionProblem(
                f"“{each}” is not among the values of “{name}”.", where=where, hint="Choose one of its list."
            )
        if parameter.kind.is_number:
            too_low = parameter.low is not None and each < parameter.low
            if too_low or (parameter.high is not None and each > parameter.high):
                low, high = (f"{bound:,g}" if bound is not None else "…" for bound in (parameter.low, parameter.high))
                raise DefinitionProblem(
                    f"“{name}” goes from {low} to {high}.", where=where, hint="Choose a value between."
                )
    return ParameterValue(parameter.kind, values)


def _convert_value(value: Any, parameter: ParameterField) -> Any:
    try:
        if parameter.kind is DataType.YES_NO:
            return value if isinstance(value, bool) else {"true": True, "false": False}[str(value).lower()]
        if parameter.kind is DataType.WHOLE:
            if float(value) != int(float(value)):
                raise ValueError
            return int(value) if not isinstance(value, str) else int(float(value))
        if parameter.kind is DataType.DECIMAL:
            return float(value)
        if parameter.kind is DataType.DATE:
            return dt.date.fromisoformat(str(value))
        if parameter.kind is DataType.DATETIME:
            return dt.datetime.fromisoformat(str(value))
        return str(value)
    except (ValueError, TypeError, KeyError, OverflowError):
        raise DefinitionProblem(
            f"“{value}” is not a value for “{parameter.name}”: it holds a {parameter.kind.words}.", where=parameter.id
        ) from None

"""What the parameters of a model are set to."""

from __future__ import annotations

from veduta.core.errors import DefinitionProblem
from veduta.core.formula.measures import Parameters, ParameterValue


def parameter_value(name: str, parameters: Parameters) -> ParameterValue:
    """What a parameter is set to. Raises DefinitionProblem for one that there is not."""
    if name not in parameters:
        raise DefinitionProblem(
            f"There is no parameter :{name} any more.", where=name, hint="Choose another one, or write the value."
        )
    return parameters[name]


def number_set(name: str, parameters: Parameters) -> float | None:
    """The number that a parameter is set to; None is no limit. Raises DefinitionProblem if it holds something else."""
    held = parameter_value(name, parameters)
    if not held.kind.is_number:
        raise DefinitionProblem(
            f":{name} holds a {held.kind.words}, and a number is needed here.",
            where=name,
            hint="Choose another parameter.",
        )
    return float(held.values[0]) if held.values else None

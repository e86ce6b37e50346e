"""Edits: small functions from a definition to a definition, which people ask for by name with arguments in JSON."""

from __future__ import annotations

from collections.abc import Callable
from inspect import signature
from typing import Any, Generic, TypeVar, get_type_hints

from pydantic import BaseModel, ConfigDict, ValidationError, create_model

from veduta.core.errors import DefinitionProblem, explain_validation_error

Definition = TypeVar("Definition", bound=BaseModel)


class Edits(Generic[Definition]):
    """A registry of edits of one kind of definition.

    Their first parameters are `given` to all; the others are what is sent, which is validated by their types."""

    def __init__(self, kind: type[Definition], given: int) -> None:
        self.kind, self.given = kind, given
        self.functions: dict[str, Callable[..., Definition]] = {}
        self._arguments: dict[str, type[BaseModel]] = {}

    def __call__(self, function: Callable[..., Definition]) -> Callable[..., Definition]:
        """Register an edit. Raises ValueError for a second one of a name."""
        name = function.__name__
        if name in self.functions:
            raise ValueError(f"Two edits are named {name}.")
        hints = get_type_hints(function, include_extras=True)
        sent = list(signature(function).parameters.values())[self.given :]
        fields: dict[str, Any] = {
            each.name: (hints[each.name], ... if each.default is each.empty else each.default) for each in sent
        }
        self._arguments[name] = create_model(name, __config__=ConfigDict(extra="forbid", allow_inf_nan=False), **fields)
        self.functions[name] = function
        return function

    def takes(self, name: str) -> set[str]:
        """The names of the arguments of an edit."""
        return set(self._arguments[name].model_fields)

    def apply(self, name: str, sent: dict[str, Any], *given: Any) -> Definition:
        """The definition (the first of `given`) after an edit.

        Raises DefinitionProblem, or what the edit raises, for one that cannot be made."""
        if name not in self.functions:
            raise DefinitionProblem("Veduta does not know this change.", hint="Load the page again.")
        try:
            arguments = self._arguments[name].model_validate(sent)
            changed = self.functions[name](*given, **{key: getattr(arguments, key) for key in sent})
            return self.kind.model_validate_json(changed.model_dump_json())
        except ValidationError as error:
            words, where = explain_validation_error(error)
            raise DefinitionProblem(f"That does not work: {words}.", where=where) from None

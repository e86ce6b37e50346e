"""Everything that is stored as JSON: loaded, brought up to the present version, checked."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

from veduta.core.errors import DefinitionProblem, NewerDefinition, explain_validation_error
from veduta.core.jsontext import InvalidJson, read_json

Stored = TypeVar("Stored", bound=BaseModel)
Upgrade = Callable[[dict[str, Any]], dict[str, Any]]
"""Makes the next version's data of a version's."""


def load(
    kind: type[Stored],
    data: Any,
    *,
    name: str,
    version: int = 1,
    hint: str = "",
    upgrades: Mapping[int, Upgrade] | None = None,
    explain: Callable[[ValidationError], DefinitionProblem] | None = None,
) -> Stored:
    """A stored or sent definition, as JSON text or already parsed.

    `name` is what it is to people, such as "chart"; `upgrades` lead, by the version they start from, up to the present
    `version`; `explain` says what is wrong where the usual words do not do.

    Raises NewerDefinition for one that a newer Veduta wrote, and DefinitionProblem for one that is not usable.
    """
    data = parse_stored(data, name, hint)
    written = data.get("version", version)
    if not isinstance(written, int) or isinstance(written, bool) or written < 1:
        raise DefinitionProblem(f"This {name} is not usable: it has no version.", where="version", hint=hint)
    if written > version:
        raise NewerDefinition(
            f"This {name} was saved by a newer version of Veduta.",
            hint="It is kept as it is. Update Veduta to open it.",
        )
    for earlier in range(written, version):
        data = {**(upgrades or {})[earlier](data), "version": earlier + 1}
    try:
        return kind.model_validate_json(json.dumps(data))
    except ValidationError as error:
        if explain:
            raise explain(error) from None
        message, where = explain_validation_error(error)
        raise DefinitionProblem(f"This {name} is not usable: {message}.", where=where, hint=hint) from None


def parse_stored(data: Any, name: str, hint: str = "") -> dict[str, Any]:
    """JSON text, or what was parsed from it, as an object. Raises DefinitionProblem for anything else."""
    if isinstance(data, str | bytes):
        try:
            data = read_json(data)
        except InvalidJson:
            data = None
    if not isinstance(data, dict):
        raise DefinitionProblem(f"This {name} is not readable.", hint=hint)
    return data

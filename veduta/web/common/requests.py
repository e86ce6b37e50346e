"""What a page sent, made safe to use."""

from __future__ import annotations

import json
from typing import Any

from django.http import HttpRequest

from veduta.core.errors import DefinitionProblem


def sent_json(request: HttpRequest) -> dict[str, Any]:
    """The JSON object in a request's body. Raises DefinitionProblem if there is none."""
    try:
        data = json.loads(request.body)
    except ValueError:
        data = None
    if not isinstance(data, dict):
        raise DefinitionProblem("The request was not readable.", hint="Load the page again.")
    return data


def whole_number(data: dict[str, Any], key: str, default: int) -> int:
    """A whole number that a page sent. Raises DefinitionProblem for anything else."""
    value = data.get(key)
    if value in (None, ""):
        return default
    if isinstance(value, bool) or not str(value).lstrip("-").isdigit():
        raise DefinitionProblem("The request was not readable.", where=key, hint="Load the page again.")
    return int(value)


def wants_json(request: HttpRequest) -> bool:
    return request.headers.get("X-Veduta") == "1"

"""What a page sends, read in one way: a view declares what it takes as a `RequestModel`, and gets that or a problem."""

from __future__ import annotations

import json
import re
import uuid
from typing import Annotated, Any, TypeVar, get_origin

from django.http import HttpRequest, QueryDict
from pydantic import (
    AfterValidator,
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Field,
    StringConstraints,
    TypeAdapter,
    ValidationError,
)

from veduta.core.errors import DefinitionProblem, explain_validation_error
from veduta.core.jsontext import InvalidJson, read_json
from veduta.core.query.filters import Value

AGAIN = "Load the page again."


class RequestModel(BaseModel):
    """What a view takes. What else is sent is left out; what is missing or empty is what its declaration says."""

    model_config = ConfigDict(extra="ignore", frozen=True)

    @property
    def told(self) -> dict[str, Any]:
        """What was sent, and not left as it is by itself."""
        return {name: getattr(self, name) for name in self.model_fields_set}


def _read_text(value: Any) -> Any:
    return "" if value is None else str(value) if isinstance(value, int | float) else value


def _read_whole(value: Any) -> Any:
    if (isinstance(value, str) and not re.fullmatch(r" *-?[0-9]{1,15} *", value)) or isinstance(value, bool):
        raise ValueError("this is no whole number")
    return value


def _read_flag(value: Any) -> bool:
    return value not in (None, False, 0, "", "0", "false", "no")


def read_rows(value: Any) -> Any:
    """The rows of a form, which come as a list, or as {"0": …, "1": …}."""
    if isinstance(value, dict):
        value = [value[key] for key in sorted(value, key=_read_position)]
    return value or []


def _read_position(key: str) -> int:
    return int(key) if re.fullmatch("[0-9]{1,9}", key) else 0


Line = Annotated[str, BeforeValidator(_read_text), StringConstraints(max_length=2_000)]
Text = Annotated[str, BeforeValidator(_read_text), StringConstraints(max_length=2_000_000)]
Whole = Annotated[int, BeforeValidator(_read_whole)]
FromRow = Annotated[Whole, Field(ge=0, le=10_000_000)]
Flag = Annotated[bool, BeforeValidator(_read_flag)]
Object = Annotated[dict[str, Any], BeforeValidator(lambda value: {} if value is None else value)]
Objects = Annotated[list[dict[str, Any]], BeforeValidator(read_rows)]
Lines = Annotated[list[Line], BeforeValidator(read_rows)]
Point = Annotated[list[Value], BeforeValidator(lambda value: value or []), Field(max_length=10)]
"""A mark, by the values of its chart's dimensions."""
Points = Annotated[list[Point], BeforeValidator(lambda value: value or []), Field(max_length=5_000)]
Maybe = Annotated[uuid.UUID | None, BeforeValidator(lambda value: value or None)]
"""The key of something, or nothing."""
Shape = TypeVar("Shape", bound=RequestModel)
Definition = TypeVar("Definition", bound=BaseModel)


class Searched(RequestModel):
    """What is searched for in a list, and which page of it."""

    find: Annotated[Line, AfterValidator(lambda text: text.strip()[:200])] = ""
    page: Line = ""


def parse_json(request: HttpRequest, shape: type[Shape]) -> Shape:
    """What a request's body says in JSON. Raises DefinitionProblem."""
    return read(read_json_body(request), shape)


def parse_form(request: HttpRequest, shape: type[Shape]) -> Shape:
    """What a form sent. Raises DefinitionProblem."""
    return read(_read_query(request.POST, shape), shape)


def parse_query(request: HttpRequest, shape: type[Shape]) -> Shape:
    """What stands in a request's address. Raises DefinitionProblem."""
    return read(_read_query(request.GET, shape), shape)


def read(data: dict[str, Any], shape: type[Shape]) -> Shape:
    """Data as a shape. An empty value of what is not text is as good as none. Raises DefinitionProblem."""
    given = {}
    for name, field in shape.model_fields.items():
        value = data.get(field.alias or name)
        if value is not None and (value != "" or field.annotation is str):
            given[field.alias or name] = value
    try:
        return shape.model_validate(given)
    except ValidationError as error:
        where = " › ".join(map(str, error.errors()[0]["loc"]))
        raise DefinitionProblem("The request was not readable.", where=where, hint=AGAIN) from None


def _read_query(query: QueryDict, shape: type[Shape]) -> dict[str, Any]:
    """The last value of each name, or all of them where a list is taken."""
    lists = {field.alias or name for name, field in shape.model_fields.items() if get_origin(field.annotation) is list}
    return {name: query.getlist(name) if name in lists else query[name] for name in query}


def read_json_body(request: HttpRequest) -> dict[str, Any]:
    """The JSON object in a request's body. Raises DefinitionProblem if there is none."""
    data = decode_json(request.body)
    if not isinstance(data, dict):
        raise DefinitionProblem("The request was not readable.", hint=AGAIN)
    return data


def decode_json(text: str | bytes) -> Any:
    """What a part of a request says in JSON; None for nothing. Raises DefinitionProblem."""
    try:
        return read_json(text) if text else None
    except InvalidJson as why:
        raise DefinitionProblem(f"The request was not readable: {why}.", hint=AGAIN) from None


def validate_as(kind: type[Definition], data: Any) -> Definition:
    """A part of a definition that was sent. Raises DefinitionProblem with what is wrong with it."""
    try:
        return kind.model_validate_json(json.dumps(data))
    except ValidationError as error:
        message, where = explain_validation_error(error)
        raise DefinitionProblem(f"The request was not readable: {message}.", where=where, hint=AGAIN) from None


def validate_part(text: str, kind: Any) -> Any:
    """What a part of an address says in JSON, as a kind of value such as a Point. Raises DefinitionProblem."""
    try:
        return TypeAdapter(kind).validate_python(decode_json(text))
    except ValidationError:
        raise DefinitionProblem("The request was not readable.", hint=AGAIN) from None


def wants_json(request: HttpRequest) -> bool:
    return request.headers.get("X-Veduta") == "1"

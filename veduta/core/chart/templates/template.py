"""A chart template as it is kept and exchanged: one JSON file of a published schema."""

from __future__ import annotations

import base64
import binascii
import json
from typing import Annotated, Any, Final, Literal

from pydantic import AfterValidator, Field, StringConstraints, model_validator

from veduta.core.chart.definition import ChartDefinition, load_definition
from veduta.core.chart.kinds import CHART_KINDS
from veduta.core.chart.rewriting import find_named_fields
from veduta.core.data.fields import Frozen
from veduta.core.errors import DefinitionProblem
from veduta.core.stored import load, parse_stored

VERSION: Final = 1
FORMAT: Final = "veduta chart template"
LARGEST_PICTURE: Final = 400_000
"""Bytes."""
PNG: Final = b"\x89PNG\r\n\x1a\n"
Takes = Literal["number", "date", "text", "yes_no", "dimension", "any"]
TAKES: Final[dict[Takes, str]] = {
    "number": "a number",
    "date": "a date",
    "text": "text",
    "yes_no": "yes or no",
    "dimension": "a dimension",
    "any": "anything",
}


def _validate_picture(text: str) -> str:
    """A picture as it is kept: a PNG in Base64."""
    try:
        content = base64.b64decode(text, validate=True)
    except binascii.Error:
        raise ValueError("the picture is not written in Base64") from None
    if content and not content.startswith(PNG):
        raise ValueError("the picture is no PNG")
    if len(content) > LARGEST_PICTURE:
        raise ValueError(f"the picture is larger than {LARGEST_PICTURE // 1_000} kB")
    return text


Picture = Annotated[str, StringConstraints(max_length=LARGEST_PICTURE * 4 // 3 + 4), AfterValidator(_validate_picture)]


class FieldSlot(Frozen):
    """A place for a field.

    The design names it by its `key` where a chart names a field. It `takes` values of a kind, of fields of a `level` if
    it says so; what is not `needed` may stay empty, and what the design does with it is left out then. `guidance` says
    what belongs there."""

    key: str = Field(pattern=r"^[a-z0-9_]{1,40}$", description="What the design calls it, instead of a field.")
    name: str = Field(min_length=1, max_length=200, description="What it is called to people.")
    takes: Takes = Field("any", description="The kind of value that it takes.")
    level: Literal["", "row", "aggregate"] = Field(
        "", description="Whether it takes fields of rows, or formulas of many rows; empty for both."
    )
    needed: bool = Field(True, description="Whether a chart cannot be made without it.")
    guidance: str = Field("", max_length=300, description="What belongs there, in a sentence.")


class Template(Frozen):
    """A chart's design without its data: `design` is a chart whose fields are `places`."""

    format: Literal["veduta chart template"] = Field(FORMAT, description="Says what this file is.")
    version: Literal[1] = Field(VERSION, description="The version of this schema.")
    name: str = Field(min_length=1, max_length=200, description="What the template is called.")
    description: str = Field("", max_length=2_000, description="What it is good for.")
    author: str = Field("", max_length=200, description="Who made it.")
    picture: Picture = Field("", description="A PNG of a chart made with it, in Base64. It may show data.")
    places: tuple[FieldSlot, ...] = Field((), max_length=60, description="The places for fields.")
    design: ChartDefinition = Field(description="A chart definition in which the places stand for fields.")

    @model_validator(mode="after")
    def _validate(self) -> Template:
        keys = [place.key for place in self.places]
        if len(set(keys)) < len(keys):
            raise ValueError("two places have the same key")
        strange = [name for name in find_named_fields(self.design) if name not in keys]
        if strange:
            raise ValueError(f"the design names “{strange[0]}”, which is no place")
        if self.design.kind and self.design.kind not in CHART_KINDS:
            raise ValueError(f"Veduta knows no kind of drawing named “{self.design.kind}”")
        return self


def load_template(data: Any) -> Template:
    """From stored or sent JSON. Raises NewerDefinition or DefinitionProblem."""
    name, hint = "chart template", "Take a file that was downloaded from Templates."
    data = parse_stored(data, name, hint)
    if data.get("format") != FORMAT:
        raise DefinitionProblem("This file is no chart template.", where="format", hint=hint)
    if data.get("version", VERSION) == VERSION and "design" in data:
        data = {**data, "design": load_definition(data["design"]).model_dump(mode="json")}
    return load(Template, data, name=name, version=VERSION, hint=hint)


def write_template(template: Template) -> str:
    """The file of a template; what is as usual is left out."""
    said = template.model_dump(mode="json", exclude_defaults=True)
    begins = {"format": template.format, "version": template.version}
    design = {"version": template.design.version, **said["design"]}
    return json.dumps({**begins, **said, "design": design}, ensure_ascii=False, indent=1)


def build_template_schema() -> dict[str, Any]:
    """The JSON Schema of the file."""
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **Template.model_json_schema()}

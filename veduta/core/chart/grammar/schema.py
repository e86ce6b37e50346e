"""The grammar's own JSON schema (Vega-Lite 6): what may stand where."""

from __future__ import annotations

import gzip
import json
import re
from collections.abc import Iterator
from functools import cache
from pathlib import Path as File
from typing import Any
from urllib.parse import unquote

import jsonschema_rs

from veduta.core.chart.grammar.source import Path

FILE = File(__file__).with_name("vega-lite-6.json.gz")
DEEPEST = 12
Schema = dict[str, Any]


@cache
def load_schema() -> Schema:
    schema: Schema = simplify_names(json.loads(gzip.decompress(FILE.read_bytes())))
    return schema


@cache
def make_validator() -> jsonschema_rs.Draft7Validator:
    return jsonschema_rs.Draft7Validator(load_schema())


def simplify_names(node: Any) -> Any:
    """A schema whose definitions are called by letters and digits only, as references may be."""
    if isinstance(node, list):
        return [simplify_names(each) for each in node]
    if not isinstance(node, dict):
        return node
    node = {key: simplify_names(value) for key, value in node.items()}
    if isinstance(reference := node.get("$ref"), str):
        start, _, name = reference.rpartition("/")
        node["$ref"] = f"{start}/{_simplify_name(unquote(name))}"
    if isinstance(definitions := node.get("definitions"), dict):
        node["definitions"] = {_simplify_name(name): each for name, each in definitions.items()}
    return node


def _simplify_name(name: str) -> str:
    return re.sub(r"\W", lambda found: f"_{ord(found[0])}_", name)


def _iterate_alternatives(schema: Schema, depth: int = 0) -> Iterator[Schema]:
    """The schemas that one stands for, without references and choices."""
    if depth > DEEPEST:
        return
    if "$ref" in schema:
        yield from _iterate_alternatives(load_schema()["definitions"][schema["$ref"].rpartition("/")[2]], depth + 1)
        return
    choices = [each for name in ("anyOf", "oneOf", "allOf") for each in schema.get(name, ())]
    if not choices:
        yield schema
    for each in choices:
        yield from _iterate_alternatives(each, depth + 1)


def list_schemas_at(path: Path) -> list[Schema]:
    """All that may stand at a path, whatever stands beside it."""
    there = list(_iterate_alternatives(load_schema()))
    for step in path:
        inner: list[Schema] = []
        for schema in there:
            items, properties = schema.get("items"), schema.get("properties", {})
            if isinstance(step, int) and isinstance(items, dict):
                inner.append(items)
            elif step in properties:
                inner.append(properties[step])
            elif isinstance(schema.get("additionalProperties"), dict) and isinstance(step, str):
                inner.append(schema["additionalProperties"])
        distinct = {json.dumps(each, sort_keys=True): each for each in inner}
        there = [found for each in distinct.values() for found in _iterate_alternatives(each)]
    return there


def list_properties_at(path: Path) -> dict[str, str]:
    """The keys that an object at a path may have, each with what the grammar says of it."""
    found: dict[str, str] = {}
    for schema in list_schemas_at(path):
        for name, about in schema.get("properties", {}).items():
            found.setdefault(name, _take_first_sentence(str(about.get("description", ""))))
    return found


def _take_first_sentence(text: str) -> str:
    """What the grammar says first, without its marks and links."""
    plain = re.sub(r"\[([^\]]*)\]\([^)]*\)", r"\1", text.split("\n\n")[0])
    plain = re.sub(r"[`*_]", "", plain).replace("Required.", "").strip()
    return plain.split(". ")[0].rstrip(".")[:200]


def list_values_at(path: Path) -> list[str]:
    """The words that may stand at a path."""
    found: dict[str, None] = {}
    for schema in list_schemas_at(path):
        for value in [*schema.get("enum", ()), *([schema["const"]] if "const" in schema else [])]:
            if isinstance(value, str):
                found[value] = None
        if schema.get("type") == "boolean":
            found |= {"true": None, "false": None}
    return list(found)

"""Specifications of one's own over other columns."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from typing import Any, Final

from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.grammar.checking import format_specification
from veduta.core.chart.kinds.own_specification import list_field_names
from veduta.core.data.fields import Schema
from veduta.core.jsontext import InvalidJson, read_json
from veduta.core.query.filters import group_heading
from veduta.core.query.measures import measure_heading

WORDS_OF_THE_GRAMMAR: Final = ("type", "mark", "op", "aggregate", "timeUnit", "$schema")
"""What stands there is no field, though one may be called so."""
IN_EXPRESSION = re.compile(r"datum\[(['\"])(.+?)\1\]|datum\.([A-Za-z_]\w*)")


def list_column_names(definition: ChartDefinition, schema: Schema) -> list[str]:
    """What an own specification calls the columns of a chart, dimensions first."""
    groups = [group_heading(group, schema, bool(definition.aligned)) for group in definition.groups]
    return list_field_names([*groups, *(measure_heading(measure, schema) for measure in definition.measures)])


def make_tokens(definition: ChartDefinition) -> list[str]:
    """What a template's specification calls them: by their places."""
    return [*(f"#d{i}" for i in range(len(definition.groups))), *(f"#m{i}" for i in range(len(definition.measures)))]


def replace_columns(text: str, names: Sequence[str], others: Sequence[str]) -> str:
    """A specification in which columns have other names; one that is not readable stays as it is."""
    try:
        specification = read_json(text)
    except InvalidJson:
        return text
    return format_specification(
        json.dumps(_rename(specification, dict(zip(names, others, strict=False))), ensure_ascii=False)
    )


def _rename(part: Any, others: Mapping[str, str]) -> Any:
    if isinstance(part, dict):
        return {key: each if key in WORDS_OF_THE_GRAMMAR else _rename(each, others) for key, each in part.items()}
    if isinstance(part, list):
        return [_rename(each, others) for each in part]
    if not isinstance(part, str):
        return part
    return others.get(part) or IN_EXPRESSION.sub(lambda found: _rename_in_expression(found, others), part)


def _rename_in_expression(found: re.Match[str], others: Mapping[str, str]) -> str:
    other = others.get(found[2] or found[3])
    return f"datum['{other}']" if other else found[0]

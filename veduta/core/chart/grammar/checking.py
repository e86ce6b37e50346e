"""What is wrong with a specification, where, and what may be written."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

import jsonschema_rs
from rapidfuzz import process

from veduta.core.chart.grammar import schema
from veduta.core.chart.grammar.source import Path, SourceSpan, locate_caret, locate_parts
from veduta.core.errors import DefinitionProblem
from veduta.core.jsontext import InvalidJson, read_json
from veduta.core.phrases import join_names

LONGEST = 200_000
NAMED = ("rows", "marks")
"""The data that a specification can use by name."""
ADDRESSES = ("url", "href", "src")
FIELDS = ("field", "key", "as", "groupby", "fields")
"""Keys whose values name fields of the data."""
LIKE = 60
Spec = dict[str, Any]


@dataclass(frozen=True)
class GrammarProblem:
    """What is wrong, in the line where it stands, counted from 1."""

    message: str
    line: int
    span: SourceSpan


@dataclass(frozen=True)
class Completion:
    """What can be written: as it is called, and as it is put in, with what the grammar says about it."""

    label: str
    insert: str
    about: str = ""


def find_problem(text: str, fields: Sequence[str] | None = None) -> GrammarProblem | None:
    """The first thing wrong with a specification, if anything is.

    That includes fields other than those of its rows (`fields`), where these are known and the specification makes none
    itself."""
    if len(text) > LONGEST:
        return GrammarProblem(f"It is longer than {LONGEST:,} letters.", 1, SourceSpan(0, 1))
    try:
        spec = json.loads(text)
        read_json(text)
    except json.JSONDecodeError as error:
        return GrammarProblem(
            _describe_json_error(error, text), error.lineno, SourceSpan(error.pos, min(error.pos + 1, len(text)))
        )
    except InvalidJson as problem:
        return GrammarProblem(f"It cannot be read: {problem}.", 1, SourceSpan(0, 1))
    except RecursionError:
        return GrammarProblem("It is nested too deep.", 1, SourceSpan(0, 1))
    found = _find_wrong(spec) or (None if fields is None else _find_unknown(spec, fields))
    if found is None:
        return None
    message, path, at_key = found
    values, keys = locate_parts(text)
    span = keys.get(path) if at_key else None
    span = span or values.get(path) or SourceSpan(0, min(1, len(text)))
    return GrammarProblem(message, text.count("\n", 0, span.start) + 1, span)


def check_specification(text: str) -> Spec:
    """A specification. Raises DefinitionProblem with what is wrong and in which line."""
    problem = find_problem(text)
    if problem:
        raise DefinitionProblem(
            f"Line {problem.line}: {problem.message}", where="specification", hint="Change it in the editor."
        )
    spec: Spec = json.loads(text)
    return spec


def _describe_json_error(error: json.JSONDecodeError, text: str) -> str:
    if not text.strip():
        return "It is empty."
    said = error.msg[0].lower() + error.msg[1:]
    return f"This is not JSON yet: {said}."


Found = tuple[str, Path, bool]


def _find_wrong(spec: Any) -> Found | None:
    """A message, the path it is about, and whether that is about its key."""
    if not isinstance(spec, dict):
        return "A specification is an object, in braces.", (), False
    if "$schema" in spec and "vega-lite/v6" not in str(spec["$schema"]):
        return "Only Vega-Lite 6 is drawn here.", ("$schema",), False
    if refused := next(_iterate_refused(spec, ()), None):
        return refused
    whole = {"data": {"name": "rows"}, **spec}
    error = next(schema.make_validator().iter_errors(whole), None)
    return None if error is None else _find_deepest(error, whole)


def _iterate_refused(part: Any, path: Path) -> Iterator[Found]:
    """Whatever would be fetched from elsewhere, or lead there; data with names that there are not."""
    if isinstance(part, list):
        for number, each in enumerate(part):
            yield from _iterate_refused(each, (*path, number))
    elif isinstance(part, dict):
        for name, value in part.items():
            here = (*path, name)
            if name in ADDRESSES and path[-1:] != ("datasets",) and not _is_within_rows(path):
                yield f"“{name}” leads to an address, and nothing is fetched from elsewhere.", here, True
            elif name == "data" and isinstance(value, dict) and "name" in value and "values" not in value:
                if value["name"] not in NAMED:
                    yield f"The data is called {join_names(NAMED, 'or')}.", (*here, "name"), False
            else:
                yield from _iterate_refused(value, here)


def _find_unknown(spec: Spec, fields: Sequence[str]) -> Found | None:
    """The first field that the rows do not have; nothing where data or fields are made in the specification."""
    makes_some = re.search(r'"(transform|repeat|values|datasets)"\s*:|"name"\s*:\s*"marks"', json.dumps(spec))
    for path, name in () if makes_some else _iterate_named_fields(spec, ()):
        if name not in fields:
            near = process.extractOne(name, list(fields), score_cutoff=LIKE)
            hint = f" Did you mean “{near[0]}”?" if near else f" There are {join_names(list(fields), most=6)}."
            return f"The rows have no field “{name}”.{hint}", path, False
    return None


def _iterate_named_fields(part: Any, path: Path) -> Iterator[tuple[Path, str]]:
    """All that is named as a field, with where."""
    if isinstance(part, list):
        for number, each in enumerate(part):
            yield from _iterate_named_fields(each, (*path, number))
    elif isinstance(part, dict):
        for name, value in part.items():
            if name == "field" and isinstance(value, str):
                yield (*path, name), value
            else:
                yield from _iterate_named_fields(value, (*path, name))


def _is_within_rows(path: Path) -> bool:
    """Whether a path lies in values that are given as data, which may be called anything."""
    return "values" in path and "data" in path


def _find_deepest(error: jsonschema_rs.ValidationError, spec: Spec) -> Found:
    """The most telling of the validation errors.

    Among all that the alternatives complain of, the deepest one that means nothing in any of them."""
    by_path: dict[Path, list[jsonschema_rs.ValidationError]] = {}
    for leaf in _leaves(error):
        by_path.setdefault(tuple(leaf.instance_path), []).append(leaf)
    for path, errors in sorted(by_path.items(), key=lambda each: -len(each[0])):
        value: Any = spec
        for step in path:
            value = value[step]
        if not (isinstance(value, str) and value in schema.list_values_at(path)):
            return _describe_error(errors, path, value)
    return "It does not fit what the grammar expects.", (), False


def _leaves(error: jsonschema_rs.ValidationError) -> Iterator[jsonschema_rs.ValidationError]:
    context = getattr(error.kind, "context", None)
    if not context:
        yield error
        return
    for branch in context:
        for inner in branch:
            yield from _leaves(inner)


def _describe_error(errors: Sequence[jsonschema_rs.ValidationError], path: Path, value: Any) -> Found:
    names = {type(error.kind).__name__.rpartition("_")[2]: error for error in errors}
    if isinstance(value, dict):
        known = schema.list_properties_at(path)
        strange = next((name for name in value if name not in known), None)
        if strange is not None and known:
            near = process.extractOne(strange, list(known), score_cutoff=LIKE)
            hint = f" Did you mean “{near[0]}”?" if near else ""
            return f"“{strange}” has no meaning here.{hint}", (*path, strange), True
    words = schema.list_values_at(path)
    if isinstance(value, str) and words:
        near = process.extractOne(value, words, score_cutoff=LIKE)
        hint = f" Did you mean “{near[0]}”?" if near else f" It may be {join_names(words, 'or', 6)}."
        return f"“{value}” has no meaning here.{hint}", path, False
    if isinstance(value, dict) and (needed := names.get("Required")):
        return f"{needed.message[0].upper()}{needed.message[1:]}.", path, False
    said = errors[0].message
    shown = said if len(said) < 200 else "It does not fit what the grammar expects here."
    return f"{shown[0].upper()}{shown[1:]}{'' if shown.endswith('.') else '.'}", path, False


def list_completions(text: str, caret: int, fields: Sequence[str]) -> tuple[list[Completion], SourceSpan]:
    """What can be written at a place, and what it takes the place of."""
    writing = locate_caret(text, caret)
    start = text[writing.span.start : caret].strip('"').casefold()
    if writing.is_key:
        known = schema.list_properties_at(writing.path)
        found = [Completion(name, json.dumps(name), about) for name, about in known.items() if name not in writing.keys]
    elif writing.path and (writing.path[-1] in FIELDS or writing.path[-2:-1] in [(name,) for name in FIELDS]):
        found = [Completion(name, json.dumps(name, ensure_ascii=False)) for name in fields]
    else:
        words = schema.list_values_at(writing.path)
        if writing.path[-2:] == ("data", "name"):
            words = list(NAMED)
        found = [Completion(word, word if word in ("true", "false") else json.dumps(word)) for word in words]
    return [each for each in found if start in each.label.casefold()], writing.span


def format_specification(text: str) -> str:
    """The text with even indents. Raises DefinitionProblem if it is no JSON."""
    try:
        return json.dumps(json.loads(text), indent=2, ensure_ascii=False)
    except ValueError:
        raise DefinitionProblem("This is not JSON yet, so it cannot be set evenly.", hint="Mend it first.") from None

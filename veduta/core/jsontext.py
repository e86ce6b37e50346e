"""JSON from outside, read so that nothing in it can harm what uses it later.

No endless nesting, no numbers that no column holds, no broken characters."""

from __future__ import annotations

import json
import math
import re
from typing import Any

DEEPEST = 60
_PARTS = re.compile(r'"(?:[^"\\]|\\.)*"|[\[{]|[\]}]', re.DOTALL)
_HALF = re.compile(
    r"(?<!\\)((?:\\\\)*)\\u(?:d[89ab][0-9a-f]{2}(?!\\ud[c-f][0-9a-f]{2})|(?<!\\ud[89ab][0-9a-f]{2}\\u)d[c-f][0-9a-f]{2})",
    re.IGNORECASE,
)


class InvalidJson(ValueError):
    """Text that is no JSON, or JSON that cannot be worked with; says why."""


def read_json(text: str | bytes) -> Any:
    """What a request or a stored definition says. Raises InvalidJson."""
    text = _decode(text)
    if _measure_depth(text) > DEEPEST:
        raise InvalidJson(f"it is nested more than {DEEPEST} deep")
    if _HALF.search(text):
        raise InvalidJson("it has half a character in it")
    return _load(text, parse_constant=_refuse_constant, parse_int=_parse_whole, parse_float=_parse_decimal)


def read_records(text: str | bytes) -> Any:
    """The content of a JSON file or feed.

    Numbers that no column can hold become the nearest that one can, broken characters a replacement sign. Raises
    InvalidJson."""
    mended = _HALF.sub(r"\1\\ufffd", _decode(text))
    return _load(mended, parse_constant=lambda constant: None, parse_int=_parse_nearest, parse_float=_parse_nearest)


def _decode(text: str | bytes) -> str:
    try:
        return text.decode("utf-8-sig") if isinstance(text, bytes) else text.removeprefix("\ufeff")
    except UnicodeDecodeError:
        raise InvalidJson("its characters are not UTF-8") from None


def _load(text: str, **how: Any) -> Any:
    try:
        return json.loads(text, **how)
    except json.JSONDecodeError as error:
        near = error.doc[max(0, error.pos - 20) : error.pos + 20].replace("\n", " ")
        raise InvalidJson(f"{error.msg.lower()} in line {error.lineno:,}, near “{near}”") from None
    except RecursionError:
        raise InvalidJson("it is nested too deep") from None


def _measure_depth(text: str) -> int:
    """How deep lists and objects stand in each other, counted until it is too deep."""
    depth = deepest = 0
    for part in _PARTS.finditer(text):
        sign = part[0][0]
        if sign == '"':
            continue
        depth += 1 if sign in "[{" else -1
        deepest = max(deepest, depth)
        if deepest > DEEPEST:
            break
    return deepest


def _parse_whole(digits: str) -> int:
    if len(digits) > 19 or abs(int(digits)) > 2**63 - 1:
        raise InvalidJson("one of its numbers is too large")
    return int(digits)


def _parse_decimal(digits: str) -> float:
    number = float(digits)
    if math.isinf(number):
        raise InvalidJson("one of its numbers is too large")
    return number


def _parse_nearest(digits: str) -> int | float | None:
    if len(digits) <= 19 and digits.lstrip("-").isdigit() and abs(int(digits)) <= 2**63 - 1:
        return int(digits)
    number = float(digits)
    return None if math.isinf(number) else number


def _refuse_constant(constant: str) -> Any:
    raise InvalidJson(f"{constant} is no value of JSON")

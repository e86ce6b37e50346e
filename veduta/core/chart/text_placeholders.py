"""Where values stand in a text: a known one by its name, as {highest}, or a formula, as {=sum("Fare revenue")}."""

from __future__ import annotations

import re

PLACE = re.compile(r"\{\{|\}\}|\{([^{}]*)\}")
"""A value in a text, named in the first group; doubled braces stand for themselves and name none."""


def has_values(text: str) -> bool:
    """Whether a text says by itself what its values are."""
    return "{" in text


def find_formulas(*texts: str) -> list[str]:
    """The formulas among the values of texts, each once."""
    found = (match[1] or "" for text in texts for match in PLACE.finditer(text))
    return list(dict.fromkeys(each[1:] for each in found if each.startswith("=")))

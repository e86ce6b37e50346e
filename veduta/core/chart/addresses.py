"""Web addresses that values of a chart lead to: "https://ships.example/{value}", or the values themselves."""

from __future__ import annotations

import re
from typing import Final
from urllib.parse import quote, urlsplit

PLACE: Final = "{value}"
"""Where the value stands."""
VALUE = re.compile(re.escape(PLACE))
UNSEEN = re.compile(r"[\s\x00-\x1f\x7f]")
LONGEST = 2_000


def validate_address(text: str) -> str:
    """An address as it is written, or "" for none.

    Raises ValueError for one that leads elsewhere than to the web, or somewhere else with every value."""
    text = text.strip()
    if text == PLACE:
        return text
    text = validate_address_template(text, VALUE)
    if text and PLACE not in text:
        raise ValueError(f"{PLACE} is to stand where the value goes, as in https://ships.example/{PLACE}")
    return text


def validate_address_template(text: str, place: re.Pattern[str]) -> str:
    """An address in which values stand at some places.

    Raises ValueError for one that leads elsewhere than to the web, or to whose address a value belongs."""
    text = text.strip()
    if not text:
        return ""
    if not is_on_web(place.sub("0", text)):
        raise ValueError("an address begins with https:// or http://")
    if place.search(text[: text.index("//") + 2] + urlsplit(text).netloc):
        raise ValueError("whose address it is may not depend on the value")
    return text


def build_address(address: str, value: str | None) -> str:
    """Where a value leads; "" where it leads nowhere.

    >>> build_address("https://ships.example/{value}", "Outer Light")
    'https://ships.example/Outer%20Light'
    >>> build_address("{value}", "javascript:alert(1)")
    ''
    """
    if not address or value is None:
        return ""
    if address != PLACE:
        return address.replace(PLACE, quote(value, safe=""))
    return value if is_on_web(value) else ""


def is_on_web(text: str) -> bool:
    """Whether a text is an address of the web, and nothing besides."""
    if len(text) > LONGEST or UNSEEN.search(text):
        return False
    try:
        parts = urlsplit(text)
        return parts.scheme in ("http", "https") and bool(parts.hostname) and "@" not in parts.netloc
    except ValueError:
        return False

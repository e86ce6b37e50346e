"""What a click on a mark does, where it does something else than focus the other blocks."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Annotated, Any, Final, Literal
from urllib.parse import quote

from pydantic import AfterValidator, model_validator

from veduta.core.chart.addresses import is_on_web, validate_address_template
from veduta.core.data.fields import Frozen

PLACE = re.compile(r"\{([^{}]*)\}")
Does = Literal["focus", "drill", "page", "dashboard", "rows", "address", "nothing"]
DOES: Final[dict[Does, str]] = {
    "focus": "focuses the other blocks on it",
    "drill": "drills into it",
    "page": "opens another page, narrowed to it",
    "dashboard": "opens another dashboard, narrowed to it",
    "rows": "opens the rows behind it",
    "address": "opens a web address made of its values",
    "nothing": "does nothing",
}


def _validate_address(text: str) -> str:
    return validate_address_template(text, PLACE)


class Click(Frozen):
    """What a click on a mark does.

    `page` and `dashboard` are ids; an `address` has the names of dimensions where their values go, as in
    https://ships.example/{Vessel}."""

    does: Does = "focus"
    page: str = ""
    dashboard: str = ""
    address: Annotated[str, AfterValidator(_validate_address)] = ""

    @model_validator(mode="before")
    @classmethod
    def _drop_unneeded(cls, data: Any) -> Any:
        if not isinstance(data, dict):
            return data
        return {name: value for name, value in data.items() if name in ("does", data.get("does"))}


def fill_address(address: str, values: Mapping[str, str]) -> str:
    """Where a click leads, with the clicked values by the names of their dimensions; "" where a value is missing.

    >>> fill_address("https://ships.example/{Vessel}?on={Route}", {"Vessel": "Gull & Co", "Route": "Harrow–Tern"})
    'https://ships.example/Gull%20%26%20Co?on=Harrow%E2%80%93Tern'
    >>> fill_address("https://ships.example/{Quay}", {"Vessel": "Gannet"})
    ''
    """
    by_name = {name.casefold(): value for name, value in values.items()}
    names = [match[1].strip().casefold() for match in PLACE.finditer(address)]
    if not all(name in by_name for name in names):
        return ""
    made = PLACE.sub(lambda place: quote(by_name[place[1].strip().casefold()], safe=""), address)
    return made if is_on_web(made) else ""

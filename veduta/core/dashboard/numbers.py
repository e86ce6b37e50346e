"""Numbers in texts: a measure, perhaps with filters, whose name stands in braces where its value goes."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence

from pydantic import Field

from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.text_placeholders import PLACE
from veduta.core.data.fields import Frozen
from veduta.core.query.filters import Filter
from veduta.core.query.measures import Measure

TOKEN = re.compile("\ue000([0-9]+)\ue001")
"""Where a number stands in a text that is turned into HTML: characters that no text has."""


class TextNumber(Frozen):
    """What {name} stands for in a text."""

    name: str = Field(min_length=1, max_length=200, pattern=r"^[^{}\ue000\ue001]+$")
    dataset: str
    measure: Measure
    only: tuple[Filter, ...] = Field((), max_length=10)

    @property
    def chart(self) -> ChartDefinition:
        """The chart whose title is the number."""
        return ChartDefinition(dataset=self.dataset, title="{total}", show=(self.measure,), only=self.only)


def _index_names(numbers: Sequence[TextNumber]) -> dict[str, int]:
    return {" ".join(number.name.split()).casefold(): place for place, number in enumerate(numbers)}


def replace_with_tokens(text: str, numbers: Sequence[TextNumber]) -> str:
    """A text with a token for each of its numbers.

    Doubled braces stand for themselves, as do names that no number has."""
    places = _index_names(numbers)

    def put(match: re.Match[str]) -> str:
        if match[1] is None:
            return match[0][0]
        place = places.get(" ".join(match[1].split()).casefold())
        return match[0] if place is None else f"\ue000{place}\ue001"

    return PLACE.sub(put, TOKEN.sub("", text)) if numbers else text


def put_numbers(marked: str, put: Callable[[int], str]) -> str:
    """A text, or the HTML it was turned into, with something put in the place of each token."""
    return TOKEN.sub(lambda token: put(int(token[1])), marked)


def list_used(text: str, numbers: Sequence[TextNumber]) -> tuple[TextNumber, ...]:
    """The numbers that stand in a text, each name once."""
    places = _index_names(numbers)
    in_text = {int(token) for token in TOKEN.findall(replace_with_tokens(text, numbers))}
    return tuple(number for place, number in enumerate(numbers) if place in in_text and place in places.values())

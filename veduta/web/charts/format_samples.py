"""Conditional formats as people see them in lists: a sample of the look, and what it says."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from veduta.core.chart.conditional import SIGNS, ConditionalFormat
from veduta.core.chart.drawing.conditions import CellLook
from veduta.core.words import in_sentence
from veduta.web.colours.models import paints_now


@dataclass(frozen=True)
class Sample:
    """What a conditional format says, how it looks, and whether all is there that it takes."""

    words: str
    look: CellLook
    is_whole: bool


def sample_of(conditional: ConditionalFormat, words: str) -> Sample:
    sign = SIGNS[conditional.sign][0] if conditional.sign else ""
    paints = paints_now()
    look = CellLook(paints.named(conditional.colour), paints.named(conditional.ground), conditional.strong, sign)
    return Sample(words, look, conditional.is_whole)


def samples_listed(formats: Iterable[tuple[ConditionalFormat, str]]) -> list[Sample]:
    """Conditional formats with their words, as they are listed beside a chart."""
    return [sample_of(each, in_sentence(words)) for each, words in formats if each.is_whole and not each.is_bare]

"""Conditional formats as people see them in lists: a sample of the look, and what it says."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from veduta.core.chart.conditional import SIGNS, ConditionalFormat
from veduta.core.chart.drawing.conditions import CellLook
from veduta.core.phrases import lower_first
from veduta.web.palettes.models import load_paints


@dataclass(frozen=True)
class FormatSample:
    """What a conditional format says, how it looks, and whether all is there that it takes."""

    words: str
    look: CellLook
    is_whole: bool


def sample_of(conditional: ConditionalFormat, words: str) -> FormatSample:
    sign = SIGNS[conditional.sign][0] if conditional.sign else ""
    paints = load_paints()
    look = CellLook(
        paints.get_colour(conditional.colour), paints.get_colour(conditional.ground), conditional.strong, sign
    )
    return FormatSample(words, look, conditional.is_whole)


def list_samples(formats: Iterable[tuple[ConditionalFormat, str]]) -> list[FormatSample]:
    """Conditional formats with their words, as they are listed beside a chart."""
    return [sample_of(each, lower_first(words)) for each, words in formats if each.is_whole and not each.is_bare]

"""The palettes of drawings, Veduta's own or a workspace's.

Also how well the colours of a palette are told apart."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cache
from itertools import combinations
from typing import Final, Literal

from coloraide import Color

from veduta.core.chart.contrast import (
    DARK_GROUND,
    LIGHT_GROUND,
    SEEN,
    compute_contrast,
    derive_dark_colour,
    write_colour,
)
from veduta.core.errors import DefinitionProblem

SERIES_COLOURS = ("#0B5D62", "#C9850F", "#B8433A", "#4F62B5", "#7B8F5B", "#C56CC0", "#807061", "#659494")
FURTHER_COLOURS = (
    "#8A70FC", "#733A37", "#4F26B0", "#8C51D9", "#5290D3", "#17A92A", "#487EA2", "#60674D",
    "#5A4C0D", "#5C7F7D", "#A26A07", "#7A537D", "#795F28", "#A18577", "#756ABA", "#9628A1",
)  # fmt: skip
"""For the values of fields that have many: each as far from those before as can be, for readers of all kinds and in
both themes."""
NAMED_COLOURS = {"better": "#1F7A5C", "worse": "#B3322C", "quiet": "#8A9A9D", "ink": "#16262B"}
"""Colours that mean something; beside them stand the series colours, named 1 to 8, further ones to 24, and any as
#rrggbb."""
RISING = ("#E3EFEE", "#0B5D63")
AROUND = ("#B8433B", "#EFF2F1", "#0B5D63")
PaletteKind = Literal["series", "rising", "around"]
PALETTES: Final[dict[PaletteKind, tuple[str, int, int]]] = {
    "series": ("for series", 2, 24),
    "rising": ("from low to high", 2, 2),
    "around": ("around a middle", 3, 3),
}
"""By kind what it is for, and how many colours it has at least and at most."""


@dataclass(frozen=True)
class Paints:
    """The colours in use: of series by their numbers, from low to high, and around a middle."""

    series: tuple[str, ...] = SERIES_COLOURS
    rising: tuple[str, ...] = RISING
    around: tuple[str, ...] = AROUND

    @classmethod
    def from_palettes(cls, palettes: Mapping[PaletteKind, Sequence[str]]) -> Paints:
        """With palettes in the place of Veduta's own, by their kinds. A palette of few series goes on with those."""
        series = tuple(palettes.get("series", ()))
        return cls(
            series + SERIES_COLOURS[len(series) :],
            tuple(palettes.get("rising", RISING)),
            tuple(palettes.get("around", AROUND)),
        )

    def get_colour(self, name: str) -> str:
        """A colour by its name, as #rrggbb."""
        if name.isdecimal():
            return (self.series + (SERIES_COLOURS + FURTHER_COLOURS)[len(self.series) :])[int(name) - 1]
        return NAMED_COLOURS.get(name, name)

    @property
    def has_own_shades(self) -> bool:
        return (self.rising, self.around) != (RISING, AROUND)


OWN: Final = Paints()
"""Veduta's."""

READERS: Final = {
    "": "everybody",
    "protan": "readers who see no red",
    "deutan": "readers who see no green",
    "tritan": "readers who see no blue",
}
APART: Final = {"": 12.0, "protan": 8.0, "deutan": 8.0, "tritan": 3.5}
"""The least difference (CIEDE2000) of two series colours, by who looks at them."""


@dataclass(frozen=True)
class Finding:
    """What is wrong with the colours of a palette, by their positions.

    In words, with the nearest colour that could replace the last of them ("" if none is near)."""

    places: tuple[int, ...]
    words: str
    instead: str = ""


def read_palette(kind: PaletteKind, text: str) -> tuple[str, ...]:
    """The colours of a palette, written with commas or on lines of their own. Raises DefinitionProblem."""
    what, least, most = PALETTES[kind]
    parts = [part.strip() for line in text.splitlines() for part in _split_line(line)]
    names = [part for part in parts if part]
    colours = [write_colour(name) for name in names]
    for name, colour in zip(names, colours, strict=True):
        if not colour:
            raise DefinitionProblem(f"“{name}” is no colour.", where=name, hint="Write it as #0B5D62 or teal.")
    if not least <= len(colours) <= most:
        said = f"{least}" if least == most else f"{least} to {most}"
        raise DefinitionProblem(f"A palette {what} has {said} colours, and these are {len(colours)}.")
    return tuple(colours)


def _split_line(line: str) -> Iterator[str]:
    """Colours at commas that stand in no brackets."""
    depth, start = 0, 0
    for place, letter in enumerate(line):
        depth += (letter == "(") - (letter == ")")
        if letter == "," and not depth:
            yield line[start:place]
            start = place + 1
    yield line[start:]


def check_palette(kind: PaletteKind, colours: Sequence[str]) -> list[Finding]:
    """What readers of all kinds would miss in a palette.

    Of series: pairs that look alike, and colours that do not stand out from the sheet in either theme. Of shades: ends
    that are hardly apart, or not in the order of their lightness."""
    if kind == "series":
        return [*_find_pairs_alike(colours), *_find_faint(colours)]
    ends = [(0, len(colours) - 1)] if kind == "rising" else [(0, 1), (1, 2)]
    found = [
        Finding((a, b), f"{colours[a]} and {colours[b]} are too near in lightness to show steps between them.")
        for a, b in ends
        if compute_contrast(colours[a], colours[b]) < SEEN
    ]
    return [*found, *_find_pairs_alike(colours)] if kind == "around" else found


def _find_pairs_alike(colours: Sequence[str]) -> list[Finding]:
    found = []
    for a, b in combinations(range(len(colours)), 2):
        readers = [READERS[reader] for reader in READERS if _look_alike(colours[a], colours[b], reader)]
        if readers:
            who = readers[0] if readers[0] == READERS[""] else " and ".join(readers)
            words = f"{colours[a]} and {colours[b]} look alike to {who}."
            found.append(Finding((a, b), words, find_nearest_colour(colours, b)))
    return found


def _find_faint(colours: Sequence[str]) -> list[Finding]:
    found = []
    for place, colour in enumerate(colours):
        seen = {"light": _is_seen(colour), "dark": _is_seen_in_dark(colour)}
        faint = " and the ".join(name for name, holds in seen.items() if not holds)
        if faint:
            words = f"{colour} hardly stands out from the {faint} sheet."
            found.append(Finding((place,), words, find_nearest_colour(colours, place)))
    return found


def _is_seen(colour: str) -> bool:
    return compute_contrast(colour, LIGHT_GROUND) >= SEEN


def _is_seen_in_dark(colour: str) -> bool:
    return compute_contrast(derive_dark_colour(colour), DARK_GROUND) >= SEEN - 0.01


@cache
def _simulate_reader(colour: str, reader: str) -> Color:
    return Color(colour).filter(reader).convert("lab-d65") if reader else Color(colour).convert("lab-d65")


@cache
def _look_alike(one: str, other: str, reader: str) -> bool:
    return _simulate_reader(one, reader).delta_e(_simulate_reader(other, reader), method="2000") < APART[reader]


def find_nearest_colour(colours: Sequence[str], place: int) -> str:
    """The nearest colour that everybody can tell from all others, seen on both sheets.

    "" if there is none near."""
    others = [colour for i, colour in enumerate(colours) if i != place]
    for candidate in _list_similar(colours[place]):
        passes = _is_seen(candidate) and _is_seen_in_dark(candidate)
        if passes and not any(_look_alike(other, candidate, reader) for other in others for reader in READERS):
            return candidate
    return ""


def _list_similar(colour: str) -> list[str]:
    """Colours near to one, the nearest first: other lightnesses, hues and strengths."""
    start = Color(colour).convert("oklch")
    lightness, chroma, hue = (part if part == part else 0.0 for part in start.coords())
    found = {}
    for darker in (0, -0.06, 0.06, -0.12, 0.12, -0.2, 0.2, -0.3, 0.3, -0.4):
        for turned in (0, -15, 15, -30, 30, -50, 50):
            for stronger in (1.0, 1.3, 0.7):
                if not 0.15 < lightness + darker < 0.95:
                    continue
                parts = [lightness + darker, max(chroma * stronger, 0.02), (hue + turned) % 360]
                made = Color("oklch", parts).convert("srgb").fit()
                found[made.to_string(hex=True).upper()] = start.distance(made, space="oklab")
    return sorted(found, key=found.__getitem__)

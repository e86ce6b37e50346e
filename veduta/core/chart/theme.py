"""How drawings look: one configuration for each theme, the same on screen and in files."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Any

from veduta.core.chart.contrast import (
    DARK_GROUND,
    LIGHT_GROUND,
    choose_ink,
    derive_dark_colour,
    make_readable,
    mix_paper,
)
from veduta.core.chart.drawing.colours import (
    BLACK,
    GROUND,
    ON_LIGHT_SERIES,
    ON_SERIES,
    WHITE,
    get_colour,
    interpolate_colours,
)
from veduta.core.chart.drawing.labels import BAR_SHARE
from veduta.core.chart.palettes import NAMED_COLOURS, OWN, SERIES_COLOURS, Paints

# The series colours as they are drawn on the dark ground, in the same order.
DARK_COLOURS = ("#3FA3A8", "#E9B04A", "#D9695E", "#8FA2EA", "#BCE68F", "#E79AD6", "#EAD7C7", "#B5ECF3")
DARK_NAMED = {"better": "#6CC4A4", "worse": "#EE8A80", "quiet": "#7B8B8E", "ink": "#E4EBE9"}
# Shades of tables of colours, and the texts on them and on series.
DARK_SHADES = {
    "#E3EFEE": "#1D3437",
    "#0B5D63": "#2F8F95",
    "#EFF2F1": "#22353A",
    "#B8433B": "#C05A50",
    GROUND: "#172327",
    WHITE: "#0A0A0A",
    BLACK: "#F5F5F5",
    ON_SERIES: "#050505",
    ON_LIGHT_SERIES: "#050505",
}
TINT = 0.12
"""How much of an accent is in its tint."""
IN_DARK = (
    dict(zip(SERIES_COLOURS, DARK_COLOURS, strict=True))
    | {NAMED_COLOURS[name]: dark for name, dark in DARK_NAMED.items()}
    | DARK_SHADES
)
"""What stands for a colour in the dark theme; for others their computed counterpart does."""
LIGHT = {"ink": "#16262B", "muted": "#5A6B6F", "rule": "#D5DCDA"}
DARK = {"ink": "#E4EBE9", "muted": "#9AABAD", "rule": "#33454A"}


def build_config(tokens: dict[str, str], series: tuple[str, ...]) -> dict[str, Any]:
    """A Vega-Lite configuration in Veduta's style.

    Dotted horizontal lines only, no boxes, narrow labels, and palette colours for marks that have none of their own."""
    text = {
        "labelColor": tokens["muted"],
        "labelFont": "Archivo",
        "labelFontSize": 11,
        "titleFont": "Archivo",
        "titleFontSize": 11,
        "titleFontWeight": "normal",
        "titleColor": tokens["muted"],
    }
    return {
        "background": None,
        "font": "Archivo",
        "mark": {"color": series[0]},
        "range": {"category": list(series)},
        "view": {"stroke": None},
        "autosize": {"type": "fit", "contains": "padding", "resize": True},
        "axis": {**text, "domain": False, "ticks": False, "labelPadding": 6, "labelSeparation": 6},
        "axisQuantitative": {
            "grid": True,
            "gridColor": tokens["rule"],
            "gridDash": [1, 3],
            "tickCount": 6,
            "zindex": 0,
        },
        "axisX": {"domain": True, "domainColor": tokens["ink"], "labelFlush": False},
        "axisXQuantitative": {
            "domain": False,
            "labelOverlap": "parity",
            "labelSeparation": 8,
            # A number at the very end would stick out of the drawing.
            "labelAlign": {"expr": "scale('x', datum.value) > width - 12 ? 'right' : 'center'"},
        },
        "axisYBand": {"labelColor": tokens["ink"], "domain": False},
        "rule": {"color": tokens["ink"]},
        "title": {
            "anchor": "start",
            "color": tokens["ink"],
            "font": "Archivo",
            "fontSize": 12,
            "fontWeight": 600,
            "offset": 7,
        },
        "legend": {
            "labelColor": tokens["ink"],
            "labelFont": "Archivo",
            "labelFontSize": 11,
            "symbolType": "square",
            "symbolSize": 70,
            "symbolOpacity": 1,
            "offset": 6,
        },
        "text": {"color": tokens["muted"], "font": "Archivo", "fontSize": 11},
        "bar": {"discreteBandSize": {"band": BAR_SHARE}},
        "scale": {"bandPaddingInner": 0.25},
    }


def build_themes(paints: Paints = OWN) -> dict[str, Any]:
    """What a page needs to draw in either theme: configurations and the exchange of colours for the dark one."""
    return {
        "light": build_config(LIGHT, paints.series),
        "dark": build_config(DARK, tuple(find_dark_colour(colour) for colour in paints.series)),
        "dark_colours": IN_DARK,
    }


def find_dark_colour(colour: str) -> str:
    """What stands for a colour, as #RRGGBB, in the dark theme."""
    return _own_counterparts.get()().get(colour) or IN_DARK.get(colour) or derive_dark_colour(colour)


def list_own_counterparts() -> tuple[tuple[str, str], ...]:
    """The colours that have dark counterparts of their own in this context, with these."""
    return tuple(sorted(_own_counterparts.get()().items()))


_own_counterparts: ContextVar[Callable[[], Mapping[str, str]]] = ContextVar("own_counterparts", default=dict)


@contextmanager
def use_counterparts(own: Callable[[], Mapping[str, str]]) -> Iterator[None]:
    """Within this context, colours that `own` returns have dark counterparts of their own."""
    token = _own_counterparts.set(own)
    try:
        yield
    finally:
        _own_counterparts.reset(token)


def get_both_colours(name: str) -> tuple[str, str]:
    """A colour by its name, in the light and in the dark theme."""
    colour = get_colour(name)
    return colour, find_dark_colour(colour)


def get_both_text_colours(name: str, ground: str = "") -> tuple[str, str]:
    """A legible colour for a text on a ground ("" is the sheet) in both themes.

    The colour itself or the nearest that can be read there; without a colour, the ink that reads best."""
    grounds = get_both_colours(ground) if ground else (LIGHT_GROUND, DARK_GROUND)
    if not name:
        return choose_ink(grounds[0]), choose_ink(grounds[1])
    light, dark = get_both_colours(name)
    return make_readable(light, grounds[0]), make_readable(dark, grounds[1])


def get_both_paper_colours(name: str) -> tuple[str, str]:
    """A colour as the ground of a drawing, in both themes: the nearest on which all its texts can be read."""
    light, dark = get_both_colours(name)
    return mix_paper(light, LIGHT["muted"]), mix_paper(dark, DARK["muted"])


def compute_accent_tones(colour: str) -> dict[str, tuple[str, str]]:
    """The colours of a page that an accent colour leads to, in both themes.

    Texts and controls in it, their tint, and texts on them; all texts have a contrast of 4.5 or more."""
    light, dark = get_both_text_colours(colour)
    tints = interpolate_colours(LIGHT_GROUND, light, TINT), interpolate_colours(DARK_GROUND, dark, TINT)
    light, dark = make_readable(light, tints[0]), make_readable(dark, tints[1])
    return {"lagoon": (light, dark), "lagoon-tint": tints, "on-lagoon": (choose_ink(light), choose_ink(dark))}


def find_dark_colours(spec: Any) -> dict[str, str]:
    """What stands in the dark theme for those colours of a specification for which a page does not know it."""
    own = dict.fromkeys(re.findall(r'"(#[0-9A-Fa-f]{6})"', json.dumps(spec)))
    return {colour: dark for colour in own if (dark := find_dark_colour(colour)) != IN_DARK.get(colour)}

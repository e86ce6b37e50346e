"""How drawings look: one configuration for each theme, the same on screen and in files."""

from __future__ import annotations

from typing import Any

from veduta.core.chart.drawing.colours import (
    BLACK,
    GROUND,
    NAMED_COLOURS,
    ON_LIGHT_SERIES,
    ON_SERIES,
    SERIES_COLOURS,
    WHITE,
)

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
LIGHT = {"ink": "#16262B", "muted": "#5A6B6F", "rule": "#D5DCDA"}
DARK = {"ink": "#E4EBE9", "muted": "#9AABAD", "rule": "#33454A"}


def config(tokens: dict[str, str], series: tuple[str, ...]) -> dict[str, Any]:
    """A Vega-Lite configuration: dotted horizontal lines only, no boxes, narrow labels; the colours of series for marks
    that have none of their own."""
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
        "axisXQuantitative": {"domain": False, "labelOverlap": "parity", "labelSeparation": 8},
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
        "bar": {"discreteBandSize": {"band": 0.72}},
        "scale": {"bandPaddingInner": 0.25},
    }


def themes() -> dict[str, Any]:
    """What a page needs to draw in either theme: configurations and the exchange of colours for the dark one."""
    return {
        "light": config(LIGHT, SERIES_COLOURS),
        "dark": config(DARK, DARK_COLOURS),
        "dark_colours": dict(zip(SERIES_COLOURS, DARK_COLOURS, strict=True))
        | {NAMED_COLOURS[name]: dark for name, dark in DARK_NAMED.items()}
        | DARK_SHADES,
    }

"""Axes: along the first dimension, which may be time, and across, for measures."""

from __future__ import annotations

import datetime as dt
import json
import math
import re
from collections.abc import Sequence
from typing import Any

from veduta.core.calendar import Grain, list_periods
from veduta.core.chart.drawing.marks import Mark, to_milliseconds
from veduta.core.chart.drawing.picture import Picture
from veduta.core.chart.value_colours import make_field_key
from veduta.core.data.fields import NumberFormat
from veduta.core.data.languages import Language, get_language
from veduta.core.data.patterns import split_pattern
from veduta.core.number_format import PARTS_OF_ONE, REST_POINT, split_unit
from veduta.core.phrases import join_names, lower_first, pluralise
from veduta.core.query.query import Column

MOST_WORDS = 2_000
AXIS_FORMATS = {
    Grain.YEAR: "%Y",
    Grain.MONTH: "%b %y",
    Grain.WEEK: "%-d %b %y",
    Grain.DAY: "%-d %b %y",
    Grain.HOUR: "%-d %b %H:%M",
}
TICKS = {
    Grain.YEAR: {"interval": "year", "step": 1},
    Grain.QUARTER: {"interval": "month", "step": 3},
    Grain.MONTH: {"interval": "month", "step": 1},
    Grain.WEEK: {"interval": "week", "step": 1},
    Grain.DAY: {"interval": "day", "step": 1},
    Grain.HOUR: {"interval": "hour", "step": 1},
}
MOST_TICKS = 60
HALF_A_LABEL = 18
MOST_FINE_POWERS = 5
DAYS_OF_A_MONTH = 31
MONTHS_SAID = 14
"""Months of which each has a label; of more every third."""
LETTERS_ALONG = {"x": 20, "y": 28}
"""Letters of a name below and beside a drawing."""
ALONE = {1: 1.0, 2: 0.5}
"""How much room stands before and after one band or two, in bands, so that they do not fill a whole drawing."""
MOST_SLANTED = 16
MOST_LABELLED = 150
"""So many names have a chance to be labels below a drawing."""
LEVEL_LETTERS = 90
LEVEL_IN_PANELS = 24
"""So many letters of names below a drawing, or a panel, stand level; more are slanted."""


SLANT = -35
"""The angle of slanted names, in degrees."""
BETWEEN_NAMES = 6
"""px between two names that stand level beside each other."""
LONGEST_SLANTED = "(scale('x', datum.value) + bandwidth('x') / 2 + 24) / 0.82"
"""An expression for how long a slanted label may be, in pixels, so that it does not leave the drawing at its left: what
stands left of the drawing is not less than 24 wide, and 0.82 is the cosine of its slant."""


PATTERN_PARTS = {
    "y": "utcyear(datum.value)",
    "d": "utcdate(datum.value)",
    "HH": "pad(utchours(datum.value), 2, '0', 'left')",
    "mm": "pad(utcminutes(datum.value), 2, '0', 'left')",
}
"""What writes a part of a pattern of dates."""


def shorten_labels(most: int) -> str:
    """An expression for an axis or a legend: long labels without their middle, as names often differ at their ends."""
    end = most // 2 - 1
    label = "datum.label"
    short = f"slice({label}, 0, {most - end - 1}) + '…' + slice({label}, -{end})"
    return f"length({label}) > {most} ? {short} : {label}"


def wrap_labels(width: int) -> str:
    """An expression for an axis: labels in lines of about so many letters, broken at spaces and after dashes."""
    apart = "replace(datum.label, regexp('([–/-])', 'g'), '$1\\u200b')"
    lines = f"replace({apart}, regexp('(.{{1,{width}}})(\\\\s+|\\u200b|$)', 'g'), '$1\\n')"
    return f"split(trim({lines}), '\\n')"


def build_number_axis(number_format: NumberFormat) -> dict[str, Any]:
    """The axis of a measure: shortened numbers in the measure's own style and language, with its units."""
    language, number = get_language(number_format.language), "abs(datum.value)"
    if number_format.pattern:
        before, after, times = split_pattern(number_format.pattern, number_format.currency, language.code)
        units = number_format.model_copy(update={"before": before, "after": after})
        return _add_units(units, _build_digits(f"{number} * {times}", language, ",.6~g"))
    before, after = split_unit(number_format, language)
    if number_format.style in PARTS_OF_ONE:
        times, _ = PARTS_OF_ONE[number_format.style]
        size = _build_digits(f"{number} * {times}", language)
    else:
        size = _scale_large(number, language)
    size = f"{size} + {_quote(after)}" if after else size
    negative = language.split_negative_currency(number_format.currency)[0] if number_format.style == "currency" else ""
    if negative and not negative.startswith("−") and number_format.negative != "brackets":
        plus = "datum.value > 0 ? '+' : ''" if number_format.sign else "''"
        ahead = f"(datum.value < 0 ? {_quote(negative)} : ({plus}) + {_quote(before)})"
        return _add_units(number_format, f"{ahead} + {size}", has_sign=True)
    return _add_units(number_format, f"{_quote(before)} + {size}" if before else size)


def _quote(words: Any) -> str:
    return json.dumps(words, ensure_ascii=False)


def _scale_large(number: str, language: Language) -> str:
    """A number that is shortened if it is large."""
    if language.code == "en":
        large = f"replace(replace(format({number}, '.6~s'), 'G', 'bn'), 'T', 'tn')"
        return f"({number} >= 1000 ? {large} : {_build_digits(number, language)})"
    shown = _build_digits(number, language, ",.6~g")
    for size, words in reversed(language.sizes):
        said = f"{_build_digits(f'{number} / {size:.0f}', language)} + {_quote(words)}"
        shown = f"{number} >= {size:.0f} ? {said} : {shown}"
    return f"({shown})"


def _build_digits(number: str, language: Language, pattern: str = ".6~g") -> str:
    """An expression for the digits of a number as a language writes them."""
    digits = f"format({number}, '{pattern}')"
    if language.code == "en":
        return digits
    whole = f"replace({digits}, regexp(',', 'g'), '\u241f')" if "," in pattern else digits
    fraction = f"replace({whole}, '.', '{language.decimal}')"
    return f"replace({fraction}, regexp('\u241f', 'g'), '{language.group}')" if "," in pattern else fraction


def _add_units(number_format: NumberFormat, size: str, has_sign: bool = False) -> dict[str, Any]:
    """The label of an axis, from how a number's size is written.

    It carries the sign (unless the axis `has_sign`) or brackets, and the units."""
    before, after = (_quote(unit) for unit in (number_format.before, number_format.after))
    size = f"{before} + {size}" if number_format.before else size
    size = f"{size} + {after}" if number_format.after else size
    if has_sign:
        return {"labelExpr": size}
    if number_format.negative == "brackets":
        return {"labelExpr": f"datum.value < 0 ? '(' + {size} + ')' : {size}"}
    plus = "datum.value > 0 ? '+' : ''" if number_format.sign else "''"
    return {"labelExpr": f"(datum.value < 0 ? '−' : {plus}) + {size}"}


NO_LOGARITHM = "The axis is not logarithmic, as some values are zero or less, which have no logarithm."


def use_logarithmic_scale(channel: dict[str, Any], low: float, high: float) -> None:
    """Makes the channel of values, of which these are the lowest and the highest, logarithmic."""
    channel["scale"] = {**channel.get("scale", {}), "type": "log", "nice": False}
    channel["axis"] |= {"values": choose_logarithmic_ticks(low, high), "labelOverlap": "greedy"}


def choose_logarithmic_ticks(low: float, high: float) -> list[float]:
    """Where a logarithmic axis is marked: at 1, 2 and 5 times the powers of ten, or at the powers if these are many."""
    powers = range(math.floor(math.log10(low)), math.ceil(math.log10(high)) + 1)
    steps = (1, 2, 5) if len(powers) <= MOST_FINE_POWERS else (1,)
    return [step * 10.0**power for power in powers for step in steps if low <= step * 10.0**power <= high]


def build_value_channel(measures: Sequence[Column], full: bool = False) -> dict[str, Any]:
    """The channel of measures, without a stack; `full` for shares to 100%."""
    number_format = measures[0].format
    if full:
        number_format = NumberFormat(style="percent", language=number_format.language)
    axis = build_number_axis(number_format)
    return {
        "field": "value",
        "type": "quantitative",
        "axis": {"title": None, "description": label_value_axis(measures), **axis},
    }


def label_value_axis(measures: Sequence[Column]) -> str:
    """What the axis of measures shows, for those who do not see it."""
    return f"Values of {join_names([lower_first(measure.name) for measure in measures])}"


def label_name_axis(picture: Picture, made: Sequence[Mark]) -> str:
    """What the axis of the first dimension shows, for those who do not see it."""
    first, names = picture.dimensions[0], list(dict.fromkeys(mark.name for mark in made))
    if first.dimension.is_time_axis and names:
        return f"{first.name}, from {names[0]} to {names[-1]}"
    return f"{first.name}, {pluralise(len(names), 'value')}"


def build_band_axis(picture: Picture, made: Sequence[Mark], lying: bool) -> dict[str, Any]:
    """The channel of the first dimension where each value has a band of its own, as bars need it."""
    axis: dict[str, Any] = {
        "title": None,
        "labelLimit": 0,
        "labelExpr": shorten_labels(LETTERS_ALONG["y"]),
        "labelOverlap": False if lying and not picture.whole else "greedy",  # panels are as high as there is room
        "description": label_name_axis(picture, made),
    }
    names = list(dict.fromkeys(mark.name for mark in made))
    if not lying and len(names) > MOST_LABELLED:  # each label takes its time, though most would be left out
        axis["values"] = names[:: -(-len(names) // MOST_LABELLED)]
    if not lying:
        axis |= _slant_labels(picture, made)
    channel = {"field": "name", "type": "nominal", "sort": None, "axis": axis}
    if len(names) in ALONE and not picture.whole:
        channel["scale"] = {"paddingOuter": ALONE[len(names)]}
    return channel


def _slant_labels(picture: Picture, made: Sequence[Mark]) -> dict[str, Any]:
    """How names stand below a drawing.

    A few are all there: level where each has room, else slanted. Of many, long ones are slanted, and those are left out
    that would stand on others; in panels, too."""
    names, first = list(dict.fromkeys(mark.name for mark in made)), picture.dimensions[0].dimension
    if len(names) > MOST_SLANTED or picture.whole:
        is_short = sum(map(len, names)) <= (LEVEL_IN_PANELS if picture.whole else LEVEL_LETTERS)
        if is_short or first.is_time_axis or first.grain is Grain.WEEKDAY:
            return {"labelAngle": 0}
        slanted = {"labelAngle": SLANT, "labelLimit": {"expr": LONGEST_SLANTED}}
        return slanted | ({"labelOverlap": False} if len(names) <= MOST_SLANTED else {})
    widest = max(map(picture.measure_text, names), default=0) + BETWEEN_NAMES
    crowded = f"width < {widest} * length(domain('x'))"
    return {
        "labelAngle": {"expr": f"{crowded} ? {SLANT} : 0"},
        "labelAlign": {"expr": f"{crowded} ? 'right' : 'center'"},
        "labelBaseline": {"expr": f"{crowded} ? 'middle' : 'top'"},
        "labelLimit": {"expr": f"{crowded} ? {LONGEST_SLANTED} : 1000"},
        "labelOverlap": False,
    }


def build_point_axis(picture: Picture, made: Sequence[Mark]) -> dict[str, Any]:
    """The channel of the first dimension, which is not time, where each value has a place, as lines need it."""
    first = picture.dimensions[0]
    axis: dict[str, Any] = {
        "title": None,
        "labelLimit": 0,
        "labelExpr": shorten_labels(LETTERS_ALONG["x"]),
        "labelOverlap": "greedy",
        "description": label_name_axis(picture, made),
    }
    axis |= {"title": first.name, "labelAngle": 0} if first.kind.is_number else _slant_labels(picture, made)
    scale = {"type": "point", "padding": 0.5}
    return {"field": "name", "type": "nominal", "sort": None, "scale": scale, "axis": axis}


def place_in_time(picture: Picture, made: Sequence[Mark], notes: list[str]) -> tuple[list[Mark], dict[str, Any]]:
    """The marks that have a place on a time axis, and its channel; what has none is said in `notes`."""
    first, rest = picture.dimensions[0], picture.result.rest
    if undated := sum(mark.along is None for mark in made):
        notes.append(f"Rows without {first.name} are not drawn ({pluralise(undated, 'mark')}).")
    if rest and any(mark.along == REST_POINT for mark in made):
        notes.append(f"“{rest.name}” has no place on a time axis and is not drawn.")
    dated = [mark for mark in made if isinstance(mark.along, dt.date)]
    axis = build_time_axis(first.dimension.period, len({mark.along for mark in dated}))
    axis["description"] = label_name_axis(picture, dated)
    if make_field_key(first.dimension) in picture.date_looks:
        axis["labelExpr"] = _format_own_dates(picture, {mark.along for mark in dated if mark.along})
    elif first.format.language != "en":
        _put_in_language(axis, get_language(first.format.language))
    return dated, {"field": "at", "type": "temporal", "scale": {"type": "utc"}, "axis": axis}


def _format_own_dates(picture: Picture, days: set[Any]) -> str:
    """The labels of a time axis as the chart writes its dates, for all periods from the first to the last."""
    first = picture.dimensions[0]
    periods = list_periods(min(days), max(days), first.dimension.period)[:MOST_WORDS] if days else []
    words = {to_milliseconds(day): picture.label(first, day) for day in periods}
    return f"({_quote(words)})[time(datum.value)] || ''"


def _put_in_language(axis: dict[str, Any], language: Language) -> None:
    """Labels of a time axis as a language writes them."""
    is_quarter = "labelExpr" in axis
    if axis.get("format") == "%Y":
        return
    has_days, has_time = "%-d" in axis.get("format", ""), "%H" in axis.get("format", "")
    pattern = language.get_period_pattern("quarter" if is_quarter else "day" if has_days else "month")
    axis["labelExpr"] = _build_pattern_expression(f"{pattern} HH:mm" if has_time else pattern, language)


def _build_pattern_expression(pattern: str, language: Language) -> str:
    """An expression that writes a label of a time axis by a pattern of CLDR."""
    said = []
    for quoted, letters, other in re.findall(r"'([^']*)'|([A-Za-z]+)|([^A-Za-z']+)", pattern):
        if letters[:1] in ("M", "L"):
            said.append(f"({_quote(language.list_month_names(letters))})[utcmonth(datum.value)]")
        elif letters[:1] == "Q":
            said.append(f"({_quote(language.quarters)})[utcquarter(datum.value) - 1]")
        else:
            said.append(PATTERN_PARTS.get(letters) or _quote(quoted or other))
    return " + ".join(said)


def build_time_axis(grain: Grain, periods: int) -> dict[str, Any]:
    axis: dict[str, Any] = {
        "title": None,
        "labelOverlap": "parity",
        "labelSeparation": 10,
        "tickCount": TICKS[grain],
        "grid": False,
        # The label of a period at the very end would stick out of the drawing.
        "labelAlign": {"expr": f"scale('x', datum.value) > width - {HALF_A_LABEL} ? 'right' : 'center'"},
    }
    if grain is Grain.MONTH and periods > MONTHS_SAID:
        axis["tickCount"] = TICKS[Grain.QUARTER]
    elif grain is Grain.DAY and DAYS_OF_A_MONTH < periods <= 4 * DAYS_OF_A_MONTH:
        axis |= {"tickCount": {"interval": "day", "step": 7}, "format": "%-d %b %y"}
    elif grain in (Grain.DAY, Grain.WEEK) and periods > (7 if grain is Grain.WEEK else DAYS_OF_A_MONTH):
        axis |= {"tickCount": TICKS[Grain.MONTH], "format": "%b %y"}
    elif grain is Grain.HOUR and periods > 48:
        coarse, pattern = (Grain.MONTH, "%b %y") if periods > 31 * 24 else (Grain.DAY, "%-d %b %y")
        axis |= {"tickCount": TICKS[coarse], "format": pattern}
    elif grain is Grain.QUARTER:
        axis["labelExpr"] = "'Q' + utcquarter(datum.value) + ' ' + utcyear(datum.value)"
    if grain is not Grain.QUARTER:
        axis.setdefault("format", AXIS_FORMATS[grain])
    if periods > {
        Grain.MONTH: MOST_TICKS,
        Grain.WEEK: 5 * MOST_TICKS,
        Grain.DAY: 30 * MOST_TICKS,
        Grain.QUARTER: 40,
    }.get(grain, 10**9):
        axis |= {"tickCount": TICKS[Grain.YEAR], "format": "%Y"}
        axis.pop("labelExpr", None)
    return axis

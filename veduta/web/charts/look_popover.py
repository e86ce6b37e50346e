"""What the popover of a part of a drawing offers: choices taken at once, and boxes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from veduta.core.chart.choose import choose_kind
from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.drawing.picture import Picture
from veduta.core.chart.drawing.series_looks import has_lines, list_legend_entries
from veduta.core.chart.kinds import ChartShape
from veduta.core.chart.look import PARTS, PartName, SeriesLook
from veduta.core.chart.question import ask, narrow_value_colours, work_out
from veduta.core.chart.sentence import write_default_title
from veduta.core.chart.texts import VALUES, show_text
from veduta.core.chart.theme import get_both_colours, get_both_paper_colours
from veduta.core.chart.value_colours import ValueColours, make_value_keys
from veduta.core.data.languages import LANGUAGES
from veduta.core.errors import DefinitionProblem
from veduta.core.model.model import Model
from veduta.web.charts.choices import VALUES_SHOWN, OpenPopover, list_number_parameters
from veduta.web.charts.services import load_workspace_colours
from veduta.web.charts.setting_inputs import SettingInput, list_setting_inputs
from veduta.web.datasets.shape_store import Atlas
from veduta.web.palettes.models import load_paints

PLACES = [
    ("top", "Above"),
    ("bottom", "Below"),
    ("left", "Left"),
    ("right", "Right"),
    ("inside", "Inside"),
    ("none", "None"),
]
LABELS = [
    ("", "As fits"),
    ("level", "Level"),
    ("slanted", "Slanted"),
    ("upright", "Upright"),
    ("wrapped", "In lines"),
]
PICKS: dict[str, list[tuple[str, str, list[tuple[Any, str]]]]] = {
    "values": [
        ("begins", "Begins", [("", "As usual"), ("zero", "At zero"), ("data", "With the data")]),
        ("scale", "Scale", [("", "As usual"), ("linear", "Linear"), ("logarithmic", "Logarithmic")]),
    ],
    "names": [("labels", "Labels", LABELS)],
    "times": [("gaps", "Periods without rows", [("", "As usual"), ("bridged", "Are drawn through")])],
    "labels": [("says", "They say", [("", "Values"), ("name", "Names"), ("both", "Both")])],
    "axis": [
        ("grid", "Grid", [("", "As usual"), ("shown", "Shown"), ("none", "None")]),
        ("reversed", "Direction", [(False, "As usual"), (True, "Reversed")]),
        ("hidden", "Axis", [(False, "Shown"), (True, "Hidden")]),
    ],
    "title": [
        ("align", "Set", [("", "Left"), ("middle", "In the middle"), ("right", "Right")]),
        ("size", "Letters", [("small", "Small"), ("", "Usual"), ("large", "Large")]),
        ("hidden", "On dashboards the title is", [(False, "Shown"), (True, "Hidden")]),
    ],
    "legend": [("place", "Place", [("", "As usual"), *PLACES])],
    "entries": [("order", "Order", [("", "As drawn"), ("reversed", "The other way round"), ("names", "By name")])],
    "table": [
        ("numbered", "Rows", [(False, "As they are"), (True, "Numbered")]),
        ("held", "The first column", [(False, "Scrolls"), (True, "Is held")]),
        ("texts", "Long texts", [("", "As fits"), ("wrap", "Wrap"), ("line", "In one line")]),
        ("rows", "Rows stand", [("close", "Close"), ("", "As usual"), ("wide", "Wide")]),
        ("blank", "The same as above", [(False, "Is repeated"), (True, "Left blank")]),
        ("subtotals", "Subtotals stand", [("", "Below their group"), ("above", "Above it")]),
        ("folded", "Groups with subtotals are", [(False, "Open"), (True, "Folded at first")]),
    ],
    "whole": [
        ("size", "Letters", [("small", "Small"), ("", "Usual"), ("large", "Large")]),
        ("inner", "Inner distance", [("small", "Small"), ("", "Usual"), ("large", "Large")]),
    ],
}
"""By what a part is, its settings that are chosen: name, label, and each value with its words."""
PATTERNS: tuple[str, str, list[tuple[Any, str]]] = (
    "patterns",
    "Series differ by",
    [(False, "Colours"), (True, "Patterns too, for print in grey")],
)
"""A setting of the whole that is found where series are."""
BOXES: dict[str, list[tuple[str, str]]] = {
    "values": [("low", "From"), ("high", "to"), ("ticks", "About so many marks")],
    "names": [("letters", "Letters at most"), ("every", "Every so manieth")],
    "entries": [("most", "Entries at most; the last counts those left")],
}
COLOURS: dict[PartName, list[tuple[str, str]]] = {
    "whole": [("ground", "Ground"), ("border", "Line round it")],
    "labels": [("colour", "Colour")],
}
ENDS = [("low", "From a parameter"), ("high", "to a parameter")]
HEADINGS: dict[PartName, str] = {
    "series": "Series",
    "title": "Title and note",
    "along": "Axis of the first dimension",
    "value": "Value axis",
    "second": "Second value axis",
    "legend": "Legend",
    "labels": "Labels",
    "whole": "The whole drawing",
    "table": "The whole table",
}


@dataclass(frozen=True)
class Pick:
    """A setting that is chosen: its choices, each with its words, whether it is chosen, and the edit that takes it."""

    label: str
    choices: list[tuple[str, bool, dict[str, Any]]]


@dataclass(frozen=True)
class ColouredValue:
    """A value that a chart shows in a colour.

    Its words, the value as it is sent, its own colour in both themes if it has one, and the colour set in this chart.
    """

    words: str
    values: list[Any]
    tones: tuple[str, str] | None
    set_here: str


def make_series_context(opened: OpenPopover) -> dict[str, Any]:
    """The series of the drawing, each with how it looks where that differs from the usual."""
    answered = ask(opened.definition, opened.model, opened.context, atlas=Atlas())
    own = {each.name: each for each in opened.definition.look.series}
    names = list_legend_entries(answered.drawing)
    return {
        "template": "series",
        "series": [(name, _describe_series(own.get(name))) for name in names],
        "is_only": len(names) == 1,
        "has_lines": has_lines(answered.drawing),
        "patterns": _pick("whole", opened.definition.look.whole, *PATTERNS),
        "now": own.get(names[0]) if len(names) == 1 else None,
    }


def _describe_series(look: SeriesLook | None) -> str:
    if look is None:
        return ""
    width = f"{look.width:g} px" if look.width else ""
    opacity = f"{look.opacity:.0%}" if look.opacity else ""
    points = "points" if look.points else ""
    return ", ".join(filter(None, [look.colour, width, look.dash, points, opacity]))


def look_context(opened: OpenPopover) -> dict[str, Any]:
    """What the popover shows of a part, with one field open.

    Of an axis the field depends on what stands on it, values or names. Raises DefinitionProblem for a part that there
    is not."""
    definition, model, way = opened.definition, opened.model, opened.way
    name = next((each for each in PARTS if each == opened.field), None)
    if name is None:
        raise DefinitionProblem("A drawing has no such part.", hint="Load the page again.")
    if name == "series":
        return make_series_context(opened)
    now = getattr(definition.look, name)
    is_axis = name in ("along", "value", "second")
    kinds: list[str] = [way if way in BOXES else "values", "axis"] if is_axis else [name]
    if name == "along" and _has_lines_in_time(definition, model):
        kinds.insert(1, "times")
    has_entries = name == "legend" and way == "names"
    if has_entries:
        kinds.append("entries")
    differing = now.model_dump(exclude_defaults=True)
    return {
        "heading": HEADINGS[name],
        "texts": _list_texts(definition, model) if name == "title" else [],
        "coloured": _list_coloured(opened) if name == "legend" else [],
        "own_colours": definition.own_colours,
        "values": [(f"{{{each}}}", words) for each, (words, _) in VALUES.items()],
        "part": name,
        "is_axis": is_axis,
        "title": now.title if is_axis else None,
        "without_title": _edit(name, title=""),
        "picks": [_pick(name, now, *each) for kind in kinds for each in PICKS[kind]]
        + [_pick("whole", definition.look.whole, *PATTERNS)] * has_entries,
        "colours": [(key, label, getattr(now, key)) for key, label in COLOURS.get(name, ())],
        "which": _make_label_input(definition, model) if name == "labels" else None,
        "languages": list(LANGUAGES.items()) if name == "whole" else [],
        "language": now.language if name == "whole" else "",
        "paper": _find_paper(now.ground) if name == "whole" else "",
        "parameters": list_number_parameters(model) if "values" in kinds else [],
        "by_parameters": [(f"{end}_parameter", words, getattr(now, f"{end}_parameter")) for end, words in ENDS]
        if is_axis
        else [],
        "boxes": [(key, label, getattr(now, key)) for kind in kinds for key, label in BOXES.get(kind, ())],
        "as_usual": _edit(name, **dict.fromkeys(differing)) if differing else None,
    }


def _has_lines_in_time(definition: ChartDefinition, model: Model) -> bool:
    """Whether lines go along time, which may have gaps."""
    layers = choose_kind(definition, model)[0].list_layers(definition)
    is_in_time = bool(definition.groups) and definition.groups[0].is_time_axis
    return is_in_time and any(layer.how in ("line", "step") for layer in layers)


def _make_label_input(definition: ChartDefinition, model: Model) -> SettingInput | None:
    """Which marks have labels, where that can be chosen."""
    inputs = list_setting_inputs(choose_kind(definition, model)[0], definition, ChartShape(definition, model))
    return next((each for each in inputs if each.name == "labels"), None)


def _find_paper(ground: str) -> str:
    """What is said where a ground is not drawn as it was chosen."""
    chosen = load_paints().get_colour(ground)
    drawn = get_both_paper_colours(chosen)[0] if chosen else ""
    return f"Texts could not be read on {chosen}, so the ground is {drawn}." if drawn != chosen else ""


def _list_coloured(opened: OpenPopover) -> list[ColouredValue]:
    """The values that the chart shows in colours, as they are there now."""
    definition, model = opened.definition, opened.model
    kind, _, result = work_out(definition, model, opened.context)
    dimensions = kind.list_coloured_groups(definition)
    columns = [column for column in result.dimensions if column.grouping in dimensions]
    if not columns:
        return []
    picture, paints = Picture(definition, result), load_paints()
    everywhere = narrow_value_colours(definition, model, load_workspace_colours(definition, model))
    here = narrow_value_colours(definition, model, ValueColours())
    names, found = [column.name for column in columns], []
    for values in result.frame.select([column.key for column in columns]).unique(maintain_order=True).iter_rows():
        words = " · ".join(picture.label(column, value) for column, value in zip(columns, values, strict=True))
        colour = everywhere.find_colour(names, values)
        found.append(
            ColouredValue(
                words,
                list(make_value_keys(values)),
                get_both_colours(paints.get_colour(colour)) if colour else None,
                here.find_colour(names, values),
            )
        )
    return found[:VALUES_SHOWN]


def _list_texts(definition: ChartDefinition, model: Model) -> list[tuple[str, str, str, str, str]]:
    """The texts of a chart as they are written: edit, name, label, text, and what stands there without one."""
    usual = write_default_title(definition, model.schema)
    return [
        ("set_title", "title", "Title", show_text(definition.title, model), usual),
        ("set_note", "note", "Note below it", show_text(definition.note, model), "none"),
        ("set_foot", "foot", "Words under the drawing", show_text(definition.foot, model), "none"),
    ]


def _pick(part: PartName, now: Any, name: str, label: str, choices: list[tuple[Any, str]]) -> Pick:
    chosen = getattr(now, name)
    return Pick(label, [(words, value == chosen, _edit(part, **{name: value})) for value, words in choices])


def _edit(part: PartName, **changes: Any) -> dict[str, Any]:
    return {"edit": "set_look", "part": part, "changes": changes}

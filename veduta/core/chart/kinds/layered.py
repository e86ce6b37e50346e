"""Layers over one another, each measure drawn its own way, on one axis or two."""

from __future__ import annotations

from typing import Literal

from veduta.core.chart.definition import ChartDefinition, Layer
from veduta.core.chart.drawing.layer_context import BY_THE_FIRST, SHADED
from veduta.core.chart.drawing.layers import draw_layers
from veduta.core.chart.drawing.picture import Drawing, Picture
from veduta.core.chart.kinds.base import (
    ChartKind,
    ChartShape,
    StackingSettings,
    apply_stacking,
    make_setting,
    register_kind,
)
from veduta.core.chart.sentence_parts import SentencePart, join_parts
from veduta.core.query.measures import Measure

HOW_WORDS = {
    "bar": "bars",
    "line": "a line",
    "step": "a stepped line",
    "area": "an area",
    "dot": "dots",
    "tick": "short lines",
    "text": "numbers",
    "range": "bars from one to the other",
    "band": "a band between them",
    "link": "links between them",
}
BETWEEN_TWO = ("range", "band", "link")


class LayeredSettings(StackingSettings):
    direction: Literal["upright", "lying"] = make_setting(
        "Direction", "upright", {"upright": "Names below", "lying": "Names at the left"}
    )


@register_kind
class Layered(ChartKind):
    name = "layers"
    title = "layers, each measure its own way"
    article = ""
    theme = "Your own"
    highest_first = True
    use = "Lays bars, lines, dots and more over one another, on one value axis or two."
    glyph = (
        '<path opacity=".45" d="M4 21V12h5v9zM13.5 21V8h5v13zM23 21v-7h5v7z"/>'
        '<path fill="none" stroke="currentColor" stroke-width="2" d="M5 9l11-5 10 5"/>'
        '<circle cx="6" cy="9" r="2.2"/><circle cx="16" cy="4" r="2.2"/><circle cx="26" cy="9" r="2.2"/>'
    )
    settings = LayeredSettings

    def list_layers(self, definition: ChartDefinition) -> tuple[Layer, ...]:
        """The chart's layers, as far as it has their measures; measures of none are drawn like the last, or as bars."""
        count = len(definition.measures)
        found: list[Layer] = []
        for layer in definition.layers:
            there = tuple(i for i in layer.measures if i < count)
            if there:
                found.append(layer.model_copy(update={"measures": there}))
        drawn = {i for layer in found for i in layer.measures}
        single = [layer.how for layer in found if layer.how not in BETWEEN_TWO]
        others = [Layer(measures=(i,), how=single[-1] if single else "bar") for i in range(count) if i not in drawn]
        return (*found, *others)

    def start(self, definition: ChartDefinition, measures: list[str]) -> list[SentencePart]:
        """ "fare revenue as bars and passengers as a line on the right axis, in one drawing"."""
        parts: list[SentencePart] = []
        layers = self.list_layers(definition)
        for number, layer in enumerate(layers):
            if number:
                parts.append(SentencePart(" and " if number == len(layers) - 1 else ", "))
            parts += join_parts([measures[i] for i in layer.measures], "show", layer.measures)
            parts += [
                SentencePart(" as "),
                SentencePart(describe_layer(layer, self.set(definition).direction), "layer", number),
            ]
        return [*parts, SentencePart(", "), SentencePart("in one drawing", "as"), SentencePart(",")]

    def list_offered_settings(self, asked: ChartShape) -> list[str]:
        bars = any(layer.how == "bar" for layer in self.list_layers(asked.definition))
        return ["direction", "stacking"] if bars and asked.has_series else ["direction"]

    def adapt_definition(self, asked: ChartShape) -> tuple[ChartDefinition, str]:
        """Bars stand as those of a chart of bars; areas that cannot be stacked are lines."""
        definition, why = apply_stacking(self, asked)
        layers, notes = list(self.list_layers(definition)), [why] if why else []
        for i, layer in enumerate(layers):
            several = len(asked.groups) > 1 or len(layer.measures) > 1
            if layer.how == "area" and several and (why_not := asked.explain_no_whole(layer.measures)):
                layers[i] = layer.model_copy(update={"how": "line"})
                notes.append(f"{why_not} They are drawn as lines.")
        if self.set(definition).stacking == "full" and any(map(_is_total_on_shares, layers)):
            moved = {"axis": "second"}
            layers = [each.model_copy(update=moved) if _is_total_on_shares(each) else each for each in layers]
            notes.append("Totals have an axis of their own beside shares.")
        return definition.model_copy(update={"layers": tuple(layers)}), " ".join(dict.fromkeys(notes))

    def list_totals(self, definition: ChartDefinition) -> tuple[tuple[int, ...], ...]:
        undivided = any(layer.undivided for layer in self.list_layers(definition))
        return (BY_THE_FIRST,) if undivided and len(definition.drawn) > 1 else ()

    def list_unseen_measures(self, definition: ChartDefinition) -> tuple[Measure, ...]:
        return tuple(by for layer in self.list_layers(definition) if (by := _find_colour_measure(layer)))

    def draw(self, picture: Picture) -> Drawing:
        layers = self.list_layers(picture.definition)
        coloured = [number for number, layer in enumerate(layers) if _find_colour_measure(layer)]
        settings: LayeredSettings = picture.settings
        return draw_layers(
            picture,
            layers,
            lying=settings.direction == "lying",
            stacking=settings.stacked_as,
            coloured_by=dict(zip(coloured, picture.result.unseen, strict=True)),
        )


def _is_total_on_shares(layer: Layer) -> bool:
    return layer.undivided and layer.axis == "first"


def _find_colour_measure(layer: Layer) -> Measure | None:
    """What the colour of a layer's marks goes by, besides the series: a test, or a measure as a shade."""
    if layer.test:
        return Measure(formula=layer.test)
    return layer.shade if layer.how in SHADED else None


def describe_layer(layer: Layer, direction: str) -> str:
    """How a layer is drawn, in words."""
    words = HOW_WORDS[layer.how]
    if layer.shade and layer.how in SHADED:
        words = f"shaded {words}"
    if layer.dash in ("dashed", "dotted") and layer.how in ("line", "step", "link"):
        words = words.replace("links", f"{layer.dash} links").replace("a ", f"a {layer.dash} ", 1)
    words += " of all together" * layer.undivided
    if layer.axis == "second":
        words += " on the upper axis" if direction == "lying" else " on the right axis"
    return words

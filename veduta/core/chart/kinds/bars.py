"""Bars, upright and lying: stacked, side by side or to 100%."""

from __future__ import annotations

from veduta.core.chart.definition import ChartDefinition, Layer
from veduta.core.chart.drawing.labels import WHICH, Which
from veduta.core.chart.drawing.layers import draw_layers
from veduta.core.chart.drawing.picture import Drawing, Picture
from veduta.core.chart.kinds.base import (
    ChartKind,
    ChartShape,
    FitScore,
    StackingSettings,
    apply_stacking,
    make_setting,
    register_kind,
)
from veduta.core.data.fields import DataType

MANY_NAMES = 4
"""Names from which on lying bars leave more room for them."""
MOST_BARS = 60


class BarSettings(StackingSettings):
    labels: Which = make_setting("Values on bars", "usual", WHICH)


class Bars(ChartKind):
    """What upright and lying bars share."""

    article = ""
    theme = "To compare"
    highest_first = True
    settings = BarSettings

    def describe(self, definition: ChartDefinition) -> str:
        if not (definition.split or len(definition.by) > 1 or len(definition.measures) > 1):
            return self.title
        stacking = self.set(definition).stacking
        if stacking == "usual":
            stacking = "stacked" if len(definition.measures) == 1 else "grouped"
        return f"{self.title} to 100%" if stacking == "full" else f"{stacking} {self.title}"

    def list_offered_settings(self, asked: ChartShape) -> list[str]:
        return ["stacking", "labels"] if asked.has_series else ["labels"]

    def list_layers(self, definition: ChartDefinition) -> tuple[Layer, ...]:
        return (Layer(measures=tuple(range(len(definition.measures))), how="bar"),)

    def adapt_definition(self, asked: ChartShape) -> tuple[ChartDefinition, str]:
        return apply_stacking(self, asked)

    def draw(self, picture: Picture) -> Drawing:
        stacking = picture.settings.stacked_as
        lying = self.lies(picture.definition)
        drawing = draw_layers(
            picture,
            self.list_layers(picture.definition),
            lying=lying,
            stacking=stacking,
            labels=picture.settings.labels,
        )
        series = len({row["series"] for row in drawing.rows})
        if series > 1 and stacking == "full" and any((row["value"] or 0) < 0 for row in drawing.rows):
            drawing.notes.append("Shares to 100% do not make sense with negative values.")
        return drawing


@register_kind
class UprightBars(Bars):
    name = "bar"
    title = "vertical bars"
    use = "Compares a few values, or periods one by one, from a common zero line."
    glyph = '<path d="M4 21V12h5v9zM13.5 21V5h5v16zM23 21V9h5v12z"/>'

    def fit_score(self, asked: ChartShape) -> FitScore | None:
        if asked.first and asked.first.grain:
            return FitScore(0.75, "a few fixed values, so vertical bars")
        return FitScore(0.6, "a few values, so vertical bars")


@register_kind
class LyingBars(Bars):
    name = "lying"
    title = "horizontal bars"
    use = "Ranks things whose names want to be read."
    glyph = '<path d="M3 4h24v4H3zM3 10h16v4H3zM3 16h10v4H3z"/>'

    def lies(self, definition: ChartDefinition) -> bool:
        return True

    def fit_score(self, asked: ChartShape) -> FitScore | None:
        first = asked.first
        if first is None or first.grain or asked.model.schema[first.field].kind is not DataType.TEXT:
            return None
        if asked.model.get_facts(first.field).distinct <= MANY_NAMES:
            return None
        return FitScore(0.65, "names to read, so horizontal bars")

"""Lines and areas along periods or other ordered values."""

from __future__ import annotations

from typing import Literal

from veduta.core.chart.definition import ChartDefinition, Layer
from veduta.core.chart.drawing.downsampling import thin_points
from veduta.core.chart.drawing.labels import WHICH, Which
from veduta.core.chart.drawing.layers import draw_layers
from veduta.core.chart.drawing.picture import Drawing, Picture, Settings
from veduta.core.chart.kinds.base import ChartKind, ChartShape, FitScore, make_setting, register_kind


class LineSettings(Settings):
    curve: Literal["straight", "stepped"] = make_setting(
        "From point to point", "straight", {"straight": "Straight", "stepped": "In steps"}
    )
    scale: Literal["linear", "logarithmic"] = make_setting(
        "Value axis", "linear", {"linear": "In equal steps", "logarithmic": "Logarithmic"}
    )
    labels: Which = make_setting("Values on the line", "usual", WHICH)
    names: Literal["legend", "ends"] = make_setting(
        "Names of series", "legend", {"legend": "In the legend", "ends": "Where lines end"}
    )


@register_kind
class LineChart(ChartKind):
    name = "line"
    title = "line"
    theme = "Over time"
    use = "Shows how something goes on from period to period; gaps stay gaps."
    glyph = '<path fill="none" stroke="currentColor" stroke-width="2.4" d="M3 18l8-7 7 4 11-11"/>'
    settings = LineSettings
    most_groups = 300_000

    def fit_score(self, asked: ChartShape) -> FitScore | None:
        if asked.first and asked.first.is_time_axis:
            return FitScore(0.8, "periods in order, so a line")
        return None

    def list_offered_settings(self, asked: ChartShape) -> list[str]:
        return ["curve", "scale", "labels", *(["names"] if asked.has_series else [])]

    def describe(self, definition: ChartDefinition) -> str:
        chosen: LineSettings = self.set(definition)
        stepped = "stepped " * (chosen.curve == "stepped")
        return f"{stepped}line" + " on a logarithmic axis" * (chosen.scale == "logarithmic")

    def list_layers(self, definition: ChartDefinition) -> tuple[Layer, ...]:
        how: Literal["step", "line"] = "step" if self.set(definition).curve == "stepped" else "line"
        return (Layer(measures=tuple(range(len(definition.measures))), how=how),)

    def draw(self, picture: Picture) -> Drawing:
        logarithmic = picture.settings.scale == "logarithmic"
        settings: LineSettings = picture.settings
        notes: list[str] = []
        drawing = draw_layers(
            thin_points(picture, notes),
            self.list_layers(picture.definition),
            logarithmic=logarithmic,
            labels=settings.labels,
            ends_named=settings.names == "ends",
        )
        drawing.notes += notes
        return drawing


class AreaSettings(Settings):
    stacking: Literal["stacked", "full"] = make_setting(
        "Several series", "stacked", {"stacked": "Stacked", "full": "To 100%"}
    )


@register_kind
class AreaChart(ChartKind):
    name = "area"
    title = "area"
    article = "an "
    theme = "Over time"
    use = "Shows how parts make up a whole from period to period."
    glyph = '<path d="M3 21v-6l8-6 7 3 11-8v17z"/>'
    settings = AreaSettings

    def check_extra_constraints(self, asked: ChartShape) -> str:
        why_not = asked.explain_no_whole() if asked.has_series else ""
        return f"{why_not} Lines show them." if why_not else ""

    def list_offered_settings(self, asked: ChartShape) -> list[str]:
        return ["stacking"] if asked.has_series else []

    def describe(self, definition: ChartDefinition) -> str:
        if not (definition.split or len(definition.by) > 1 or len(definition.measures) > 1):
            return self.title
        stacked = self.set(definition).stacking == "stacked"
        return "stacked area" if stacked else "area to 100%"

    def list_layers(self, definition: ChartDefinition) -> tuple[Layer, ...]:
        return (Layer(measures=tuple(range(len(definition.measures))), how="area"),)

    def draw(self, picture: Picture) -> Drawing:
        return draw_layers(picture, self.list_layers(picture.definition), stacking=picture.settings.stacking)

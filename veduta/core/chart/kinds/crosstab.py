"""A crosstab: some dimensions across, the others down, with totals and subtotals of both."""

from __future__ import annotations

from typing import Literal

from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.drawing.crosstab import draw_crosstab
from veduta.core.chart.drawing.picture import Drawing, Picture, Settings
from veduta.core.chart.kinds.base import MOST_SERIES, ChartKind, ChartShape, FitScore, make_setting, register_kind

SIDES = {"both": "At the right and below", "right": "At the right", "below": "Below", "none": "None"}


class CrosstabSettings(Settings):
    across: Literal["1", "2", "3"] = make_setting(
        "Dimensions across", "1", {"1": "The last", "2": "The last two", "3": "The last three"}
    )
    measures: Literal["across", "down"] = make_setting(
        "Measures", "across", {"across": "Beside one another", "down": "Below one another"}
    )
    totals: Literal["both", "right", "below", "none"] = make_setting("Totals", "both", SIDES)


@register_kind
class Crosstab(ChartKind):
    name = "crosstab"
    title = "crosstab"
    theme = "To read"
    use = "Sets dimensions against others, with the totals of both."
    glyph = (
        '<path d="M12 3h17v4H12zM3 10h6v11H3z"/>'
        '<path fill="none" stroke="currentColor" stroke-width="1.8" stroke-dasharray="5 1" '
        'd="M12 11.5h17M12 15.8h17M12 20h17"/>'
    )
    dimensions = (2, None)
    numbers = False
    panels = "told"
    has_subtotals = True
    in_cells = ("bar", "shade")
    settings = CrosstabSettings

    def explain_unsupported(self, asked: ChartShape) -> str:
        few = len(asked.definition.groups) < 2
        return "A crosstab needs two dimensions." if few else super().explain_unsupported(asked)

    def fit_score(self, asked: ChartShape) -> FitScore | None:
        further = [asked.count_values(group) for group in asked.groups[1:] if not group.grain]
        if len(asked.definition.by) == 2 or any(count > MOST_SERIES for count in further):
            return FitScore(0.85, "two dimensions with many values, so a crosstab")
        return None

    def list_offered_settings(self, asked: ChartShape) -> list[str]:
        said = {"across": len(asked.definition.groups) > 2, "measures": len(asked.definition.measures) > 1}
        return [name for name in super().list_offered_settings(asked) if said.get(name, True)]

    def count_across(self, definition: ChartDefinition) -> int:
        return min(int(self.set(definition).across), len(definition.groups) - 1)

    def list_totals(self, definition: ChartDefinition) -> tuple[tuple[int, ...], ...]:
        """The totals of both sides, and of outer dimensions where these are needed.

        They are where groups close with subtotals or rows are sorted by a measure."""
        positions = tuple(range(len(definition.groups)))
        first_across = len(positions) - self.count_across(definition)
        down, across = positions[:first_across], positions[first_across:]
        sides, has_all = self.set(definition).totals, definition.totals == "all"
        sort = definition.sort
        is_sorted = sort is not None and sort.by == "measure"
        downs = _combine_totals(down, has_all or (is_sorted and len(down) > 1), sides in ("both", "below"))
        acrosses = _combine_totals(across, has_all or bool(sort and sort.at), is_sorted or sides in ("both", "right"))
        return tuple((*a, *b) for a in downs for b in acrosses if len(a) + len(b) < len(positions))

    def draw(self, picture: Picture) -> Drawing:
        return draw_crosstab(picture, self.count_across(picture.definition))


def _combine_totals(positions: tuple[int, ...], inner: bool, total: bool) -> list[tuple[int, ...]]:
    """The dimensions of a side, those outside of them if the `inner` ones are totalled, and none for its `total`."""
    depths = range(len(positions) - 1, 0, -1) if inner else ()
    return [positions, *(positions[:depth] for depth in depths), *([()] if total else [])]

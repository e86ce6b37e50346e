"""A specification of one's own, in the open chart grammar, over the chart's answer."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from typing import Any

from pydantic import field_validator

from veduta.core.calendar import Grouping
from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.drawing.marks import make_marks
from veduta.core.chart.drawing.picture import SCHEMA, Drawing, Picture, Settings
from veduta.core.chart.grammar.checking import check_specification
from veduta.core.chart.kinds.base import CHART_KINDS, ChartKind, ChartShape, get_kind, make_setting, register_kind
from veduta.core.query.query import Column

FIRST = "bar"
"""The kind it begins with if no other is known."""
ALWAYS = ("said", "on")
"""What rows have besides the fields: what a screen reader says, and whether they are drawn at full strength."""
SPECIAL = re.compile(r"[.\[\]\"'\\]+")
"""What the grammar reads in the name of a field as more than a name."""


class OwnSettings(Settings):
    marks_of: str = make_setting("Marks of", FIRST, max_length=40)

    @field_validator("marks_of")
    @classmethod
    def _is_another(cls, name: str) -> str:
        if name not in CHART_KINDS or name == "own":
            raise ValueError("there is no such kind")
        return name


@register_kind
class OwnSpecification(ChartKind):
    name = "own"
    title = "own specification"
    article = "an "
    theme = "Your own"
    use = "Draws what you write in the open chart grammar; every number is still the chart's."
    glyph = (
        '<path fill="none" stroke="currentColor" stroke-width="2" d="M11 4c-4 0-2 7-6 8 4 1 2 8 6 8"/>'
        '<path fill="none" stroke="currentColor" stroke-width="2" d="M21 4c4 0 2 7 6 8-4 1-2 8-6 8"/>'
        '<circle cx="12.500" cy="12" r="1.400"/><circle cx="19.500" cy="12" r="1.400"/>'
    )
    measures = (1, None)
    dimensions = (0, None)
    panels = "none"
    numbers = False
    settings = OwnSettings
    dressed = False

    def check_extra_constraints(self, asked: ChartShape) -> str:
        return "" if asked.definition.specification else self.get_base_kind(asked.definition).explain_unsupported(asked)

    def list_offered_settings(self, asked: ChartShape) -> list[str]:
        return []

    def get_base_kind(self, definition: ChartDefinition) -> ChartKind:
        """The kind whose marks are there to be drawn, and whose drawing it begins with."""
        return get_kind(self.set(definition).marks_of)

    def adapt_definition(self, asked: ChartShape) -> tuple[ChartDefinition, str]:
        return self.get_base_kind(asked.definition).adapt_definition(asked)

    def sort(self, definition: ChartDefinition) -> Any:
        return self.get_base_kind(definition).sort(definition)

    def list_totals(self, definition: ChartDefinition) -> tuple[tuple[int, ...], ...]:
        return self.get_base_kind(definition).list_totals(definition)

    def list_unseen_measures(self, definition: ChartDefinition) -> Any:
        return self.get_base_kind(definition).list_unseen_measures(definition)

    def build_secondary_query(self, definition: ChartDefinition, model: Any, extra: tuple[Any, ...] = ()) -> Any:
        return self.get_base_kind(definition).build_secondary_query(definition, model, extra)

    def list_coloured_groups(self, definition: ChartDefinition) -> tuple[Grouping, ...]:
        return self.get_base_kind(definition).list_coloured_groups(definition)

    def draw(self, picture: Picture) -> Drawing:
        base = self.get_base_kind(picture.definition)
        picture.settings = base.set(picture.definition)
        drawn = base.draw(picture)
        if not picture.definition.specification:
            return drawn
        spec = {"data": {"name": "rows"}, **check_specification(picture.definition.specification), "$schema": SCHEMA}
        if not {"concat", "hconcat", "vconcat", "facet", "repeat"} & spec.keys():
            spec = {"width": "container", "height": "container", **spec}
        return Drawing(spec, make_rows(picture), named={"marks": drawn.rows}, notes=drawn.notes)


def list_field_names(columns: Sequence[str]) -> list[str]:
    """What an own specification calls the columns of an answer: by their names, each once."""
    names: list[str] = []
    for column in columns:
        plain = SPECIAL.sub(" ", column).strip() or "field"
        name, number = plain, 2
        while name in names:
            name, number = f"{plain} {number}", number + 1
        names.append(name)
    return names


def make_rows(picture: Picture) -> list[dict[str, Any]]:
    """The answer's rows by the names of their columns, each with its point, and what a tooltip and a screen reader say.

    Days are written as such, other values of dimensions in words."""
    result = picture.result
    names = list_field_names([column.name for column in result.columns])
    rows = []
    for mark, row in zip(
        make_marks(picture, picture.measures[:1], apart=False), result.frame.iter_rows(named=True), strict=True
    ):
        values = {
            name: row[column.key]
            if column.is_measure
            else _simplify(picture, column, result.get_value(row, column.key))
            for name, column in zip(names, result.columns, strict=True)
        }
        rows.append({**values, "said": mark.said, "tip": mark.tip, "point": mark.point, "on": int(mark.on)})
    return rows


def _simplify(picture: Picture, column: Column, value: Any) -> Any:
    """A value of a dimension: times as the grammar reads them, numbers as such, others in words."""
    if column.dimension.is_time_axis and hasattr(value, "isoformat"):
        moment: str = value.isoformat()
        return moment if "T" in moment else f"{moment}T00:00:00"
    is_number = isinstance(value, int | float) and not isinstance(value, bool) and column.dimension.is_plain
    return value if is_number or value is None else picture.label(column, value)


def write_starting_text(drawing: Drawing) -> str:
    """A drawing's specification as a text to begin with; it draws the marks that the kind has made."""
    spec = {**(drawing.spec or {}), "data": {"name": "marks"}}
    for size in ("width", "height"):
        if spec.get(size) == "container":
            del spec[size]
    return json.dumps(spec, indent=2, ensure_ascii=False)

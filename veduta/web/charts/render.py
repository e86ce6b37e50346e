"""An answered chart as what the browser needs: a specification with rows, or HTML."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from typing import Any

from django.template.loader import render_to_string
from django.utils.html import format_html

from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.drawing.cells import TableLayout
from veduta.core.chart.drawing.picture import Picture
from veduta.core.chart.kinds.table import draw_table
from veduta.core.chart.question import AnsweredChart
from veduta.core.chart.theme import find_dark_colours
from veduta.web.charts.format_samples import list_samples
from veduta.web.images.services import get_pictures

MOST_ROWS_BELOW = 500


def make_chart_data(answered: AnsweredChart, said_first: Sequence[str] = ()) -> dict[str, Any]:
    """A chart's data for the page, as JSON.

    `spec` and `rows` for drawn charts, `html` for figures, tables and crosstabs, and where there is nothing to draw.
    `said_first` are notes of rules."""
    drawing = answered.drawing
    data: dict[str, Any] = {
        "key": _render_conditions_key(answered),
        "kind": answered.kind.name,
        "parts": [asdict(part) for part in drawing.parts],
        "sheet": asdict(drawing.sheet),
        "title": answered.title,
        "note": answered.note,
        "foot": answered.foot,
        "title_look": answered.definition.look.title.model_dump(),
        "sentence": answered.sentence,
        "notes": [*said_first, *answered.notes],
    }
    if not answered.result.rows_read and answered.result.dimensions:
        there = answered.result.rows_there
        why = (
            "No rows pass the filters. Loosen one of them."
            if there
            else " ".join(said_first) or "There are no rows here."
        )
        return data | {"html": format_html('<p class="notice">{}</p>', why)}
    if drawing.spec:
        columns = [
            {"name": c.name, "time": bool(c.grouping and c.grouping.is_time_axis)} for c in answered.result.columns
        ]
        drawn = {"spec": drawing.spec, "rows": drawing.rows, "columns": columns}
        panels = {"panels": asdict(drawing.panels)} if drawing.panels else {}
        panels |= {"named": drawing.named} if drawing.named else {}
        drawn["dark"] = find_dark_colours(drawing.spec)
        drawn["series"] = answered.series
        return data | drawn | panels | {"along": drawing.along, "least_height": drawing.least_height}
    if drawing.figures is not None:
        return data | {"html": render_to_string("charts/figures.html", {"figures": drawing.figures}), "figures": True}
    if drawing.words is not None:
        return data | {"html": render_to_string("charts/words.html", {"words": drawing.words})}
    assert drawing.table is not None, "what is drawn is one of these"
    return data | {"html": _render_table(drawing.table, answered.title)}


def _render_table(layout: TableLayout, title: str, more: int = 0) -> str:
    """A table as HTML; of `more` rows is said that they are not listed."""
    pictures = get_pictures({cell.pictured for line in layout.lines for cell in line.headings if cell.pictured})
    context = {"layout": layout, "title": title, "more": more, "pictures": pictures}
    return render_to_string("charts/table.html", context)


def _render_conditions_key(answered: AnsweredChart) -> str:
    """The conditional formats in words, if they are to be listed beside the chart."""
    if not answered.definition.look.whole.lists_conditions:
        return ""
    samples = list_samples(zip(answered.definition.conditional, answered.format_words, strict=True))
    return render_to_string("charts/conditions_key.html", {"samples": samples}) if samples else ""


def shows_pictures(answered: AnsweredChart) -> bool:
    """Whether pictures of the workspace stand in a table's headings."""
    table = answered.drawing.table
    return table is not None and any(cell.pictured for line in table.lines for cell in line.headings)


def render_rows(answered: AnsweredChart, limit: int = MOST_ROWS_BELOW) -> str:
    """The rows in the chart as an HTML table (also what screen readers read)."""
    result = answered.result
    layout = draw_table(Picture(answered.definition, result)).table
    assert layout is not None, "a table is drawn as one"
    layout.rows, layout.depths = layout.rows[:limit], layout.depths[:limit]
    layout.rows_there = 0
    return _render_table(layout, answered.title, more=max(0, result.frame.height - len(layout.rows)))


def dump_definition(definition: ChartDefinition) -> dict[str, Any]:
    return definition.model_dump(mode="json")

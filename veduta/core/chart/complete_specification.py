"""A drawing as a complete specification of the open chart grammar, which other programs draw as it is here."""

from __future__ import annotations

from typing import Any

from veduta.core.chart.drawing.picture import Drawing
from veduta.core.chart.question import AnsweredChart
from veduta.core.chart.theme import build_themes
from veduta.core.errors import DefinitionProblem

WIDTH, HEIGHT = 760, 420
ONLY_HERE = ("tip",)
"""What rows hold for the page alone."""


def complete(answered: AnsweredChart) -> dict[str, Any]:
    """The specification with its rows, its title, what it says in words, its look and a size of its own.

    Raises DefinitionProblem for what the grammar cannot draw."""
    drawing = answered.drawing
    if drawing.spec is None:
        raise DefinitionProblem(
            f"A {answered.kind.title} is not drawn in the chart grammar.",
            hint="Download the chart's rows, or draw it another way.",
        )
    rows = _drop_tips(drawing.rows)
    sized = {"width": WIDTH, "height": HEIGHT} if drawing.panels is None else {}
    own = {name: value for name, value in drawing.spec.items() if value != "container"}
    return {
        **sized,
        **own,
        "title": _build_title(answered),
        "description": answered.sentence,
        "data": {"name": "rows", "values": rows},
        **({"data": own["data"], "datasets": _name_rows(drawing, rows)} if drawing.named else {}),
        "config": build_themes()["light"] | {"background": "white"},
        "usermeta": {"notes": answered.notes},
    }


def _build_title(answered: AnsweredChart) -> Any:
    if not answered.note:
        return answered.title
    return {"text": answered.title, "subtitle": answered.note.splitlines()}


def _drop_tips(rows: list[dict[str, Any]]) -> list[dict[str, Any]]:
    return [{name: value for name, value in row.items() if name not in ONLY_HERE} for row in rows]


def _name_rows(drawing: Drawing, rows: list[dict[str, Any]]) -> dict[str, Any]:
    """All data that a specification of one's own may use, by its names."""
    own = (drawing.spec or {}).get("datasets", {})
    return {**own, "rows": rows, **{name: _drop_tips(each) for name, each in drawing.named.items()}}

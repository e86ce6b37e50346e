"""The guide's page of kinds, made from what they declare: `make guide` writes it."""

from __future__ import annotations

from pathlib import Path

from veduta.core.chart.kinds import CHART_KINDS, THEMES, ChartKind
from veduta.core.phrases import pluralise

PAGE = Path(__file__).parents[3] / "docs" / "guide" / "8-kinds.md"
HEADINGS = "| Kind | What it is good for | It needs | What can be set |"
BEGINS, ENDS = "<!-- kinds -->", "<!-- end -->"


def needs(kind: ChartKind) -> str:
    """How many measures and dimensions a kind takes: "1 or 2 measures, 1 dimension"."""
    measures, dimensions = _describe_range(*kind.measures, "measure"), _describe_range(*kind.dimensions, "dimension")
    return f"{measures}, {dimensions}{', the first a date' if kind.dated else ''}"


def _describe_range(least: int, most: int | None, name: str) -> str:
    if most == 0:
        return f"no {name}s"
    if most is None:
        return f"any number of {name}s" if not least else f"{pluralise(least, name)} or more"
    if least == most:
        return pluralise(least, name)
    return f"{least} {'or' if most == least + 1 else 'to'} {pluralise(most, name)}"


def write_kinds_page(page: str) -> str:
    """The page with the tables of kinds between its marks as the kinds declare them now."""
    before, _, rest = page.partition(BEGINS)
    after = rest.partition(ENDS)[2]
    return f"{before}{BEGINS}\n{_write_tables()}{ENDS}{after}"


def _write_tables() -> str:
    lines = []
    for theme in THEMES:
        kinds = [kind for kind in CHART_KINDS.values() if kind.theme == theme]
        if kinds:
            lines += [f"## {theme}\n", HEADINGS, "|---|---|---|---|"]
            lines += [f"| {_write_row(kind)} |" for kind in sorted(kinds, key=lambda kind: kind.title)]
            lines.append("")
    return "\n".join(lines) + "\n"


def _write_row(kind: ChartKind) -> str:
    labels = [f"{field.title}".lower() for field in kind.settings.model_fields.values()]
    title = kind.title[0].upper() + kind.title[1:]
    return " | ".join([f"**{title}**", kind.use, needs(kind), ", ".join(labels) or "–"])


if __name__ == "__main__":
    PAGE.write_text(write_kinds_page(PAGE.read_text()))

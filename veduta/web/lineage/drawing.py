"""What is made from what as a drawing: sources, datasets, charts and dashboards."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

from django.urls import reverse

from veduta.web.accounts.models import User
from veduta.web.charts.models import Chart
from veduta.web.dashboards.access import list_dashboards, may_edit
from veduta.web.dashboards.models import Dashboard
from veduta.web.datasets.models import Dataset
from veduta.web.datasets.row_access import is_bound
from veduta.web.datasets.upstream import list_sources


@dataclass
class LineageBox:
    """One thing in the lineage drawing, or several folded into one, with its place; `found_by` are all its names."""

    key: str
    what: str
    name: str
    address: str
    note: str = ""
    current: bool = False
    found_by: str = ""
    level: int = 0
    x: float = 0
    y: float = 0


@dataclass
class LineageDrawing:
    """The lineage as boxes and the curves between them, in a picture of this size."""

    boxes: list[LineageBox]
    curves: list[str]
    width: float
    height: float
    headings: list[tuple[float, str]]


BOX_WIDTH, BOX_HEIGHT, GAP_X, GAP_Y, TOP = 186, 44, 74, 14, 40
FOLDED_FROM = 5
"""So many charts of one dataset are folded into one box."""
SWEEPS = 12


def draw(user: User, focus: Dataset | None = None, unfolded: bool = False) -> LineageDrawing:
    """All sources, datasets, charts and dashboards, or only those upstream and downstream of a dataset.

    As a user may know them: rows are counted where no rule hides some, and dashboards named that are shared with them.
    The charts of each dataset are folded into one box if they are many, unless they are asked for `unfolded`."""
    boxes, edges = _build_graph(user)
    if focus:
        near = _find_connected(f"d{focus.pk}", edges)
        boxes = {key: box for key, box in boxes.items() if key in near}
        boxes[f"d{focus.pk}"].current = True
        edges = {(a, b) for a, b in edges if a in near and b in near}
    for box in boxes.values():
        box.found_by = box.name
    if not unfolded:
        boxes, edges = _fold(boxes, edges)
    return _lay_out(boxes, edges)


def _fold(
    boxes: dict[str, LineageBox], edges: set[tuple[str, str]]
) -> tuple[dict[str, LineageBox], set[tuple[str, str]]]:
    """With the charts of each dataset in one box where they are many; the box leads to the dataset's own lineage."""
    charts: dict[str, list[str]] = {}
    for a, b in sorted(edges):
        if boxes[b].what == "chart":
            charts.setdefault(a, []).append(b)
    inside: dict[str, str] = {}
    for dataset, keys in charts.items():
        if len(keys) < FOLDED_FROM:
            continue
        group, names = f"g{dataset}", [boxes[key].name for key in keys]
        address = f"{reverse('lineage')}?dataset={dataset[1:]}&unfolded=1"
        boxes[group] = LineageBox(
            group, "chart", f"{len(keys)} charts", address, f"of {boxes[dataset].name}", found_by=" | ".join(names)
        )
        inside |= dict.fromkeys(keys, group)
    kept = {key: box for key, box in boxes.items() if key not in inside}
    return kept, {(inside.get(a, a), inside.get(b, b)) for a, b in edges}


def _build_graph(user: User) -> tuple[dict[str, LineageBox], set[tuple[str, str]]]:
    boxes: dict[str, LineageBox] = {}
    edges: set[tuple[str, str]] = set()
    for dataset in Dataset.objects.filter(deleted_at=None).select_related("current"):
        key = f"d{dataset.pk}"
        rows = "no rows yet"
        if dataset.current:
            rows = "some rows, by a rule" if is_bound(dataset, user) else f"{dataset.current.rows:,} rows"
        boxes[key] = LineageBox(key, "dataset", dataset.name, reverse("dataset", args=[dataset.pk]), rows, level=1)
        if not dataset.source_id and dataset.current:
            name = dataset.current.file_name or "Pasted rows"
            boxes[f"s{key}"] = LineageBox(
                f"s{key}", "source", name, reverse("dataset", args=[dataset.pk]), dataset.source_words
            )
            edges.add((f"s{key}", key))
        edges |= {(f"d{source}", key) for source in list_sources(dataset)}
    for chart in Chart.objects.filter(deleted_at=None, dataset__deleted_at=None):
        key = f"c{chart.pk}"
        boxes[key] = LineageBox(key, "chart", str(chart), reverse("chart", args=[chart.pk]))
        edges |= {(f"d{dataset}", key) for dataset in (chart.dataset_id, *chart.events_from)}
    visible = set(list_dashboards(user).values_list("pk", flat=True))
    for dashboard in Dashboard.objects.filter(deleted_at=None):
        key = f"b{dashboard.pk}"
        if dashboard.pk in visible:
            page = "dashboard-edit" if may_edit(user, dashboard) else "dashboard"
            boxes[key] = LineageBox(key, "dashboard", dashboard.name, reverse(page, args=[dashboard.pk]))
        else:
            boxes[key] = LineageBox(key, "dashboard", "A dashboard", "", "not shared with you")
        edges |= {(f"c{chart}", key) for chart in dashboard.charts_of_draft}
    return boxes, {(a, b) for a, b in edges if a in boxes and b in boxes}


def _find_connected(key: str, edges: set[tuple[str, str]]) -> set[str]:
    connected = {key}
    for forward in (True, False):
        reached = {key}
        while more := {(b if forward else a) for a, b in edges if (a if forward else b) in reached} - reached:
            reached |= more
        connected |= reached
    return connected


def _lay_out(boxes: dict[str, LineageBox], edges: set[tuple[str, str]]) -> LineageDrawing:
    """Columns from left to right; in each the boxes stand near what they are made from."""
    deepest = _choose_levels(boxes, edges)
    levels: dict[int, list[LineageBox]] = {}
    for box in sorted(boxes.values(), key=lambda box: box.name.casefold()):
        levels.setdefault(box.level, []).append(box)
    _bring_near(levels, edges)
    tallest = max(map(len, levels.values()), default=0)
    for level, column in levels.items():
        start = TOP + (tallest - len(column)) * (BOX_HEIGHT + GAP_Y) / 2
        for i, box in enumerate(column):
            box.x, box.y = level * (BOX_WIDTH + GAP_X), start + i * (BOX_HEIGHT + GAP_Y)
    curves = [_draw_curve(boxes[a], boxes[b]) for a, b in sorted(edges)]
    width = (max(levels, default=0) + 1) * (BOX_WIDTH + GAP_X) - GAP_X
    named = {0: "Sources", 1: "Datasets", deepest + 1: "Charts", deepest + 2: "Dashboards"}
    headings: list[tuple[float, str]] = [
        (level * (BOX_WIDTH + GAP_X), name) for level, name in named.items() if level < 2 or level in levels
    ]
    return LineageDrawing(list(boxes.values()), curves, width, TOP + tallest * (BOX_HEIGHT + GAP_Y), headings)


def _choose_levels(boxes: dict[str, LineageBox], edges: set[tuple[str, str]]) -> int:
    """Sets each box's column, a dataset's right of those it is made from. Returns the last column of datasets."""
    for _ in boxes:
        moved = False
        for a, b in edges:
            if boxes[b].what == "dataset" and boxes[b].level <= boxes[a].level:
                boxes[b].level, moved = boxes[a].level + 1, True
        if not moved:
            break
    deepest = max((box.level for box in boxes.values() if box.what == "dataset"), default=1)
    for box in boxes.values():
        box.level = {"chart": deepest + 1, "dashboard": deepest + 2}.get(box.what, box.level)
    return deepest


def _bring_near(levels: dict[int, list[LineageBox]], edges: set[tuple[str, str]]) -> None:
    """Orders each column's boxes so that few lines cross.

    By the mean position of each box's neighbours, before, then behind, and so on; the order with the fewest crossings
    stays. Source: the barycentre method of Sugiyama, Tagawa and Toda (1981)."""
    keys = [box.key for column in levels.values() for box in column]
    before = {key: [a for a, b in edges if b == key] for key in keys}
    after = {key: [b for a, b in edges if a == key] for key in keys}
    rank = {box.key: i for column in levels.values() for i, box in enumerate(column)}
    best, fewest = {level: list(column) for level, column in levels.items()}, _count_crossings(edges, levels, rank)
    for sweep in range(SWEEPS):
        neighbours = after if sweep % 2 else before
        for level in sorted(levels, reverse=bool(sweep % 2)):
            levels[level].sort(
                key=lambda box: (_find_middle(neighbours[box.key], rank, rank[box.key]), box.name.casefold())
            )
            rank |= {box.key: i for i, box in enumerate(levels[level])}
        crossings = _count_crossings(edges, levels, rank)
        if crossings < fewest:
            best, fewest = {level: list(column) for level, column in levels.items()}, crossings
    levels.update(best)


def _count_crossings(edges: set[tuple[str, str]], levels: dict[int, list[LineageBox]], rank: dict[str, int]) -> int:
    """How many pairs of curves between the same two columns cross."""
    level = {box.key: number for number, column in levels.items() for box in column}
    between: dict[tuple[int, int], list[tuple[int, int]]] = {}
    for a, b in edges:
        between.setdefault((level[a], level[b]), []).append((rank[a], rank[b]))
    pairs = (pair for lines in between.values() for pair in itertools.combinations(lines, 2))
    return sum((a - c) * (b - d) < 0 for (a, b), (c, d) in pairs)


def _find_middle(keys: list[str], rank: dict[str, int], own: int) -> float:
    return sum(rank[key] for key in keys) / len(keys) if keys else own


def _draw_curve(a: LineageBox, b: LineageBox) -> str:
    x, y = a.x + BOX_WIDTH, a.y + BOX_HEIGHT / 2
    end, to = b.x, b.y + BOX_HEIGHT / 2
    bend = min(GAP_X, (end - x) / 2)
    return f"M{x:.0f},{y:.0f}C{x + bend:.0f},{y:.0f} {end - bend:.0f},{to:.0f} {end:.0f},{to:.0f}"

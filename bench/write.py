"""Write the tables of docs/performance.md anew from what was measured last: `python -m bench.write`.

A table stands between the lines <!-- table: its name --> and <!-- end -->; all around it is written by hand. Tables of
groups that were not measured at the last commit are left as they are, and named."""

from __future__ import annotations

import re
import statistics
import sys
from collections.abc import Callable, Iterable

from bench.measuring import ROOT, Figure, load

PAGE = ROOT / "docs" / "performance.md"
SIZES = {100_000: "100 thousand", 1_000_000: "1 million", 10_000_000: "10 million"}
Groups = dict[str, list[Figure]]
TABLES: dict[str, tuple[tuple[str, ...], Callable[[Groups], list[str]]]] = {}
"""By name: the groups whose figures a table shows, and its lines."""


def table(name: str, *groups: str):
    def register(lines: Callable[[Groups], list[str]]):
        TABLES[name] = (groups, lines)
        return lines

    return register


def ratio(figure: Figure) -> str:
    return f"{figure.ratio:.2f}" if figure.ratio else ""


def by_size(figures: list[Figure]) -> list[str]:
    """Each question at all numbers of rows; the baseline and the ratio at the largest that it was asked at."""
    lines = [
        f"| question | {' | '.join(SIZES.values())} | by hand, at the most rows | ratio |",
        "|---|--:|--:|--:|--:|--:|",
    ]
    for name in dict.fromkeys(figure.name for figure in figures):
        own = {figure.rows: figure for figure in figures if figure.name == name}
        times = [own[rows].said(own[rows].ours) if rows in own else "" for rows in SIZES]
        most = own[max(own)]
        lines.append(f"| {name} | {' | '.join(times)} | {most.said(most.baseline)} | {ratio(most)} |")
    return lines


@table("engine", "engine")
def engine(groups: Groups) -> list[str]:
    figures = groups["engine"]
    said = []
    for rows, words in SIZES.items():
        ratios = [figure.ratio for figure in figures if figure.rows == rows]
        if ratios:
            said.append(f"{statistics.geometric_mean(ratios):.2f} at {words} rows (largest {max(ratios):.2f})")
    return [*by_size(figures), "", f"Geometric mean of the ratios: {', '.join(said)}."]


@table("more", "more")
def more(groups: Groups) -> list[str]:
    return by_size(groups["more"])


def goals(figures: list[Figure]) -> list[str]:
    lines = ["| | measured | goal |", "|---|--:|--:|"]
    return lines + [f"| {each.name.strip()} | {each.said(each.ours)} | {each.goal} |" for each in figures]


@table("around", "around")
def around(groups: Groups) -> list[str]:
    return goals(groups["around"])


@table("load", "load")
def many_readers(groups: Groups) -> list[str]:
    return goals(groups["load"])


def _with_baselines(figures: Iterable[Figure]) -> list[str]:
    lines = ["| figure | ours | baseline | ratio | goal |", "|---|--:|--:|--:|--:|"]
    for figure in figures:
        values = [figure.said(figure.ours), figure.said(figure.baseline), ratio(figure), figure.goal]
        lines.append(f"| {figure.name} | {' | '.join(values)} |")
    return lines


@table("lists", "lists")
def lists(groups: Groups) -> list[str]:
    return _with_baselines(groups["lists"])


@table("joins", "joins")
def joins(groups: Groups) -> list[str]:
    return _with_baselines(groups["joins"])


@table("live", "live")
def open_editors(groups: Groups) -> list[str]:
    return goals(groups["live"])


@table("drawing", "drawing")
def drawing(groups: Groups) -> list[str]:
    lines = ["| | to a specification | to paint it |", "|---|--:|--:|"]
    for each in groups["drawing"]:
        columns = (each.said(each.ours), each.said(each.beside["painted"]))
        lines.append(f"| {each.name} | {' | '.join(columns)} |")
    return lines


def _with_goals(figures: list[Figure]) -> list[str]:
    lines = ["| | median | goal |", "|---|--:|--:|"]
    return lines + [f"| {each.name} | {each.said(each.ours)} | {each.goal} |" for each in figures]


@table("looks", "looks")
def looks(groups: Groups) -> list[str]:
    return _with_goals(groups["looks"])


@table("editor", "editor")
def editor(groups: Groups) -> list[str]:
    return _with_goals(groups["editor"])


@table("others", "others")
def others(groups: Groups) -> list[str]:
    names = list(groups["others"][0].beside)
    lines = [f"| question | Veduta | {' | '.join(names)} |", "|---|--:" + "|--:" * len(names) + "|"]
    for figure in groups["others"]:
        values = [figure.ours, *figure.beside.values()]
        lines.append(f"| {figure.name} | {' | '.join(figure.said(value) for value in values)} |")
    return lines


@table("everything", "shaping", "preview", "bigfile", "import", "http", "browser")
def everything(groups: Groups) -> list[str]:
    return _with_baselines(figure for group in groups.values() for figure in group)


def main() -> None:
    kept = load()
    if not kept:
        sys.exit("Nothing was measured yet: run make bench first.")
    groups = {name: [Figure(**figure) for figure in own] for name, own in kept["groups"].items()}
    text = PAGE.read_text()
    for name, (needed, lines) in TABLES.items():
        if missing := [group for group in needed if group not in groups]:
            print(f"Left as it was: {name}. Not measured at {kept['commit']}: {', '.join(missing)}.")
            continue
        own = {group: groups[group] for group in needed}
        written = "\n".join([f"Measured at commit {kept['commit']}.", "", *lines(own)])
        place = re.compile(rf"(<!-- table: {name} -->\n).*?(<!-- end -->)", re.DOTALL)
        text, count = place.subn(lambda found, written=written: f"{found[1]}{written}\n{found[2]}", text)
        print(f"Written: {name}." if count else f"There is no place for {name} in {PAGE.name}.")
    PAGE.write_text(text)


if __name__ == "__main__":
    main()

"""Taking times, and keeping what was measured: bench.json in the data folder
holds the figures of one commit, by group."""

from __future__ import annotations

import dataclasses
import json
import os
import statistics
import subprocess
import time
from collections.abc import Callable
from dataclasses import asdict, dataclass
from pathlib import Path

ROOT = Path(__file__).parents[1]
KEPT = Path(os.environ.get("VEDUTA_DATA", ROOT / "data")).resolve() / "bench.json"


@dataclass
class Figure:
    """What was measured: seconds, ours and the baseline's (None: none), or with another `unit` what that says."""

    name: str
    ours: float
    baseline: float | None = None
    goal: str = ""
    rows: int = 0
    unit: str = "ms"
    beside: dict[str, float] = dataclasses.field(default_factory=dict)

    @property
    def ratio(self) -> float | None:
        return self.ours / self.baseline if self.baseline else None

    def said(self, value: float | None) -> str:
        """A value as it is printed.

        >>> Figure("", 0).said(0.0123)
        '12.3 ms'
        """
        if value is None:
            return ""
        if self.unit != "ms":
            return f"{value:,.2f} {self.unit}"
        return f"{value * 1e3:,.1f} ms" if value >= 1e-4 else f"{value * 1e3:.3f} ms"


class Figures:
    """Prints figures as they come, and keeps them with those of other groups of the same commit."""

    def __init__(self) -> None:
        self.groups: dict[str, list[Figure]] = {}
        self.group = ""

    def start(self, group: str) -> None:
        self.group = group
        self.groups[group] = []

    def add(self, figure: Figure) -> None:
        self.groups[self.group].append(figure)
        ratio = f"{figure.ratio:.2f}" if figure.ratio else ""
        columns = [figure.said(figure.ours), figure.said(figure.baseline), ratio, figure.goal]
        columns += [f"{name} {figure.said(value)}" for name, value in figure.beside.items()]
        print(f"{figure.name:<58}" + "".join(f"{text:>16}" for text in columns), flush=True)

    def keep(self) -> None:
        found = load()
        groups = found["groups"] if found.get("commit") == commit() else {}
        groups |= {name: [asdict(figure) for figure in own] for name, own in self.groups.items()}
        KEPT.parent.mkdir(parents=True, exist_ok=True)
        KEPT.write_text(json.dumps({"commit": commit(), "groups": groups}, indent=1))


def load() -> dict:
    """What was kept last: its commit and groups of figures; empty if nothing was."""
    return json.loads(KEPT.read_text()) if KEPT.exists() else {}


def commit() -> str:
    """The commit that is measured, and whether there are changes beside it."""

    def git(*arguments: str) -> str:
        return subprocess.run(["git", *arguments], cwd=ROOT, capture_output=True, text=True).stdout.strip()

    changed = git("status", "--porcelain", "--", "veduta", "bench", "requirements.txt")
    return git("rev-parse", "--short", "HEAD") + (" with changes" if changed else "")


def once(run: Callable[[], object]) -> float:
    """How many seconds it takes."""
    start = time.perf_counter()
    run()
    return time.perf_counter() - start


def alternately(ours: Callable[[], object], baseline: Callable[[], object], times: int) -> tuple[float, float]:
    """Medians of both, measured in turns so that what else the machine does falls on both."""
    ours(), baseline()
    pairs = [(once(ours), once(baseline)) for _ in range(times)]
    return statistics.median(a for a, _ in pairs), statistics.median(b for _, b in pairs)

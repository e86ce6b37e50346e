"""The specification of each kind for a few rows, held as files: what changes a drawing is seen in a diff.

They are written anew by `python -m tests.core.chart.test_golden`, and looked at before they are kept."""

from __future__ import annotations

import json
import unittest
from pathlib import Path
from typing import Any

from tests.core.chart.test_kinds import drawn, fitting, row
from veduta.core.chart.kinds import CHART_KINDS, ChartKind

FOLDER = Path(__file__).parent / "golden"
ROWS = [row(i) for i in (1, 2, 4, 5, 9, 12, 14)]
SHAPES = "shapes of areas"


def specification(kind: ChartKind) -> dict[str, Any] | None:
    """What a kind draws of the rows, with the marks' own fields; None for a kind that is HTML."""
    drawing = drawn(fitting(kind, ROWS)[-1], ROWS).drawing
    if drawing.spec is None:
        return None
    spec = {name: SHAPES if name == "datasets" else part for name, part in drawing.spec.items()}
    return {"spec": spec, "rows": drawing.rows[:12]}


def as_text(specification: dict[str, Any]) -> str:
    return json.dumps(specification, indent=1, ensure_ascii=False, sort_keys=True) + "\n"


class Golden(unittest.TestCase):
    maxDiff = 2_000

    def test_each_kind_draws_as_it_did(self):
        drawn_kinds = {
            name for name, kind in CHART_KINDS.items() if (made := specification(kind)) and self.is_same(name, made)
        }
        self.assertEqual({path.stem for path in FOLDER.glob("*.json")}, drawn_kinds)

    def is_same(self, name: str, made: dict[str, Any]) -> bool:
        with self.subTest(kind=name):
            self.assertEqual(json.loads(as_text(made)), json.loads((FOLDER / f"{name}.json").read_text()))
        return True


def main() -> None:
    for name, kind in CHART_KINDS.items():
        if made := specification(kind):
            (FOLDER / f"{name}.json").write_text(as_text(made))


if __name__ == "__main__":
    main()

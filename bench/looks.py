"""How soon a part's popover opens and a changed setting is answered, on the demo's charts over HTTP."""

from __future__ import annotations

import json
import statistics
from collections.abc import Callable
from itertools import count
from pathlib import Path
from typing import Any

from bench.measuring import Figure, Figures, once

TIMES = 21
CHART, TABLE = "Fare revenue by month and region", "Costs and lateness by vessel"
LONG = "What each vessel carried"
POPOVERS = (
    (CHART, {"clause": "look", "field": "title"}),
    (CHART, {"clause": "look", "field": "value", "way": "values"}),
    (CHART, {"clause": "look", "field": "legend"}),
    (CHART, {"clause": "look", "field": "series"}),
    (CHART, {"clause": "split"}),
    (TABLE, {"clause": "show"}),
    (TABLE, {"clause": "conditions"}),
    (TABLE, {"clause": "condition"}),
)
EDITS: tuple[tuple[str, Callable[[int], dict[str, Any]]], ...] = (
    (CHART, lambda turn: {"edit": "set_look", "part": "value", "changes": {"title": f"Fares {turn}"}}),
    (CHART, lambda turn: {"edit": "set_title", "title": f"{turn} {{highest}}: {{total}}"}),
    (CHART, lambda turn: {"edit": "set_value_colour", "values": ["North Reach"], "colour": f"hsl({turn} 80% 40%)"}),
    (CHART, lambda turn: {"edit": "set_series", "names": ["North Reach"], "changes": {"width": 1 + turn % 9}}),
    (TABLE, lambda turn: {"edit": "set_column", "index": 0, "changes": {"high_colour": f"hsl({turn} 80% 40%)"}}),
    (TABLE, lambda turn: {"edit": "set_condition", "index": 0, "changes": {"value": turn}}),
)
"""A change each time it is asked, the same each time but for a number."""


def run(figures: Figures, folder: Path, rows: int) -> None:
    """Posts what the workbench posts, as the analyst, to the demo of so many rows."""
    from django.core.management import call_command
    from django.test import Client

    from veduta.demo.load import load_demo
    from veduta.web.accounts.models import User
    from veduta.web.charts.models import Chart

    call_command("migrate", verbosity=0)
    load_demo(folder / "demo", rows)
    client = Client(SERVER_NAME="localhost")
    client.force_login(User.objects.get(username="analyst"), backend="django.contrib.auth.backends.ModelBackend")

    def measured(name: str, what: str, view: str, sent: Callable[[int], dict[str, Any]], goal: str) -> None:
        chart, turns = Chart.objects.get(name=name), count()

        def ask() -> None:
            text = json.dumps({"definition": chart.definition, **sent(next(turns))})
            address = f"/charts/{chart.pk}/{view}/"
            answer = client.post(address, text, content_type="application/json", headers={"X-Veduta": "1"})
            assert answer.status_code == 200, answer.content

        ask()
        figures.add(Figure(what, statistics.median(once(ask) for _ in range(TIMES)), None, goal))

    for name, opened in POPOVERS:
        what = f"popover of {opened.get('field', opened['clause'])}"
        measured(name, what, "clause", lambda _, opened=opened: {"index": 0, **opened}, "100 ms")
    for name, edit in EDITS:
        measured(
            name, f"answer to {edit(0)['edit']}", "answer", lambda turn, edit=edit: {"edits": [edit(turn)]}, "150 ms"
        )
    long = Chart.objects.get(name=LONG)
    sailing = next(field.id for field in long.dataset.schema if field.name == "Sailing id")
    definition = long.definition | {"by": [{"field": sailing}]}

    def page(turn: int) -> dict[str, Any]:
        return {"definition": definition, "rows_from": 4_000 * turn}

    measured(LONG, "a page of 100,000 rows", "answer", page, "150 ms")

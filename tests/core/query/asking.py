"""What the tests of questions share: small tables, and asking of them or of a model."""

from __future__ import annotations

import datetime as dt
import unittest
from typing import Any

from tests.core.support import context_of, sailings
from veduta.core.calendar import Grouping
from veduta.core.data.fields import Schema
from veduta.core.formula.measures import replace_names_with_ids
from veduta.core.model.model import Model
from veduta.core.query.answer import answer
from veduta.core.query.measures import Measure
from veduta.core.query.query import Query, Result

FARE = Measure(field="fare", aggregate="sum")


FIRST = dt.date(2024, 1, 1)


def daily(days: int = 1_000, **more: Any) -> list[dict]:
    """One sailing a day from 2024 on; the fare is the number of the day."""
    return [{"sailed": FIRST + dt.timedelta(days=i), "fare": float(i + 1), **more} for i in range(days)]


def by(*names: str) -> tuple[Grouping, ...]:
    return tuple(Grouping(field=name.partition("@")[0], grain=name.partition("@")[2] or None) for name in names)


def shares(ports: tuple[tuple[str, int], ...]) -> list[dict]:
    return [{"route": route, "fare": 1.0, "passengers": i} for route, n in ports for i in range(n)]


class Asking(unittest.TestCase):
    def ask(
        self, rows: list[dict], names: tuple[str, ...], *texts: str, schema: Schema | None = None, **more: Any
    ) -> Result:
        model = sailings(rows, schema)
        measures = tuple(Measure(formula=replace_names_with_ids(text, model.schema)) for text in texts)
        return answer(Query(groups=by(*names), measures=measures, **more), model, context_of(model))

    def values(self, rows: list[dict], names: tuple[str, ...], text: str, **more: Any) -> dict:
        """The only measure's values by the dimension, or by all of them."""
        result = self.ask(rows, names, text, **more)
        depth = len(names)
        return {row[0] if depth == 1 else row[:depth]: row[depth] for row in result.frame.iter_rows()}

    def same(self, found: dict, wanted: dict) -> None:
        self.assertEqual(set(found), set(wanted))
        for key, value in wanted.items():
            if value is None or found[key] is None:
                self.assertEqual(found[key], value, key)
            else:
                self.assertAlmostEqual(found[key], value, msg=str(key))


def ask_model(model: Model, names: tuple[str, ...], *texts: str, **more: Any) -> Result:
    measures = tuple(Measure(formula=replace_names_with_ids(text, model.schema)) for text in texts)
    context = context_of(model)
    return answer(Query(groups=by(*names), measures=measures, **more), model, context)

"""Values that are worked out together with the reading, and what one question keeps for the next."""

from __future__ import annotations

import datetime as dt
import unittest

import polars as pl

from tests.core.query.asking import Asking, ask_model, by
from tests.core.support import MemoryTable, field
from veduta.core.data.fields import DataType, Schema
from veduta.core.formula.measures import replace_names_with_ids
from veduta.core.model.definition import JoinKey, ModelDefinition, ModelJoin, ModelTable, RowRule
from veduta.core.model.model import Model
from veduta.core.model.row_level_security import SecurityContext
from veduta.core.query.answer import answer
from veduta.core.query.filters import Context, MeasureFilter
from veduta.core.query.measures import Measure
from veduta.core.query.query import Query


def beside_targets() -> Model:
    """Sailings on two routes, and targets for two routes by month, one of which has no sailings."""
    days = [dt.date(2026, 1, 5), dt.date(2026, 1, 9), dt.date(2026, 2, 3)]
    trips = pl.DataFrame({"route": ["A", "B", "A"], "day": days, "fare": [1.0, None, 4.0]})
    targets = pl.DataFrame({"route": ["A", "C"], "goal": [10, 20]})
    own = [field("Route", DataType.TEXT), field("Day", DataType.DATE), field("Fare", DataType.DECIMAL)]
    others = [field("Route", DataType.TEXT), field("Goal", DataType.WHOLE)]
    definition = ModelDefinition(
        tables=(ModelTable(id="targets", dataset="t", name="Targets"),),
        joins=(ModelJoin(right="targets", keys=(JoinKey(left="route", right="route"),)),),
        beyond="repeat",
    )
    tables = {"": (MemoryTable(trips, Schema(own)), own), "targets": (MemoryTable(targets, Schema(others)), others)}
    return Model(tables, definition, name="Trips")


class WithTheReading(Asking):
    def test_a_count_is_nought_where_only_another_table_has_rows(self):
        found = ask_model(beside_targets(), ("route",), "count_rows()", "sum(fare)", "count(Targets.goal)").frame
        self.assertEqual(sorted(found.rows(), key=str), [("A", 2, 5.0, 1), ("B", 1, None, 0), ("C", 0, None, 1)])

    def test_to_date_of_a_table_that_has_no_dates(self):
        text = "to_date(median(Targets.goal) + sum(Targets.goal), 'year')"
        found = ask_model(beside_targets(), ("day@month",), text, "count_rows()").frame
        self.assertEqual(found["m0"].to_list(), [45.0, 45.0])

    def test_a_subtotal_looks_at_periods_that_a_filter_on_groups_dropped(self):
        rows = [{"route": "A", "sailed": dt.date(2026, month, 1), "fare": 1.0} for month in (1, 2, 2, 2)]
        only = MeasureFilter(measure=Measure(), low=2)
        found = self.ask(
            rows,
            ("sailed@month", "route"),
            "count_rows()",
            "shift(count_rows(), -1, 'month')",
            filters=(only,),
            totals=((0,),),
        )
        self.assertEqual(found.frame.rows(), [(dt.date(2026, 2, 1), "A", 3, 1)])
        self.assertEqual(found.totals[(0,)].rows(), [(dt.date(2026, 2, 1), 3, 1)])


class KeptForTheNext(unittest.TestCase):
    """What is known of a formula holds for the same model, reader and day only."""

    def ask(self, model: Model, text: str, today: dt.date = dt.date(2026, 1, 1)) -> int:
        query = Query(groups=by(), measures=(Measure(formula=replace_names_with_ids(text, model.schema)),))
        return answer(query, model, Context(today)).frame["m0"][0]

    def test_whoever_asks(self):
        found = beside_targets()
        rule = RowRule(name="Only A", text="\"#route\" = 'A'")
        self.assertEqual(self.ask(found.apply_reader({}, SecurityContext((rule,))), "count(fare)"), 2)
        self.assertEqual(self.ask(found, "count_rows()"), 3)
        self.assertEqual(self.ask(found, "count(fare)"), 2)

    def test_whatever_day_it_is(self):
        found, text = beside_targets(), "count_rows(where day < today())"
        self.assertEqual(self.ask(found, text, dt.date(2026, 1, 6)), 1)
        self.assertEqual(self.ask(found, text, dt.date(2026, 2, 6)), 3)

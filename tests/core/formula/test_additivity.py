"""Which formulas add up: said of each, and held against what their groups really add up to."""

from __future__ import annotations

import datetime as dt
import math

from tests.core.query.asking import Asking
from tests.core.support import SAILING_FIELDS, sailings
from veduta.core.data.fields import DataType, Schema
from veduta.core.formula.additivity import adds_up
from veduta.core.formula.measures import ParameterValue, check_measure

FORMULAS = {
    "sum(fare)": True,
    "sum(fare where cancelled)": True,
    "count_rows()": True,
    "count(fare)": True,
    "sum(fare) + sum(passengers)": True,
    "sum(fare) - count_rows()": True,
    "-sum(fare)": True,
    "2 * sum(fare)": True,
    "sum(fare) * 2": True,
    "sum(fare) / 1000": True,
    "sum(fare) / sum(fare) per ()": True,
    "coalesce(sum(fare), 0)": True,
    "sum(fare) per (shown)": True,
    "sum(sum(fare) per (shown, route))": True,
    "sum(max(fare) per (shown, route))": False,
    "share(sum(fare))": True,
    "sum(fare) + 1": False,
    "coalesce(sum(fare), 5)": False,
    "mean(fare)": False,
    "median(fare)": False,
    "min(fare)": False,
    "max(fare)": False,
    "std_dev(fare)": False,
    "variance(fare)": False,
    "percentile(fare, 25)": False,
    "first(fare)": False,
    "last(fare)": False,
    "count_distinct(passengers)": False,
    "sum(fare) / sum(passengers)": False,
    "sum(fare) * sum(passengers)": False,
    "1000 / sum(fare)": False,
    "sum(fare) / sum(fare) per (region)": False,
    "sum(fare) ^ 2": False,
    "sum(fare) per ()": False,
    "mean(sum(fare) per (shown, sailed))": False,
    "max(sum(fare) per (shown, route))": False,
    "if(sum(fare) > 0, sum(fare), 0)": False,
    "rank(sum(fare))": False,
    "5": False,
    ":goal": False,
}
TIMED = {
    "shift(sum(fare), -1, 'year')": (True, True),
    "change(sum(fare), 'year')": (True, True),
    "to_date(sum(fare), 'year')": (True, False),
    "running(sum(fare))": (True, False),
    "moving(mean, sum(fare), 3)": (True, False),
    "whole(sum(fare), 'quarter')": (True, False),
    "running(max, sum(fare))": (False, False),
    "moving(median, sum(fare), 3)": (False, False),
    "to_date(mean, sum(fare), 'year')": (True, False),
    "to_date(max, sum(fare), 'year')": (False, False),
    "growth(sum(fare), 'year')": (False, False),
    "shift(mean(fare), -1, 'year')": (False, False),
    "previous(sum(fare))": (True, True),
    "running(mean(fare))": (False, False),
}
ROWS = [
    {
        "region": "NIO"[i % 3],
        "route": "ABCDE"[i % 5],
        "sailed": dt.date(2025, 1 + i % 12, 1 + i % 28),
        "fare": 3.0 * i + 1,
        "passengers": 1 + i * i % 7,
        "cancelled": i % 4 == 0,
    }
    for i in range(1, 60)
]


class AddingUp(Asking):
    def test_each_formula(self):
        parameters = {"goal": ParameterValue(DataType.DECIMAL, (7.0,))}
        for text, wanted in FORMULAS.items():
            with self.subTest(formula=text):
                self.assertEqual(adds_up(check_measure(text, Schema(SAILING_FIELDS), parameters)), wanted)

    def test_each_function_of_time_over_groups_and_over_periods(self):
        for text, wanted in TIMED.items():
            with self.subTest(formula=text):
                node = check_measure(text, Schema(SAILING_FIELDS), {})
                self.assertEqual((adds_up(node), adds_up(node, over_time=True)), wanted)

    def test_what_is_said_to_add_up_does(self):
        for text in (text for text, adds in FORMULAS.items() if adds):
            with self.subTest(formula=text):
                groups = self.values(ROWS, ("region",), text).values()
                self.assertAlmostEqual(math.fsum(groups), self.values(ROWS, (), text)[()])

    def test_a_stock_adds_up_but_not_over_periods(self):
        for how, wanted in (("last", (True, False)), ("first", (True, False)), ("mean", (False, False))):
            fields = [f.model_copy(update={"over_dates": how}) if f.id == "fare" else f for f in SAILING_FIELDS]
            schema = sailings(ROWS, Schema(fields)).schema
            node = check_measure("sum(fare)", schema, {})
            self.assertEqual((adds_up(node), adds_up(node, over_time=True)), wanted, how)

from __future__ import annotations

import datetime as dt
import unittest
from typing import Any

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

from tests.core.support import TODAY, MemoryTable, field, sailings
from veduta.core.chart.chart_suggestions import MOST, suggest_charts
from veduta.core.chart.choose import choose_kind
from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.question import ask
from veduta.core.chart.sentence import write_sentence_text
from veduta.core.data.fields import Aggregate, DataField, DataType, Schema
from veduta.core.model.model import Model
from veduta.core.query.answer import make_context


def model_of(columns: dict[str, tuple[DataField, list[Any]]]) -> Model:
    fields = [each for each, _ in columns.values()]
    frame = pl.DataFrame({f.id: pl.Series(values, dtype=f.kind.dtype) for f, values in columns.values()})
    schema = Schema(fields)
    return Model.from_table(MemoryTable(frame, schema), schema)


def table(**columns: tuple[DataType, list[Any]] | tuple[DataType, list[Any], dict]) -> Model:
    """A model of columns, each of a kind, with values, and settings of its field if they are not the usual."""
    return model_of(
        {
            name: (field(name.capitalize(), kind, **dict(*more)), values)
            for name, (kind, values, *more) in columns.items()
        }
    )


def said(model: Model) -> list[str]:
    return [write_sentence_text(each, choose_kind(each, model)[0], model.schema) for each in suggest_charts("d", model)]


def days(count: int, step: int = 1) -> list[dt.date]:
    return [dt.date(2026, 1, 1) + dt.timedelta(days=step * number) for number in range(count)]


class Openings(unittest.TestCase):
    def test_sailings_open_over_time_and_offer_routes_and_regions(self):
        routes = ["Harrow", "Tern", "Quay", "Holm"]
        model = sailings(
            [
                {"route": routes[number % 4], "region": "North" if number % 2 else "South", "sailed": day, "fare": 1.0}
                for number, day in enumerate(days(400))
            ]
        )
        self.assertEqual(said(model)[0], "Show fare as a line by month of sailed.")
        self.assertEqual(said(model)[2], "Show fare as a line by month of sailed split by route.")
        self.assertEqual(
            [each.by[0].field for each in suggest_charts("d", model)], ["sailed", "route", "sailed", "region"]
        )

    def test_a_list_of_things_opens_with_its_longest(self):
        model = table(
            port=(DataType.TEXT, [f"Port {number}" for number in range(40)]),
            depth=(DataType.DECIMAL, [float(number) for number in range(40)], {"aggregate": Aggregate.MEAN}),
            opened=(DataType.DATE, days(40, 200)),
        )
        first = suggest_charts("d", model)[0]
        self.assertEqual((first.by[0].field, first.keep.count, first.keep.by), ("port", 12, first.show[0]))
        self.assertEqual(choose_kind(first, model)[0].name, "lying")

    def test_the_first_grain_follows_span_and_rhythm(self):
        for dates, grain in (
            (days(118, 366), "year"),
            (days(21), "day"),
            (days(400), "month"),
            (days(12, 7), "week"),
            ([dt.date(2018 + number // 12, number % 12 + 1, 1) for number in range(94)], "month"),
            ([dt.date(1980 + number // 12, number % 12 + 1, 1) for number in range(500)], "year"),
            ([dt.date(2020 + number, 1, 1) for number in range(3)], "year"),
            ([dt.date(2026, month, 1) for month in (1, 2, 3)], "month"),
        ):
            with self.subTest(grain, first=dates[0], count=len(dates)):
                model = table(sailed=(DataType.DATE, dates), fare=(DataType.WHOLE, [1] * len(dates)))
                self.assertEqual(suggest_charts("d", model)[0].by[0].grain, grain)
        moments = [dt.datetime(2026, 3, 1, hour) for hour in range(24)]
        model = table(sailed=(DataType.DATETIME, moments), fare=(DataType.WHOLE, [1] * 24))
        self.assertEqual(suggest_charts("d", model)[0].by[0].grain, "hour")

    def test_first_days_of_months_are_not_unfinished(self):
        firsts = [dt.date(2026, month, 1) for month in range(1, 4)]
        for dates, unfinished in ((firsts, None), ([*firsts, dt.date(2026, 3, 9)], dt.date(2026, 3, 9))):
            with self.subTest(dates[-1]):
                model = table(sailed=(DataType.DATE, dates), fare=(DataType.WHOLE, [1] * len(dates)))
                definition = ChartDefinition(dataset="d", by=({"field": "sailed", "grain": "month"},))
                self.assertEqual(ask(definition, model, make_context(model, TODAY)).result.unfinished, unfinished)

    def test_places_mostly_empty_columns_and_numbers_of_things_are_not_opened_with(self):
        model = table(
            latitude=(DataType.DECIMAL, [60.0 + number for number in range(20)]),
            vessel=(DataType.TEXT, [None] * 15 + ["Tern"] * 2 + ["Quay"] * 3),
            berth=(DataType.WHOLE, [*range(20)], {"role": "dimension"}),
            dock=(DataType.TEXT, ["Old", "New"] * 10),
            fare=(DataType.WHOLE, [*range(20)]),
        )
        used = set().union(*(each.list_fields() for each in suggest_charts("d", model)))
        self.assertEqual(used, {"dock", "fare"})

    @given(
        st.lists(
            st.fixed_dictionaries(
                {
                    "route": st.sampled_from(["Harrow", "Tern", None]),
                    "sailed": st.none() | st.dates(dt.date(1900, 1, 1), dt.date(2100, 1, 1)),
                    "fare": st.none() | st.floats(-1e6, 1e6),
                    "cancelled": st.none() | st.booleans(),
                }
            ),
            max_size=30,
        )
    )
    def test_there_is_always_one_they_differ_and_all_can_be_drawn(self, rows):
        model = sailings(rows)
        found = suggest_charts("d", model)
        self.assertTrue(0 < len(found) <= MOST)
        self.assertEqual(len({each.model_dump_json() for each in found}), len(found))
        for each in found:
            answered = ask(each, model, make_context(model, TODAY))
            self.assertFalse(answered.kind.shows_rows and answered.result.frame.height > 60)

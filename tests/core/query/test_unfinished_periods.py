"""Which periods are said not to be whole."""

from __future__ import annotations

import datetime as dt
from typing import Any

from tests.core.query.asking import Asking
from tests.core.support import SAILING_FIELDS, context_of, sailings_table
from veduta.core.calendar import Grouping
from veduta.core.model.definition import ModelDefinition
from veduta.core.model.model import Model
from veduta.core.query.answer import answer
from veduta.core.query.filters import DatesFilter, ListFilter
from veduta.core.query.query import Query

MONTHS = [dt.date(2024 + i // 12, i % 12 + 1, 1) for i in range(26)]


def sailed(days: list[dt.date], **more: Any) -> list[dict]:
    return [{"sailed": day, "fare": 1.0, **more} for day in days]


def days(first: dt.date, last: dt.date) -> list[dt.date]:
    return [first + dt.timedelta(days=i) for i in range((last - first).days + 1)]


class Unfinished(Asking):
    def ends(self, rows: list[dict], name: str = "sailed@month", **more: Any) -> tuple[dt.date | None, dt.date | None]:
        result = self.ask(rows, (name,), "sum(fare)", **more)
        return result.begun, result.unfinished

    def test_of_days_the_last_month_until_its_end(self):
        for last, wanted in ((dt.date(2026, 3, 30), dt.date(2026, 3, 30)), (dt.date(2026, 3, 31), None)):
            self.assertEqual(self.ends(sailed(days(dt.date(2025, 1, 1), last))), (None, wanted))

    def test_of_days_the_first_month_that_began_before(self):
        rows = sailed(days(dt.date(2025, 1, 14), dt.date(2025, 12, 31)))
        self.assertEqual(self.ends(rows), (dt.date(2025, 1, 14), None))
        self.assertEqual(self.ends(rows, "sailed@quarter"), (dt.date(2025, 1, 14), None))
        self.assertEqual(self.ends(rows, "sailed@day"), (None, None))

    def test_of_monthly_figures_none_whatever_their_day(self):
        for day in (1, 11, 28):
            rows = sailed([month.replace(day=day) for month in MONTHS])
            self.assertEqual(self.ends(rows), (None, None), day)
        ends = [month - dt.timedelta(days=1) for month in MONTHS]
        self.assertEqual(self.ends(sailed(ends)), (None, None))

    def test_of_monthly_figures_with_a_time_none(self):
        rows = [{"departure": dt.datetime.combine(month, dt.time(6, 30)), "fare": 1.0} for month in MONTHS]
        self.assertEqual(self.ends(rows, "departure@month"), (None, None))
        rows = [{"departure": dt.datetime.combine(m, dt.time(m.month, 30)), "fare": 1.0} for m in MONTHS]
        self.assertEqual(self.ends(rows, "departure@month"), (None, None))

    def test_a_year_of_ten_months_is_not_whole_though_its_months_are(self):
        rows = sailed([dt.date(2024 + i // 12, i % 12 + 1, 11) for i in range(34)])
        self.assertEqual(self.ends(rows, "sailed@year"), (None, dt.date(2026, 10, 11)))

    def test_working_days_end_with_a_friday(self):
        def working(last: dt.date) -> list[dict]:
            return sailed([day for day in days(dt.date(2024, 1, 1), last) if day.isoweekday() < 6])

        self.assertEqual(self.ends(working(dt.date(2026, 1, 30))), (None, None))  # the 31st is a Saturday
        self.assertEqual(self.ends(working(dt.date(2026, 1, 23))), (None, dt.date(2026, 1, 23)))
        self.assertEqual(self.ends(working(dt.date(2026, 1, 30)), "sailed@week"), (None, None))
        self.assertEqual(self.ends(working(dt.date(2026, 1, 29)), "sailed@week"), (None, dt.date(2026, 1, 29)))

    def test_where_dates_lie_anywhere_the_calendar_says_it_and_only_of_the_last(self):
        anywhere = [month.replace(day=1 + (7 * i * i) % 27) for i, month in enumerate(MONTHS)]
        last = anywhere[-1]
        self.assertEqual(self.ends(sailed(anywhere)), (None, last))

    def test_few_periods_say_nothing_of_what_is_usual(self):
        few = [dt.date(2026, month, 11) for month in (1, 2, 3)]
        self.assertEqual(self.ends(sailed(few)), (None, dt.date(2026, 3, 11)))

    def test_a_single_period_is_judged_by_its_end(self):
        rows = sailed(days(dt.date(2026, 3, 4), dt.date(2026, 3, 20)))
        self.assertEqual(self.ends(rows), (None, dt.date(2026, 3, 20)))

    def test_filters_cut_periods(self):
        rows = sailed(days(dt.date(2025, 1, 1), dt.date(2025, 12, 31)))
        cut = DatesFilter(field="sailed", start=dt.date(2025, 2, 10), end=dt.date(2025, 9, 10))
        self.assertEqual(self.ends(rows, filters=(cut,)), (dt.date(2025, 2, 10), dt.date(2025, 9, 10)))
        march = ListFilter(field="sailed", grain="month", values=("2025-03-01",))
        self.assertEqual(self.ends(rows, filters=(march,)), (None, None))

    def test_fiscal_years_begin_in_their_month(self):
        table = sailings_table(sailed(days(dt.date(2023, 4, 1), dt.date(2025, 3, 31))))
        model = Model({"": (table, SAILING_FIELDS)}, ModelDefinition(fiscal_month=4))
        query = Query(groups=(Grouping(field="sailed", grain="year"),))
        result = answer(query, model, context_of(model))
        self.assertEqual((result.begun, result.unfinished), (None, None))

import datetime as dt
import unittest

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from veduta.core.data.convert import Failures, convert
from veduta.core.data.fields import DataField, DataType, ParseOptions
from veduta.core.data.options import EMPTY_WORDS
from veduta.core.data.recognise import recognise_field


def converted(values, kind, first_row=1, **reading):
    failures = Failures()
    field = DataField(id="c1", source="a", name="A", kind=kind, reading=ParseOptions(**reading))
    series = convert(pl.Series("c1", values, dtype=pl.String), field, EMPTY_WORDS, failures, first_row)
    assert series.dtype == kind.dtype
    return series.to_list(), failures


class Numbers(unittest.TestCase):
    def test_decimals(self):
        for text, value in (
            ("12.5", 12.5),
            (" 12.5 ", 12.5),
            ("-3", -3.0),
            ("−3", -3.0),
            ("3-", -3.0),
            ("(3.25)", -3.25),
            ("+4", 4.0),
            ("1,234.5", 1234.5),
            ("1,234,567", 1234567.0),
            ("€1,234.50", 1234.5),
            ("-€2", -2.0),
            ("12 %", 0.12),
            ("1e3", 1000.0),
            (".5", 0.5),
            ("1 234.5", 1234.5),
            ("1\u00a0234", 1234.0),
            ("7 CHF", 7.0),
        ):
            with self.subTest(text=text):
                self.assertEqual(converted([text], DataType.DECIMAL)[0], [value])

    def test_decimals_with_a_comma(self):
        reading = {"decimal": ",", "thousands": "."}
        for text, value in (
            ("1.234,5", 1234.5),
            ("12,5", 12.5),
            ("1.234.567", 1234567.0),
            ("12", 12.0),
            ("(1.684,50 €)", -1684.5),
        ):
            with self.subTest(text=text):
                self.assertEqual(converted([text], DataType.DECIMAL, **reading)[0], [value])

    def test_what_is_no_number_is_empty_and_counted(self):
        for text in ("about 90", "1,23,4", "12.3.4", "1,2", "inf", "nan x", "--3", "12abc", "1e999"):
            with self.subTest(text=text):
                values, failures = converted([text], DataType.DECIMAL)
                self.assertEqual((values, failures.count), ([None], 1))

    def test_not_a_number_is_an_empty(self):
        self.assertEqual(converted(["NaN", "1"], DataType.DECIMAL)[0], [None, 1.0])

    def test_whole_numbers(self):
        values, failures = converted(
            ["12", "1,200", "12.0", "12.5", "9223372036854775807", "9223372036854775808"], DataType.WHOLE
        )
        self.assertEqual(values, [12, 1200, 12, None, 9223372036854775807, None])
        self.assertEqual(failures.count, 2)

    def test_empties_are_no_failures(self):
        values, failures = converted(["", " ", "n/a", "N/A", "-", "null", "7"], DataType.WHOLE)
        self.assertEqual((values, failures.count), ([None] * 6 + [7], 0))

    def test_failures_carry_their_row_numbers(self):
        _, failures = converted(["1", "x", "2", "y"], DataType.WHOLE, first_row=101)
        self.assertEqual(failures.examples, [(102, "x"), (104, "y")])

    def test_at_most_a_thousand_failures_are_kept_and_all_are_counted(self):
        _, failures = converted(["x"] * 1_500, DataType.WHOLE)
        self.assertEqual((failures.count, len(failures.examples)), (1_500, 1_000))

    @examples(150)
    @given(
        st.lists(st.decimals(-(10**12), 10**12, places=2), min_size=1, max_size=8),
        st.sampled_from([",.", ".,", " ,", " ."]),
    )
    def test_written_numbers_are_read_back_in_every_style(self, numbers, style):
        thousands, decimal = style
        texts = [f"{n:,.2f}".replace(",", "T").replace(".", decimal).replace("T", thousands) for n in numbers]
        values, failures = converted(texts, DataType.DECIMAL, decimal=decimal, thousands=thousands)
        self.assertEqual((values, failures.count), ([float(n) for n in numbers], 0))

    @examples(80)
    @given(st.lists(st.integers(-(2**63), 2**63 - 1), min_size=1))
    def test_all_whole_numbers_come_through_exactly(self, numbers):
        self.assertEqual(converted([str(n) for n in numbers], DataType.WHOLE)[0], numbers)


class Dates(unittest.TestCase):
    def test_shapes(self):
        for text, order, value in (
            ("2026-03-04", "ymd", dt.date(2026, 3, 4)),
            ("04/03/2026", "dmy", dt.date(2026, 3, 4)),
            ("04/03/2026", "mdy", dt.date(2026, 4, 3)),
            ("4.3.2026", "dmy", dt.date(2026, 3, 4)),
            ("4 Mar 2026", "dmy", dt.date(2026, 3, 4)),
            ("Mar 4, 2026", "mdy", dt.date(2026, 3, 4)),
            ("04.03.26", "dmy", dt.date(2026, 3, 4)),
            ("29.02.2024", "dmy", dt.date(2024, 2, 29)),
            ("2026-03-04 10:30", "ymd", dt.date(2026, 3, 4)),
        ):
            with self.subTest(text=text, order=order):
                self.assertEqual(converted([text], DataType.DATE, order=order)[0], [value])

    def test_days_that_do_not_exist_fail(self):
        values, failures = converted(["2026-02-29", "31.04.2026", "00.01.2026"], DataType.DATE, order="dmy")
        self.assertEqual((values, failures.count), ([None] * 3, 3))

    def test_date_times(self):
        for text, value in (
            ("2026-03-04 08:15", dt.datetime(2026, 3, 4, 8, 15)),
            ("2026-03-04T08:15:30", dt.datetime(2026, 3, 4, 8, 15, 30)),
            ("2026-03-04 08:15:30.25", dt.datetime(2026, 3, 4, 8, 15, 30, 250_000)),
            ("2026-03-04 8:15 PM", dt.datetime(2026, 3, 4, 20, 15)),
            ("2026-03-04", dt.datetime(2026, 3, 4)),
            ("2026-03-04T08:15:00Z", dt.datetime(2026, 3, 4, 8, 15)),
            ("2026-03-04T08:15:00+02:00", dt.datetime(2026, 3, 4, 6, 15)),
            ("2026-03-04T08:15:00-0530", dt.datetime(2026, 3, 4, 13, 45)),
        ):
            with self.subTest(text=text):
                self.assertEqual(converted([text], DataType.DATETIME, formats=("%Y-%m-%d %H:%M",))[0], [value])

    @examples(60)
    @given(
        st.lists(st.dates(dt.date(1, 1, 1), dt.date(9999, 12, 31)), min_size=1, max_size=20),
        st.sampled_from(["%Y-%m-%d", "%d.%m.%Y", "%m/%d/%Y"]),
    )
    def test_what_is_recognised_is_read_back(self, days, pattern):
        texts = [f"{day.year:04}".join(day.strftime(pattern.replace("%Y", "YEAR")).split("YEAR")) for day in days]
        field = recognise_field("c1", "sailed", "Sailed", texts)
        if field.question or field.field.kind is not DataType.DATE:
            return  # the order of day and month is for its owner to tell
        failures = Failures()
        values = convert(pl.Series(texts), field.field, EMPTY_WORDS, failures)
        self.assertEqual((values.to_list(), failures.count), (days, 0))


class Others(unittest.TestCase):
    def test_yes_and_no(self):
        values, failures = converted(["yes", "NO", " true ", "f", "1", "0", "n/a", "maybe"], DataType.YES_NO)
        self.assertEqual(values, [True, False, True, False, True, False, None, None])
        self.assertEqual(failures.examples, [(8, "maybe")])

    def test_text_is_trimmed_and_empties_are_empty(self):
        values, _ = converted(["  Tern ", "", "N/A", "-", "none", "a-b"], DataType.TEXT)
        self.assertEqual(values, ["Tern", None, None, None, "none", "a-b"])


class ValuesThatCameTyped(unittest.TestCase):
    def as_kind(self, values, dtype, kind):
        failures = Failures()
        field = DataField(id="c1", source="a", name="A", kind=kind)
        series = convert(pl.Series("c1", values, dtype=dtype), field, EMPTY_WORDS, failures, 10)
        self.assertEqual(series.dtype, kind.dtype)
        return series.to_list(), failures.examples

    def test_where_it_has_a_meaning_they_become_another_kind(self):
        day, moment = dt.date(2026, 1, 31), dt.datetime(2026, 1, 31, 6, 30)
        for values, dtype, kind, expected in (
            ([1, None], pl.Int64, DataType.DECIMAL, [1.0, None]),
            ([1, -3], pl.Int64, DataType.TEXT, ["1", "-3"]),
            ([2.0, None], pl.Float64, DataType.WHOLE, [2, None]),
            ([2.0, 2.5], pl.Float64, DataType.TEXT, ["2", "2.5"]),
            ([True, False, None], pl.Boolean, DataType.WHOLE, [1, 0, None]),
            ([True, False, None], pl.Boolean, DataType.TEXT, ["yes", "no", None]),
            ([0, 1], pl.Int64, DataType.YES_NO, [False, True]),
            ([moment], pl.Datetime("us"), DataType.DATE, [day]),
            ([day], pl.Date, DataType.DATETIME, [dt.datetime(2026, 1, 31)]),
            ([moment], pl.Datetime("us"), DataType.TEXT, ["2026-01-31 06:30:00"]),
            ([46053], pl.Int64, DataType.DATE, [day]),
            ([46053.25], pl.Float64, DataType.DATETIME, [dt.datetime(2026, 1, 31, 6)]),
        ):
            with self.subTest(values=values, kind=kind):
                self.assertEqual(self.as_kind(values, dtype, kind), (expected, []))

    def test_where_it_has_none_they_are_empty_and_counted(self):
        for values, dtype, kind, failed in (
            ([2.5, 3.0], pl.Float64, DataType.WHOLE, [(10, "2.5")]),
            ([1e300], pl.Float64, DataType.WHOLE, [(10, "1e+300")]),
            ([7, None, 0], pl.Int64, DataType.YES_NO, [(10, "7")]),
            ([0, 5_000_000], pl.Int64, DataType.DATE, [(10, "0"), (11, "5000000")]),
            ([None, True], pl.Boolean, DataType.DATE, [(11, "true")]),
        ):
            with self.subTest(values=values, kind=kind):
                self.assertEqual(self.as_kind(values, dtype, kind)[1], failed)

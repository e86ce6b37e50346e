"""Every function: its declared example, and the tricky ones against plain Python on random values."""

from __future__ import annotations

import datetime as dt
import functools
import math
import operator
import unittest
from typing import Any

import polars as pl
from dateutil.relativedelta import relativedelta
from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.formula.support import FOUR, by_day, frame, value, values
from veduta.core.data.fields import DataType
from veduta.core.formula.check import check
from veduta.core.formula.functions import THEMES, Level, Operand, load_registry, register_function
from veduta.core.number_format import label_value

WHOLES = st.one_of(st.none(), st.integers(-(2**63) + 1, 2**63 - 1), st.integers(-20, 20))
DAYS = st.one_of(st.none(), st.dates(dt.date(1999, 12, 28), dt.date(2028, 3, 2)))


def said(found: Any) -> str:
    if found is None:
        return ""
    if isinstance(found, dt.datetime):
        return found.strftime("%Y-%m-%d %H:%M")
    return found.isoformat() if isinstance(found, dt.date) else label_value(found)


class Registry(unittest.TestCase):
    def test_each_example_gives_what_it_says(self):
        for each in load_registry().values():
            formula, result = each.example
            with self.subTest(function=each.name):
                if each.level is Level.AGGREGATE:
                    operands = [Operand(pl.col("count"), DataType.WHOLE), Operand(pl.lit(50), DataType.WHOLE, 50, True)]
                    found = FOUR.select(each.build(*operands[: len(each.takes)]))
                    self.assertEqual(said(found.item()), result)
                elif each.level is Level.TIME:
                    self.assertEqual(", ".join(map(said, by_day(formula))), result)
                elif each.level is Level.WINDOW:
                    self.assertEqual(", ".join(map(said, values(formula, FOUR))), result)
                else:
                    self.assertEqual(said(value(formula)), result)

    def test_each_declaration_is_whole(self):
        for each in load_registry().values():
            with self.subTest(function=each.name):
                self.assertIn(each.theme, THEMES)
                self.assertTrue(each.says.endswith(".") and each.empties.endswith("."))
                self.assertTrue(each.operator or each.signature.startswith(f"{each.name}("))

    def test_refuses_a_second_function_of_a_name(self):
        with self.assertRaisesRegex(ValueError, "registered twice"):
            register_function("abs", gives=DataType.WHOLE, says="", example=("", ""), theme="Numbers")(lambda: None)


class Arithmetic(unittest.TestCase):
    @given(WHOLES, WHOLES)
    @examples(150)
    def test_whole_numbers_are_exact_or_empty(self, a, b):
        rows = frame([{"count": a, "port": None}]).with_columns(other=pl.Series([b], dtype=pl.Int64))
        from tests.core.formula.support import FIELDS
        from tests.core.support import field
        from veduta.core.data.fields import Schema
        from veduta.core.formula.compile import compile_formula

        schema = Schema([*FIELDS, field("other", DataType.WHOLE)])
        for sign, work in (("+", lambda x, y: x + y), ("-", lambda x, y: x - y), ("*", lambda x, y: x * y)):
            expected = None if a is None or b is None else work(a, b)
            if expected is not None and not -(2**63) <= expected < 2**63:
                expected = None
            found = (
                compile_formula(check(f"count {sign} other", schema)).apply_to(rows.lazy(), "v").collect()["v"].item()
            )
            self.assertEqual(found, expected, sign)

    def test_dividing_by_zero_and_the_undefined_are_empty(self):
        for formula in (
            "1 / 0",
            "0 / 0",
            "mod(5, 0)",
            "sqrt(-1)",
            "ln(0)",
            "log10(-1)",
            "10.0 ^ 400",
            "0 ^ -1",
            "exp(1000)",
        ):
            with self.subTest(formula):
                self.assertIsNone(value(formula))

    def test_binding(self):
        for formula, expected in (
            ("2 + 3 * 4", 14),
            ("-2 ^ 2", -4),
            ("2 ^ 3 ^ 2", 512),
            ("10 - 4 - 3", 3),
            ("100 / 10 / 5", 2),
            ("2 ^ -1", 0.5),
            ("not 1 = 2 and 2 = 2", True),
            ("1 = 1 or 1 = 2 and 1 = 3", True),
            ("'a' & 1 + 2", "a3"),
            ("(2 + 3) * 4", 20),
        ):
            with self.subTest(formula):
                self.assertEqual(value(formula), expected)

    def test_three_valued_conditions(self):
        for formula, expected in (
            ("empty = 1", None),
            ("empty and false", False),
            ("empty and true", None),
            ("empty or true", True),
            ("not (empty = 1)", None),
            ("if(empty = 1, 'a', 'b')", "b"),
            ("empty is empty", True),
            ("1 is not empty", True),
            ("if(1 = 2, 5)", None),
            ("empty & 'x'", "x"),
            ("coalesce(empty, empty)", None),
            ("3 not in (1, 2)", True),
            ("count in (1, empty)", False),
            ("5 not between 1 and 4", True),
        ):
            with self.subTest(formula):
                self.assertEqual(value(formula), expected)

    @given(st.floats(-1e9, 1e9, allow_nan=False), st.integers(0, 4))
    def test_round_halves_away_from_zero(self, number, places):
        found = values(f"round(fare_revenue, {places})", frame([{"fare_revenue": number}]))[0]
        self.assertLessEqual(abs(found - number), 0.5 * 10**-places + abs(number) * 1e-15)
        self.assertEqual(value("round(2.5)"), 3)
        self.assertEqual(value("round(-2.5)"), -3)
        self.assertEqual(value("round(1250, -2)"), 1300)


class Dates(unittest.TestCase):
    @given(DAYS, st.integers(-40, 40))
    @examples(80)
    def test_adding_steps(self, day, count):
        rows = frame([{"day": day, "count": count}])
        for unit, step in (("year", "years"), ("month", "months"), ("week", "weeks"), ("day", "days")):
            expected = day and day + relativedelta(**{step: count})
            self.assertEqual(values(f"date_add('{unit}', count, day)", rows), [expected])
            self.assertEqual(values(f"date_add('{unit}', {count}, day)", rows), [expected])

    @given(DAYS, DAYS)
    @examples(150)
    def test_whole_units_between(self, a, b):
        departure = b and dt.datetime.combine(b, dt.time(17, 25))
        rows = frame([{"day": a, "departure": departure}])
        for unit in ("day", "week", "month", "quarter", "year"):
            expected = None if a is None or b is None else whole_units(a, b, unit)
            self.assertEqual(values(f"date_diff('{unit}', day, departure)", rows), [expected], unit)

    @given(DAYS)
    def test_parts(self, day):
        rows = frame([{"day": day}])
        parts = {
            "year": lambda d: d.year,
            "quarter": lambda d: (d.month + 2) // 3,
            "month": lambda d: d.month,
            "day": lambda d: d.day,
            "week": lambda d: d.isocalendar().week,
            "weekday": lambda d: d.isoweekday(),
        }
        for name, part in parts.items():
            self.assertEqual(values(f"{name}(day)", rows), [day and part(day)], name)
        self.assertEqual(values("trunc(day, 'week')", rows), [day and day - dt.timedelta(days=day.weekday())])
        self.assertEqual(
            values("trunc(day, 'quarter')", rows), [day and day.replace(month=(day.month - 1) // 3 * 3 + 1, day=1)]
        )
        self.assertEqual(values("month_end(day)", rows), [day and day + relativedelta(day=31)])

    def test_dates_and_days(self):
        self.assertEqual(value("date('2024-02-28') + 1"), dt.date(2024, 2, 29))
        self.assertEqual(value("date('2026-01-01') - 1"), dt.date(2025, 12, 31))
        self.assertEqual(value("date('2026-03-01') - date('2026-02-01')"), 28)
        self.assertIsNone(value("make_date(2026, 2, 29)"))
        self.assertIsNone(value("date('soon')"))


def whole_units(a: dt.date, b: dt.date, unit: str) -> int:
    """Counted one by one, as a person would on a calendar."""
    if b < a:
        sign, first, last = -1, b, a
    else:
        sign, first, last = 1, a, b
    if unit in ("day", "week"):
        return sign * ((last - first).days // (7 if unit == "week" else 1))
    size = {"month": 1, "quarter": 3, "year": 12}[unit]
    months = (last.year - first.year) * 12 + last.month - first.month
    if last.day < first.day:
        months -= 1
    return sign * (months // size)


class Text(unittest.TestCase):
    @given(st.text(max_size=12), st.text(min_size=1, max_size=2))
    def test_places_are_counted_in_characters(self, text, part):
        rows = frame([{"port": text}])
        quoted = part.replace("'", "''")
        self.assertEqual(values(f"position('{quoted}', port)", rows), [text.find(part) + 1])
        self.assertEqual(values("length(port)", rows), [len(text)])
        self.assertEqual(values("left(port, 3)", rows), [text[:3]])
        self.assertEqual(values("right(port, 3)", rows), [text[-3:]])
        self.assertEqual(values("substring(port, 2, 3)", rows), [text[1:4]])

    def test_conversion_of_what_people_write(self):
        for formula, expected in (
            ("number('€ 1,234.50')", 1234.5),
            ("number('(12)')", -12),
            ("number('12 boats')", None),
            ("text(1.5)", "1.5"),
            ("whole_number('7.9')", 7),
            ("whole_number(-7.9)", -7),
            ("yes_no('ja')", True),
            ("yes_no('perhaps')", None),
            ("text(true)", "yes"),
            ("text(date('2026-10-31'))", "2026-10-31"),
            ("split_part('a–b–c', '–', -1)", "c"),
            ("split_part('a', '–', 2)", None),
            ("extract('Pier 12b', '(\\d+)([a-z])')", "12"),
            ("trim(' a   b ')", "a b"),
        ):
            with self.subTest(formula):
                self.assertEqual(value(formula), expected)


ROWS = st.lists(
    st.fixed_dictionaries(
        {
            "port": st.sampled_from(["Quay", "Tern", None]),
            "day": st.one_of(st.none(), st.dates(dt.date(2024, 2, 27), dt.date(2024, 3, 4))),
            "count": st.one_of(st.none(), st.integers(-5, 5)),
        }
    ),
    max_size=14,
)


def in_order(rows: list[dict], descending: bool) -> list[list[int]]:
    """For each port the places of its rows along the days, ties as they stand, empties last."""
    parts: dict[Any, list[int]] = {}
    for place, row in enumerate(rows):
        parts.setdefault(row["port"], []).append(place)
    for places in parts.values():
        dated = sorted(
            (p for p in places if rows[p]["day"]), key=lambda p: rows[p]["day"].toordinal() * (-1 if descending else 1)
        )
        places[:] = dated + [p for p in places if not rows[p]["day"]]
    return list(parts.values())


class Windows(unittest.TestCase):
    """Against a plain loop on random rows with empties, ties and parts of one row."""

    def against_a_loop(self, formula: str, rows: list[dict], loop, descending: bool = False) -> None:
        expected: list[Any] = [None] * len(rows)
        for places in in_order(rows, descending):
            column = [rows[place]["count"] for place in places]
            for at, place in enumerate(places):
                expected[place] = loop(column, at)
        desc = " desc" if descending else ""
        found = values(f"{formula} along (day{desc}) restart (port)", frame(rows))
        for a, b in zip(found, expected, strict=True):
            if isinstance(b, float):
                self.assertTrue(a is not None and math.isclose(a, b, abs_tol=1e-9), (found, expected))
            else:
                self.assertEqual(a, b, (found, expected))

    @given(ROWS, st.booleans())
    @examples(120)
    def test_rows_before(self, rows, descending):
        def before(column, at):
            return column[at - 1] if at else None

        def step(column, at):
            return None if not at or column[at] is None or column[at - 1] is None else column[at] - column[at - 1]

        def so_far(column, at):
            full = [v for v in column[: at + 1] if v is not None]
            return sum(full) if full else None

        def last_three(column, at):
            full = [v for v in column[max(0, at - 2) : at + 1] if v is not None]
            return sum(full) / len(full) if full else None

        self.against_a_loop("previous(count)", rows, before, descending)
        self.against_a_loop("difference(count)", rows, step, descending)
        self.against_a_loop("running(count)", rows, so_far, descending)
        self.against_a_loop("moving(mean, count, 3)", rows, last_three, descending)
        self.against_a_loop("row_number()", rows, lambda column, at: at + 1, descending)

    @given(ROWS)
    @examples(60)
    def test_ranks_share_places(self, rows):
        expected = []
        for row in rows:
            others = [r["count"] for r in rows if r["port"] == row["port"] and r["count"] is not None]
            expected.append(None if row["count"] is None else 1 + sum(other > row["count"] for other in others))
        self.assertEqual(values("rank(count) restart (port)", frame(rows)), expected)

    @given(ROWS)
    @examples(60)
    def test_two_orders_and_windows_of_windows(self, rows):
        nested = values("previous(difference(count) along (day)) along (day)", frame(rows))
        step = values("difference(count) along (day)", frame(rows))
        places = functools.reduce(operator.iadd, in_order([{**row, "port": None} for row in rows], False), [])
        self.assertEqual([nested[p] for p in places], ([None] + [step[p] for p in places])[: len(rows)])
        numbers = values("row_number() along (day desc, count)", frame(rows))

        def key(place):
            day, count = rows[place]["day"], rows[place]["count"]
            return (day is None, -day.toordinal() if day else 0, count is None, count or 0, place)

        self.assertEqual([numbers[p] for p in sorted(range(len(rows)), key=key)], list(range(1, len(rows) + 1)))

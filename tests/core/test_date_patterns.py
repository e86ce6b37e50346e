"""Dates in patterns of CLDR, and charts that write theirs so."""

import datetime as dt
import json
import unittest

from babel.dates import format_date, format_datetime
from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.chart.test_charts import FARE, MONTH, ROWS, asked, chart
from veduta.core.chart.drawing.marks import to_milliseconds
from veduta.core.data.date_patterns import format_date_pattern, validate_date_pattern
from veduta.core.data.languages import LANGUAGES
from veduta.core.errors import DefinitionProblem

PARTS = ("y", "yy", "yyyy", "Q", "QQQ", "M", "MM", "MMM", "MMMM", "w", "d", "dd", "E", "EEEE")
PATTERNS = st.lists(st.sampled_from([*PARTS, " ", ".", "/", "'of'", "''", "-"]), min_size=1, max_size=6).map("".join)


class Patterns(unittest.TestCase):
    @examples(200)
    @given(st.dates(dt.date(1, 1, 1), dt.date(9999, 12, 31)), PATTERNS, st.sampled_from(list(LANGUAGES)))
    def test_days_are_written_as_babel_writes_them(self, day, pattern, language):
        try:
            validate_date_pattern(pattern)
        except ValueError:
            return
        self.assertEqual(format_date_pattern(day, pattern, language), format_date(day, pattern, locale=language))

    def test_moments_have_a_time(self):
        moment = dt.datetime(2024, 2, 29, 23, 5)
        pattern = "d.M. HH:mm"
        self.assertEqual(format_date_pattern(moment, pattern, "de"), format_datetime(moment, pattern, locale="de"))
        self.assertEqual(format_date_pattern(dt.date(2026, 5, 1), "MMMM", "fr"), "mai")

    def test_what_is_no_pattern_is_refused(self):
        for text in ("yyyy'", "ZZZ", "MMMMMMMM", "hello", "x"):
            with self.subTest(text=text), self.assertRaises(ValueError):
                validate_date_pattern(text)
        self.assertEqual(validate_date_pattern(""), "")


class InCharts(unittest.TestCase):
    LOOK = {"dates": [{"field": "sailed month", "pattern": "MMMM", "language": "de"}]}

    def test_tables_marks_and_panels_write_them_so(self):
        table = asked(chart(show=[FARE], by=[MONTH], kind="table", look=self.LOOK)).drawing.table
        self.assertEqual([row[0].text for row in table.rows], ["Januar", "Februar", "April", "Mai"])
        bars = asked(chart(show=[FARE], by=["region"], split=MONTH, kind="bar", look=self.LOOK)).drawing
        self.assertIn("Februar", {row["series"] for row in bars.rows})
        other = asked(chart(show=[FARE], by=[{"field": "sailed", "grain": "year"}], kind="table", look=self.LOOK))
        self.assertEqual(other.drawing.table.rows[0][0].text, "2026")

    def test_a_time_axis_says_every_period_also_those_without_rows(self):
        spec = asked(chart(show=[FARE], by=[MONTH], kind="line", look=self.LOOK)).drawing.spec
        unit = spec["layer"][0] if "layer" in spec else spec
        label = unit["encoding"]["x"]["axis"]["labelExpr"]
        words = json.loads(label[1 : label.rindex(")[time")])
        march = to_milliseconds(dt.date(2026, 3, 1))
        self.assertEqual(words[str(march)], "März")
        self.assertEqual(len(words), 5)
        self.assertTrue(all(row["sailed"].month != 3 for row in ROWS))

    def test_a_pattern_that_is_none_or_a_language_unknown_is_refused(self):
        for look in ({"pattern": "hello"}, {"pattern": "y", "language": "xx"}, {"pattern": ""}):
            with self.subTest(look=look), self.assertRaises(DefinitionProblem):
                chart(look={"dates": [{"field": "sailed month", **look}]})

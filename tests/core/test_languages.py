"""Numbers and periods in other languages, and charts that write theirs so."""

import datetime as dt
import itertools
import re
import unittest

from babel.dates import format_skeleton, get_day_names, get_month_names
from babel.numbers import format_compact_decimal, format_currency, format_decimal, format_percent
from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.chart.test_charts import FARE, MONTH
from tests.core.chart.test_kinds import ROWS, drawn, fitting
from veduta.core.calendar import Grain
from veduta.core.chart.drawing.picture import Drawing
from veduta.core.chart.kinds import CHART_KINDS
from veduta.core.data.fields import DataType, NumberFormat
from veduta.core.data.languages import LANGUAGES
from veduta.core.number_format import format_number, format_value

CODES = st.sampled_from(list(LANGUAGES))
HUNDREDTHS = st.integers(-(10**12), 10**12).map(lambda number: number / 100)


def written(value, code, **settings):
    return format_number(value, NumberFormat(language=code, decimals=2, **settings))


def as_babel(text):
    """Babel's text with Veduta's minus where Babel has one, and none at nothing but zeros."""
    if not any(digit in "123456789" for digit in text):
        return re.sub("[-−]", "", text)
    # A sign behind the number, as in some patterns of percents, is written before it.
    return "−" + text.rstrip("-−") if text.endswith(("-", "−")) else text.replace("-", "−")


class Numbers(unittest.TestCase):
    @examples(300)
    @given(HUNDREDTHS, CODES)
    def test_are_written_as_babel_writes_them(self, value, code):
        self.assertEqual(written(value, code), as_babel(format_decimal(value, "#,##0.00", locale=code)))
        self.assertEqual(written(value, code, style="currency"), as_babel(format_currency(value, "EUR", locale=code)))
        self.assertEqual(written(value, code, pattern="0.00;(0.00)"), format_decimal(value, "0.00;(0.00)", code))

    @examples(100)
    @given(st.integers(-99, 99).map(lambda number: number / 100), CODES)
    def test_percent_are_written_as_babel_writes_them(self, share, code):
        whole = format_number(share, NumberFormat(language=code, style="percent", decimals=0))
        self.assertEqual(whole, as_babel(format_percent(share, locale=code)))

    def test_large_ones_are_shortened_as_in_the_language(self):
        for code, value in itertools.product(set(LANGUAGES) - {"en"}, (7_420_000, 3_000_000_000, 12_500, 4.2e12)):
            with self.subTest(code=code, value=value):
                shown = format_number(value, NumberFormat(language=code, shorten=True, decimals=0))
                expected = format_compact_decimal(value, locale=code, format_type="short")
                self.assertEqual(re.sub(r"\D+$", "", shown) and re.sub(r"[\d\s.,]", "", shown), _words(expected))

    def test_dutch_money_below_zero_has_its_sign_behind_the_currency(self):
        self.assertEqual(written(-1234.5, "nl", style="currency"), "€\xa0−1.234,50")
        self.assertEqual(written(-1234.5, "nl", style="currency", negative="brackets"), "(€\xa01.234,50)")
        self.assertEqual(written(-7_400_000, "nl", style="currency", shorten=True), "€\xa0−7,40\xa0mln.")

    def test_a_number_that_rounds_up_to_the_next_size_is_written_in_that(self):
        for value, decimals, words in (
            (999_999, 0, "1M"),
            (999_999, 2, "1.00M"),
            (999_994, 2, "999.99k"),
            (999_999, 3, "999.999k"),
            (-999_999, 1, "−1.0M"),
            (999.999, 2, "1.00k"),
            (999_999_999, 1, "1.0bn"),
            (0, 2, "0.00"),
        ):
            number_format = NumberFormat(shorten=True, decimals=decimals)
            self.assertEqual(format_number(float(value), number_format), words)

    def test_what_is_written_as_nought_has_no_plus(self):
        for value in (0.0001, -0.0001, 0.0):
            self.assertEqual(format_number(value, NumberFormat(style="percent", decimals=1, sign=True)), "0.0%")
        self.assertEqual(format_number(0.01, NumberFormat(style="percent", decimals=1, sign=True)), "+1.0%")

    def test_english_is_as_ever(self):
        self.assertEqual(format_number(7_420_000, NumberFormat(shorten=True, decimals=2)), "7.42M")


def _words(text):
    return re.sub(r"[\d\s.,]", "", text)


class Dates(unittest.TestCase):
    @examples(100)
    @given(st.dates(dt.date(1900, 1, 1), dt.date(2100, 1, 1)), CODES.filter(lambda code: code != "en"))
    def test_months_and_days_are_written_as_babel_writes_them(self, day, code):
        number_format = NumberFormat(language=code)
        for grain, skeleton in ((Grain.MONTH, "yMMM"), (Grain.DAY, "yMMMd")):
            expected = format_skeleton(skeleton, dt.datetime(day.year, day.month, day.day), locale=code)
            self.assertEqual(format_value(day, DataType.DATE, number_format, grain), expected)
        weekday = format_value(day.isoweekday(), DataType.DATE, number_format, Grain.WEEKDAY)
        self.assertEqual(weekday, get_day_names("wide", "stand-alone", code)[day.weekday()])
        month = format_value(day.month, DataType.DATE, number_format, Grain.MONTH_OF_YEAR)
        self.assertEqual(month, get_month_names("wide", "stand-alone", code)[day.month])

    def test_what_has_no_words_of_its_own_is_as_in_english(self):
        year = format_value(dt.date(2026, 4, 1), DataType.DATE, NumberFormat(language="de"), Grain.YEAR)
        self.assertEqual(year, "2026/27")


ENGLISH = re.compile(r"\d\.\d|,\d{3}|\b(Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Dec) ")


class InCharts(unittest.TestCase):
    def test_no_kind_of_drawing_writes_a_number_or_month_in_english(self):
        rows = ROWS["some rows"]
        for declared in CHART_KINDS.values():
            for parts in fitting(declared, rows)[::3]:
                with self.subTest(kind=declared.name, parts=parts):
                    drawing = drawn({**parts, "look": {"whole": {"language": "fr"}}}, rows).drawing
                    self.assertEqual([text for text in texts_of(drawing) if ENGLISH.search(text)], [])

    def test_axes_are_labelled_in_the_language(self):
        look = {"whole": {"language": "de"}}
        spec = drawn({"show": [FARE], "by": [MONTH], "kind": "line", "look": look}, ROWS["some rows"]).drawing.spec
        encoding = spec["layer"][0]["encoding"]
        self.assertIn('"Mai"', encoding["x"]["axis"]["labelExpr"])
        self.assertIn("'.', ','", encoding["y"]["axis"]["labelExpr"])
        self.assertIn("Mio.", encoding["y"]["axis"]["labelExpr"])


def texts_of(drawing: Drawing):
    """All that is read of a drawing's marks, cells and figures."""
    for row in drawing.rows:
        yield from (str(row.get(name) or "") for name in ("name", "series", "text", "label", "said"))
        yield from (words for _, words in row.get("tip") or ())
    if drawing.table:
        lines = [*drawing.table.headings, *drawing.table.rows, *drawing.table.totals]
        yield from (cell.text for line in lines for cell in line)
    for figure in drawing.figures or ():
        yield from (figure.text, figure.of, *(change.text for change in figure.changes))

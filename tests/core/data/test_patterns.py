import unittest
from decimal import Decimal

from babel.numbers import format_currency, format_decimal, format_percent
from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from veduta.core.chart.drawing.axes import build_number_axis
from veduta.core.data.fields import DataField, DataType, FieldRole, NumberFormat
from veduta.core.number_format import format_number, record_format, settle

NUMBERS = st.one_of(st.integers(-(10**18), 10**18), st.floats(-1e12, 1e12).map(lambda number: round(number, 3)))
PATTERNS = (
    "#,##0.00",
    "0",
    "#,##0",
    "#,##0.###",
    "000.0",
    "#,##,##0.0",
    "0.00E0",
    "#,##0.0;(#,##0.0)",
    "#,##0 'km'",
    "@@@",
)


class Patterns(unittest.TestCase):
    @examples(150)
    @given(NUMBERS, st.sampled_from(PATTERNS))
    def test_numbers_are_written_as_cldr_says(self, number, pattern):
        exact = Decimal(number) if isinstance(number, int) else Decimal(repr(number))
        expected = format_decimal(exact, format=pattern, locale="en")
        if not any(digit in "123456789" for digit in expected):
            expected = format_decimal(abs(exact), format=pattern, locale="en")  # zero has no sign
        if expected.startswith("-"):
            expected = "−" + expected[1:]
        self.assertEqual(format_number(number, NumberFormat(pattern=pattern)), expected)

    def test_percents_and_currencies_have_their_own_signs(self):
        self.assertEqual(format_number(0.256, NumberFormat(pattern="0.0%")), format_percent(0.256, "0.0%", locale="en"))
        money = NumberFormat(pattern="#,##0.00 ¤", currency="EUR")
        self.assertEqual(format_number(3.5, money), format_currency(3.5, "EUR", "#,##0.00 ¤", locale="en"))
        self.assertEqual(format_number(-3, NumberFormat(pattern="¤0;¤(0)", currency="JPY")), "¥(3)")

    def test_a_pattern_goes_before_decimals_and_brackets_but_not_before_the_word_for_empty_ones(self):
        number_format = NumberFormat(pattern="0.0", decimals=4, negative="brackets", empty="none")
        self.assertEqual([format_number(each, number_format) for each in (-2, None)], ["−2.0", "none"])
        self.assertEqual(settle(number_format, [1.234567], DataType.DECIMAL).pattern, "0.0")

    def test_numbers_of_records_that_name_things_are_not_apart(self):
        booking = DataField(id="b", source="Booking", name="Booking", kind=DataType.WHOLE)
        paid = DataField(id="p", source="Paid", name="Paid", kind=DataType.DECIMAL, role=FieldRole.MEASURE)
        self.assertEqual(format_number(500_001, record_format(booking, [500_001])), "500001")
        self.assertEqual(format_number(1234.5, record_format(paid, [1234.5])), "1,234.50")
        counted = booking.model_copy(update={"role": FieldRole.MEASURE})
        self.assertEqual(format_number(500_001, record_format(counted, [500_001])), "500,001")

    def test_axes_have_what_stands_around_the_numbers(self):
        label = build_number_axis(NumberFormat(pattern="'about' 0.0% 'of all'"))["labelExpr"]
        self.assertIn('"about " + format(abs(datum.value) * 100', label)
        self.assertIn('"% of all"', label)

    def test_what_is_no_pattern_is_refused(self):
        for text in ("abc", "0.0.0", "0;0;0", "'", "#'", "0 0", ";", "."):
            with self.subTest(text=text), self.assertRaises(ValueError) as caught:
                NumberFormat(pattern=text)
            self.assertIn("no pattern", str(caught.exception))

    @examples(150)
    @given(st.text("#0@.,;'%E+ a-(¤", max_size=10), NUMBERS)
    def test_whatever_is_taken_as_a_pattern_writes_every_number(self, text, number):
        try:
            number_format = NumberFormat(pattern=text)
        except ValueError:
            return
        self.assertIsInstance(format_number(number, number_format), str)

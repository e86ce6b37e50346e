import unittest

from veduta.core.data.fields import Aggregate, DataType, FieldRole
from veduta.core.data.options import FileOptions
from veduta.core.data.recognise import clean_names, recognise_field, recognise_fields
from veduta.core.data.sniff import FileSample

M, D = FieldRole.MEASURE, FieldRole.DIMENSION


def recognised(values, source="amount", decimal=""):
    return recognise_field("c1", source, source, values, usual_decimal=decimal).field


class Kinds(unittest.TestCase):
    def test_kinds_and_roles(self):
        for source, values, kind, role in (
            ("passengers", ["112", "98", "0"], DataType.WHOLE, M),
            ("fare", ["12.50", "7", "-3.25"], DataType.DECIMAL, M),
            ("fare", ["1,234.50", "12.00"], DataType.DECIMAL, M),
            ("fare", ["1.234,50", "12,00"], DataType.DECIMAL, M),
            ("fare", ["€12.50", "€7.00", "(€3.00)"], DataType.DECIMAL, M),
            ("fare", ["1 234,50 €", "12,00 €"], DataType.DECIMAL, M),
            ("load", ["45%", "52.5 %"], DataType.DECIMAL, M),
            ("heat", ["1.5e3", "2E-2"], DataType.DECIMAL, M),
            ("late", ["12-", "−4", "+3"], DataType.WHOLE, M),
            ("cancelled", ["yes", "No", "YES"], DataType.YES_NO, D),
            ("cancelled", ["true", "false", "n/a"], DataType.YES_NO, D),
            ("sailed", ["2026-03-04", "2026-12-31"], DataType.DATE, D),
            ("sailed", ["4 Mar 2026", "31 December 2026"], DataType.DATE, D),
            ("sailed", ["04/03/26", "31/12/26"], DataType.DATE, D),
            ("departure", ["2026-03-04 08:15", "2026-12-31T23:59:59"], DataType.DATETIME, D),
            ("departure", ["03/31/2026 8:15 AM", "12/01/2026 11:05 PM"], DataType.DATETIME, D),
            ("at", ["08:15", "23:59"], DataType.TEXT, D),
            ("version", ["1.2.3", "4.5.6"], DataType.TEXT, D),
            ("port", ["Tern", "Quay"], DataType.TEXT, D),
            ("note", ["", "n/a", "-"], DataType.TEXT, D),
            ("mixed", ["12", "Tern", "Quay", "7"], DataType.TEXT, D),
        ):
            with self.subTest(values=values):
                found = recognised(values, source)
                self.assertEqual((found.kind, found.role), (kind, role))

    def test_numbers_that_name_things_are_dimensions(self):
        for source, values in (
            ("sailing_id", ["100001", "100007"]),
            ("sailingId", ["5", "9"]),
            ("Hut no.", ["7", "8"]),
            ("pier", ["2023", "2024"]),
            ("postcode", ["12345", "54321"]),
            ("row", ["1", "2", "3", "4", "5", "6"]),
        ):
            with self.subTest(source=source):
                found = recognised(values, source)
                self.assertEqual((found.kind, found.role, found.format.thousands), (DataType.WHOLE, D, False))

    def test_leading_zeros_telephones_and_very_long_numbers_stay_text(self):
        for values in (["007", "012"], ["+44 20 7946 0001", "+44 20 7946 0002"], ["12345678901234567890"]):
            with self.subTest(values=values):
                self.assertEqual(recognised(values, "contact").kind, DataType.TEXT)

    def test_a_number_of_things_is_a_measure_all_the_same(self):
        self.assertEqual(recognised(["12", "30"], "number of vehicles").role, M)

    def test_default_aggregates(self):
        for source, values, aggregate in (
            ("revenue", ["1.5", "2"], Aggregate.SUM),
            ("minutes late", ["15", "2"], Aggregate.MEAN),
            ("load factor", ["45%", "50%"], Aggregate.MEAN),
            ("unitPrice", ["4.5", "5.5"], Aggregate.MEAN),
        ):
            with self.subTest(source=source):
                self.assertEqual(recognised(values, source).aggregate, aggregate)

    def test_formats(self):
        self.assertEqual(recognised(["£3.00", "£4.00"]).format.currency, "GBP")
        self.assertEqual(recognised(["30%", "40%"]).format.style, "percent")

    def test_a_few_misfits_do_not_change_the_kind(self):
        self.assertEqual(recognised(["1"] * 19 + ["about 9"], "sold").kind, DataType.WHOLE)


class Dates(unittest.TestCase):
    def test_the_order_is_told_by_a_day_above_twelve(self):
        for values, order in ((["03/04/2026", "25/04/2026"], "dmy"), (["03/04/2026", "04/25/2026"], "mdy")):
            found = recognise_field("c1", "sailed", "Sailed", values)
            self.assertEqual((found.field.reading.order, found.question), (order, ""))

    def test_an_order_that_cannot_be_told_is_asked(self):
        found = recognise_field("c1", "sailed", "Sailed", ["03/04/2026", "05/06/2026"])
        self.assertEqual(found.question, "03/04/2026")
        self.assertEqual(found.field.kind, DataType.DATE)

    def test_dates_in_words_are_never_asked_about(self):
        self.assertEqual(recognise_field("c1", "sailed", "Sailed", ["3 Apr 2026"]).question, "")

    def test_mixed_shapes_are_read_together(self):
        found = recognised(["2026-04-25", "25.04.2026", "26.4.2026", "2026-05-01"], "sailed")
        self.assertEqual(found.kind, DataType.DATE)
        self.assertEqual(set(found.reading.formats), {"%Y-%m-%d", "%d.%m.%Y"})


class Whole(unittest.TestCase):
    def test_the_decimal_sign_of_certain_columns_settles_the_others(self):
        rows = [["1,50", "1.200"], ["2,75", "3.400"], ["10,25", "12"]]
        fields = [found.field for found in recognise_fields(FileSample(FileOptions(), ["fare", "sold"], rows, 0))]
        self.assertEqual([(f.reading.decimal, f.reading.thousands) for f in fields], [(",", ""), (",", ".")])
        self.assertEqual(fields[1].kind, DataType.WHOLE)

    def test_names_are_made_readable_and_unique(self):
        self.assertEqual(
            [name for _, name in clean_names(["fare_revenue", "", "PORT NAME", "fare revenue", "ETA"])],
            ["Fare revenue", "Column 2", "Port name", "Fare revenue (2)", "ETA"],
        )

    def test_sources_of_the_same_heading_are_told_apart(self):
        self.assertEqual([source for source, _ in clean_names(["fare", "fare"])], ["fare", "fare (2)"])

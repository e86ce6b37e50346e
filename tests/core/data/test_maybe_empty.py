"""Words that a column seems to use for empty: noticed in each column, taken only where they can mean nothing else."""

import datetime as dt
import unittest

import polars as pl

from tests.core.support import FolderTest, field
from veduta.core.data.convert import Failures, convert
from veduta.core.data.fields import DataType, ParseOptions
from veduta.core.data.importing import Import
from veduta.core.data.options import EMPTY_WORDS, FileOptions
from veduta.core.data.recognise import recognise_field, recognise_fields
from veduta.core.data.sniff import FileSample


def recognised(values: list[str]):
    return recognise_field("c1", "c", "C", values)


class Noticed(unittest.TestCase):
    def test_numbers_among_many_such_words_are_numbers(self):
        found = recognised(["1", "2", "NA", "3", "na", "missing", "4"])
        self.assertEqual((found.field.kind, found.field.reading.empties), (DataType.WHOLE, ("missing", "na")))
        self.assertEqual(found.maybe_empty, [("NA", 1), ("na", 1), ("missing", 1)])

    def test_dates_and_yes_or_no_too(self):
        self.assertEqual(recognised(["2026-03-01", "?", "2026-03-02"]).field.kind, DataType.DATE)
        self.assertEqual(recognised(["yes", "no", "unknown", "no"]).field.reading.empties, ("unknown",))

    def test_in_texts_they_are_offered_and_kept(self):
        found = recognised(["NA", "SE", "DK", "NA"])
        self.assertEqual((found.field.kind, found.field.reading.empties), (DataType.TEXT, ()))
        self.assertEqual(found.maybe_empty, [("NA", 2)])

    def test_numbers_that_stand_for_none_are_offered_and_kept(self):
        found = recognised(["12", "-999", "14", "15", "-999"])
        self.assertEqual((found.field.kind, found.field.reading.empties), (DataType.WHOLE, ()))
        self.assertEqual(found.maybe_empty, [("-999", 2)])

    def test_they_are_counted_in_the_whole_sample(self):
        rows = [["NA" if i % 4 == 0 else str(i)] for i in range(2_000)]
        found = recognise_fields(FileSample(FileOptions(), ["Waited"], rows, size=0))[0]
        self.assertEqual(found.maybe_empty, [("NA", 500)])

    def test_a_rare_one_in_texts_is_found_anywhere_in_the_sample(self):
        rows = [["NA" if i == 1_501 else f"N{i % 900}"] for i in range(2_000)]
        found = recognise_fields(FileSample(FileOptions(), ["Plane"], rows, size=0))[0]
        self.assertEqual((found.field.kind, found.maybe_empty), (DataType.TEXT, [("NA", 1)]))


class Converted(FolderTest):
    def test_a_columns_own_words_are_empty_in_it_alone(self):
        texts = pl.Series(["NA", "na ", "n/a", "Tern", "12", "-999"])
        for kind, words, wanted in (
            (DataType.TEXT, ("na",), [None, None, None, "Tern", "12", "-999"]),
            (DataType.TEXT, (), ["NA", "na", None, "Tern", "12", "-999"]),
            (DataType.WHOLE, ("na", "-999", "tern"), [None, None, None, None, 12, None]),
        ):
            failures = Failures()
            found = convert(texts, field("C", kind, reading=ParseOptions(empties=words)), EMPTY_WORDS, failures)
            self.assertEqual((found.to_list(), failures.count), (wanted, 0))

    def test_a_whole_file_and_the_names_of_its_columns(self):
        path = self.file("n,at\n1,2026-03-01T08:00:00+02:00\nNA,2026-03-01T09:30:00Z\n3,\n")
        fields = [field("N", DataType.WHOLE, reading=ParseOptions(empties=("na",))), field("At", DataType.DATETIME)]
        (chunk,) = Import(path, FileOptions(), fields, [0, 1], 2).iterate_chunks()
        columns = [column for column, _ in chunk.columns]
        self.assertEqual([column.name for column in columns], ["n", "at"])
        self.assertEqual(columns[0].to_list(), [1, None, 3])
        self.assertEqual(columns[1].to_list(), [dt.datetime(2026, 3, 1, 6), dt.datetime(2026, 3, 1, 9, 30), None])

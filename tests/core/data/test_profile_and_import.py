import statistics
import unittest
from collections import Counter

import polars as pl
from django.test import tag
from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.support import FILES, FolderTest
from veduta.core.data.fields import DataType
from veduta.core.data.importing import Import
from veduta.core.data.profile import profile_column
from veduta.core.data.recognise import recognise_fields
from veduta.core.data.sniff import recognise_options, take_sample
from veduta.core.data.stored import decode, encode
from veduta.demo.generate import generate_sailings

WHOLES = st.lists(st.one_of(st.none(), st.integers(-(2**62), 2**62), st.integers(-5, 5)), max_size=40)


class Profiles(unittest.TestCase):
    @examples(100)
    @given(WHOLES)
    def test_a_profile_agrees_with_a_plain_count(self, values):
        found = profile_column(pl.Series(values, dtype=pl.Int64), DataType.WHOLE)
        full = [value for value in values if value is not None]
        self.assertEqual(
            (found.rows, found.empties, found.distinct), (len(values), len(values) - len(full), len(set(full)))
        )
        if full:
            self.assertEqual((found.lowest, found.highest), (min(full), max(full)))
            self.assertAlmostEqual(found.mean, statistics.fmean(full), delta=max(map(abs, full)) * 1e-12 + 1e-9)
            self.assertEqual(sum(found.bars), len(full))
            most = Counter(full)
            self.assertTrue(all(most[value] == count for value, count in found.top))
            self.assertEqual(found.top[0][1], max(most.values()))

    def test_equal_steps(self):
        self.assertEqual(profile_column(pl.Series([0, 1, 1, 3]), DataType.WHOLE).bars, [1, 2, 0, 1])
        self.assertEqual(profile_column(pl.Series([5.0, 5.0]), DataType.DECIMAL).bars, [2])

    def test_nothing_at_all(self):
        found = profile_column(pl.Series([None, None], dtype=pl.String), DataType.TEXT)
        self.assertEqual((found.distinct, found.lowest, found.share_empty), (0, None, 1.0))

    @examples(40)
    @given(WHOLES)
    def test_columns_are_stored_and_loaded_as_they_are(self, values):
        column = pl.Series("fare", values, dtype=pl.Int64)
        self.assertTrue(decode(encode(column)).equals(column, check_names=True, check_dtypes=True))


class Imports(FolderTest):
    def load(self, path, size=1 << 24):
        options = recognise_options(path)
        sample = take_sample(path, options)
        fields = [found.field for found in recognise_fields(sample)]
        reading = Import(path, options, fields, list(range(sample.width)), sample.width)
        chunks = [pl.DataFrame([values for values, _ in chunk.columns]) for chunk in reading.iterate_chunks(size)]
        return (
            pl.concat(chunks).rename({field.id: field.name for field in fields}),
            reading,
            {f.name: f for f in fields},
        )

    def test_a_messy_file_written_by_hand(self):
        frame, reading, fields = self.load(FILES / "ticket_hut_diary.csv")
        self.assertEqual(frame.height, 10)
        self.assertEqual(frame["Tickets sold"].to_list(), [112, 248, 87, None, 96, None, None, 133, 101, 154])
        self.assertEqual(
            frame["Takings"].to_list(), [1684.5, 2976.0, 1522.5, None, 1440.0, -35.0, None, 1995.0, 1767.5, 2310.0]
        )
        self.assertEqual(frame["Share on foot"][0], 0.625)
        self.assertEqual(frame["Hut no."][0], "007")
        self.assertEqual(frame["Rained?"].to_list()[:3], [False, False, True])
        self.assertEqual(frame["Day"].dt.to_string("%Y-%m-%d")[4], "2026-04-07")
        self.assertEqual(frame["Skipper's note"][8], "two lines\nin one note")
        self.assertEqual(reading.failures[fields["Tickets sold"].id].examples, [(6, "about 90")])
        self.assertEqual((reading.ragged.short, reading.ragged.long), (1, 1))

    @tag("long")
    def test_the_same_whatever_the_size_of_blocks(self):
        path = self.folder / "sailings.csv"
        generate_sailings(400).write_csv(path)
        whole, _, _ = self.load(path)
        for size in (500, 7_000):
            with self.subTest(size=size):
                self.assertTrue(self.load(path, size)[0].equals(whole))

    def test_generated_sailings_arrive_unchanged(self):
        path = self.folder / "sailings.csv"
        made = generate_sailings(500)
        made.write_csv(path)
        frame, reading, _ = self.load(path)
        self.assertEqual(sum(failures.count for failures in reading.failures.values()), 0)
        self.assertEqual(frame["Fare revenue"].to_list(), made["fare_revenue"].to_list())
        self.assertEqual(frame["Cancelled"].to_list(), [word == "yes" for word in made["cancelled"]])
        self.assertEqual(frame["Departure"].dt.strftime("%Y-%m-%d %H:%M").to_list(), made["departure"].to_list())


class Generator(unittest.TestCase):
    def test_the_same_seed_gives_the_same_rows(self):
        self.assertTrue(generate_sailings(300).equals(generate_sailings(300)))
        self.assertFalse(generate_sailings(300).equals(generate_sailings(300, seed=1)))

    def test_it_is_imperfect_on_purpose(self):
        rows = generate_sailings(5_000)
        self.assertEqual(rows["sailing_id"].n_unique(), rows.height - 1)
        self.assertGreater(rows["onboard_sales"].null_count(), 0)
        self.assertLess((rows["fare_revenue"] - rows["fuel_cost"] - rows["crew_cost"]).min(), 0)

from __future__ import annotations

import datetime as dt
import random
import unittest

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

from tests.core.support import FolderTest
from veduta.core.data.field_changes import change_field
from veduta.core.data.importing import Import, find_kept_rows
from veduta.core.data.options import FileOptions
from veduta.core.data.recognise import recognise_fields
from veduta.core.data.remarks import find_remarks
from veduta.core.data.sniff import FileSample


def sample_of(header: list[str], rows: list[list[str]]) -> FileSample:
    return FileSample(FileOptions(), header, rows, 0)


def remarked(header: list[str], rows: list[list[str]], **changes):
    """What is remarked about a sample, with changes of its first column's reading."""
    sample = sample_of(header, rows)
    fields = [each.field for each in recognise_fields(sample)]
    if changes:
        fields[0] = change_field(fields[0], changes)
    return find_remarks(sample, [(field, position) for position, field in enumerate(fields)])


class Totals(unittest.TestCase):
    years = range(2015, 2025)
    causes = ("Storm", "Fog", "Technical fault", "Crew shortage")

    def cancelled(self, total: str, wrong: int = 0) -> list[list[str]]:
        """Sailings that were cancelled by cause and year, with a value that is the sum of the others."""
        luck, rows = random.Random(7), []
        for year in self.years:
            counts = [luck.randrange(100) for _ in self.causes]
            rows += [[cause, str(year), str(count)] for cause, count in zip(self.causes, counts, strict=True)]
            rows.append([total, str(year), str(sum(counts) + (year - self.years[0] < wrong))])
        return sorted(rows)

    def totals(self, header: list[str], rows: list[list[str]]) -> list:
        return [(each.words, each.rows) for each in remarked(header, rows) if each.about == "totals"]

    def test_what_is_the_sum_of_the_others_is_a_total_whatever_it_is_called(self):
        for name in ("All natural causes", "Weather and people", "Total"):
            with self.subTest(name):
                found = self.totals(["Cause", "Year", "Cancelled"], self.cancelled(name))
                self.assertEqual(found, [((name,), len(self.years))])

    def test_one_wrong_year_does_not_hide_it_and_many_do(self):
        header = ["Cause", "Year", "Cancelled"]
        self.assertEqual(len(self.totals(header, self.cancelled("Everything", wrong=1))), 1)
        self.assertEqual(self.totals(header, self.cancelled("Everything", wrong=4)), [])

    def test_it_is_found_beside_a_code_and_in_each_group(self):
        rows = [
            [harbour, cause, cause[:2].upper(), year, count]
            for harbour in ("Tern", "Quay")
            for cause, year, count in self.cancelled("All causes")
        ]
        (found,) = self.totals(["Harbour", "Cause", "Code", "Year", "Cancelled"], rows)
        self.assertEqual(found, (("All causes",), 2 * len(self.years)))

    def test_a_name_that_is_no_sum_is_no_total(self):
        rows = [["Total Recall", "830"], ["All About Terns", "420"], ["The Ferry", "77"], ["Overall", "96"]]
        self.assertEqual(self.totals(["Film", "Seats"], rows), [])

    def test_a_single_sum_needs_a_word_for_it(self):
        for word in ("Total", "overall", "Grand total", "Total Harbour", "All ports"):
            self.assertEqual(self.totals(["Port", "Fare"], [["Tern", "1"], ["Quay", "2"], [word, "3"]]), [((word,), 1)])
        self.assertEqual(self.totals(["Port", "Fare"], [["Tern", "1"], ["Quay", "2"], ["Holm", "3"]]), [])

    @given(st.lists(st.tuples(st.sampled_from("abcd"), st.integers(0, 9), st.integers(1, 10**6)), max_size=40))
    def test_random_numbers_are_no_totals(self, rows):
        self.assertEqual(
            self.totals(["Port", "Deck", "Fare"], [[p, str(d), str(f * 7919 % 10**6)] for p, d, f in rows]), []
        )

    def test_they_stay_remarked_once_left_out(self):
        rows = [["Tern", "1"], ["Quay", "1"], ["Total", "2"]]
        (found,) = remarked(["Port", "Fare"], rows, left_out=["total"])
        self.assertTrue(found.taken)
        kept = find_kept_rows(pl.DataFrame({"0": [row[0] for row in rows]}), [(found.field, 0)])
        self.assertEqual([not each for each in kept], [False, False, True])


class FarDates(unittest.TestCase):
    days = [[str(dt.date(2026, 1, 1) + dt.timedelta(days=number)), "1"] for number in range(100)]

    def test_dates_far_outside_the_rest_are_remarked(self):
        for text in ("1900-01-01", "9999-12-31", "2036-01-01"):
            with self.subTest(text):
                (found,) = remarked(["Sailed", "Fare"], [*self.days, [text, "1"]])
                self.assertEqual((found.about, found.words, found.rows, found.taken), ("far", (text,), 1, False))

    def test_dates_of_a_long_time_and_a_near_one_are_not(self):
        years = [[f"{year}-06-01", "1"] for year in range(1900, 2027)]
        for rows in (years, [*self.days, ["2027-01-01", "1"]], [*self.days[:5], ["1900-01-01", "1"]]):
            with self.subTest(rows[-1]):
                self.assertEqual(remarked(["Sailed", "Fare"], rows), [])

    def test_they_stay_remarked_once_they_count_as_empty(self):
        (found,) = remarked(["Sailed", "Fare"], [*self.days, ["1900-01-01", "1"]], empty_words=["1900-01-01"])
        self.assertTrue(found.taken)


class Importing(FolderTest):
    def test_rows_left_out_do_not_come_in_and_failures_keep_their_lines(self):
        path = self.folder / "ports.csv"
        lines = [*(f"Tern,{number}" for number in range(20)), "TOTAL ,190", "Quay,many", ",7"]
        path.write_text("Port,Fare\n" + "\n".join(lines))
        sample = sample_of(["Port", "Fare"], [line.split(",") for line in lines])
        fields = [each.field for each in recognise_fields(sample)]
        fields[0] = change_field(fields[0], {"left_out": ["total"]})
        reading = Import(path, FileOptions(), fields, [0, 1], 2)
        chunks = list(reading.iterate_chunks(64))
        fares = [value for chunk in chunks for value in chunk.columns[1][0]]
        self.assertEqual(fares, [*range(20), None, 7])
        self.assertEqual((reading.rows, sum(chunk.rows for chunk in chunks)), (22, 22))
        self.assertEqual(reading.failures["c2"].examples, [(22, "many")])

from __future__ import annotations

import csv
import io
import unittest

import polars as pl

from veduta.core.data.csv_out import iterate_csv


def written(rows: dict[str, list], headings: list[str], **how) -> list[list[str]]:
    text = b"".join(iterate_csv(pl.DataFrame(rows).lazy(), headings, **how)).decode("utf-8-sig")
    return list(csv.reader(io.StringIO(text, newline="")))


class Written(unittest.TestCase):
    def test_what_a_spreadsheet_would_work_out_is_text(self):
        texts = ["=1+1", "+A1", "-cmd|' /c'!A0", "@sum(a)", "\t=1", "\r=1", "Quay", "a=b", "-5", "+44 20", "-1,5 %", ""]
        rows = {"t": texts, "n": [-1] * len(texts)}
        safe = written(rows, ["=Note", "Fare"])
        self.assertEqual(safe[0], ["'=Note", "Fare"])
        self.assertEqual([row[0] for row in safe[1:7]], [f"'{text}" for text in texts[:6]])
        self.assertEqual([row[0] for row in safe[7:]], ["Quay", "a=b", "-5", "+44 20", "-1,5 %", ""])
        self.assertEqual({row[1] for row in safe[1:]}, {"-1"})
        plain = written(rows, ["=Note", "Fare"], guarded=False)
        self.assertEqual([row[0] for row in plain], ["=Note", *texts])

    def test_no_rows_and_many(self):
        self.assertEqual(written({"t": []}, ["Port"]), [["Port"]])
        self.assertEqual(len(written({"t": ["Quay, North"] * 120_001}, ["Port"])), 120_002)

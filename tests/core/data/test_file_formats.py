"""Spreadsheets, columnar files and JSON: what lands is what was written."""

from __future__ import annotations

import datetime as dt
import json
import zipfile
from decimal import Decimal

import polars as pl
import xlsxwriter
from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.support import FolderTest
from veduta.core.data.fields import DataField, DataType
from veduta.core.data.file_formats import (
    _number_column,
    find_first_sheet,
    find_records,
    land_columnar,
    land_json,
    land_sheet,
    list_sheets,
    make_records_frame,
    make_unique_headings,
    parse_json,
    recognise_format,
    record_lists,
)
from veduta.core.data.importing import Import
from veduta.core.data.landing import Landing, sample_landing
from veduta.core.data.options import LandedOptions, RecordsOptions, SheetOptions
from veduta.core.data.recognise import recognise_fields
from veduta.core.errors import FileProblem


class LandingTest(FolderTest):
    def landed(self, land, *arguments) -> dict[str, list]:
        """What a reader lands, by heading, as it comes out again."""
        landing = Landing.begin(self.folder / "landed")
        land(*arguments, landing)
        landing.finish()
        again = Landing.open(self.folder / "landed")
        frames = [block.frame for block in again.iterate_blocks()]
        return {name: [v for frame in frames for v in frame[str(i)].to_list()] for i, name in enumerate(again.headings)}


class Spreadsheets(LandingTest):
    def setUp(self):
        super().setUp()
        self.path = self.folder / "fares.xlsx"
        with xlsxwriter.Workbook(self.path) as made:
            made.add_worksheet("Notes").write(0, 0, "Only a note")
            sheet, day = made.add_worksheet("Fares"), made.add_format({"num_format": "yyyy-mm-dd"})
            sheet.write(0, 0, "Harbour fares 2026")
            sheet.write_row(2, 0, ["Port", "Day", "Fare", "Serial", "Share", "Mixed", "Fare"])
            for i in range(4):
                sheet.write_datetime(3 + i, 1, dt.datetime(2026, 10, 1 + i), day)
                sheet.write_row(3 + i, 2, [12.5 * i, 46_296 + i])
                sheet.write_formula(3 + i, 4, "=1/0", None, "#DIV/0!" if i == 1 else 0.5)
                sheet.write(3 + i, 5, "closed" if i == 2 else i)
            sheet.merge_range(3, 0, 4, 0, "Quay")
            sheet.write_column(5, 0, ["Tern", "Marram"])
            hidden = made.add_worksheet("Old")
            hidden.hide()
            hidden.write_row(0, 0, ["a", "b"])

    def test_sheets_are_named_and_the_first_with_rows_is_taken(self):
        self.assertEqual(recognise_format(self.path, "fares.xlsx"), "sheet")
        self.assertEqual(list_sheets(self.path), [("Notes", False), ("Fares", False), ("Old", True)])
        self.assertEqual(find_first_sheet(self.path), "Fares")

    def test_cells_merged_wrong_and_dated(self):
        found = self.landed(land_sheet, self.path, SheetOptions(sheet="Fares"))
        self.assertEqual(found["Port"], ["Quay", None, "Tern", "Marram"])
        self.assertEqual(found["Day"], ["2026-10-01", "2026-10-02", "2026-10-03", "2026-10-04"])
        self.assertEqual(found["Share"][:2], ["0.5", None])
        self.assertEqual(found["Mixed"], ["0", "1", "closed", "3"])
        self.assertEqual(list(found)[-1], "Fare (2)")

    def test_ranges_and_header_rows(self):
        found = self.landed(land_sheet, self.path, SheetOptions(sheet="Fares", cells="B3:C5"))
        self.assertEqual(found, {"Day": ["2026-10-01", "2026-10-02"], "Fare": ["0", "12.5"]})
        self.assertEqual(
            next(iter(self.landed(land_sheet, self.path, SheetOptions(sheet="Fares", header_row=4)))), "Quay"
        )
        for cells, said in (("B3-C5", "not a range"), ("C5:B3", "ends before it starts")):
            with self.assertRaisesRegex(FileProblem, said):
                self.landed(land_sheet, self.path, SheetOptions(cells=cells))
        self.assertEqual([_number_column(letters) for letters in ("A", "Z", "AA", "BC")], [1, 26, 27, 55])

    def test_numbers_of_days_can_be_read_as_dates(self):
        self.landed(land_sheet, self.path, SheetOptions(sheet="Fares"))
        field = DataField(id="c4", source="Serial", name="Serial", kind=DataType.DATE)
        reading = Import(self.folder / "landed", LandedOptions(), [field], [3], 7)
        (chunk,) = reading.iterate_chunks()
        self.assertEqual(chunk.columns[0][0].to_list(), [dt.date(2026, 10, 1 + i) for i in range(4)])

    def test_a_zip_that_unpacks_without_end_and_one_that_is_no_spreadsheet(self):
        bomb = self.folder / "bomb.xlsx"
        with zipfile.ZipFile(bomb, "w", zipfile.ZIP_DEFLATED) as archive, archive.open("xl/sheet1.xml", "w") as inside:
            for _ in range(150):
                inside.write(bytes(1024 * 1024))
        with self.assertRaisesRegex(FileProblem, "unpacks to 150 MB"):
            recognise_format(bomb, "bomb.xlsx")
        other = self.folder / "other.zip"
        with zipfile.ZipFile(other, "w") as archive:
            archive.writestr("sailings.csv", "a,b")
        with self.assertRaisesRegex(FileProblem, "Unpack it"):
            recognise_format(other, "other.zip")
        with self.assertRaisesRegex(FileProblem, "cut short or damaged"):
            recognise_format(self.file(self.path.read_bytes()[:900], name="cut.xlsx"), "cut.xlsx")


COLUMNS = {
    "port": pl.Series(["Quay", None, "Größe"]),
    "n": pl.Series([1, None, -5], dtype=pl.Int16),
    "big": pl.Series([2**63 + 5, 1, None], dtype=pl.UInt64),
    "paid": pl.Series([Decimal("1.50"), None, Decimal("-2")]),
    "rate": pl.Series([0.1, float("nan"), float("inf")], dtype=pl.Float32),
    "open": pl.Series([True, None, False]),
    "day": pl.Series([dt.date(2024, 2, 29), None, dt.date(1999, 12, 31)]),
    "at": pl.Series([dt.datetime(2026, 10, 31, 17, 25), None, None], dtype=pl.Datetime("ns", "Europe/Paris")),
    "tags": pl.Series([["a", "b"], [], None]),
    "kind": pl.Series(["x", "y", None], dtype=pl.Categorical),
    "where": pl.Series([{"lat": 1.5}, None, {"lat": 2.0}]),
    "raw": pl.Series([b"\x01", None, b""]),
}


class Columnar(LandingTest):
    def test_every_type_becomes_a_plain_one(self):
        frame = pl.DataFrame(COLUMNS)
        for kind, write in (
            ("parquet", frame.write_parquet),
            ("arrow", frame.write_ipc),
            ("arrow", frame.write_ipc_stream),
        ):
            path = self.folder / f"types.{kind}"
            write(path)
            self.assertEqual(recognise_format(path, path.name), kind)
            found = self.landed(land_columnar, path, kind)
            self.assertEqual(found["n"], [1, None, -5])
            self.assertEqual(found["big"], [float(2**63 + 5), 1.0, None])
            self.assertEqual(found["paid"], [1.5, None, -2.0])
            self.assertEqual(found["rate"][1:], [None, None])
            self.assertEqual(found["day"], [dt.date(2024, 2, 29), None, dt.date(1999, 12, 31)])
            self.assertEqual(found["at"][0], dt.datetime(2026, 10, 31, 17, 25))
            self.assertEqual((found["tags"][:2], found["kind"][0], found["raw"][0]), (['["a", "b"]', "[]"], "x", "01"))
            self.assertEqual(json.loads(found["where"][0]), {"lat": 1.5})

    def test_a_file_cut_short_says_so(self):
        path = self.folder / "whole.parquet"
        pl.DataFrame({"a": list(range(50_000))}).write_parquet(path)
        cut = self.file(path.read_bytes()[:-200], name="cut.parquet")
        with self.assertRaisesRegex(FileProblem, "Parquet file is cut short"):
            self.landed(land_columnar, cut, "parquet")

    def test_types_are_recognised_from_what_landed(self):
        path = self.folder / "types.parquet"
        pl.DataFrame(COLUMNS).select("port", "n", "day", "open", "paid").write_parquet(path)
        self.landed(land_columnar, path, "parquet")
        kinds = [
            found.field.kind for found in recognise_fields(sample_landing(self.folder / "landed", LandedOptions()))
        ]
        self.assertEqual(kinds, [DataType.TEXT, DataType.WHOLE, DataType.DATE, DataType.YES_NO, DataType.DECIMAL])


RECORD = st.dictionaries(
    st.sampled_from(["port", "n", "deep", "list"]),
    st.one_of(
        st.none(),
        st.integers(-(2**70), 2**70),
        st.floats(allow_nan=False, allow_infinity=False),
        st.booleans(),
        st.text(max_size=4),
        st.dictionaries(st.sampled_from("ab"), st.integers(0, 9), max_size=2),
        st.lists(st.integers(0, 3), max_size=2),
    ),
    max_size=4,
)


class Json(LandingTest):
    def test_where_the_records_are(self):
        data = {"meta": {"pages": [1, 2]}, "data": {"items": [{"a": 1}, {"a": 2}], "ports": [{"p": 1}]}}
        self.assertEqual(record_lists(data), [("data.items", 2), ("data.ports", 1)])
        self.assertEqual(find_records(data, ""), [{"a": 1}, {"a": 2}])
        self.assertEqual(find_records(data, "data.ports"), [{"p": 1}])
        self.assertEqual(find_records([1, 2], ""), [{"value": 1}, {"value": 2}])
        with self.assertRaisesRegex(FileProblem, "nothing at “data.boats”. Records are at: data.items, data.ports"):
            find_records(data, "data.boats")
        with self.assertRaisesRegex(FileProblem, "single value"):
            find_records({"a": 5}, "a")

    def test_nested_objects_become_columns(self):
        path = self.file(
            json.dumps([{"port": {"name": "Quay", "at": [1, 2]}, "n": 1}, {"n": 2.5, "note": None}]), name="counts.json"
        )
        self.assertEqual(recognise_format(path, path.name), "json")
        found = self.landed(lambda landing: land_json(path, RecordsOptions(), landing, lines=False))
        self.assertEqual(
            found, {"port.name": ["Quay", None], "port.at": ["[1, 2]", None], "n": [1.0, 2.5], "note": [None, None]}
        )

    @given(st.lists(RECORD, min_size=1, max_size=6))
    @examples(80)
    def test_any_records_make_a_table_without_losing_a_value(self, records):
        frame = make_records_frame(records)
        self.assertEqual(frame.height, len(records) if frame.width else 0)
        for i, record in enumerate(records):
            for key, value in record.items():
                if value is not None and not isinstance(value, dict) and key in frame.columns:
                    self.assertIsNotNone(frame[key][i], (key, value))

    def test_lines_and_what_is_wrong_in_them(self):
        path = self.file('{"a": 1}\n\n{"a": 2, "b": "x"}\n', name="counts.jsonl")
        self.assertEqual(recognise_format(path, "counts.json"), "json_lines")
        found = self.landed(lambda landing: land_json(path, RecordsOptions(), landing, lines=True))
        self.assertEqual(found, {"a": [1, 2], "b": [None, "x"]})
        broken = self.file('{"a": 1}\n{"a": \n', name="broken.jsonl")
        with self.assertRaisesRegex(FileProblem, "Line 2 is not readable"):
            self.landed(lambda landing: land_json(broken, RecordsOptions(), landing, lines=True))
        with self.assertRaisesRegex(FileProblem, "in line 2, near"):
            parse_json(b'{"a": 1,\n "b": }')
        with self.assertRaisesRegex(FileProblem, "not readable JSON"):
            parse_json(b"[" * 100_000)


class Landings(LandingTest):
    def test_columns_that_come_and_go_and_change_their_type(self):
        landing = Landing.begin(self.folder / "landed")
        for frame in (
            pl.DataFrame({"a": [1], "b": ["x"]}),
            pl.DataFrame({"b": [2], "c": [True]}),
            pl.DataFrame({"a": [1.5]}),
        ):
            landing.add(frame)
            landing._write()
        landing.finish()
        found = {
            name: pl.concat([b.frame for b in landing.iterate_blocks()])[str(i)].to_list()
            for i, name in enumerate(landing.headings)
        }
        self.assertEqual(found, {"a": [1.0, None, 1.5], "b": ["x", "2", None], "c": [None, True, None]})

    def test_nothing_and_too_much(self):
        with self.assertRaisesRegex(FileProblem, "no rows in it"):
            Landing.begin(self.folder / "landed").finish()
        with self.assertRaisesRegex(FileProblem, "2,001 columns"):
            Landing.begin(self.folder / "landed").add(pl.DataFrame({f"c{i}": [1] for i in range(2_001)}))
        with self.assertRaisesRegex(FileProblem, "no longer there"):
            Landing.open(self.folder / "nowhere")

    def test_headings(self):
        self.assertEqual(make_unique_headings(["Fare", "", "Fare", " fare "]), ["Fare", "Column 2", "Fare (2)", "fare"])

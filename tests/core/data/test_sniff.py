import unittest

from tests.core.support import FILES, FolderTest
from veduta.core.data.options import FileOptions
from veduta.core.data.sniff import recognise_delimiter, recognise_encoding, recognise_options, take_sample
from veduta.core.errors import FileProblem


class Encodings(unittest.TestCase):
    def test_text_in_each_encoding(self):
        text = "Hafen;Überfahrt\nKéldà;12\n"
        for encoding, expected in (
            ("utf-8", "utf-8"),
            ("utf-8-sig", "utf-8"),
            ("cp1252", "cp1252"),
            ("utf-16", "utf-16-le"),
            ("utf-16-le", "utf-16-le"),
            ("utf-16-be", "utf-16-be"),
        ):
            with self.subTest(encoding=encoding):
                self.assertEqual(recognise_encoding(text.encode(encoding)), expected)

    def test_a_character_cut_at_the_end_of_the_head_is_no_error(self):
        self.assertEqual(recognise_encoding("Kéld".encode()[:2]), "utf-8")

    def test_other_formats_are_named(self):
        for head, word in (
            (b"%PDF-1.7", "PDF"),
            (b"\x89PNG\r\n", "picture"),
        ):
            with self.subTest(word=word), self.assertRaises(FileProblem) as caught:
                recognise_encoding(head)
            self.assertIn(word, caught.exception.message)

    def test_binary_data_is_refused(self):
        for data in (bytes(range(32)) * 20, b"port\x00\x00\x00,fare\x00\x01" * 3):
            with self.assertRaises(FileProblem) as caught:
                recognise_encoding(data)
            self.assertIn("binary", caught.exception.message)


class Delimiters(unittest.TestCase):
    def test_each_delimiter(self):
        for delimiter in ",;\t|":
            with self.subTest(delimiter=delimiter):
                self.assertEqual(
                    recognise_delimiter(f"port{delimiter}fare\nTern{delimiter}12\nQuay{delimiter}7\n"), delimiter
                )

    def test_decimal_commas_do_not_mislead(self):
        self.assertEqual(recognise_delimiter("a;b;c\n1,5;2,5;3,5\n1,0;2,0;3,0\n"), ";")

    def test_text_with_commas_in_a_tab_file(self):
        self.assertEqual(recognise_delimiter("port\tnote\nTern\told, wet, cold\nQuay\tnew\n"), "\t")


class Options(FolderTest):
    def header_row(self, text):
        return recognise_options(self.file(text)).header_row

    def test_header_rows(self):
        self.assertEqual(self.header_row("port,fare\nTern,12\n"), 1)
        self.assertEqual(self.header_row('"Fare, 2026",port\n12,Tern\n'), 1)
        self.assertEqual(self.header_row("12,Tern\n7,Quay\n9,Ash\n"), 0)
        self.assertEqual(self.header_row("Fares of the season,\n,\nport,fare\nTern,12\n"), 3)
        self.assertEqual(self.header_row("port,2024,2025,2026\nTern,1,2,3\nQuay,4,5,6\n"), 1)

    def test_a_title_and_a_blank_line_above_the_table(self):
        self.assertEqual(recognise_options(FILES / "ticket_hut_diary.csv").header_row, 3)

    def test_an_empty_file(self):
        for content in (b"", b"\n\n  \n", b"\xef\xbb\xbf"):
            with self.subTest(content=content), self.assertRaises(FileProblem) as caught:
                recognise_options(self.file(content))
            self.assertIn("empty", caught.exception.message)


class Samples(FolderTest):
    def test_a_header_without_rows_is_said_to_be_one(self):
        path = self.file("port,fare\n")
        with self.assertRaises(FileProblem) as caught:
            take_sample(path, recognise_options(path))
        self.assertEqual(caught.exception.message, "The file has a header of 2 columns and no rows under it.")

    def test_two_thousand_columns_are_read_and_more_are_refused(self):
        for columns, fits in ((2_000, True), (2_001, False)):
            text = ",".join(f"day {i}" for i in range(columns)) + "\n" + ",".join("1" * columns) + "\n"
            path = self.file(text)
            if fits:
                self.assertEqual(take_sample(path, FileOptions()).width, 2_000)
            else:
                with self.assertRaises(FileProblem) as caught:
                    take_sample(path, FileOptions())
                self.assertIn("2,001 columns", caught.exception.message)

    def test_a_large_file_is_sampled_to_its_end(self):
        path = self.file("n,place\n" + "".join(f"{i},row {i}\n" for i in range(120_000)))
        sample = take_sample(path, FileOptions())
        numbers = [int(row[0]) for row in sample.rows]
        self.assertEqual(numbers[:3], [0, 1, 2])
        self.assertGreater(max(numbers), 119_000)
        self.assertTrue(all(row[1] == f"row {row[0]}" for row in sample.rows))

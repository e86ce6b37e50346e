import csv
import io

from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.support import FolderTest
from veduta.core.data.blocks import Ragged, read_blocks
from veduta.core.data.options import FileOptions
from veduta.core.errors import FileProblem

PORTS = "Port,Berths,Note\n"


class ReadBlocks(FolderTest):
    def rows(self, content, width=3, size=1 << 24, written="utf-8", **options):
        path = self.file(content, written)
        self.ragged = Ragged()
        found = []
        for block in read_blocks(path, FileOptions(**options), width, self.ragged, size):
            self.read = block.bytes_read
            found += block.frame.rows()
        return found

    def test_a_regular_file(self):
        rows = self.rows(PORTS + "Tern,4,old\nQuay,,\n")
        self.assertEqual(rows, [("Tern", "4", "old"), ("Quay", "", "")])
        self.assertEqual((self.ragged.short, self.ragged.long), (0, 0))

    def test_a_file_without_a_header_or_a_last_line_feed(self):
        self.assertEqual(
            self.rows("Tern,4,old\nQuay,2,new", header_row=0), [("Tern", "4", "old"), ("Quay", "2", "new")]
        )

    def test_a_header_further_down(self):
        self.assertEqual(self.rows("Harbours\n\n" + PORTS + "Tern,4,old\n", header_row=3), [("Tern", "4", "old")])

    def test_windows_and_old_line_ends(self):
        for end in ("\r\n", "\r"):
            with self.subTest(end=end):
                self.assertEqual(
                    self.rows((PORTS + "Tern,4,old\nQuay,2,new\n").replace("\n", end))[1], ("Quay", "2", "new")
                )

    def test_quoted_cells_keep_delimiters_quotes_and_line_ends(self):
        rows = self.rows(PORTS + '"Tern, old pier",4,"two\nlines"\nQuay,2,"said ""no"""\n')
        self.assertEqual(rows, [("Tern, old pier", "4", "two\nlines"), ("Quay", "2", 'said "no"')])

    def test_ragged_lines_are_mended_and_counted_with_their_lines(self):
        rows = self.rows(PORTS + "Tern,4\nQuay,2,new,extra\n\nAsh,1,x\n")
        self.assertEqual(rows, [("Tern", "4", ""), ("Quay", "2", "new"), ("Ash", "1", "x")])
        self.assertEqual((self.ragged.short, self.ragged.long, self.ragged.examples), (1, 1, [(2, 2), (3, 4)]))

    def test_lines_that_make_up_for_each_other_are_still_noticed(self):
        self.rows(PORTS + "Tern,4\nQuay,2,new,extra\n")
        self.assertEqual((self.ragged.short, self.ragged.long), (1, 1))

    def test_a_short_line_among_quoted_ones_is_noticed(self):
        self.assertEqual(self.rows(PORTS + '"Tern",4,x\n"Quay",2\n')[1], ("Quay", "2", ""))
        self.assertEqual(self.ragged.short, 1)

    def test_lines_are_counted_across_blocks(self):
        body = "".join(f"Port {i},{i},x\n" for i in range(50)) + "Lost\n"
        self.rows(PORTS + body, size=64)
        self.assertEqual(self.ragged.examples, [(52, 1)])

    def test_a_quote_never_closed_names_its_line(self):
        with self.assertRaises(FileProblem) as caught:
            self.rows(PORTS + 'Tern,4,old\nQuay,2,"never\nAsh,1,x\n')
        self.assertIn("line 3", caught.exception.message)
        self.assertIn("quotation marks off", caught.exception.hint)

    def test_a_quote_never_closed_is_an_ordinary_character_with_quotes_off(self):
        self.assertEqual(self.rows(PORTS + 'Quay,2,"never\n', quotes=False), [("Quay", "2", '"never')])

    def test_a_stray_quote_inside_a_cell_is_read_as_it_stands(self):
        rows = self.rows(PORTS + 'Tern,4,12" pier\nQuay,2,"a, b"\n')
        self.assertEqual(rows, [("Tern", "4", '12" pier'), ("Quay", "2", "a, b")])

    def test_encodings(self):
        for encoding, python in (
            ("utf-8", "utf-8-sig"),
            ("utf-16-le", "utf-16"),
            ("cp1252", "cp1252"),
            ("utf-16-be", "utf-16-be"),
        ):
            with self.subTest(encoding=encoding):
                rows = self.rows(PORTS + "Kéldà,4,ø\n", written=python, encoding=encoding)
                self.assertEqual(rows, [("Kéldà", "4", "ø")])

    def test_the_wrong_encoding_names_the_line(self):
        path = self.file(PORTS + "Tern,4,x\nKéldà,4,ø\n", "cp1252")
        with self.assertRaises(FileProblem) as caught:
            list(read_blocks(path, FileOptions(), 3, Ragged()))
        self.assertIn("Line 3", caught.exception.message)
        self.assertIn("Windows-1252", caught.exception.hint)

    def test_a_broken_utf_16_file_names_the_line(self):
        path = self.file((PORTS + "Tern,4,x\n").encode("utf-16-le") + b"\x00\xd8\x00\xd8")
        with self.assertRaises(FileProblem):
            list(read_blocks(path, FileOptions(encoding="utf-16-le"), 3, Ragged()))

    def test_a_file_that_has_gone(self):
        with self.assertRaises(FileProblem) as caught:
            list(read_blocks(self.folder / "gone.csv", FileOptions(), 3, Ragged()))
        self.assertIn("no longer there", caught.exception.message)

    def test_progress_ends_at_the_size_of_the_file(self):
        content = PORTS + "Tern,4,x\n" * 100
        self.rows(content, size=50)
        self.assertEqual(self.read, len(content))

    @examples(60)
    @given(
        st.lists(st.tuples(*[st.text(st.sampled_from('ab,;"\n ø'), max_size=5)] * 3), min_size=1, max_size=15),
        st.integers(8, 60),
    )
    def test_whatever_is_written_is_read_back(self, records, size):
        # A record whose only full cell is blank would look like a blank line; the first cell tells them apart.
        records = [("x" + a, b, c) for a, b, c in records]
        buffer = io.StringIO()
        csv.writer(buffer, lineterminator="\n").writerows([("a", "b", "c"), *records])
        self.assertEqual(self.rows(buffer.getvalue(), size=size), records)


class Numbers(FolderTest):
    """Columns of plain numbers are read as such at once; anything else in them falls back to text, block by block."""

    def columns(self, content, size=1 << 24):
        import polars as pl

        ragged = Ragged()
        numbers = {1: pl.Int64(), 2: pl.Float64()}
        return [block.frame for block in read_blocks(self.file(content), FileOptions(), 3, ragged, size, numbers)]

    def test_plain_numbers_and_empties(self):
        (frame,) = self.columns("port,berths,depth\nTern,4,12.5\nQuay,,\n")
        self.assertEqual(frame.rows(), [("Tern", 4, 12.5), ("Quay", None, None)])

    def test_whatever_is_no_plain_number_comes_as_text(self):
        for cell in ("n/a", "1,5", "12m", "99999999999999999999", "NaN,1", "inf"):
            frame = self.columns(f'port,berths,depth\nTern,4,"{cell}"\n'.replace('"NaN,1"', "NaN"))[0]
            with self.subTest(cell=cell):
                self.assertEqual(frame["2"].dtype.to_python() if cell != "99999999999999999999" else str, str)

    def test_a_block_with_words_leaves_the_blocks_before_it_as_they_were(self):
        frames = self.columns("port,berths,depth\n" + "Tern,4,12.5\n" * 20 + "Quay,many,1\n" * 5, size=100)
        self.assertEqual(frames[0]["1"].to_list()[0], 4)
        self.assertEqual(frames[-1]["1"].to_list()[-1], "many")

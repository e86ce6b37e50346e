"""Recognise how a file is written: encoding, delimiter, header row; and take a sample of its records."""

from __future__ import annotations

import codecs
import csv
import io
import itertools
from dataclasses import dataclass
from pathlib import Path

from veduta.core.data.blocks import LONGEST_RECORD, make_csv_reader
from veduta.core.data.options import DELIMITER_WORDS, MOST_COLUMNS, FileOptions, LandedOptions
from veduta.core.errors import FileProblem
from veduta.core.phrases import pluralise

HEAD = 512 * 1024
SPOT = 48 * 1024
SPOTS = 6
MOST_SAMPLE_CELLS = 300_000

# The first bytes of files that are not delimited text, and what to tell their owner.
OTHER_FORMATS = (
    (b"%PDF", "a PDF document"),
    (b"\xd0\xcf\x11\xe0", "an old spreadsheet or office document"),
    (b"\x1f\x8b", "a compressed archive"),
    (b"\x89PNG", "a picture"),
    (b"\xff\xd8\xff", "a picture"),
    (b"SQLite format 3", "a database"),
)


@dataclass
class FileSample:
    """A file's header and some of its records, cut to cells but not yet typed."""

    options: FileOptions | LandedOptions
    header: list[str]
    rows: list[list[str]]
    size: int

    @property
    def width(self) -> int:
        return len(self.header)

    def get_column(self, index: int) -> list[str]:
        return [row[index] if index < len(row) else "" for row in self.rows]


def recognise_options(path: Path) -> FileOptions:
    """The likeliest settings for this file. Raises FileProblem if it is empty or not text."""
    head = _read_head(path)
    encoding = recognise_encoding(head)
    text = _decode(head, encoding)
    delimiter = recognise_delimiter(text)
    options = FileOptions(encoding=encoding, delimiter=delimiter)
    return options.model_copy(update={"header_row": recognise_header_row(text, options)})


def _read_head(path: Path) -> bytes:
    try:
        with path.open("rb") as file:
            head = file.read(HEAD)
    except FileNotFoundError:
        raise FileProblem("The file is no longer there.", hint="Upload it again.") from None
    if not head.strip(b"\xef\xbb\xbf\xff\xfe \t\r\n"):
        raise FileProblem("The file is empty.", hint="Choose a file with a header line and at least one row.")
    return head


def recognise_encoding(head: bytes) -> str:
    """The encoding of a text file's first bytes. Raises FileProblem for bytes that are not text.

    >>> recognise_encoding("Größe;Fähre".encode("cp1252"))
    'cp1252'
    """
    for mark, what in OTHER_FORMATS:
        if head.startswith(mark):
            raise FileProblem(f"This looks like {what}, not a text file.", hint="Save it as CSV and upload that.")
    if head.startswith(codecs.BOM_UTF16_LE):
        return "utf-16-le"
    if head.startswith(codecs.BOM_UTF16_BE):
        return "utf-16-be"
    nulls = head.count(b"\0")
    if nulls:
        if nulls > len(head) // 4 and head[1::2].count(b"\0") > nulls * 0.9:
            return "utf-16-le"
        if nulls > len(head) // 4 and head[0::2].count(b"\0") > nulls * 0.9:
            return "utf-16-be"
        raise FileProblem("The file holds binary data, not text.", hint="Save it as CSV and upload that.")
    control = sum(head.count(bytes([code])) for code in range(32) if code not in (9, 10, 12, 13))
    if control > len(head) // 100:
        raise FileProblem("The file holds binary data, not text.", hint="Save it as CSV and upload that.")
    try:
        codecs.getincrementaldecoder("utf-8")().decode(head)
    except UnicodeDecodeError:
        return "cp1252"
    return "utf-8"


def _decode(data: bytes, encoding: str) -> str:
    text = codecs.getincrementaldecoder(encoding)("replace").decode(data)
    text = text.removeprefix("\ufeff").replace("\r\n", "\n")
    return text.replace("\r", "\n")


def recognise_delimiter(text: str) -> str:
    """The delimiter that cuts the first lines into the most even table of at least two columns.

    >>> recognise_delimiter("port;fare\\nTern;1,50\\nQuay;2,75\\n")
    ';'
    """

    def evenness(delimiter: str) -> tuple[float, int]:
        rows = [row for row in itertools.islice(csv.reader(io.StringIO(text), delimiter=delimiter), 60) if row]
        widths = [len(row) for row in rows[:-1] or rows]
        usual = max(set(widths), key=lambda width: (widths.count(width), width), default=1)
        return (widths.count(usual) / len(widths) if usual > 1 else 0.0, usual)

    try:
        return max(DELIMITER_WORDS, key=evenness)
    except csv.Error:
        return max(DELIMITER_WORDS, key=text.count)


def recognise_header_row(text: str, options: FileOptions) -> int:
    """The line that names the columns, counted in records from 1, or 0 if the first row is already data."""
    rows = list(itertools.islice(csv.reader(io.StringIO(text), delimiter=options.delimiter), 30))
    widths = [len(row) for row in rows if len(row) > 1]
    if not widths:
        return 1
    usual = max(set(widths), key=lambda width: (widths.count(width), width))
    for number, row in enumerate(rows, 1):
        values = [cell for cell in row if cell.strip()]
        # A line above the table, such as its title, leaves most cells empty.
        if len(row) == usual and len(values) >= max(min(2, usual), 0.6 * usual):
            has_number = any(_starts_as_number(cell) for cell in values)
            below = [cell for later in rows[number : number + 5] for cell in later]
            # Years and dates are ordinary headings of a wide table, so one number among words is no proof of data.
            mostly_numbers = values and sum(map(_starts_as_number, values)) >= len(values) / 2
            is_data = has_number and mostly_numbers and any(map(_starts_as_number, below))
            if is_data and len(set(row)) == len(row) and not _starts_as_number(row[0]):
                is_data = False
            return 0 if is_data else number
    return 1


def _starts_as_number(cell: str) -> bool:
    return cell.strip().lstrip("-+€$£(").strip()[:1].isdigit()


def take_sample(path: Path, options: FileOptions) -> FileSample:
    """The header and records from the start of the file and from some places further on.

    Raises FileProblem for a file without rows, with too many columns, or not cut into cells this way.
    """
    size = path.stat().st_size if path.exists() else 0
    records = _parse(_decode(_read_head(path), options.encoding), options, whole=size <= HEAD)
    header = records[options.header_row - 1] if 0 < options.header_row <= len(records) else []
    rows = [row for row in records[options.header_row :] if any(cell.strip() for cell in row)]
    if not rows:
        if options.header_row and header:
            raise FileProblem(
                f"The file has a header of {pluralise(len(header), 'column')} and no rows under it.",
                where=f"line {options.header_row}",
                hint="Choose a file with rows, or say that it has no header.",
            )
        raise FileProblem("The file has no rows.", hint="Choose another header row or another file.")
    width = len(header) or max(len(row) for row in rows[:200])
    if width > MOST_COLUMNS:
        raise FileProblem(
            f"The file has {width:,} columns; Veduta reads at most {MOST_COLUMNS:,}.",
            hint="Leave out columns, or check the delimiter.",
        )
    if size > HEAD and not (options.quotes and any("\n" in cell for row in rows for cell in row)):
        rows += [row for row in _read_spots(path, size, options) if len(row) == width]
    most = max(200, MOST_SAMPLE_CELLS // width)
    # Evenly over what was read, so that the later places count too; the first rows stay together for the preview.
    if len(rows) > most:
        first, step = rows[:100], len(rows) / (most - 100)
        rows = first + [rows[int(i * step)] for i in range(most - 100)]
    return FileSample(options, header, rows, size)


def _parse(text: str, options: FileOptions, whole: bool) -> list[list[str]]:
    try:
        records = list(make_csv_reader(io.StringIO(text), options))
    except csv.Error as error:
        raise FileProblem(
            f"The file cannot be cut into cells: {error}.", hint="Turn quotation marks off, or check the delimiter."
        ) from None
    return records if whole else records[:-1]


def _read_spots(path: Path, size: int, options: FileOptions) -> list[list[str]]:
    records: list[list[str]] = []
    unit = 2 if options.encoding.startswith("utf-16") else 1
    with path.open("rb") as file:
        for number in range(1, SPOTS + 1):
            file.seek(max(0, (size - SPOT) * number // SPOTS) // unit * unit)
            text = _decode(file.read(min(SPOT, LONGEST_RECORD)), options.encoding)
            records += _parse(text.partition("\n")[2], options, whole=False)
    return records

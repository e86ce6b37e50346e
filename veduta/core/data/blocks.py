"""Cut a delimited text file into blocks of whole records, and blocks into columns of text.

The file is never held whole: it is read in blocks of a few megabytes that end at the end of a record.
A regular block is parsed by Polars; one with ragged or blank lines by Python's csv module, which also
says which lines were wrong.
"""

from __future__ import annotations

import codecs
import csv
import io
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO, Protocol

import numpy as np
import polars as pl

from veduta.core.data.options import ENCODING_WORDS, FileOptions
from veduta.core.errors import FileProblem

BLOCK = 16 * 1024 * 1024
LONGEST_RECORD = 64 * 1024 * 1024
csv.field_size_limit(LONGEST_RECORD)


@dataclass
class Ragged:
    """Lines with too few or too many cells: how many, and the first of them as (line, cells)."""

    short: int = 0
    long: int = 0
    examples: list[tuple[int, int]] = field(default_factory=list)

    def add(self, line: int, cells: int, wanted: int) -> None:
        if cells < wanted:
            self.short += 1
        else:
            self.long += 1
        if len(self.examples) < 20:
            self.examples.append((line, cells))


@dataclass
class TextBlock:
    """Some records as columns of text (`frame`), and how far into the file they reach (`bytes_read`)."""

    frame: pl.DataFrame
    bytes_read: int


def _open(path: Path) -> IO[bytes]:
    try:
        return path.open("rb")
    except FileNotFoundError:
        raise FileProblem("The file is no longer there.", hint="Upload it again.") from None


def iterate_utf8_pieces(path: Path, encoding: str, size: int = BLOCK) -> Iterator[tuple[bytes, int]]:
    """The file as UTF-8 bytes with line feeds, each piece with the bytes read from the file so far.

    Bytes of a UTF-8 file pass through unchecked (`_decode` checks them where they are parsed); for other
    encodings FileProblem is raised where the bytes do not fit.
    """
    decoder = None if encoding == "utf-8" else codecs.getincrementaldecoder(encoding)("strict")
    line, read, first = 1, 0, True
    carriage = _has_only_carriage_returns(path)
    with _open(path) as file:
        while True:
            raw = piece = file.read(size)
            if decoder:
                try:
                    piece = decoder.decode(raw, final=not raw).encode()
                except UnicodeDecodeError as error:
                    raise _make_encoding_problem(encoding, line + raw[: max(error.start, 0)].count(b"\n")) from None
            read += len(raw)
            if first:
                piece, first = piece.removeprefix(codecs.BOM_UTF8), False
            if carriage:
                piece = piece.replace(b"\r", b"\n")
            if decoder:
                line += piece.count(b"\n")
            if piece:
                yield piece, read
            if not raw:
                return


def _decode(data: bytes, line: int) -> str:
    """UTF-8 bytes that start at `line` as text. Raises FileProblem with the line of the first wrong byte."""
    try:
        return data.decode()
    except UnicodeDecodeError as error:
        raise _make_encoding_problem("utf-8", line + data.count(b"\n", 0, error.start)) from None


def _make_encoding_problem(encoding: str, line: int) -> FileProblem:
    return FileProblem(
        f"Line {line:,} holds characters that are not {ENCODING_WORDS[encoding]}.",
        where=f"line {line:,}",
        hint="Choose another encoding, often Windows-1252.",
    )


def _has_only_carriage_returns(path: Path) -> bool:
    with _open(path) as file:
        head = file.read(65_536)
    return b"\r" in head and b"\n" not in head


def iterate_whole_records(path: Path, options: FileOptions, size: int = BLOCK) -> Iterator[tuple[bytes, int]]:
    """Pieces that end at the end of a record: after a line feed that is outside quotation marks."""
    rest = b""
    for piece, read in iterate_utf8_pieces(path, options.encoding, size):
        rest += piece
        cut = _find_last_record_end(rest, options.quotes)
        if cut:
            yield rest[:cut], read
            rest = rest[cut:]
        elif len(rest) > LONGEST_RECORD:
            raise FileProblem(
                "A record is longer than 64 MB, so a quotation mark is probably never closed.",
                hint="Turn quotation marks off, or mend the file.",
            )
    if rest:
        yield rest, path.stat().st_size


def _find_last_record_end(data: bytes, quotes: bool) -> int:
    end = data.rfind(b"\n") + 1
    if not quotes:
        return end
    while end and data.count(b'"', 0, end) % 2:
        end = data.rfind(b"\n", 0, end - 1) + 1
    return end


def read_blocks(
    path: Path,
    options: FileOptions,
    width: int,
    ragged: Ragged,
    size: int = BLOCK,
    numbers: dict[int, pl.DataType] | None = None,
) -> Iterator[TextBlock]:
    """The records under the header as blocks of `width` text columns named "0", "1", …

    Columns in `numbers` are read as that type at once where all their values in a block are plain numbers.

    Short lines are filled with empties and the extra cells of long ones left out; both are counted in
    `ragged`. Blank lines are passed over. Raises FileProblem for a quotation mark never closed.
    """
    marks = (
        sum(piece.count(b'"') for piece, _ in iterate_utf8_pieces(path, options.encoding, size))
        if options.quotes
        else 0
    )
    if marks % 2:
        yield from _iterate_exact_blocks(path, options, width, ragged, size)
        return
    options = options.model_copy(update={"quotes": marks > 0})
    skip, line = options.header_row, 1
    for data, read in iterate_whole_records(path, options, size):
        lines = _count(data, "\n") + (not data.endswith(b"\n"))
        if skip:
            data, skipped = _skip_first_records(data, skip, options)
            line, lines, skip = line + skipped, lines - skipped, 0
        if data.strip(b"\r\n"):
            frame = _parse_fast(data, options, width, lines, numbers) if numbers else None
            if frame is None:
                numbers = None  # values that are no plain numbers seldom come alone
                frame = _parse_fast(data, options, width, lines)
            if frame is None:
                frame = _parse_exactly(_decode(data, line), options, width, line, ragged)
            yield TextBlock(frame, read)
        line += lines


def _skip_first_records(data: bytes, count: int, options: FileOptions) -> tuple[bytes, int]:
    """The bytes after the first `count` records, and how many lines those records took."""
    taken: list[bytes] = []

    def lines() -> Iterator[str]:
        for number, text in enumerate(io.BytesIO(data), 1):
            taken.append(text)
            yield _decode(text, number)

    reader = _check_records(make_csv_reader(lines(), options))
    for _ in range(count):
        next(reader, None)
    return data[len(b"".join(taken)) :], len(taken)


def _parse_fast(
    data: bytes, options: FileOptions, width: int, lines: int, numbers: dict[int, pl.DataType] | None = None
) -> pl.DataFrame | None:
    """The block parsed by Polars, or None if it is not regular enough to be sure of every line and every number."""
    names = [str(i) for i in range(width)]
    schema = dict.fromkeys(names, pl.String()) | {str(position): dtype for position, dtype in (numbers or {}).items()}
    quoted = b'"' in data and options.quotes
    if not quoted and _count(data, options.delimiter) != lines * (width - 1):
        return None
    if quoted and (data.startswith(b"\n") or b"\n\n" in data or b"\n\r\n" in data):
        return None
    try:
        frame = pl.read_csv(
            data,
            has_header=False,
            separator=options.delimiter,
            quote_char='"' if quoted else None,
            schema=schema,
            infer_schema=False,
            empty_string_is_null=False,
        )
    except pl.exceptions.PolarsError:
        return None
    if not quoted and frame.height != lines:
        return None
    # With quotation marks the cells cannot be counted beforehand: a short line shows as an empty at the end.
    last = frame[names[-1]]
    if quoted and (last.null_count() or (last.dtype == pl.String and (last == "").any())):
        return None
    floats = (column for column in frame if column.dtype == pl.Float64)
    return None if any(column.is_finite().all() is False for column in floats) else frame


class Records(Protocol):
    """Records of a file in order, and the line that was read last."""

    @property
    def line_num(self) -> int: ...

    def __iter__(self) -> Iterator[list[str]]: ...

    def __next__(self) -> list[str]: ...


def _count(data: bytes, character: str) -> int:
    """How often an ASCII character occurs; many times faster than bytes.count where it occurs often."""
    return int(np.count_nonzero(np.frombuffer(data, np.uint8) == ord(character)))


def make_csv_reader(lines: Iterable[str], options: FileOptions) -> Records:
    if options.quotes:
        return csv.reader(lines, delimiter=options.delimiter)
    return csv.reader(lines, delimiter=options.delimiter, quoting=csv.QUOTE_NONE)


def _parse_exactly(text: str, options: FileOptions, width: int, line: int, ragged: Ragged) -> pl.DataFrame:
    """The block's cells as texts, in columns "0", "1" and so on, in the order of the file."""
    reader = make_csv_reader(io.StringIO(text, newline="\n"), options)
    return _to_frame(_regularise(reader, width, line, ragged), width)


def _check_records(reader: Records) -> Iterator[list[str]]:
    """The reader's records, its errors made readable."""
    try:
        yield from reader
    except csv.Error as error:
        raise FileProblem(
            f"The record at line {reader.line_num:,} cannot be read: {error}.",
            where=f"line {reader.line_num:,}",
            hint="A quotation mark may never be closed: mend it, or turn quotation marks off.",
        ) from None


def _regularise(reader: Records, width: int, line: int, ragged: Ragged) -> Iterator[list[str]]:
    """Records with exactly `width` cells; blank lines are passed over."""
    before = reader.line_num
    for record in _check_records(reader):
        record_line, before = line + before, reader.line_num
        if not record or (len(record) == 1 and width > 1 and not record[0].strip()):
            continue
        if len(record) != width:
            ragged.add(record_line, len(record), width)
            record = record[:width] + [""] * (width - len(record))
        yield record


def _to_frame(records: Iterable[list[str]], width: int) -> pl.DataFrame:
    """Rows of texts as a frame with columns "0", "1" and so on."""
    names = [str(i) for i in range(width)]
    columns = list(zip(*records, strict=True)) or [()] * width
    return pl.DataFrame(
        {name: pl.Series(name, column, dtype=pl.String) for name, column in zip(names, columns, strict=True)}
    )


def _iterate_exact_blocks(
    path: Path, options: FileOptions, width: int, ragged: Ragged, size: int
) -> Iterator[TextBlock]:
    """For a file whose quotation marks do not pair up: read record by record, and say if one never closes."""
    source = _ExactRecords(path, options, size)
    for _ in range(options.header_row):
        next(source, None)
    rows: list[list[str]] = []
    for record in _regularise(source, width, 1, ragged):
        rows.append(record)
        if len(rows) >= 100_000:
            yield TextBlock(_to_frame(rows, width), source.read)
            rows = []
    if rows:
        yield TextBlock(_to_frame(rows, width), source.read)


class _ExactRecords:
    """The records of a file. `line_num` is where the reader stands, as `_regularise` wants it; `read` bytes so far."""

    def __init__(self, path: Path, options: FileOptions, size: int) -> None:
        self.path, self.options, self.size = path, options, size
        self.read = 0
        self._since_record: list[str] = []
        self._reader = make_csv_reader(self._iterate_lines(), options)
        self._records = self._read_until_open_quote()

    def __iter__(self) -> _ExactRecords:
        return self

    def __next__(self) -> list[str]:
        return next(self._records)

    @property
    def line_num(self) -> int:
        return self._reader.line_num

    def _iterate_lines(self) -> Iterator[str]:
        number, rest = 0, b""
        for piece, read in iterate_utf8_pieces(self.path, self.options.encoding, self.size):
            self.read = read
            *complete, rest = (rest + piece).split(b"\n")
            for data in complete:
                number += 1
                yield self._note_line(_decode(data + b"\n", number))
        if rest:
            yield self._note_line(_decode(rest, number + 1))

    def _note_line(self, line: str) -> str:
        self._since_record.append(line)
        return line

    def _read_until_open_quote(self) -> Iterator[list[str]]:
        """All records. Raises FileProblem behind them if a quotation mark of the last one never closes."""
        next_line, last = 1, []
        for record in self._reader:
            yield record
            next_line, last = self._reader.line_num + 1, list(self._since_record)
            self._since_record.clear()
        try:
            list(csv.reader(last, delimiter=self.options.delimiter, strict=True))
        except csv.Error as error:
            if "unexpected end" in str(error):
                start = next_line - len(last)
                raise FileProblem(
                    f"A quotation mark opened on line {start:,} is never closed.",
                    where=f"line {start:,}",
                    hint="Mend that line, or turn quotation marks off to read them as ordinary characters.",
                ) from None

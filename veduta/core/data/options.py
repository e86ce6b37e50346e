"""The settings a delimited file is read with, as recognised and as corrected."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from veduta.core.data.fields import Frozen

Format = Literal["text", "sheet", "parquet", "arrow", "json", "json_lines", "feed", "table", "several"]
FORMAT_WORDS = {
    "text": "text",
    "sheet": "spreadsheet",
    "parquet": "Parquet",
    "arrow": "Arrow",
    "json": "JSON",
    "json_lines": "JSON lines",
    "feed": "web feed",
    "table": "database",
    "several": "several files",
}
Encoding = Literal["utf-8", "utf-16-le", "utf-16-be", "cp1252"]
ENCODING_WORDS = {
    "utf-8": "Unicode (UTF-8)",
    "utf-16-le": "Unicode (UTF-16, little endian)",
    "utf-16-be": "Unicode (UTF-16, big endian)",
    "cp1252": "Western European (Windows-1252)",
}
DELIMITER_WORDS = {",": "comma", ";": "semicolon", "\t": "tab", "|": "bar"}
EMPTY_WORDS = ("n/a", "#n/a", "null", "nan", "-", "–", "—")
MOST_COLUMNS = 2_000


class FileOptions(Frozen):
    """How the text of a file is cut into cells.

    `header_row` counts lines from 1; 0 means the file has no header. `quotes` off takes quotation
    marks as ordinary characters. `empties` are the words, in lower case, that stand for no value.
    """

    encoding: Encoding = "utf-8"
    delimiter: Literal[",", ";", "\t", "|"] = ","
    header_row: int = Field(1, ge=0, le=100)
    quotes: bool = True
    empties: tuple[str, ...] = EMPTY_WORDS


class SheetOptions(Frozen):
    """Which cells of a spreadsheet are read. `header_row` counts within the range; 0 looks for it."""

    sheet: str = ""
    header_row: int = Field(0, ge=0, le=100)
    cells: str = Field("", max_length=40)
    empties: tuple[str, ...] = EMPTY_WORDS


class RecordsOptions(Frozen):
    """Where the records of a JSON value are: a path such as "data.items"; empty looks for them."""

    records: str = Field("", max_length=300)
    empties: tuple[str, ...] = EMPTY_WORDS


class LandedOptions(Frozen):
    """What has its columns already."""

    empties: tuple[str, ...] = EMPTY_WORDS

"""Read files that are not delimited text: spreadsheets, Parquet, Arrow, JSON. Each is landed as rows with headings."""

from __future__ import annotations

import io
import json
import re
import zipfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import polars as pl

from veduta.core.data.landing import PART_ROWS, Landing
from veduta.core.data.options import Format, RecordsOptions, SheetOptions
from veduta.core.errors import FileProblem
from veduta.core.jsontext import InvalidJson, read_records

if TYPE_CHECKING:
    import fastexcel

MOST_UNPACKED = 2 * 1024**3
MOST_RATIO = 200
LARGEST_JSON = 300 * 1024**2
Tell = Callable[[int], None]


def recognise_format(path: Path, name: str) -> Format:
    """What kind of file this is, from its first bytes and its name. Raises FileProblem for what cannot be read."""
    with path.open("rb") as file:
        head = file.read(4_096)
    ending = name.rsplit(".", 1)[-1].lower() if "." in name else ""
    if head.startswith(b"PAR1"):
        return "parquet"
    if head.startswith(b"ARROW1") or ending in ("arrow", "feather", "ipc"):
        return "arrow"
    if head.startswith(b"PK\x03\x04"):
        return _recognise_zipped(path)
    text = head.lstrip(b"\xef\xbb\xbf \t\r\n")
    if ending in ("jsonl", "ndjson"):
        return "json_lines"
    if (
        ending == "json"
        or text[:1] == b"{"
        or text[:2] in (b"[{", b"[\n", b"[\r")
        or (text[:1] == b"[" and b"{" in text[:200])
    ):
        lines = [line for line in text.splitlines()[:3] if line.strip()]
        return "json_lines" if len(lines) > 1 and all(_is_object(line) for line in lines[:-1]) else "json"
    return "text"


def _is_object(line: bytes) -> bool:
    try:
        return isinstance(read_records(line), dict)
    except InvalidJson:
        return False


def _recognise_zipped(path: Path) -> Format:
    try:
        with zipfile.ZipFile(path) as archive:
            parts = archive.infolist()
            unpacked, packed = sum(part.file_size for part in parts), max(1, path.stat().st_size)
            names = {part.filename for part in parts}
    except zipfile.BadZipFile:
        raise FileProblem("This file is cut short or damaged.", hint="Save it again and upload that.") from None
    if unpacked > MOST_UNPACKED or (unpacked > 100 * 1024**2 and unpacked / packed > MOST_RATIO):
        raise FileProblem(
            f"This file unpacks to {unpacked // 1024**2:,} MB, which is not what a spreadsheet does.",
            hint="Check where it comes from.",
        )
    if "content.xml" in names or any(name.startswith("xl/") for name in names):
        return "sheet"
    raise FileProblem(
        "This looks like a ZIP archive, not a table.", hint="Unpack it and upload the files that are in it."
    )


def list_sheets(path: Path) -> list[tuple[str, bool]]:
    """The names of a spreadsheet's sheets, each with whether it is hidden."""
    reader = _open_spreadsheet(path)
    return [
        (name, reader.load_sheet(name, header_row=None, n_rows=0, dtypes="string").visible != "visible")
        for name in reader.sheet_names
    ]


def _open_spreadsheet(path: Path) -> fastexcel.ExcelReader:
    import fastexcel

    try:
        return fastexcel.read_excel(path)
    except Exception as error:
        raise FileProblem(
            "This spreadsheet cannot be opened: it is damaged or protected.", hint="Save it anew, without a password."
        ) from error


def find_first_sheet(path: Path) -> str:
    """The first visible sheet that has more than one row; else the first."""
    reader = _open_spreadsheet(path)
    for name in reader.sheet_names:
        sheet = reader.load_sheet(name, header_row=None, dtypes="string")
        if sheet.visible == "visible" and sheet.total_height > 1:
            return name
    return reader.sheet_names[0]


CELLS = re.compile(r"^\$?([A-Z]{1,3})\$?(\d{1,7}):\$?([A-Z]{1,3})\$?(\d{0,7})$", re.IGNORECASE)


def _cut(frame: pl.DataFrame, cells: str) -> pl.DataFrame:
    """The part of a sheet that a range such as B3:F200 (or B3:F, to the end) names."""
    if not cells.strip():
        return frame
    cells_named = CELLS.match(cells.strip())
    if not cells_named:
        raise FileProblem(
            f"“{cells}” is not a range of cells.", hint="Write it as B3:F200, or B3:F for all rows below."
        )
    left, top, right, bottom = cells_named.groups()
    first, last = _number_column(left), _number_column(right)
    if last < first or (bottom and int(bottom) < int(top)):
        raise FileProblem(
            f"The range “{cells}” ends before it starts.", hint="Write it from the top left to the bottom right."
        )
    rows = frame[int(top) - 1 : int(bottom)] if bottom else frame[int(top) - 1 :]
    return rows.select(rows.columns[first - 1 : last])


def _number_column(letters: str) -> int:
    number = 0
    for letter in letters.upper():
        number = number * 26 + ord(letter) - 64
    return number


def land_sheet(path: Path, options: SheetOptions, landing: Landing) -> None:
    """Land a sheet's cells as text. Cells with errors are empty; a merged cell's value stands in its first cell."""
    reader = _open_spreadsheet(path)
    name = options.sheet if options.sheet in reader.sheet_names else reader.sheet_names[0]
    try:
        frame = reader.load_sheet(name, header_row=None, dtypes="string").to_polars()
    except Exception as error:
        raise FileProblem(
            f"The sheet “{name}” cannot be read.", hint="Choose another sheet, or save the file anew."
        ) from error
    frame = _cut(frame, options.cells)
    header = options.header_row or _find_header_row(frame)
    headings = [] if header == 0 or frame.height < header else [str(cell or "") for cell in frame.row(header - 1)]
    body = frame[header:]
    full = [
        column
        for column in body.columns
        if body[column].null_count() < body.height or (headings and headings[body.columns.index(column)])
    ]
    body = body.filter(~pl.all_horizontal(pl.all().is_null())).select(full)
    names = make_unique_headings([headings[frame.columns.index(c)] if headings else "" for c in full])
    body.columns = names
    landing.add(body.select(_drop_times(body[name]) for name in names))


def _find_header_row(frame: pl.DataFrame) -> int:
    """The first row of which most cells are filled."""
    wide = frame.width
    for i, row in enumerate(frame.head(30).iter_rows(), 1):
        if sum(cell is not None for cell in row) >= max(min(2, wide), 0.6 * wide):
            return i
    return 1


def _drop_times(values: pl.Series) -> pl.Series:
    """Dates of a spreadsheet come with midnight as their time."""
    full = values.drop_nulls()
    midnight = r"^\d{4}-\d{2}-\d{2} 00:00:00$"
    if len(full) and full.str.contains(midnight).all():
        return values.str.slice(0, 10)
    return values


def make_unique_headings(headings: list[str]) -> list[str]:
    """Headings made different from each other; empty ones get a number."""
    seen: set[str] = set()
    made = []
    for number, heading in enumerate(headings, 1):
        name = heading.strip() or f"Column {number}"
        unique, again = name, 2
        while unique in seen:
            unique, again = f"{name} ({again})", again + 1
        seen.add(unique)
        made.append(unique)
    return made


def land_columnar(path: Path, kind: Format, landing: Landing) -> None:
    """Land a Parquet or Arrow file, piece by piece."""
    try:
        if kind == "parquet":
            scan = pl.scan_parquet(path)
        else:
            with path.open("rb") as file:
                stream = not file.read(6).startswith(b"ARROW1")
            scan = pl.read_ipc_stream(path).lazy() if stream else pl.scan_ipc(path)
        rows = scan.select(pl.len()).collect().item()
        for start in range(0, rows, PART_ROWS):
            landing.add(scan.slice(start, PART_ROWS).collect())
    except (pl.exceptions.PolarsError, OSError) as error:
        name = "Parquet" if kind == "parquet" else "Arrow"
        raise FileProblem(
            f"This {name} file is cut short or damaged.", hint="Write it anew and upload that."
        ) from error


def land_json(path: Path, options: RecordsOptions, landing: Landing, lines: bool) -> None:
    """Land the records of a JSON file; nested objects become columns such as "port.name"."""
    if lines:
        for batch in _iterate_json_lines(path):
            landing.add(make_records_frame(batch))
        return
    if path.stat().st_size > LARGEST_JSON:
        raise FileProblem(
            f"JSON files of more than {LARGEST_JSON // 1024**2} MB are read as JSON lines only.",
            hint="Write one record a line.",
        )
    landing.add(make_records_frame(find_records(parse_json(path.read_bytes()), options.records)))


def parse_json(data: bytes) -> Any:
    """Raises FileProblem saying where the JSON breaks off."""
    try:
        return read_records(data)
    except InvalidJson as error:
        raise FileProblem(f"This is not readable JSON: {error}.", hint="Check where it comes from.") from None


def _iterate_json_lines(path: Path) -> Iterator[list[dict[str, Any]]]:
    batch: list[dict[str, Any]] = []
    with path.open("rb") as file:
        for number, line in enumerate(file, 1):
            if not line.strip():
                continue
            try:
                record = read_records(line)
            except InvalidJson as error:
                raise FileProblem(
                    f"Line {number:,} is not readable JSON: {error}.",
                    where=f"line {number}",
                    hint="Mend the line or take it out.",
                ) from None
            batch.append(record if isinstance(record, dict) else {"value": record})
            if len(batch) >= 20_000:
                yield batch
                batch = []
    if batch:
        yield batch


def record_lists(data: Any, most: int = 20) -> list[tuple[str, int]]:
    """Where lists of records are in a JSON value: (path, how many), the longest first. The value itself is ""."""
    lists: list[tuple[str, int]] = []

    def walk(value: Any, path: str, depth: int) -> None:
        if isinstance(value, list) and any(isinstance(item, dict) for item in value[:20]):
            lists.append((path, len(value)))
        elif isinstance(value, dict) and depth < 6:
            for key, each in value.items():
                walk(each, f"{path}.{key}" if path else str(key), depth + 1)

    walk(data, "", 0)
    return sorted(lists, key=lambda each: -each[1])[:most]


def find_records(data: Any, path: str) -> list[dict[str, Any]]:
    """The records at a path such as "data.items"; with an empty path those found by looking. Raises FileProblem."""
    if not path and not isinstance(data, list):
        paths = record_lists(data)
        path = paths[0][0] if paths else ""
    value = data
    for key in filter(None, path.split(".")):
        if isinstance(value, dict) and key in value:
            value = value[key]
        elif isinstance(value, list) and key.isdigit() and int(key) < len(value):
            value = value[int(key)]
        else:
            near = ", ".join(seen or "the value itself" for seen, _ in record_lists(data)[:5])
            raise FileProblem(
                f"There is nothing at “{path}”.", hint=f"Records are at: {near}." if near else "Look at the data first."
            )
    if isinstance(value, dict):
        value = [value]
    if not isinstance(value, list):
        raise FileProblem(
            f"At “{path}” there is a single value, not a list of records.", hint="Choose where the records are."
        )
    return [item if isinstance(item, dict) else {"value": item} for item in value]


def make_records_frame(records: list[dict[str, Any]]) -> pl.DataFrame:
    """Records as a table: nested objects become columns with dots, lists text; columns of mixed kinds become text."""
    flat = [_flatten(record) for record in records]
    names = list(dict.fromkeys(key for record in flat for key in record))
    return pl.DataFrame([_make_column(name, [record.get(name) for record in flat]) for name in names])


def _flatten(record: dict[str, Any], before: str = "") -> dict[str, Any]:
    flat: dict[str, Any] = {}
    for key, value in record.items():
        name = f"{before}.{key}" if before else str(key)
        if isinstance(value, dict) and value:
            flat |= _flatten(value, name)
        else:
            flat[name] = json.dumps(value, ensure_ascii=False) if isinstance(value, list | dict) else value
    return flat


def _make_column(name: str, values: list[Any]) -> pl.Series:
    kinds = {type(value) for value in values if value is not None}
    if kinds <= {bool}:
        return pl.Series(name, values, dtype=pl.Boolean if kinds else pl.String)
    if kinds <= {int} and all(abs(value) < 2**63 for value in values if value is not None):
        return pl.Series(name, values, dtype=pl.Int64)
    if kinds <= {int, float}:
        return pl.Series(name, [None if v is None else float(v) for v in values], dtype=pl.Float64)
    return pl.Series(name, [v if v is None or isinstance(v, str) else json.dumps(v) for v in values], dtype=pl.String)


def land_csv_bytes(data: bytes, landing: Landing) -> None:
    """Land the text of a CSV answer, all columns as text."""
    from veduta.core.data.sniff import recognise_delimiter

    text = data.decode("utf-8-sig", "replace")
    try:
        frame = pl.read_csv(
            io.BytesIO(text.encode()),
            separator=recognise_delimiter(text[:200_000]),
            infer_schema=False,
            truncate_ragged_lines=True,
        )
    except pl.exceptions.PolarsError:
        raise FileProblem(
            "The answer is not a readable CSV table.", hint="Check the address, or whether it is JSON."
        ) from None
    landing.add(frame)

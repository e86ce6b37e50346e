"""Taking files in: received, looked at, corrected, and read in the background."""

from __future__ import annotations

import io
import re
import shutil
import time
import uuid
from collections.abc import Set as AbstractSet
from contextlib import suppress
from pathlib import Path
from typing import Any, cast

import polars as pl
from django.conf import settings
from django.db import transaction

from veduta.core.data.blocks import Ragged, read_blocks
from veduta.core.data.field_changes import change_field, inherit_settings, match_fields
from veduta.core.data.file_formats import (
    LARGEST_JSON,
    find_first_sheet,
    land_columnar,
    land_json,
    land_sheet,
    list_sheets,
    make_unique_headings,
    parse_json,
    recognise_format,
    record_lists,
)
from veduta.core.data.landing import Landing, sample_landing
from veduta.core.data.options import FileOptions, Format, LandedOptions, RecordsOptions, SheetOptions
from veduta.core.data.recognise import RecognisedColumn, recognise_fields
from veduta.core.data.sniff import FileSample, recognise_options, take_sample
from veduta.core.errors import FileProblem, VedutaError
from veduta.web.accounts.access import must_build
from veduta.web.accounts.models import User
from veduta.web.common.disk import FULL_DISK
from veduta.web.datasets.models import Dataset, Refresh, Upload
from veduta.web.datasets.refreshes import ask_for

PIECE = 1024 * 1024
LEFT_ALONE = 6 * 60 * 60
"""Seconds for which a file of nobody's may be one that is still coming in or being fetched."""


def receive(user: User, stream, length: int, file_name: str, dataset: Dataset | None = None) -> Upload:
    """Stream a file of `length` bytes to disk and look at what it is.

    Raises FileProblem if it is too large, breaks off, or cannot be read; nothing is kept then.
    """
    must_build(user)
    if length > settings.UPLOAD_LIMIT:
        limit = settings.UPLOAD_LIMIT // 1024 // 1024
        raise FileProblem(
            f"The file is larger than {limit:,} MB.", hint="Split it, or ask a steward to raise the limit."
        )
    file_name = re.sub(r"[\x00-\x1f/\\]", "_", file_name).strip()[-200:] or "Unnamed file"
    if shutil.disk_usage(settings.UPLOAD_DIR).free < length * 2:
        raise FULL_DISK
    upload = Upload(owner=user, dataset=dataset, file_name=file_name, path=f"{uuid.uuid4().hex}.txt", size=length)
    try:
        _write(upload.file, stream, length)
        upload.format = recognise_format(upload.file, file_name)
        _look_at(upload)
        upload.save()
    except BaseException:
        remove_files(upload)
        raise
    return upload


def receive_another(user: User, upload: Upload, stream, length: int, file_name: str) -> Upload:
    """Take a further file of the same shape: all of them become one dataset, with a column that names the file."""
    must_build(user)
    _must_be_open(upload)
    if upload.size + length > settings.UPLOAD_LIMIT:
        raise FileProblem(
            "Together these files are too large.", hint="Upload fewer, or ask a steward to raise the limit."
        )
    part = {"path": f"{uuid.uuid4().hex}.txt", "name": file_name}
    try:
        _write(settings.UPLOAD_DIR / part["path"], stream, length)
        if not upload.parts:
            upload.parts = [{"path": upload.path, "name": upload.file_name}]
            upload.path = f"{uuid.uuid4().hex}.several"
        upload.parts = [*upload.parts, part]
        upload.size += length
        upload.format, upload.options = "several", {}
        _look_at(upload)
        upload.save()
    except BaseException:
        (settings.UPLOAD_DIR / part["path"]).unlink(missing_ok=True)
        raise
    return upload


def paste(user: User, text: str, dataset: Dataset | None = None) -> Upload:
    """Take cells that were copied from a spreadsheet."""
    data = text.strip("\r\n").encode()
    if not data.strip():
        raise FileProblem("Nothing was pasted.", hint="Copy some cells in a spreadsheet, then paste them here.")
    return receive(user, io.BytesIO(data), len(data), "Pasted cells.tsv", dataset)


def sweep() -> int:
    """Take away what uploads that were cut off have left on disk, as where the server was killed while a file came.

    Returns how many files or folders."""
    known: set[str] = set()
    for upload in Upload.objects.only("path", "parts").iterator():
        known |= {upload.path, upload.landing.name, f"{upload.landing.name}.new"}
        known |= {part["path"] for part in upload.parts}
    count, until = 0, time.time() - LEFT_ALONE
    for entry in settings.UPLOAD_DIR.iterdir():
        with suppress(OSError):  # somebody else sweeps, too
            if entry.name in known or entry.stat().st_mtime > until:
                continue
            if entry.is_dir():
                shutil.rmtree(entry, ignore_errors=True)
            else:
                entry.unlink(missing_ok=True)
            count += 1
    return count


def remove_files(upload: Upload) -> None:
    """Take away what an upload keeps on disk."""
    upload.file.unlink(missing_ok=True)
    for part in upload.parts:
        (settings.UPLOAD_DIR / part["path"]).unlink(missing_ok=True)
    shutil.rmtree(upload.landing, ignore_errors=True)


def _write(path: Path, stream, length: int) -> None:
    left = length
    with path.open("wb") as file:
        while left:
            piece = stream.read(min(PIECE, left))
            if not piece:
                raise FileProblem(
                    "The upload broke off before its end.", hint="Check the file is still there and upload it again."
                )
            file.write(piece)
            left -= len(piece)


def _look_at(upload: Upload) -> None:
    """Recognise how the rows are written and what their columns are."""
    if upload.is_text:
        upload.options = recognise_options(upload.file).model_dump(mode="json")
    else:
        land(upload)
    take_fields(upload, recognise_fields(take_text_sample(upload)))


def land(upload: Upload) -> None:
    """Read a file that is not text into its landing, as its options say; what had landed before stays if that fails."""
    new = upload.landing.with_name(f"{upload.landing.name}.new")
    landing = Landing.begin(new)
    try:
        options = _land_into(upload, landing)
        landing.finish()
    except BaseException:
        shutil.rmtree(new, ignore_errors=True)
        raise
    shutil.rmtree(upload.landing, ignore_errors=True)
    new.rename(upload.landing)
    upload.options = options.model_dump(mode="json")


def _land_into(upload: Upload, landing: Landing) -> SheetOptions | RecordsOptions | LandedOptions:
    """Returns the options with what was found by looking filled in."""
    options = upload.file_options
    if isinstance(options, SheetOptions):
        if not options.sheet:
            options = options.model_copy(update={"sheet": find_first_sheet(upload.file)})
        upload.about = {"sheets": list_sheets(upload.file)}
        land_sheet(upload.file, options, landing)
    elif isinstance(options, RecordsOptions):
        options = _land_records(upload, options, landing)
    elif upload.format == "json_lines":
        land_json(upload.file, RecordsOptions(), landing, lines=True)
    elif upload.format == "several":
        _land_several(upload, landing)
    else:
        land_columnar(upload.file, cast(Format, upload.format), landing)
    assert not isinstance(options, FileOptions)  # text does not land
    return options


def _land_records(upload: Upload, options: RecordsOptions, landing: Landing) -> RecordsOptions:
    """The records are the likeliest list in the file, unless a place is chosen."""
    if upload.file.stat().st_size < LARGEST_JSON:
        paths = record_lists(parse_json(upload.file.read_bytes()))
        upload.about = {"lists": paths}
        if paths and not options.records:
            options = options.model_copy(update={"records": paths[0][0]})
    land_json(upload.file, options, landing, lines=False)
    return options


def _land_several(upload: Upload, landing: Landing) -> None:
    """Files of the same shape one after the other: columns are matched by heading."""
    for part in upload.parts:
        path = settings.UPLOAD_DIR / part["path"]
        one = Upload(path=part["path"], file_name=part["name"], format=recognise_format(path, part["name"]))
        try:
            if one.is_text:
                options = recognise_options(path)
                sample = take_sample(path, options)
                names = make_unique_headings(sample.header or [""] * sample.width)
                for block in read_blocks(path, options, sample.width, Ragged()):
                    frame = block.frame.select(
                        pl.col(str(i)).str.strip_chars().alias(name) for i, name in enumerate(names)
                    )
                    landing.add(frame.with_columns(pl.lit(part["name"]).alias("File")))
            else:
                land(one)
                for block in Landing.open(one.landing).iterate_blocks():
                    names = Landing.open(one.landing).headings
                    frame = block.frame.rename({str(i): name for i, name in enumerate(names)})
                    landing.add(frame.with_columns(pl.lit(part["name"]).alias("File")))
        except FileProblem as problem:
            raise FileProblem(f"{part['name']}: {problem.message}", hint=problem.hint) from None
        finally:
            shutil.rmtree(one.landing, ignore_errors=True)


def take_text_sample(upload: Upload) -> FileSample:
    """Some of an upload's records as text, before they are typed."""
    options = upload.file_options
    return (
        take_sample(upload.file, options)
        if isinstance(options, FileOptions)
        else sample_landing(upload.landing, LandedOptions(empties=options.empties))
    )


def take_fields(upload: Upload, recognised: list[RecognisedColumn]) -> None:
    """Keep the recognised fields, those of an existing dataset under their ids and with their names and settings."""
    fields = [each.field for each in recognised]
    if upload.dataset:
        fields = match_fields(fields, upload.dataset.all_taken_fields, inherit_settings)
    upload.fields = [field.model_dump(mode="json") for field in fields]
    upload.positions = list(range(len(fields)))
    upload.width = len(fields)


def sample_of(upload: Upload) -> tuple[FileSample, dict[str, RecognisedColumn]]:
    """A sample of the file as its options cut it, and what each column looks like by itself (by field id)."""
    sample = take_text_sample(upload)
    recognised = recognise_fields(sample)
    return sample, {field.id: each for field, each in zip(upload.all_fields, recognised, strict=False)}


def change_options(user: User, upload: Upload, changes: dict[str, Any]) -> None:
    """Cut the file another way; the columns are recognised anew. Raises FileProblem if it cannot be cut this way."""
    must_build(user)
    _must_be_open(upload)
    upload.options = {**upload.options, **changes}
    options = upload.file_options
    if not upload.is_text and changes.keys() - {"empties"}:
        land(upload)
    else:
        upload.options = {**upload.options, **options.model_dump(mode="json")}
    take_fields(upload, recognise_fields(take_text_sample(upload)))
    upload.save()


def change_column(user: User, upload: Upload, field_id: str, changes: dict[str, Any]) -> None:
    """Correct one column before the import: its name, kind, role, order of dates, decimal sign or leaving it out."""
    must_build(user)
    _must_be_open(upload)
    sample, _ = sample_of(upload)
    fields = upload.all_fields
    position = next((i for i, field in enumerate(fields) if field.id == field_id), None)
    if position is None:
        raise VedutaError("That column is not there any more.", hint="Load the page again.")
    field = fields[position]
    fields[position] = change_field(field, changes, sample.get_column(upload.positions[position]))
    upload.fields = [field.model_dump(mode="json") for field in fields]
    if changes.keys() & {"order", "kind"}:
        upload.answered = [*upload.answered, field_id]
    upload.save()


def open_questions(upload: Upload, recognised: dict[str, RecognisedColumn]) -> dict[str, str]:
    """The date columns that could be read two ways and were not yet decided, with an example of each."""
    dates = {field.id for field in upload.all_fields if field.kind.is_date} - set(upload.answered)
    return {key: each.question for key, each in recognised.items() if each.question and key in dates}


def _must_be_open(upload: Upload) -> None:
    if upload.state not in (Upload.State.CHECKING, Upload.State.FAILED):
        raise VedutaError("This file is already being read.", hint="Correct it on the dataset's page afterwards.")


def start_import(user: User, upload: Upload, name: str = "", leave_out: AbstractSet[str] = frozenset()) -> None:
    """Read the file in the background into a new version, of a new dataset unless the upload has one."""
    must_build(user)
    _must_be_open(upload)
    pairs = [(f, p) for f, p in zip(upload.fields, upload.positions, strict=True) if f["id"] not in leave_out]
    taken = {f["id"] for f, _ in pairs}
    if unclear := [f for f in open_questions(upload, sample_of(upload)[1]) if f in taken]:
        names = [field.name for field in upload.all_fields if field.id in unclear]
        raise VedutaError(f"Is the day or the month first in {', '.join(names)}?", hint="Choose above the preview.")
    if not pairs:
        raise VedutaError("Every column is left out.", hint="Keep at least one column.")
    for field in upload.all_fields:
        if field.id in leave_out and field.reading.left_out:
            raise VedutaError(
                f"“{field.name}” tells which rows are left out, so it has to be imported.",
                hint="Tick it, or keep these rows. It can be hidden on the dataset's page.",
            )
    with transaction.atomic():
        if upload.dataset is None:
            upload.dataset = Dataset.objects.create(
                name=name.strip()[:200] or name_from_upload(upload), created_by=user
            )
        upload.about = {**upload.about, "left_out": [f["source"] for f in upload.fields if f["id"] in leave_out]}
        upload.fields, upload.positions = [f for f, _ in pairs], [p for _, p in pairs]
        upload.state, upload.message, upload.bytes_read, upload.rows_read = Upload.State.QUEUED, "", 0, 0
        upload.save()
    ask_for(user, upload.dataset, Refresh.Cause.FILE, upload=upload)


def name_from_upload(upload: Upload) -> str:
    """What a dataset is called unless somebody says otherwise."""
    return name_from_file(
        re.split(": |/", upload.file_name)[-1].replace("-", " ") if upload.is_fetched else upload.file_name
    )


def name_from_file(file_name: str) -> str:
    stem = re.sub(r"[\s_]+", " ", re.sub(r"\.\w{1,8}$", "", file_name)).strip() or "Dataset"
    return stem[0].upper() + stem[1:]


def discard(user: User, upload: Upload) -> None:
    """Give up an upload that is not being read."""
    must_build(user)
    _must_be_open(upload)
    shared = Upload.objects.filter(path=upload.path).exclude(pk=upload.pk).exists()
    dataset = upload.dataset
    upload.delete()
    if not shared:
        remove_files(upload)
    if dataset and not dataset.current_id and not dataset.uploads.exists():
        dataset.delete()

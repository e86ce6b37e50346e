"""Every change to datasets, each with its permission check."""

from __future__ import annotations

import io
import re
import shutil
import uuid
from pathlib import Path
from typing import Any

import polars as pl
from django.conf import settings
from django.db import transaction
from django.utils import timezone

from veduta.core.data.blocks import Ragged, read_blocks
from veduta.core.data.fields import Aggregate, Field, Kind, NumberFormat, Role, aggregates_for
from veduta.core.data.formats import (
    LARGEST_JSON,
    first_sheet,
    land_columnar,
    land_json,
    land_sheet,
    parse_json,
    recognise_format,
    record_places,
    sheets,
    unique_headings,
)
from veduta.core.data.landing import Landing, sample_landing
from veduta.core.data.options import LandedOptions, RecordsOptions, SheetOptions
from veduta.core.data.recognise import Recognised, recognise_field, recognise_fields
from veduta.core.data.sniff import Sample, recognise_options, take_sample
from veduta.core.errors import FileProblem, VedutaError
from veduta.web.accounts.access import must_build, must_steward
from veduta.web.accounts.models import User
from veduta.web.datasets.binding import must_see_all
from veduta.web.datasets.modelling import rules_still_hold
from veduta.web.datasets.models import TAKING_WORDS, Dataset, Refresh, Upload, Version
from veduta.web.datasets.refreshing import ask_for, refresh_followers
from veduta.web.pages.middleware import FULL_DISK

PIECE = 1024 * 1024


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
    take_fields(upload, recognise_fields(text_sample(upload)))


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
    if upload.format == "several":
        _land_several(upload, landing)
    elif upload.format == "sheet":
        if not options.sheet:
            options = options.model_copy(update={"sheet": first_sheet(upload.file)})
        upload.about = {"sheets": sheets(upload.file)}
        land_sheet(upload.file, options, landing)
    elif upload.format in ("parquet", "arrow"):
        land_columnar(upload.file, upload.format, landing)
    else:
        if upload.format == "json" and upload.file.stat().st_size < LARGEST_JSON:
            places = record_places(parse_json(upload.file.read_bytes(), upload.file_name))
            upload.about = {"places": places}
            if places and not options.records:
                options = options.model_copy(update={"records": places[0][0]})
        land_json(upload.file, options, landing, lines=upload.format == "json_lines")
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
                names = unique_headings(sample.header or [""] * sample.width)
                for block in read_blocks(path, options, sample.width, Ragged()):
                    frame = block.frame.select(
                        pl.col(str(i)).str.strip_chars().alias(name) for i, name in enumerate(names)
                    )
                    landing.add(frame.with_columns(pl.lit(part["name"]).alias("File")))
            else:
                land(one)
                for block in Landing.open(one.landing).blocks():
                    names = Landing.open(one.landing).headings
                    frame = block.frame.rename({str(i): name for i, name in enumerate(names)})
                    landing.add(frame.with_columns(pl.lit(part["name"]).alias("File")))
        except FileProblem as problem:
            raise FileProblem(f"{part['name']}: {problem.message}", hint=problem.hint) from None
        finally:
            shutil.rmtree(one.landing, ignore_errors=True)


def text_sample(upload: Upload) -> Sample:
    """Some of an upload's records as text, before they are typed."""
    options = upload.file_options
    return (
        take_sample(upload.file, options)
        if upload.is_text
        else sample_landing(upload.landing, LandedOptions(empties=options.empties))
    )


def take_fields(upload: Upload, recognised: list[Recognised]) -> None:
    """Keep the recognised fields, those of an existing dataset under their ids and with their names and settings."""
    fields = [found.field for found in recognised]
    if upload.dataset:
        known = {field.source: field for field in upload.dataset.all_taken_fields}
        number = max((int(field.id[1:]) for field in known.values()), default=0)
        matched = []
        for field in fields:
            if old := known.get(field.source):
                kept = {"id": old.id, "name": old.name, "description": old.description, "hidden": old.hidden}
                if old.kind == field.kind or (old.kind is Kind.DECIMAL and field.kind is Kind.WHOLE):
                    kept |= {"kind": old.kind, "role": old.role, "aggregate": old.aggregate, "format": old.format}
                elif old.kind is Kind.TEXT:
                    kept |= {"kind": Kind.TEXT, "role": old.role, "aggregate": old.aggregate}
                matched.append(field.model_copy(update=kept))
            else:
                number += 1
                matched.append(field.model_copy(update={"id": f"c{number}"}))
        fields = matched
    upload.fields = [field.model_dump(mode="json") for field in fields]
    upload.places = list(range(len(fields)))
    upload.width = len(fields)


def sample_of(upload: Upload) -> tuple[Sample, dict[str, Recognised]]:
    """A sample of the file as its options cut it, and what each column looks like by itself (by field id)."""
    sample = text_sample(upload)
    recognised = recognise_fields(sample)
    return sample, {field.id: found for field, found in zip(upload.all_fields, recognised, strict=False)}


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
    take_fields(upload, recognise_fields(text_sample(upload)))
    upload.save()


def change_column(user: User, upload: Upload, field_id: str, changes: dict[str, Any]) -> None:
    """Correct one column before the import: its name, kind, role, order of dates, decimal sign or leaving it out."""
    must_build(user)
    _must_be_open(upload)
    sample, _ = sample_of(upload)
    fields = upload.all_fields
    place = next((i for i, field in enumerate(fields) if field.id == field_id), None)
    if place is None:
        raise VedutaError("That column is not there any more.", hint="Load the page again.")
    field = fields[place]
    fields[place] = changed_field(field, changes, sample.column(upload.places[place]))
    upload.fields = [field.model_dump(mode="json") for field in fields]
    if changes.keys() & {"order", "kind"}:
        upload.answered = [*upload.answered, field_id]
    upload.save()


def open_questions(upload: Upload, recognised: dict[str, Recognised]) -> dict[str, str]:
    """The date columns that could be read two ways and were not yet decided, with an example of each."""
    dates = {field.id for field in upload.all_fields if field.kind.is_date} - set(upload.answered)
    return {key: found.question for key, found in recognised.items() if found.question and key in dates}


def changed_field(field: Field, changes: dict[str, Any], values: list[str] = ()) -> Field:
    """The field with changes; a new kind gets the reading, role, aggregate and format that suit it.

    Raises VedutaError for a change that does not fit.
    """
    try:
        return _changed_field(field, changes, values)
    except (ValueError, AttributeError, TypeError):
        raise VedutaError("That setting does not fit the column.", hint="Choose one from the list.") from None


def _changed_field(field: Field, changes: dict[str, Any], values: list[str]) -> Field:
    new = dict(changes)
    if "name" in new:
        new["name"] = new["name"].strip()[:200] or field.name
    if "kind" in new and Kind(new["kind"]) is not field.kind:
        suiting = _suiting(field, Kind(new["kind"]), values)
        new |= suiting | {"role": new.get("role", suiting["role"])}
    if isinstance(new.get("synonyms"), str):
        new["synonyms"] = [word.strip()[:100] for word in new["synonyms"].split(",") if word.strip()][:20]
    _change_reading(field, new)
    kind = Kind(new.get("kind", field.kind))
    if new.get("role") == Role.MEASURE and "aggregate" not in new and field.role is not Role.MEASURE:
        new["aggregate"] = aggregates_for(kind)[0]
    if "aggregate" in new and Aggregate(new["aggregate"]) not in aggregates_for(kind):
        raise VedutaError(f"{kind.words.capitalize()} values have no {Aggregate(new['aggregate']).words}.")
    return Field.model_validate({**field.model_dump(), **new})


def _suiting(field: Field, kind: Kind, values: list[str]) -> dict[str, Any]:
    """The reading, role, aggregate and format that suit a field's new kind."""
    alone = recognise_field(field.id, field.source, field.name, list(values)).field
    alike = alone.kind == kind or (alone.kind.is_number and kind.is_number) or (alone.kind.is_date and kind.is_date)
    role = Role.MEASURE if kind.is_number else Role.DIMENSION
    found = {
        "reading": (alone.reading if alike else field.reading).model_dump(),
        "role": role,
        "aggregate": alone.aggregate if alone.kind == kind and role is alone.role else aggregates_for(kind)[0],
    }
    return found if kind.is_number else found | {"format": NumberFormat().model_dump()}


def _change_reading(field: Field, new: dict[str, Any]) -> None:
    """Puts the order of dates, the decimal sign and the words for empty among `new` into its reading."""
    if "order" in new or "decimal" in new:
        reading = field.reading.model_dump()
        if order := new.pop("order", ""):
            reading |= {"order": order, "formats": _formats_in_order(field.reading.formats, order)}
        if decimal := new.pop("decimal", ""):
            reading |= {"decimal": decimal, "thousands": "." if decimal == "," else ","}
        new["reading"] = reading
    if "empty_words" in new:
        words = [str(word).strip().lower()[:100] for word in new.pop("empty_words")]
        new["reading"] = {**(new.get("reading") or field.reading.model_dump()), "empties": words}


def _formats_in_order(formats: tuple[str, ...], order: str) -> list[str]:
    """The date patterns with day and month exchanged where they do not follow the order."""
    swapped = str.maketrans({"d": "m", "m": "d"})
    wrong = "%m" if order == "dmy" else "%d"
    return [
        form[:2].translate(swapped) + form[2:3] + form[3:5].translate(swapped) + form[5:]
        if form.startswith(wrong)
        else form
        for form in formats
    ]


def _must_be_open(upload: Upload) -> None:
    if upload.state not in (Upload.State.CHECKING, Upload.State.FAILED):
        raise VedutaError("This file is already being read.", hint="Correct it on the dataset's page afterwards.")


def start_import(user: User, upload: Upload, name: str = "", leave_out: set[str] = frozenset()) -> None:
    """Read the file in the background into a new version, of a new dataset unless the upload has one."""
    must_build(user)
    _must_be_open(upload)
    pairs = [(f, p) for f, p in zip(upload.fields, upload.places, strict=True) if f["id"] not in leave_out]
    kept = {f["id"] for f, _ in pairs}
    if unclear := [f for f in open_questions(upload, sample_of(upload)[1]) if f in kept]:
        names = [field.name for field in upload.all_fields if field.id in unclear]
        raise VedutaError(f"Is the day or the month first in {', '.join(names)}?", hint="Choose above the preview.")
    if not pairs:
        raise VedutaError("Every column is left out.", hint="Keep at least one column.")
    with transaction.atomic():
        if upload.dataset is None:
            upload.dataset = Dataset.objects.create(
                name=name.strip()[:200] or name_from_upload(upload), created_by=user
            )
        upload.about = {**upload.about, "left_out": [f["source"] for f in upload.fields if f["id"] in leave_out]}
        upload.fields, upload.places = [f for f, _ in pairs], [p for _, p in pairs]
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


def drop_old_versions(dataset: Dataset) -> None:
    """Keep the newest versions, the current one among them, and the rows they were shaped from."""
    ready = dataset.versions.filter(state=Version.State.READY).exclude(number=None)
    for version in ready.exclude(pk=dataset.current_id).order_by("-number")[settings.VERSIONS_KEPT - 1 :]:
        if version.shaped.exclude(number=None).exists():
            version.number = None
            version.save(update_fields=["number"])
        else:
            version.delete()
    dataset.versions.filter(number=None, state=Version.State.READY, shaped=None).exclude(pk=dataset.current_id).delete()


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


def update_dataset(user: User, dataset: Dataset, name: str, description: str) -> None:
    must_build(user)
    dataset.name = name.strip()[:200] or dataset.name
    dataset.description = description.strip()
    dataset.save()


def update_field(user: User, dataset: Dataset, field_id: str, changes: dict[str, Any]) -> Upload | Refresh | None:
    """Change how a field is named, shown or used; a change of type or reading reads the rows again in the background.

    Returns the upload or the refresh that does so, if any. Raises VedutaError if the change does not fit.
    """
    must_build(user)
    with transaction.atomic():
        dataset = Dataset.objects.select_for_update().get(pk=dataset.pk)
        fields = dataset.all_fields
        place = next((i for i, field in enumerate(fields) if field.id == field_id), None)
        if place is None:
            raise VedutaError("That field is not there any more.", hint="Load the page again.")
        if "name" in changes:
            taken = {field.name.casefold() for field in fields if field.id != field_id}
            if changes["name"].strip().casefold() in taken:
                raise VedutaError(
                    f"There is already a field named “{changes['name'].strip()}”.", hint="Choose another name."
                )
        read_again = {"order", "decimal", "empty_words"}
        if changes.keys() & read_again or changes.get("kind", fields[place].kind) != fields[place].kind:
            must_see_all(user, dataset, "have its rows read again")
            if dataset.is_shaped:
                raise VedutaError(
                    "This dataset is made by steps, so types are changed there.", hint="Add the step Change type."
                )
            if dataset.source.get("kind") in ("feed", "table"):
                fields[place] = changed_field(fields[place], changes)
                dataset.taken_fields = [field.model_dump(mode="json") for field in fields]
                dataset.source = {key: value for key, value in dataset.source.items() if key != "marks"}
                dataset.save()
                return ask_for(user, dataset, Refresh.Cause.HAND)
            again = _to_read_again(user, dataset, field_id, changes)
            start_import(user, again)
            return again
        fields[place] = changed_field(fields[place], changes)
        dataset.fields = [field.model_dump(mode="json") for field in fields]
        if not dataset.is_shaped:
            dataset.taken_fields = dataset.fields
        dataset.save()
    return None


def _to_read_again(user: User, dataset: Dataset, field_id: str, changes: dict[str, Any]) -> Upload:
    last = dataset.uploads.filter(state=Upload.State.DONE).first()
    if last is None or not last.place.exists():
        raise VedutaError("The file this dataset was read from is gone.", hint="Upload it again, then change the type.")
    if dataset.uploads.filter(state__in=[Upload.State.QUEUED, Upload.State.READING]).exists():
        raise VedutaError("This dataset is being read just now.", hint="Wait until that is done.")
    now = {field.id: field for field in dataset.all_taken_fields}
    fields = [now.get(field.id, field) for field in last.all_fields]
    again = Upload(
        dataset=dataset,
        owner=user,
        file_name=last.file_name,
        path=last.path,
        size=last.size,
        options=last.options,
        format=last.format,
        parts=last.parts,
        about=last.about,
        places=last.places,
        width=last.width,
        answered=[field.id for field in fields],
    )
    place = next((i for i, field in enumerate(fields) if field.id == field_id), None)
    if place is None:
        raise VedutaError("That column is not in the newest file, so its type cannot be changed.")
    sample = text_sample(again)
    fields[place] = changed_field(fields[place], changes, sample.column(last.places[place]))
    again.fields = [field.model_dump(mode="json") for field in fields]
    again.save()
    return again


def set_taking(user: User, dataset: Dataset, how: str, key: list[str], since: str) -> None:
    """Say how newer rows come in: all anew, added below, or in the place of those with the same key."""
    must_build(user)
    known = {field.id for field in dataset.all_taken_fields}
    if how not in TAKING_WORDS:
        raise VedutaError("That way of taking rows in does not exist.", hint="Choose one from the list.")
    if how == "replace" and not key:
        raise VedutaError("By which columns are rows the same?", hint="Choose at least one key column.")
    if set(key) - known or (since and since not in known):
        raise VedutaError("A column that was chosen is gone.", hint="Choose another one.")
    dataset.taking = {"how": how, "key": key if how == "replace" else [], "since": since if how != "full" else ""}
    dataset.save(update_fields=["taking"])


def delete_dataset(user: User, dataset: Dataset) -> None:
    must_build(user)
    Dataset.objects.filter(pk=dataset.pk).update(deleted_at=timezone.now())


def restore_dataset(user: User, dataset: Dataset) -> None:
    must_build(user)
    Dataset.objects.filter(pk=dataset.pk).update(deleted_at=None)


def release(user: User, dataset: Dataset, released: bool) -> None:
    """Let those see a dataset who may see only some rows of what it is made from, or no longer."""
    must_steward(user)
    Dataset.objects.filter(pk=dataset.pk).update(released=released, updated_at=timezone.now())


def bring_back_version(user: User, dataset: Dataset, number: int) -> None:
    """Make an earlier version current again."""
    must_build(user)
    with transaction.atomic():
        dataset = Dataset.objects.select_for_update().get(pk=dataset.pk)
        version = dataset.versions.filter(number=number, state=Version.State.READY).first()
        if version is None:
            raise VedutaError(f"Version {number} is not kept any more.")
        fields = [
            changed_field(field, {"kind": version.kinds[field.id]}) if field.id in version.kinds else field
            for field in dataset.all_fields
        ]
        dataset.fields = [field.model_dump(mode="json") for field in fields]
        if not dataset.is_shaped:
            dataset.taken_fields = dataset.fields
        dataset.current = version
        with rules_still_hold(dataset):
            dataset.save()
    refresh_followers(dataset)


def changes_to(dataset: Dataset, fields: list[Field]) -> dict[str, list[dict[str, Any]]]:
    """What a newer file changes: columns missing, new and of another type, with the charts that use them."""
    from veduta.web.charts.services import charts_using

    old = {field.id: field for field in dataset.schema}
    new = {field.id: field for field in fields}
    missing = [
        {"field": field, "charts": charts_using(dataset, field.id)} for key, field in old.items() if key not in new
    ]
    retyped = [
        {"field": field, "was": old[key].kind.words, "now": field.kind.words, "charts": charts_using(dataset, key)}
        for key, field in new.items()
        if key in old and old[key].kind != field.kind
    ]
    return {"missing": missing, "retyped": retyped, "added": [{"field": f} for key, f in new.items() if key not in old]}

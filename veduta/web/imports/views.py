"""Files on screen: received, checked, corrected."""

from __future__ import annotations

import json
import uuid
from typing import Any
from urllib.parse import unquote

import polars as pl
from django.http import Http404, HttpResponse, JsonResponse
from django.http.request import UnreadablePostError
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST
from pydantic import Field

from veduta.core.calendar import Grain
from veduta.core.data.convert import Failures, convert
from veduta.core.data.fields import DataField, DataType, list_aggregates
from veduta.core.data.importing import find_kept_rows
from veduta.core.data.options import DELIMITER_WORDS, ENCODING_WORDS
from veduta.core.data.recognise import RecognisedColumn
from veduta.core.data.remarks import Remark, find_remarks
from veduta.core.data.sniff import FileSample
from veduta.core.errors import DefinitionProblem, FileProblem, VedutaError
from veduta.core.number_format import format_value, settle
from veduta.core.phrases import join_names
from veduta.web.accounts.access import Request, require_builder
from veduta.web.common.bodies import takes_files
from veduta.web.common.requests import Line, Lines, RequestModel, Text, parse_json, parse_query, read_json_body
from veduta.web.datasets.changes import find_changes
from veduta.web.datasets.models import Upload
from veduta.web.datasets.requests import get_dataset, parse_uuid_or_404, read_field_changes
from veduta.web.datasets.row_access import must_see_all
from veduta.web.imports import services as intake

PREVIEW_ROWS, PREVIEW_COLUMNS = 30, 60


class UploadTarget(RequestModel):
    """The dataset that a file is for, and the upload (`with` in the address) that it is to join."""

    dataset: Line = ""
    first: Line = Field("", alias="with")


class Pasted(RequestModel):
    cells: Text = ""
    dataset: Line = ""


class UploadStart(RequestModel):
    name: Line = ""
    leave_out: Lines = []


@takes_files
@require_POST
@require_builder
def receive(request: Request) -> JsonResponse:
    """Take a file as the raw body of the request, named by the X-File-Name header."""
    dataset = None
    where = parse_query(request, UploadTarget)
    if where.dataset:
        dataset = get_dataset(parse_uuid_or_404(where.dataset))
    try:
        length = int(request.META.get("CONTENT_LENGTH") or 0)
        name = unquote(request.headers.get("X-File-Name", ""))
        if where.first:
            first_part = get_object_or_404(Upload, pk=parse_uuid_or_404(where.first), owner=request.user)
            upload = intake.receive_another(request.user, first_part, request, length, name)
        else:
            upload = intake.receive(request.user, request, length, name, dataset)
    except UnreadablePostError:
        raise FileProblem("The upload broke off before its end.", hint="Upload the file again.") from None
    return JsonResponse({"address": reverse("upload", args=[upload.pk]), "upload": str(upload.pk)})


@require_POST
@require_builder
def paste(request: Request) -> JsonResponse:
    """Take pasted cells."""
    pasted = parse_json(request, Pasted)
    dataset = get_dataset(parse_uuid_or_404(pasted.dataset)) if pasted.dataset else None
    upload = intake.paste(request.user, pasted.cells, dataset)
    return JsonResponse({"address": reverse("upload", args=[upload.pk])})


@require_GET
@require_builder
def upload(request: Request, pk: uuid.UUID) -> HttpResponse:
    """A file before, while and after it is read."""
    upload = _upload(request, pk)
    if upload.state == Upload.State.DONE:
        return redirect("dataset", upload.dataset_id)
    if upload.state in (Upload.State.QUEUED, Upload.State.READING):
        return redirect("refresh", upload.refreshes.latest("pk").pk)
    return render(request, "datasets/check.html", _check_context(upload))


def _upload(request: Request, pk: uuid.UUID) -> Upload:
    """The upload, if this person may work on it.

    Raises Http404, for another's file that has no dataset yet too, and RowAccessDenied for one for a dataset of which
    they may see only some rows."""
    upload = get_object_or_404(Upload.objects.select_related("dataset"), pk=pk)
    if upload.owner_id == request.user.pk or request.user.is_steward:
        return upload
    if upload.dataset is None:
        raise Http404
    must_see_all(request.user, upload.dataset, "look into files that others brought for it")
    return upload


def _check_context(upload: Upload, problem: VedutaError | None = None) -> dict:
    """The recognised settings and the first rows as they will be."""
    context: dict[str, Any] = {
        "upload": upload,
        "options": upload.file_options,
        "encodings": ENCODING_WORDS.items(),
        "delimiters": [(value, words[:1].upper() + words[1:]) for value, words in DELIMITER_WORDS.items()],
        "kinds": [(kind.value, kind.words) for kind in DataType],
        "name": upload.dataset.name if upload.dataset else intake.name_from_upload(upload),
        "problem": problem or (VedutaError(upload.message) if upload.message else None),
    }
    try:
        sample, recognised = intake.sample_of(upload)
        questions = intake.open_questions(upload, recognised)
    except VedutaError as error:
        return context | {"problem": error, "columns": [], "body": [], "unreadable": True}
    columns: list[dict[str, Any]] = []
    for field, position in zip(upload.all_fields[:PREVIEW_COLUMNS], upload.positions, strict=False):
        cells, failures = _preview_column(sample, field, position, upload)
        seen = recognised.get(field.id)
        columns.append(
            {
                "field": field,
                "cells": cells,
                "failures": failures,
                "question": questions.get(field.id, ""),
                "why": seen.why if seen else "",
                "empty_words": _empty_words(field, seen),
                "aggregates": [(aggregate.value, aggregate.words) for aggregate in list_aggregates(field.kind)],
            }
        )
    rows = min(PREVIEW_ROWS, len(sample.rows))
    pairs = list(zip(upload.all_fields, upload.positions, strict=False))
    texts = pl.DataFrame({str(position): sample.get_column(position)[:rows] for _, position in pairs})
    kept = find_kept_rows(texts, pairs)
    context |= {
        "columns": columns,
        "body": [([column["cells"][i] for column in columns], kept is not None and not kept[i]) for i in range(rows)],
        "remarks": [_make_remark(remark) for remark in find_remarks(sample, pairs)],
        "more_columns": max(0, len(upload.fields) - PREVIEW_COLUMNS),
        "questions": [column for column in columns if column["question"]],
        "sampled": len(sample.rows),
    }
    if upload.dataset and upload.dataset.current_id:
        context["changes"] = find_changes(upload.dataset, upload.all_fields)
    return context


def _empty_words(field: DataField, seen: RecognisedColumn | None) -> list[dict[str, Any]]:
    """The words that may mean empty in a column.

    How often each occurs, whether it counts as empty, and the column's list of such words with the other choice."""
    taken = field.reading.empties
    words = {word.lower(): (word, count) for word, count in (seen.maybe_empty if seen else [])}
    return [
        {
            "word": word,
            "count": count,
            "taken": key in taken,
            "others": json.dumps([each for each in taken if each != key] if key in taken else [*taken, key]),
        }
        for key, (word, count) in words.items()
    ]


def _make_remark(remark: Remark) -> dict[str, Any]:
    """What is worth a look, and what its button changes of the column."""
    reading = remark.field.reading
    key, known = ("left_out", reading.left_out) if remark.about == "totals" else ("empty_words", reading.empties)
    words = [word.lower() for word in remark.words]
    others = [word for word in known if word not in words] if remark.taken else list(dict.fromkeys([*known, *words]))
    return {
        "id": f"{remark.about}-{remark.field.id}",
        "remark": remark,
        "said": join_names([f"“{word}”" for word in remark.words[:4]]) + (" …" if len(remark.words) > 4 else ""),
        "key": key,
        "others": json.dumps(others),
    }


def _preview_column(
    sample: FileSample, field, position: int, upload: Upload
) -> tuple[list[tuple[str, bool, bool]], int]:
    """The first cells of a column, with whether each does not fit and is a number; and how many sampled do not fit."""
    texts = pl.Series(sample.get_column(position)[:2_000], dtype=pl.String)
    failures = Failures()
    values = convert(texts, field, upload.file_options.empties, failures)
    number_format = settle(field.format, values, field.kind, records=True) if field.kind.is_number else field.format
    grain = Grain(field.reading.period) if field.kind.is_date and field.reading.period else None
    failed = {row for row, _ in failures.examples}
    cells = []
    for i, value in enumerate(values[:PREVIEW_ROWS], 1):
        words = texts[i - 1] if i in failed else format_value(value, field.kind, number_format, grain)
        cells.append((words, i in failed, field.kind.is_number))
    return cells, failures.count


@require_POST
@require_builder
def upload_options(request: Request, pk: uuid.UUID) -> HttpResponse:
    """Correct how the file is cut; answers with the preview."""
    upload = _upload(request, pk)
    changes, problem = read_json_body(request), None
    if "empties" in changes:
        changes["empties"] = [word.strip().lower() for word in str(changes["empties"]).split(",") if word.strip()]
    try:
        intake.change_options(request.user, upload, changes)
    except VedutaError as error:
        problem = error
        upload.refresh_from_db()
    except ValueError:
        raise DefinitionProblem("That setting does not fit.", hint="Choose one from the list.") from None
    return render(request, "datasets/check_parts.html", _check_context(upload, problem))


@require_POST
@require_builder
def upload_column(request: Request, pk: uuid.UUID, field_id: str) -> HttpResponse:
    """Correct one column; answers with the preview."""
    upload = _upload(request, pk)
    intake.change_column(request.user, upload, field_id, read_field_changes(request))
    return render(request, "datasets/check_parts.html", _check_context(upload))


@require_POST
@require_builder
def upload_start(request: Request, pk: uuid.UUID) -> JsonResponse:
    upload = _upload(request, pk)
    start = parse_json(request, UploadStart)
    intake.start_import(request.user, upload, start.name, set(start.leave_out))
    return JsonResponse({"address": reverse("upload", args=[pk])})


@require_POST
@require_builder
def upload_discard(request: Request, pk: uuid.UUID) -> HttpResponse:
    upload = _upload(request, pk)
    intake.discard(request.user, upload)
    return redirect("data")

from __future__ import annotations

import json
import uuid
from typing import Any
from urllib.parse import unquote

from django.core.paginator import Paginator
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.http.request import UnreadablePostError
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST

from veduta.core.chart.formats import format_value, settle
from veduta.core.data.convert import Failures, convert
from veduta.core.data.fields import Aggregate, Field, Kind, Role, aggregates_for
from veduta.core.data.options import DELIMITER_WORDS, ENCODING_WORDS
from veduta.core.data.profile import Profile, profile
from veduta.core.data.recognise import Recognised
from veduta.core.data.sniff import Sample
from veduta.core.errors import DefinitionProblem, FileProblem, VedutaError
from veduta.core.query.measures import TOTAL_WORDS
from veduta.web.accounts.access import builders_only, stewards_only
from veduta.web.datasets import services
from veduta.web.datasets.binding import is_bound, is_made_from_ruled, must_see_all
from veduta.web.datasets.modelling import model_for
from veduta.web.datasets.models import Dataset, Upload, Version
from veduta.web.datasets.rows import RowsRequest, csv_response, rows_context, rows_lazily
from veduta.web.pages.requests import sent_json

PREVIEW_ROWS = 30
PREVIEW_COLUMNS = 60
COLUMNS_SHOWN = 100


def _dataset(pk: uuid.UUID, deleted: bool = False) -> Dataset:
    return get_object_or_404(
        Dataset.objects.select_related("current", "created_by"), pk=pk, deleted_at__isnull=not deleted
    )


@require_GET
@builders_only
def dataset_list(request: HttpRequest) -> HttpResponse:
    find = request.GET.get("find", "").strip()
    datasets = Dataset.objects.filter(deleted_at=None).select_related("current", "created_by")
    if find:
        datasets = datasets.filter(name__icontains=find)
    open_uploads = Upload.objects.exclude(state=Upload.State.DONE).select_related("dataset", "owner")
    deleted = Dataset.objects.exclude(deleted_at=None).order_by("-deleted_at")[:10]
    bound = {each.pk for each in datasets if is_bound(each, request.user)}
    context = {"datasets": datasets, "bound": bound, "uploads": open_uploads, "find": find, "deleted": deleted}
    return render(request, "datasets/list.html", context)


@require_POST
@builders_only
def receive(request: HttpRequest) -> JsonResponse:
    """Take a file as the raw body of the request, named by the X-File-Name header."""
    dataset = None
    if target := request.GET.get("dataset"):
        dataset = _dataset(_uuid(target))
    try:
        length = int(request.headers.get("Content-Length") or 0)
        name = unquote(request.headers.get("X-File-Name", ""))
        if first := request.GET.get("with"):
            found = get_object_or_404(Upload, pk=_uuid(first), owner=request.user)
            upload = services.receive_another(request.user, found, request, length, name)
        else:
            upload = services.receive(request.user, request, length, name, dataset)
    except UnreadablePostError:
        raise FileProblem("The upload broke off before its end.", hint="Upload the file again.") from None
    return JsonResponse({"address": reverse("upload", args=[upload.pk]), "upload": str(upload.pk)})


def _uuid(text: str) -> uuid.UUID:
    try:
        return uuid.UUID(text)
    except ValueError:
        raise Http404 from None


@require_POST
@builders_only
def paste(request: HttpRequest) -> JsonResponse:
    """Take pasted cells."""
    data = sent_json(request)
    dataset = _dataset(_uuid(str(data["dataset"]))) if data.get("dataset") else None
    upload = services.paste(request.user, str(data.get("cells") or ""), dataset)
    return JsonResponse({"address": reverse("upload", args=[upload.pk])})


@require_GET
@builders_only
def upload(request: HttpRequest, pk: uuid.UUID) -> HttpResponse:
    """A file before, while and after it is read."""
    found = _upload(request, pk)
    if found.state == Upload.State.DONE:
        return redirect("dataset", found.dataset_id)
    if found.state in (Upload.State.QUEUED, Upload.State.READING):
        return redirect("refresh", found.refreshes.first().pk)
    return render(request, "datasets/check.html", _check_context(found))


def _upload(request: HttpRequest, pk: uuid.UUID) -> Upload:
    """Raises Http404, and Bound for another's file for a dataset of which somebody may see only some rows."""
    found = get_object_or_404(Upload.objects.select_related("dataset"), pk=pk)
    if found.dataset and found.owner_id != request.user.pk:
        must_see_all(request.user, found.dataset, "look into files that others brought for it")
    return found


def _check_context(upload: Upload, problem: VedutaError | None = None) -> dict:
    """The recognised settings and the first rows as they will be."""
    context = {
        "upload": upload,
        "options": upload.file_options,
        "encodings": ENCODING_WORDS.items(),
        "delimiters": DELIMITER_WORDS.items(),
        "kinds": [(kind.value, kind.words) for kind in Kind],
        "name": upload.dataset.name if upload.dataset else services.name_from_upload(upload),
        "problem": problem or (VedutaError(upload.message) if upload.message else None),
    }
    try:
        sample, recognised = services.sample_of(upload)
        questions = services.open_questions(upload, recognised)
    except VedutaError as error:
        return context | {"problem": error, "columns": [], "body": [], "unreadable": True}
    columns = []
    for field, place in zip(upload.all_fields[:PREVIEW_COLUMNS], upload.places, strict=False):
        cells, failures = _preview(sample, field, place, upload)
        found = recognised.get(field.id)
        columns.append(
            {
                "field": field,
                "cells": cells,
                "failures": failures,
                "question": questions.get(field.id, ""),
                "why": found.why if found else "",
                "empty_words": _empty_words(field, found),
            }
        )
    rows = min(PREVIEW_ROWS, len(sample.rows))
    context |= {
        "columns": columns,
        "body": [[column["cells"][i] for column in columns] for i in range(rows)],
        "more_columns": max(0, len(upload.fields) - PREVIEW_COLUMNS),
        "questions": [column for column in columns if column["question"]],
        "sampled": len(sample.rows),
    }
    if upload.dataset and upload.dataset.current_id:
        context["changes"] = services.changes_to(upload.dataset, upload.all_fields)
    return context


def _empty_words(field: Field, found: Recognised | None) -> list[dict[str, Any]]:
    """The words that may mean empty in a column: how often they are there, whether they count as empty, and what its
    list of such words is with the other choice."""
    taken = field.reading.empties
    words = {word.lower(): (word, count) for word, count in (found.maybe_empty if found else [])}
    return [
        {
            "word": word,
            "count": count,
            "taken": key in taken,
            "others": json.dumps([each for each in taken if each != key] if key in taken else [*taken, key]),
        }
        for key, (word, count) in words.items()
    ]


def _preview(sample: Sample, field, place: int, upload: Upload) -> tuple[list[tuple[str, bool]], int]:
    import polars as pl

    texts = pl.Series(sample.column(place)[:2_000], dtype=pl.String)
    failures = Failures()
    values = convert(texts, field, upload.file_options.empties, failures)
    number_format = settle(field.format, values, field.kind, records=True) if field.kind.is_number else field.format
    failed = {row for row, _ in failures.examples}
    cells = []
    for i, value in enumerate(values[:PREVIEW_ROWS], 1):
        cells.append((texts[i - 1], True) if i in failed else (format_value(value, field.kind, number_format), False))
    return cells, failures.count


@require_POST
@builders_only
def upload_options(request: HttpRequest, pk: uuid.UUID) -> HttpResponse:
    """Correct how the file is cut; answers with the preview."""
    found = _upload(request, pk)
    changes, problem = sent_json(request), None
    if "empties" in changes:
        changes["empties"] = [word.strip().lower() for word in str(changes["empties"]).split(",") if word.strip()]
    try:
        services.change_options(request.user, found, changes)
    except VedutaError as error:
        problem = error
        found.refresh_from_db()
    except ValueError:
        raise DefinitionProblem("That setting does not fit.", hint="Choose one from the list.") from None
    return render(request, "datasets/check_parts.html", _check_context(found, problem))


@require_POST
@builders_only
def upload_column(request: HttpRequest, pk: uuid.UUID, field_id: str) -> HttpResponse:
    """Correct one column; answers with the preview."""
    found = _upload(request, pk)
    services.change_column(request.user, found, field_id, _allowed(sent_json(request)))
    return render(request, "datasets/check_parts.html", _check_context(found))


STOCKS = [
    ("last", "the last day's is taken"),
    ("first", "the first day's is taken"),
    ("mean", "the mean of the days"),
    ("max", "the highest day's"),
]
PLACES = ["", "latitude", "longitude", "country", "region", "town"]
FIELD_CHANGES = {
    "name",
    "description",
    "hidden",
    "kind",
    "role",
    "aggregate",
    "format",
    "order",
    "decimal",
    "empty_words",
    "folder",
    "total",
    "over_dates",
    "synonyms",
    "place",
    "sort_by",
}


def _allowed(changes: dict) -> dict:
    if not changes or changes.keys() - FIELD_CHANGES:
        raise DefinitionProblem("That setting does not exist.", hint="Load the page again.")
    return changes


@require_POST
@builders_only
def upload_start(request: HttpRequest, pk: uuid.UUID) -> JsonResponse:
    found = get_object_or_404(Upload.objects.select_related("dataset"), pk=pk)
    data = sent_json(request)
    services.start_import(request.user, found, str(data.get("name", "")), set(data.get("leave_out", [])))
    return JsonResponse({"address": reverse("upload", args=[pk])})


@require_POST
@builders_only
def upload_discard(request: HttpRequest, pk: uuid.UUID) -> HttpResponse:
    found = get_object_or_404(Upload.objects.select_related("dataset"), pk=pk)
    services.discard(request.user, found)
    return redirect("data")


@require_GET
@builders_only
def dataset(request: HttpRequest, pk: uuid.UUID) -> HttpResponse:
    """The dataset's columns with their profiles, and its rows."""
    found = _dataset(pk)
    running = found.uploads.exclude(state=Upload.State.DONE).first()
    if found.current is None:
        return redirect("upload", running.pk) if running else render(request, "datasets/empty.html", {"dataset": found})
    schema, version = found.schema, found.current
    fields = []
    find = request.GET.get("find", "").strip()
    found_fields = [field for field in schema if find.lower() in field.name.lower()]
    page = Paginator(found_fields, COLUMNS_SHOWN).get_page(request.GET.get("page"))
    bound = is_bound(found, request.user)
    model = model_for(found, request.user)
    seen = model.scan([field.id for field in page]).collect() if bound else None
    for field in page:
        profiled = version.profile(field.id) if seen is None else profile(seen[field.id], field.kind)
        failed = 0 if bound else version.failures.get(field.id, {}).get("count", 0)
        fields.append(_field_context(field, profiled) | {"failed": failed})
    context = {
        "bound": bound,
        "rule_words": model.words_of_rules(),
        "seen_rows": model.rows,
        "needs_release": request.user.is_steward and is_made_from_ruled(found),
        "dataset": found,
        "version": version,
        "versions": found.versions.filter(state=Version.State.READY).exclude(number=None)[:20],
        "fields": fields,
        "columns": len(schema.fields),
        "page": page,
        "find_column": find,
        "gone": schema.gone,
        "source": Dataset.objects.filter(pk=found.source_id).first() if found.source_id else None,
        "steps": [] if bound else _steps_in_words(found),
        "running": running,
        "charts": found.charts.filter(deleted_at=None)[:50],
        "kinds": [(kind.value, kind.words) for kind in Kind],
        "roles": [(role.value, role.value) for role in Role],
        "totals": [(key, words) for key, words in TOTAL_WORDS.items() if key != "again"],
        "stocks": STOCKS,
        "places": PLACES,
        "all_fields": schema.fields,
        "joined": len(found.model_definition.tables),
        "formulas": len(found.model_definition.formulas),
    }
    return render(request, "datasets/dataset.html", context)


def _steps_in_words(dataset: Dataset) -> list[tuple[str, int | None]]:
    """The steps in force, each with the rows behind it when the current version was made."""
    if not dataset.is_shaped:
        return []
    reports = [dataset.current.reports.get(step.id, {}) for step in dataset.shaping.active]
    return [(report["words"], report.get("rows_out")) for report in reports if report.get("words")]


def _field_context(field: Field, found: Profile) -> dict:
    number_format = field.format
    if field.kind.is_number:
        number_format = settle(field.format, [found.highest, found.lowest], field.kind, records=True)
    tallest, step = max(found.bars, default=0) or 1, 120 / max(1, len(found.bars))

    def words(value):
        if isinstance(value, str) and field.kind.is_date:
            import datetime as dt

            value = (dt.datetime if field.kind is Kind.DATETIME else dt.date).fromisoformat(value)
        return format_value(value, field.kind, number_format)

    most = max((count for _, count in found.top), default=1)
    return {
        "field": field,
        "profile": found,
        "lowest": words(found.lowest) if field.kind is not Kind.YES_NO else "",
        "highest": words(found.highest) if field.kind is not Kind.YES_NO else "",
        "mean": f"{found.mean * 100:.1f}% yes"
        if field.kind is Kind.YES_NO and found.mean is not None
        else format_value(found.mean, Kind.DECIMAL, number_format)
        if found.mean is not None and field.role is Role.MEASURE
        else "",
        "bars": [
            (round(i * step, 1), round(30 - 28 * n / tallest, 1), round(28 * n / tallest, 1))
            for i, n in enumerate(found.bars)
        ],
        "bar_width": max(0.5, round(step - 0.8, 1)),
        "top": [(words(value), count, round(100 * count / most)) for value, count in found.top],
        "aggregates": [(a.value, a.words) for a in aggregates_for(field.kind)],
        "aggregate_words": Aggregate(field.aggregate).words,
    }


@require_GET
@builders_only
def dataset_rows(request: HttpRequest, pk: uuid.UUID) -> HttpResponse:
    """A page of the dataset's rows."""
    found = _dataset(pk)
    context = rows_context(found, (), RowsRequest.from_data(request.GET), request.user)
    return render(request, "datasets/rows.html", context)


@require_GET
@builders_only
def dataset_file(request: HttpRequest, pk: uuid.UUID) -> HttpResponse:
    """All rows as CSV, as they are sorted and searched."""
    found = _dataset(pk)
    rows, fields, _ = rows_lazily(found, (), RowsRequest.from_data(request.GET), request.user)
    return csv_response(rows.drop("row"), [field.name for field in fields], f"{found.name}.csv")


@require_GET
@builders_only
def failures(request: HttpRequest, pk: uuid.UUID, field_id: str) -> HttpResponse:
    """The values of one field that did not convert, with their row numbers."""
    found = _dataset(pk)
    must_see_all(request.user, found, "see the values that could not be read")
    field = found.schema[field_id]
    listed = found.current.failures.get(field_id, {"count": 0, "examples": []})
    return render(request, "datasets/failures.html", {"dataset": found, "field": field, **listed})


@require_POST
@stewards_only
def dataset_release(request: HttpRequest, pk: uuid.UUID) -> HttpResponse:
    """Let those see a dataset who may see only some rows of what it is made from, or no longer."""
    services.release(request.user, _dataset(pk), request.POST.get("released") == "1")
    return redirect("dataset", pk)


@require_POST
@builders_only
def dataset_update(request: HttpRequest, pk: uuid.UUID) -> JsonResponse:
    found, data = _dataset(pk), sent_json(request)
    services.update_dataset(
        request.user, found, str(data.get("name", found.name)), str(data.get("description", found.description))
    )
    return JsonResponse({"message": "Saved."})


@require_POST
@builders_only
def field_update(request: HttpRequest, pk: uuid.UUID, field_id: str) -> JsonResponse:
    """Change one field; says how to undo it, or which upload is reading the file again."""
    found = _dataset(pk)
    changes = _allowed(sent_json(request))
    before = found.schema[field_id].model_dump(mode="json")
    undo = {key: before[key] for key in changes if key in before}
    if "role" in changes:
        undo["aggregate"] = before["aggregate"]
    again = services.update_field(request.user, found, field_id, changes)
    if again:
        return JsonResponse({"address": reverse("upload" if isinstance(again, Upload) else "refresh", args=[again.pk])})
    return JsonResponse({"message": f"“{before['name']}” is changed.", "undo": undo})


@require_POST
@builders_only
def dataset_delete(request: HttpRequest, pk: uuid.UUID) -> JsonResponse:
    found = _dataset(pk)
    services.delete_dataset(request.user, found)
    return JsonResponse({"message": f"“{found.name}” is deleted.", "undo": reverse("dataset-restore", args=[pk])})


@require_POST
@builders_only
def dataset_restore(request: HttpRequest, pk: uuid.UUID) -> JsonResponse:
    found = _dataset(pk, deleted=True)
    services.restore_dataset(request.user, found)
    return JsonResponse({"message": f"“{found.name}” is back."})


@require_POST
@builders_only
def version_restore(request: HttpRequest, pk: uuid.UUID, number: int) -> HttpResponse:
    services.bring_back_version(request.user, _dataset(pk), number)
    return redirect("dataset", pk)

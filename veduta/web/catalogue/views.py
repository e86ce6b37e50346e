"""The list of data and the page of a dataset."""

from __future__ import annotations

import datetime as dt
import uuid

from django.core.paginator import Paginator
from django.db.models import Case, When
from django.http import HttpResponse, JsonResponse, StreamingHttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST

from veduta.core.calendar import get_written_grain
from veduta.core.data.fields import Aggregate, DataField, DataType, FieldRole, list_aggregates
from veduta.core.data.profile import Profile, profile_column
from veduta.core.number_format import format_value, settle
from veduta.core.query.measures import TOTAL_WORDS
from veduta.web.accounts.access import Request, require_builder, require_steward
from veduta.web.catalogue import services as catalogue
from veduta.web.common.lists import JSONArrayLength, Listed, ListHeading, list_context, sort_things
from veduta.web.common.requests import Flag, Line, RequestModel, Searched, Text, parse_form, parse_json, parse_query
from veduta.web.datasets.models import Dataset, ShapeSet, Upload, Version
from veduta.web.datasets.requests import get_dataset, read_field_changes
from veduta.web.datasets.row_access import is_bound, is_made_from_ruled, must_see_all
from veduta.web.modelling.rows import RowsRequest, make_rows_context, scan_rows, send_csv
from veduta.web.modelling.services import load_model_for

COLUMNS_SHOWN = 60


class DatasetRequest(RequestModel):
    name: Line = ""
    description: Text = ""


class Release(RequestModel):
    released: Flag = False


HEADINGS = (
    ListHeading("name", "Dataset", "name"),
    ListHeading("rows", "Rows", "rows", number=True),
    ListHeading("columns", "Columns", "columns", number=True),
    ListHeading("from", "Read from", "current__file_name"),
    ListHeading("changed", "Changed", "updated_at", text=False),
)


@require_GET
@require_builder
def list_datasets(request: Request) -> HttpResponse:
    listed = parse_query(request, Listed)
    datasets = Dataset.objects.filter(deleted_at=None).select_related("current", "created_by")
    if listed.find:
        datasets = datasets.filter(name__icontains=listed.find)
    bound = {each.pk for each in datasets if is_bound(each, request.user)}
    known_rows = Case(When(pk__in=bound, then=None), default="current__rows")
    datasets = sort_things(datasets.alias(rows=known_rows, columns=JSONArrayLength("fields")), HEADINGS, listed)
    open_uploads = Upload.objects.exclude(state=Upload.State.DONE).select_related("dataset", "owner")
    deleted = Dataset.objects.exclude(deleted_at=None).order_by("-deleted_at")[:10]
    context = {"datasets": datasets, "bound": bound, "uploads": open_uploads, "deleted": deleted}
    context |= list_context(HEADINGS, listed)
    return render(request, "datasets/list.html", context)


STOCKS = [
    ("last", "the last day's is taken"),
    ("first", "the first day's is taken"),
    ("mean", "the mean of the days"),
    ("max", "the highest day's"),
]


DEGREES = [("latitude", "latitude, in degrees"), ("longitude", "longitude, in degrees")]


@require_GET
@require_builder
def show_dataset(request: Request, pk: uuid.UUID) -> HttpResponse:
    """The dataset's columns with their profiles, and its rows."""
    dataset = get_dataset(pk)
    running = dataset.uploads.exclude(state=Upload.State.DONE).first()
    if dataset.current is None:
        return (
            redirect("upload", running.pk) if running else render(request, "datasets/empty.html", {"dataset": dataset})
        )
    schema, version = dataset.schema, dataset.current
    fields = []
    searched = parse_query(request, Searched)
    find = searched.find
    found_fields = [field for field in schema if find.lower() in field.name.lower()]
    page = Paginator(found_fields, COLUMNS_SHOWN).get_page(searched.page)
    bound = is_bound(dataset, request.user)
    model = load_model_for(dataset, request.user)
    seen = model.scan([field.id for field in page]).collect() if bound else None
    for field in page:
        profiled = version.profile(field.id) if seen is None else profile_column(seen[field.id], field.kind)
        failed = 0 if bound else version.failures.get(field.id, {}).get("count", 0)
        sorted_by = schema.get(field.sort_by)
        fields.append(_make_field_context(field, profiled) | {"failed": failed, "sorted_by": sorted_by})
    context = {
        "bound": bound,
        "rule_words": model.ruling.describe(),
        "seen_rows": model.rows,
        "needs_release": request.user.is_steward and is_made_from_ruled(dataset),
        "dataset": dataset,
        "version": version,
        "versions": dataset.versions.filter(state=Version.State.READY)
        .exclude(number=None)
        .defer("profiles", "failures", "kinds")[:20],
        "fields": fields,
        "columns": len(schema.fields),
        "page": page,
        "find_column": find,
        "gone": schema.gone,
        "source": Dataset.objects.filter(pk=dataset.source_id).first() if dataset.source_id else None,
        "steps": [] if bound else _describe_steps(dataset),
        "running": running,
        "charts": dataset.charts.filter(deleted_at=None)[:50],
        "kinds": [(kind.value, kind.words) for kind in DataType],
        "roles": [(role.value, role.value) for role in FieldRole],
        "totals": [(key, words) for key, words in TOTAL_WORDS.items() if key != "again"],
        "stocks": STOCKS,
        "degrees": DEGREES,
        "shape_sets": [(str(pk), f"an area of {name}") for pk, name in ShapeSet.objects.values_list("pk", "name")],
        "all_fields": schema.fields,
        "joined": len(dataset.model_definition.tables),
        "formulas": len(dataset.model_definition.formulas),
    }
    return render(request, "datasets/dataset.html", context)


def _describe_steps(dataset: Dataset) -> list[tuple[str, int | None]]:
    """The steps in force, each with the rows behind it when the current version was made."""
    if not dataset.is_shaped or dataset.current is None:
        return []
    reports = [dataset.current.reports.get(step.id, {}) for step in dataset.shaping.active]
    return [(report["words"], report.get("rows_out")) for report in reports if report.get("words")]


def _make_field_context(field: DataField, profile: Profile) -> dict:
    number_format = field.format
    if field.kind.is_number:
        number_format = settle(field.format, [profile.highest, profile.lowest], field.kind, records=True)
    tallest, step = max(profile.bars, default=0) or 1, 120 / max(1, len(profile.bars))

    def words(value):
        if isinstance(value, str) and field.kind.is_date:
            value = (dt.datetime if field.kind is DataType.DATETIME else dt.date).fromisoformat(value)
        return format_value(value, field.kind, number_format, get_written_grain(field))

    most = max((count for _, count in profile.top), default=1)
    return {
        "field": field,
        "profile": profile,
        "lowest": words(profile.lowest) if field.kind is not DataType.YES_NO else "",
        "highest": words(profile.highest) if field.kind is not DataType.YES_NO else "",
        "mean": f"{profile.mean * 100:.1f}% yes"
        if field.kind is DataType.YES_NO and profile.mean is not None
        else format_value(profile.mean, DataType.DECIMAL, number_format)
        if profile.mean is not None and field.role is FieldRole.MEASURE
        else "",
        "bars": [
            (round(i * step, 1), round(30 - 28 * n / tallest, 1), round(28 * n / tallest, 1))
            for i, n in enumerate(profile.bars)
        ],
        "bar_width": max(0.5, round(step - 0.8, 1)),
        "top": [(words(value), count, round(100 * count / most)) for value, count in profile.top],
        "aggregates": [(a.value, a.words) for a in list_aggregates(field.kind)],
        "aggregate_words": Aggregate(field.aggregate).words,
    }


@require_GET
@require_builder
def show_dataset_rows(request: Request, pk: uuid.UUID) -> HttpResponse:
    """A page of the dataset's rows."""
    dataset = get_dataset(pk)
    context = make_rows_context(dataset, (), parse_query(request, RowsRequest), request.user)
    return render(request, "datasets/rows.html", context)


@require_GET
@require_builder
def download_dataset(request: Request, pk: uuid.UUID) -> StreamingHttpResponse:
    """All rows as CSV, as they are sorted and searched."""
    dataset, wanted = get_dataset(pk), parse_query(request, RowsRequest)
    rows, fields, _ = scan_rows(dataset, (), wanted, request.user)
    headings = [field.name for field in fields]
    return send_csv(rows.drop("row"), headings, f"{dataset.name}.csv", wanted.as_they_are)


@require_GET
@require_builder
def show_failures(request: Request, pk: uuid.UUID, field_id: str) -> HttpResponse:
    """The values of one field that did not convert, with their row numbers."""
    dataset = get_dataset(pk)
    must_see_all(request.user, dataset, "see the values that could not be read")
    field = dataset.schema[field_id]
    failed = dataset.current.failures if dataset.current else {}
    listed = failed.get(field_id, {"count": 0, "examples": []})
    return render(request, "datasets/failures.html", {"dataset": dataset, "field": field, **listed})


@require_POST
@require_steward
def release_dataset(request: Request, pk: uuid.UUID) -> HttpResponse:
    """Let those see a dataset who may see only some rows of what it is made from, or no longer."""
    catalogue.release(request.user, get_dataset(pk), parse_form(request, Release).released)
    return redirect("dataset", pk)


@require_POST
@require_builder
def update_dataset(request: Request, pk: uuid.UUID) -> JsonResponse:
    dataset, told = get_dataset(pk), parse_json(request, DatasetRequest).told
    now = {"name": dataset.name, "description": dataset.description}
    catalogue.update_dataset(request.user, dataset, **now | told)
    return JsonResponse({"message": "Saved."})


@require_POST
@require_builder
def update_field(request: Request, pk: uuid.UUID, field_id: str) -> JsonResponse:
    """Change one field; says how to undo it, or which upload is reading the file again."""
    dataset = get_dataset(pk)
    changes = read_field_changes(request)
    before = dataset.schema[field_id].model_dump(mode="json")
    undo = {key: before[key] for key in changes if key in before}
    if "role" in changes:
        undo["aggregate"] = before["aggregate"]
    again = catalogue.update_field(request.user, dataset, field_id, changes)
    if again:
        return JsonResponse({"address": reverse("upload" if isinstance(again, Upload) else "refresh", args=[again.pk])})
    return JsonResponse({"message": f"“{before['name']}” is changed.", "undo": undo})


@require_POST
@require_builder
def delete_dataset(request: Request, pk: uuid.UUID) -> JsonResponse:
    dataset = get_dataset(pk)
    catalogue.delete_dataset(request.user, dataset)
    return JsonResponse({"message": f"“{dataset.name}” is deleted.", "undo": reverse("dataset-restore", args=[pk])})


@require_POST
@require_builder
def restore_dataset(request: Request, pk: uuid.UUID) -> JsonResponse:
    dataset = get_dataset(pk, deleted=True)
    catalogue.restore_dataset(request.user, dataset)
    return JsonResponse({"message": f"“{dataset.name}” is back."})


@require_POST
@require_builder
def restore_version(request: Request, pk: uuid.UUID, number: int) -> HttpResponse:
    catalogue.bring_back_version(request.user, get_dataset(pk), number)
    return redirect("dataset", pk)

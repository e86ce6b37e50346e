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

from veduta.core.calendar import written_grain
from veduta.core.data.fields import Aggregate, Field, Kind, Role, aggregates_for
from veduta.core.data.profile import Profile, profile
from veduta.core.formats import format_value, settle
from veduta.core.query.measures import TOTAL_WORDS
from veduta.web.accounts.access import Request, builders_only, stewards_only
from veduta.web.catalogue import services as catalogue
from veduta.web.common.lists import Heading, JSONArrayLength, Listed, in_order, list_context
from veduta.web.common.requests import Flag, Line, Searched, Sent, Text, asked, filled_in, sent
from veduta.web.datasets.binding import is_bound, is_made_from_ruled, must_see_all
from veduta.web.datasets.models import Dataset, ShapeSet, Upload, Version
from veduta.web.datasets.requests import dataset_at, field_changes
from veduta.web.modelling.rows import RowsRequest, csv_response, rows_context, rows_lazily
from veduta.web.modelling.services import model_for

COLUMNS_SHOWN = 60


class About(Sent):
    name: Line = ""
    description: Text = ""


class Release(Sent):
    released: Flag = False


HEADINGS = (
    Heading("name", "Dataset", "name"),
    Heading("rows", "Rows", "rows", number=True),
    Heading("columns", "Columns", "columns", number=True),
    Heading("from", "Read from", "current__file_name"),
    Heading("changed", "Changed", "updated_at", text=False),
)


@require_GET
@builders_only
def dataset_list(request: Request) -> HttpResponse:
    listed = asked(request, Listed)
    datasets = Dataset.objects.filter(deleted_at=None).select_related("current", "created_by")
    if listed.find:
        datasets = datasets.filter(name__icontains=listed.find)
    bound = {each.pk for each in datasets if is_bound(each, request.user)}
    known_rows = Case(When(pk__in=bound, then=None), default="current__rows")
    datasets = in_order(datasets.alias(rows=known_rows, columns=JSONArrayLength("fields")), HEADINGS, listed)
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
@builders_only
def dataset(request: Request, pk: uuid.UUID) -> HttpResponse:
    """The dataset's columns with their profiles, and its rows."""
    dataset = dataset_at(pk)
    running = dataset.uploads.exclude(state=Upload.State.DONE).first()
    if dataset.current is None:
        return (
            redirect("upload", running.pk) if running else render(request, "datasets/empty.html", {"dataset": dataset})
        )
    schema, version = dataset.schema, dataset.current
    fields = []
    searched = asked(request, Searched)
    find = searched.find
    found_fields = [field for field in schema if find.lower() in field.name.lower()]
    page = Paginator(found_fields, COLUMNS_SHOWN).get_page(searched.page)
    bound = is_bound(dataset, request.user)
    model = model_for(dataset, request.user)
    seen = model.scan([field.id for field in page]).collect() if bound else None
    for field in page:
        profiled = version.profile(field.id) if seen is None else profile(seen[field.id], field.kind)
        failed = 0 if bound else version.failures.get(field.id, {}).get("count", 0)
        sorted_by = schema.get(field.sort_by)
        fields.append(_field_context(field, profiled) | {"failed": failed, "sorted_by": sorted_by})
    context = {
        "bound": bound,
        "rule_words": model.ruling.words(),
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
        "steps": [] if bound else _steps_in_words(dataset),
        "running": running,
        "charts": dataset.charts.filter(deleted_at=None)[:50],
        "kinds": [(kind.value, kind.words) for kind in Kind],
        "roles": [(role.value, role.value) for role in Role],
        "totals": [(key, words) for key, words in TOTAL_WORDS.items() if key != "again"],
        "stocks": STOCKS,
        "degrees": DEGREES,
        "shape_sets": [(str(pk), f"an area of {name}") for pk, name in ShapeSet.objects.values_list("pk", "name")],
        "all_fields": schema.fields,
        "joined": len(dataset.model_definition.tables),
        "formulas": len(dataset.model_definition.formulas),
    }
    return render(request, "datasets/dataset.html", context)


def _steps_in_words(dataset: Dataset) -> list[tuple[str, int | None]]:
    """The steps in force, each with the rows behind it when the current version was made."""
    if not dataset.is_shaped or dataset.current is None:
        return []
    reports = [dataset.current.reports.get(step.id, {}) for step in dataset.shaping.active]
    return [(report["words"], report.get("rows_out")) for report in reports if report.get("words")]


def _field_context(field: Field, profile: Profile) -> dict:
    number_format = field.format
    if field.kind.is_number:
        number_format = settle(field.format, [profile.highest, profile.lowest], field.kind, records=True)
    tallest, step = max(profile.bars, default=0) or 1, 120 / max(1, len(profile.bars))

    def words(value):
        if isinstance(value, str) and field.kind.is_date:
            value = (dt.datetime if field.kind is Kind.DATETIME else dt.date).fromisoformat(value)
        return format_value(value, field.kind, number_format, written_grain(field))

    most = max((count for _, count in profile.top), default=1)
    return {
        "field": field,
        "profile": profile,
        "lowest": words(profile.lowest) if field.kind is not Kind.YES_NO else "",
        "highest": words(profile.highest) if field.kind is not Kind.YES_NO else "",
        "mean": f"{profile.mean * 100:.1f}% yes"
        if field.kind is Kind.YES_NO and profile.mean is not None
        else format_value(profile.mean, Kind.DECIMAL, number_format)
        if profile.mean is not None and field.role is Role.MEASURE
        else "",
        "bars": [
            (round(i * step, 1), round(30 - 28 * n / tallest, 1), round(28 * n / tallest, 1))
            for i, n in enumerate(profile.bars)
        ],
        "bar_width": max(0.5, round(step - 0.8, 1)),
        "top": [(words(value), count, round(100 * count / most)) for value, count in profile.top],
        "aggregates": [(a.value, a.words) for a in aggregates_for(field.kind)],
        "aggregate_words": Aggregate(field.aggregate).words,
    }


@require_GET
@builders_only
def dataset_rows(request: Request, pk: uuid.UUID) -> HttpResponse:
    """A page of the dataset's rows."""
    dataset = dataset_at(pk)
    context = rows_context(dataset, (), asked(request, RowsRequest), request.user)
    return render(request, "datasets/rows.html", context)


@require_GET
@builders_only
def dataset_file(request: Request, pk: uuid.UUID) -> StreamingHttpResponse:
    """All rows as CSV, as they are sorted and searched."""
    dataset, wanted = dataset_at(pk), asked(request, RowsRequest)
    rows, fields, _ = rows_lazily(dataset, (), wanted, request.user)
    headings = [field.name for field in fields]
    return csv_response(rows.drop("row"), headings, f"{dataset.name}.csv", wanted.as_they_are)


@require_GET
@builders_only
def failures(request: Request, pk: uuid.UUID, field_id: str) -> HttpResponse:
    """The values of one field that did not convert, with their row numbers."""
    dataset = dataset_at(pk)
    must_see_all(request.user, dataset, "see the values that could not be read")
    field = dataset.schema[field_id]
    failed = dataset.current.failures if dataset.current else {}
    listed = failed.get(field_id, {"count": 0, "examples": []})
    return render(request, "datasets/failures.html", {"dataset": dataset, "field": field, **listed})


@require_POST
@stewards_only
def dataset_release(request: Request, pk: uuid.UUID) -> HttpResponse:
    """Let those see a dataset who may see only some rows of what it is made from, or no longer."""
    catalogue.release(request.user, dataset_at(pk), filled_in(request, Release).released)
    return redirect("dataset", pk)


@require_POST
@builders_only
def dataset_update(request: Request, pk: uuid.UUID) -> JsonResponse:
    dataset, told = dataset_at(pk), sent(request, About).told
    now = {"name": dataset.name, "description": dataset.description}
    catalogue.update_dataset(request.user, dataset, **now | told)
    return JsonResponse({"message": "Saved."})


@require_POST
@builders_only
def field_update(request: Request, pk: uuid.UUID, field_id: str) -> JsonResponse:
    """Change one field; says how to undo it, or which upload is reading the file again."""
    dataset = dataset_at(pk)
    changes = field_changes(request)
    before = dataset.schema[field_id].model_dump(mode="json")
    undo = {key: before[key] for key in changes if key in before}
    if "role" in changes:
        undo["aggregate"] = before["aggregate"]
    again = catalogue.update_field(request.user, dataset, field_id, changes)
    if again:
        return JsonResponse({"address": reverse("upload" if isinstance(again, Upload) else "refresh", args=[again.pk])})
    return JsonResponse({"message": f"“{before['name']}” is changed.", "undo": undo})


@require_POST
@builders_only
def dataset_delete(request: Request, pk: uuid.UUID) -> JsonResponse:
    dataset = dataset_at(pk)
    catalogue.delete_dataset(request.user, dataset)
    return JsonResponse({"message": f"“{dataset.name}” is deleted.", "undo": reverse("dataset-restore", args=[pk])})


@require_POST
@builders_only
def dataset_restore(request: Request, pk: uuid.UUID) -> JsonResponse:
    dataset = dataset_at(pk, deleted=True)
    catalogue.restore_dataset(request.user, dataset)
    return JsonResponse({"message": f"“{dataset.name}” is back."})


@require_POST
@builders_only
def version_restore(request: Request, pk: uuid.UUID, number: int) -> HttpResponse:
    catalogue.bring_back_version(request.user, dataset_at(pk), number)
    return redirect("dataset", pk)

"""Records on screen: a page of them, sorted and searched, and all of them as a CSV file."""

from __future__ import annotations

from typing import Annotated, Any

import polars as pl
from django.http import StreamingHttpResponse
from pydantic import AfterValidator

from veduta.core.calendar import get_written_grain
from veduta.core.data.csv_out import iterate_csv
from veduta.core.data.fields import DataField
from veduta.core.model.model import Model
from veduta.core.number_format import format_value, record_format
from veduta.core.query.filters import Filter
from veduta.core.query.listing import scan_underlying_rows
from veduta.web.accounts.models import User
from veduta.web.common.downloads import send_as_file
from veduta.web.common.requests import Flag, Line, RequestModel, Whole
from veduta.web.datasets.models import Dataset
from veduta.web.modelling.services import load_model_and_context

PAGE = 100


class RowsRequest(RequestModel):
    """Which page of rows is requested (from 1), sorted by which field, searched for what.

    In a file, whether texts stay as they are, also those that a spreadsheet takes for formulas."""

    page: Whole = 1
    sort: Line = ""
    descending: Flag = False
    find: Annotated[Line, AfterValidator(lambda text: text.strip()[:200])] = ""
    as_they_are: Flag = False


def scan_rows(
    dataset: Dataset,
    filters: tuple[Filter, ...],
    asked: RowsRequest,
    reader: User | None,
    home: str = "",
    values: dict[str, Any] | None = None,
) -> tuple[pl.LazyFrame, list[DataField], Model]:
    """The records of a table of the dataset's model (`home`) that pass the filters, as far as a reader may see them."""
    model, context = load_model_and_context(dataset, reader, values)
    fields = [field for field in model.schema.visible if field.table == home]
    sort = (asked.sort, asked.descending) if asked.sort in {field.id for field in fields} else None
    return (
        scan_underlying_rows(model, filters, context, [field.id for field in fields], sort, asked.find, home),
        fields,
        model,
    )


def count_rows(
    dataset: Dataset,
    filters: tuple[Filter, ...],
    reader: User | None,
    home: str = "",
    values: dict[str, Any] | None = None,
) -> int:
    """How many of these records a reader may see."""
    rows, _, _ = scan_rows(dataset, filters, RowsRequest(), reader, home, values)
    return int(rows.select(pl.len()).collect().item())


def make_rows_context(
    dataset: Dataset,
    filters: tuple[Filter, ...],
    asked: RowsRequest,
    reader: User | None,
    home: str = "",
    values: dict[str, Any] | None = None,
) -> dict[str, Any]:
    """A page of records as text cells with what a template needs to page, sort and say how many there are."""
    lazily, fields, model = scan_rows(dataset, filters, asked, reader, home, values)
    rows = lazily.collect()
    pages = max(1, -(-rows.height // PAGE))
    page = min(max(1, asked.page), pages)
    shown = rows.slice((page - 1) * PAGE, PAGE)
    formats = {field.id: record_format(field, shown[field.id]) for field in fields}
    body = [
        (
            row["row"],
            [
                (
                    format_value(row[f.id], f.kind, formats[f.id], get_written_grain(f)),
                    f.kind.is_number,
                    row[f.id] is None,
                )
                for f in fields
            ],
        )
        for row in shown.iter_rows(named=True)
    ]
    return {
        "dataset": dataset,
        "fields": fields,
        "body": body,
        "count": rows.height,
        "there": model.count_rows(home),
        "page": page,
        "pages": pages,
        "first": (page - 1) * PAGE + 1 if rows.height else 0,
        "last": (page - 1) * PAGE + shown.height,
        "asked": asked,
    }


def send_csv(rows: pl.LazyFrame, headings: list[str], name: str, as_they_are: bool) -> StreamingHttpResponse:
    """All the rows as a CSV file, sent piece by piece; texts as they are only if that is asked for."""
    pieces = iterate_csv(rows, headings, guarded=not as_they_are)
    return send_as_file(StreamingHttpResponse(pieces, content_type="text/csv; charset=utf-8"), name)

"""What narrows the rows: one class for each kind of filter, each with its expression and its words."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated

import polars as pl
from pydantic import Field, TypeAdapter

from veduta.core.data.fields import Schema
from veduta.core.query.filters.base import Condition, Context
from veduta.core.query.filters.dates import EVER, DatesFilter, RelativeFilter, describe_dates
from veduta.core.query.filters.groups import MeasureFilter, MembershipFilter
from veduta.core.query.filters.marks import PointsFilter
from veduta.core.query.filters.rows import EmptyFilter, ListFilter, MembersFilter, RangeFilter, TextFilter, ValuesFilter
from veduta.core.query.filters.words import Value, convert_point_value, describe_value, group_heading, label_grouping

__all__ = [
    "EVER",
    "Context",
    "DatesFilter",
    "EmptyFilter",
    "Filter",
    "ListFilter",
    "MeasureFilter",
    "MembersFilter",
    "MembershipFilter",
    "PointsFilter",
    "RangeFilter",
    "RelativeFilter",
    "TextFilter",
    "Value",
    "ValuesFilter",
    "convert_point_value",
    "describe_dates",
    "describe_value",
    "filter_adapter",
    "group_heading",
    "label_grouping",
    "narrow",
]

if TYPE_CHECKING:
    Filter = Condition
else:
    Filter = Annotated[
        ListFilter
        | RangeFilter
        | DatesFilter
        | RelativeFilter
        | TextFilter
        | EmptyFilter
        | PointsFilter
        | MeasureFilter
        | MembershipFilter,
        Field(discriminator="kind"),
    ]
MembershipFilter.model_rebuild(_types_namespace={"Filter": Filter})
PointsFilter.model_rebuild(_types_namespace={"Filter": Filter})
filter_adapter: TypeAdapter[Filter] = TypeAdapter(Filter)


def narrow(rows: pl.LazyFrame, filters: tuple[Filter, ...], schema: Schema, context: Context) -> pl.LazyFrame:
    """The rows that pass all filters; columns and order stay."""
    return rows.filter([filter_.build_expression(schema, context) for filter_ in filters]) if filters else rows

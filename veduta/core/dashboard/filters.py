"""Filters of a dashboard that readers do not set: they narrow it as a chart's own filters narrow the chart."""

from __future__ import annotations

from pydantic import Field

from veduta.core.dashboard.controls import IDENTIFIER, Fields
from veduta.core.dashboard.scope import EVERYWHERE, BlockScope
from veduta.core.data.fields import Frozen, Schema
from veduta.core.query.filters import Filter


class DashboardFilter(Frozen):
    """A filter on the fields of a dataset.

    It is said in the trail, or only where it is explained how a block is worked out (`in_trail`). `fields` say by which
    field of theirs other datasets follow."""

    id: str = Field(pattern=IDENTIFIER)
    dataset: str
    filter: Filter
    in_trail: bool = True
    scope: BlockScope = EVERYWHERE
    fields: Fields = {}

    def describe(self, schema: Schema) -> str:
        return self.filter.describe(schema)

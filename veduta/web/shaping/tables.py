"""Datasets as the flows that steps read."""

from __future__ import annotations

import uuid
from dataclasses import asdict
from typing import Any

from django.conf import settings
from django.utils import timezone

from veduta.core.data.fields import DataField, DataType, Schema
from veduta.core.data.sources import DatasetSource
from veduta.core.errors import VedutaError
from veduta.core.query.filters import Context
from veduta.core.shaping.flow import Flow, Run, StepReport
from veduta.web.accounts.models import User
from veduta.web.datasets.models import Dataset, Version
from veduta.web.datasets.row_access import must_see_all
from veduta.web.datasets.store import get_table


class ShapingTables:
    """Datasets as the flows that steps read: each at the version it has when it is first asked for.

    For a `reader` those are refused of which they may see only some rows; None is Veduta itself."""

    def __init__(self, reader: User | None = None) -> None:
        self.reader = reader
        self.used: dict[str, int] = {}
        self._flows: dict[str, Flow] = {}

    def run(self) -> Run:
        return Run(self.table, Context(timezone.localdate()), name_of_dataset, settings.MOST_ROWS)

    def table(self, dataset_id: str) -> Flow:
        """A dataset's rows. Raises VedutaError if it is gone or has none."""
        if dataset_id not in self._flows:
            dataset = Dataset.objects.select_related("current").filter(pk=_parse_uuid(dataset_id)).first()
            if dataset is None:
                raise VedutaError("A dataset that a step uses is gone.", hint="Choose another one in the step.")
            must_see_all(self.reader, dataset, "use it in steps")
            self._flows[dataset_id] = make_flow(dataset.current_key(), dataset.schema)
            self.used[dataset_id] = dataset.current_key()
        return self._flows[dataset_id]

    def source(self, dataset: Dataset, intake: Version | None, taken: list[DataField]) -> Flow:
        """The rows that a dataset's steps start from."""
        must_see_all(self.reader, dataset, "look at the rows that its steps start from")
        origin = dataset.origin
        if isinstance(origin, DatasetSource):
            return self._find_taken(origin.dataset) if origin.stage == "taken" else self.table(origin.dataset)
        if intake is None:
            raise VedutaError(f"“{dataset.name}” has no rows yet.", hint="Bring in a file first.")
        return make_taken_flow(intake, taken)

    def _find_taken(self, dataset_id: str) -> Flow:
        """The rows another dataset's own steps start from (for a duplicate with other steps)."""
        dataset = Dataset.objects.select_related("current__intake").filter(pk=dataset_id, deleted_at=None).first()
        if dataset is None or not dataset.current:
            raise VedutaError("The dataset this one is made from is gone or has no rows.")
        self.used[dataset_id] = dataset.current_key()
        return self.source(dataset, dataset.intake, dataset.all_taken_fields)


def _parse_uuid(text: str) -> str:
    try:
        return str(uuid.UUID(str(text)))
    except ValueError:
        raise VedutaError("No dataset is chosen yet.", hint="Choose one.") from None


def make_flow(version: int, schema: Schema) -> Flow:
    return Flow(get_table(version).scan([field.id for field in schema]), schema)


def make_taken_flow(intake: Version, taken: list[DataField]) -> Flow:
    """A version's rows as they were taken in, with the kinds they were stored as."""
    fields, gone = [], {}
    for field in taken:
        if kind := intake.kinds.get(field.id):
            fields.append(field if field.kind == kind else field.model_copy(update={"kind": DataType(kind)}))
        else:
            gone[field.id] = field.name
    return make_flow(intake.pk, Schema(fields, gone))


def name_of_dataset(dataset_id: str) -> str:
    try:
        return Dataset.objects.values_list("name", flat=True).get(pk=_parse_uuid(dataset_id))
    except (Dataset.DoesNotExist, VedutaError):
        return "a dataset that is gone"


def report_data(report: StepReport) -> dict[str, Any]:
    data = asdict(report)
    data["failures"] = {
        name: {"count": f["count"], "examples": f["examples"][:100]} for name, f in data["failures"].items()
    }
    return data

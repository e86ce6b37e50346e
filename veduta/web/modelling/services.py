"""A dataset's model as the core needs it.

The joined tables' rows, the rules of the reader, and the parameters' values."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import replace
from typing import Any

from django.utils import timezone

from veduta.core.cache import Cache
from veduta.core.data.fields import DataField
from veduta.core.errors import RowAccessDenied, VedutaError
from veduta.core.model.definition import ModelTable
from veduta.core.model.model import Model
from veduta.core.model.tables import DatasetTable
from veduta.core.query.answer import make_context
from veduta.core.query.filters import Context
from veduta.web.accounts.models import User
from veduta.web.datasets.dataset_cache import get_datasets
from veduta.web.datasets.models import Dataset
from veduta.web.datasets.row_access import make_security_context, must_be_released
from veduta.web.datasets.store import get_table

models: Cache[Model] = Cache(50)


def load_joined_datasets(tables: Iterable[ModelTable]) -> dict[str, Dataset]:
    """The datasets of joined tables by the tables' ids, without those that are gone or have no rows."""
    wanted = {table.id: table.dataset for table in tables}
    if not wanted:
        return {}
    there = {
        key: each for key, each in get_datasets(wanted.values()).items() if not each.deleted_at and each.current_id
    }
    return {table: there[dataset] for table, dataset in wanted.items() if dataset in there}


def load_whole_model(dataset: Dataset) -> Model:
    """The dataset's saved model over the current versions, for nobody in particular.

    It is cached until one of its datasets changes. Raises VedutaError if it has no rows."""
    if dataset.deleted_at or dataset.current_id is None:
        return build_model(dataset)  # which says why not
    joined = [table["dataset"] for table in dataset.model.get("tables", ())]
    stamps = (
        Dataset.objects.filter(pk__in=joined).values_list("pk", "current_id", "updated_at", "deleted_at")
        if joined
        else ()
    )
    key = (str(dataset.pk), dataset.current_id, dataset.updated_at, tuple(sorted(map(str, stamps))))
    return models.get(key, lambda: build_model(dataset, key))


def build_model(dataset: Dataset, key: Any = None) -> Model:
    """The model as the dataset has it now, saved or not; answers are kept only with a `key`."""
    schema, definition = dataset.schema, dataset.model_definition
    joined = load_joined_datasets(definition.tables)
    tables: dict[str, tuple[DatasetTable, Iterable[DataField]]] = {
        "": (get_table(dataset.current_key()), schema.fields)
    }
    tables |= {name: (get_table(each.current_key()), each.schema.fields) for name, each in joined.items()}
    return Model(tables, definition, _describe_gone(schema.gone, joined), dataset.name, key)


def _describe_gone(gone: dict[str, str], joined: dict[str, Dataset]) -> dict[str, str]:
    """Names of fields that are missing, those of joined tables too."""
    all_gone = dict(gone)
    for name, other in joined.items():
        all_gone |= {f"{name}.{field}": said for field, said in other.schema.gone.items()}
    return all_gone


def load_model_for(
    dataset: Dataset, reader: User | None, values: dict[str, Any] | None = None, whole: Model | None = None
) -> Model:
    """The model as somebody may see it, with parameters set. `reader` None is Veduta itself, which sees all rows.

    `whole` is the dataset's model where it was loaded already. Raises VedutaError for values that parameters cannot
    have, and RowAccessDenied for rows that cannot be narrowed for the reader."""
    must_be_released(dataset, reader)
    model = whole or load_whole_model(dataset)
    bound = make_security_context(model.definition.rules, reader)
    joined = _load_joined_for(model, reader) if reader is not None else {}
    if joined:
        model = model.replace_tables(joined)
    return model.apply_reader(values or {}, bound) if bound.rules or values else model


def apply_values(model: Model, values: dict[str, Any]) -> Model:
    """A model that somebody sees with its parameters set. Raises VedutaError for values that parameters cannot have."""
    return model.apply_reader(values, model.reader) if values else model


def _load_joined_for(model: Model, reader: User) -> dict[str, Model]:
    """The joined tables of which a reader sees only what the rules of their own datasets let pass."""
    models = {}
    for table, dataset in load_joined_datasets(
        each for each in model.definition.tables if each.id in model.tables
    ).items():
        must_be_released(dataset, reader)
        if (
            dataset.model.get("rules")
            and (bound := make_security_context(dataset.model_definition.rules, reader)).rules
        ):
            models[table] = load_whole_model(dataset).apply_reader({}, bound)
    return models


@contextmanager
def check_rules_hold(dataset: Dataset) -> Iterator[None]:
    """Within it a dataset gets other rows.

    Raises RowAccessDenied, so that nothing changes, if a rule of its model or of one that joins it could not be applied
    to them."""
    before = _find_broken_around(dataset)
    yield
    for (name, rule), problem in _find_broken_around(dataset).items():
        if (name, rule) not in before:
            raise RowAccessDenied(
                f"With these rows the rule “{rule}” of “{name}” could not be applied, so they were not taken:"
                f" {problem}",
                hint="Mend the rows, or let a steward change the model or the rule first.",
            )


def list_datasets_around(dataset: Dataset) -> list[Dataset]:
    """A dataset and those in whose models it is joined, as they are now; none that was deleted or has no rows."""
    there = Dataset.objects.filter(deleted_at=None, current__isnull=False).select_related("current")
    return [
        other
        for other in there
        if str(dataset.pk) in (str(other.pk), *(str(table.get("dataset")) for table in other.model.get("tables", ())))
    ]


def _find_broken_around(dataset: Dataset) -> dict[tuple[str, str], str]:
    """The rules that cannot be applied, of the models that a dataset belongs to, with the reason."""
    broken: dict[tuple[str, str], str] = {}
    for other in list_datasets_around(dataset):
        if not other.model.get("rules"):
            continue
        try:
            broken |= {
                (other.name, rule): problem for rule, problem in build_model(other).ruling.list_broken_rules().items()
            }
        except VedutaError:
            continue  # a model that cannot be read lets nobody see anything
    return broken


def load_model_and_context(
    dataset: Dataset,
    reader: User | None,
    values: dict[str, Any] | None = None,
    stopped: Callable[[], bool] | None = None,
) -> tuple[Model, Context]:
    """The model for a reader, and the context of a question now; `stopped` tells whether it is not wanted any more."""
    model = load_model_for(dataset, reader, values)
    return model, make_current_context(model, stopped)


class OtherDatasets(Mapping[str, tuple[Model, Context]]):
    """All datasets by their ids, as a reader may see them. Looking one up raises VedutaError if it cannot be seen."""

    def __init__(self, reader: User | None) -> None:
        self._reader = reader
        self.was_read = False

    def __getitem__(self, key: str) -> tuple[Model, Context]:
        self.was_read = True
        dataset = get_datasets([key]).get(key)
        if dataset is None or dataset.deleted_at:
            raise VedutaError("Their dataset does not exist any more.")
        return load_model_and_context(dataset, self._reader)

    def __iter__(self) -> Iterator[str]:
        return (str(pk) for pk in Dataset.objects.filter(deleted_at=None).values_list("pk", flat=True))

    def __len__(self) -> int:
        return Dataset.objects.filter(deleted_at=None).count()


def make_current_context(model: Model, stopped: Callable[[], bool] | None = None) -> Context:
    """The context of a question to a model now."""
    return replace(make_context(model, timezone.localdate()), stopped=stopped)


def list_chart_fields(model: Model) -> list[dict[str, Any]]:
    """The fields that lists offer, in groups: by folder, or else by role or by table."""
    groups: dict[str, list[DataField]] = {"Dimensions": [], "Measures": []}
    for field in model.offered:
        usual = "Dimensions" if field.role == "dimension" else "Measures"
        groups.setdefault(field.folder or model.make_heading(field) or usual, []).append(field)
    return [{"name": name, "fields": fields} for name, fields in groups.items() if fields]

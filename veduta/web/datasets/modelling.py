"""A dataset's model as the core needs it: the joined tables' rows, the rules for whoever reads, parameters as they are set."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import replace
from typing import Any

from django.core.exceptions import ValidationError
from django.utils import timezone

from veduta.core.data.fields import Field, Kind
from veduta.core.formula.measures import Parameters, ParameterValue, parameters_in
from veduta.core.model.definition import ModelTable, RowRule
from veduta.core.model.model import Model
from veduta.core.query.answer import context_for
from veduta.core.query.filters import Context
from veduta.web.accounts.models import User
from veduta.web.datasets.models import Dataset
from veduta.web.datasets.store import table_of

MOST_KEPT = 50
_kept: OrderedDict[Any, Model] = OrderedDict()
_lock = threading.Lock()


def forget() -> None:
    """Drop all models kept in memory (for tests)."""
    with _lock:
        _kept.clear()


def joined_dataset(table: ModelTable) -> Dataset | None:
    """The dataset of a joined table, or None if it is gone or has no rows."""
    try:
        found = (
            Dataset.objects.select_related("current").defer("current__profiles", "current__failures").get(pk=table.dataset)
        )
    except (Dataset.DoesNotExist, ValidationError):
        return None
    return found if found.current and not found.deleted_at else None


def model_of(dataset: Dataset) -> Model:
    """The dataset's saved model over the current versions, for nobody in particular; it is kept until one of its datasets
    changes. Raises VedutaError if it has no rows."""
    if dataset.deleted_at or dataset.current_id is None:
        return built_model(dataset)  # which says why not
    joined = [table["dataset"] for table in dataset.model.get("tables", ())]
    stamps = (
        Dataset.objects.filter(pk__in=joined).values_list("pk", "current_id", "updated_at", "deleted_at") if joined else ()
    )
    key = (str(dataset.pk), dataset.current_id, dataset.updated_at, tuple(sorted(map(str, stamps))))
    with _lock:
        if key in _kept:
            _kept.move_to_end(key)
            return _kept[key]
    model = built_model(dataset, key)
    with _lock:
        _kept[key] = model
        while len(_kept) > MOST_KEPT:
            _kept.popitem(last=False)
    return model


def built_model(dataset: Dataset, key: Any = None) -> Model:
    """The model as the dataset has it now, saved or not; answers are kept only with a `key`."""
    schema, definition = dataset.schema, dataset.model_definition
    joined = {table.id: joined_dataset(table) for table in definition.tables}
    tables = {"": (table_of(dataset.current_id), schema.fields)}
    tables |= {name: (table_of(found.current_id), found.schema.fields) for name, found in joined.items() if found}
    return Model(tables, definition, _gone(dataset, schema.gone, joined), dataset.name, key)


def _gone(dataset: Dataset, gone: dict[str, str], joined: dict[str, Dataset | None]) -> dict[str, str]:
    """Names of fields that are missing, those of joined tables too."""
    found = dict(gone)
    for name, other in joined.items():
        if other:
            found |= {f"{name}.{field}": said for field, said in other.schema.gone.items()}
    return found


def model_for(dataset: Dataset, reader: User | None, values: dict[str, Any] | None = None) -> Model:
    """The model as somebody may see it, with parameters set. `reader` None is Veduta itself, which sees all rows.

    Raises VedutaError for values that parameters cannot have."""
    model = model_of(dataset)
    rules = rules_for(model.definition.rules, reader) if reader is not None else ()
    if not rules and not values:
        return model
    return model.given(values or {}, rules, person_values(reader, rules) if rules else None)


def rules_for(rules: tuple[RowRule, ...], reader: User) -> tuple[RowRule, ...]:
    """The rules that count for a person."""
    if not rules:
        return ()
    groups = set(reader.groups.values_list("name", flat=True))
    return tuple(rule for rule in rules if not rule.groups or groups & set(rule.groups))


def person_values(reader: User, rules: tuple[RowRule, ...]) -> Parameters:
    """The attributes of a person that rules ask for; what somebody does not have is empty, so that no row passes."""
    known: dict[str, Any] = {
        "name": reader.username, "email": reader.email, "role": reader.role,
        "groups": sorted(reader.groups.values_list("name", flat=True)), **reader.attributes,
    }  # fmt: skip
    wanted = {name for rule in rules for name in parameters_in(rule.text) if name.startswith("person_")}

    def values(name: str) -> tuple[str, ...]:
        found = known.get(name.removeprefix("person_"), ())
        return tuple(map(str, found)) if isinstance(found, list | tuple) else (str(found),)

    return {name: ParameterValue(Kind.TEXT, values(name)) for name in wanted}


def person_words(text: str) -> Parameters:
    """Attributes of a person that a rule asks for, set to nothing: enough to check it."""
    return {name: ParameterValue(Kind.TEXT, ()) for name in parameters_in(text) if name.startswith("person_")}


def parts_for(
    dataset: Dataset, reader: User | None, values: dict[str, Any] | None = None, stopped: Callable[[], bool] | None = None
) -> tuple[Model, Context]:  # fmt: skip
    """The model for a reader, and the context of a question now; `stopped` tells whether it is not wanted any more."""
    model = model_for(dataset, reader, values)
    return model, replace(context_for(model, model.schema, timezone.localdate()), stopped=stopped)


def chart_fields(model: Model) -> list[dict[str, Any]]:
    """The visible fields as lists show them: the first table's, then formulas by folder, then the other tables'."""
    groups: dict[str, list[Field]] = {"Dimensions": [], "Measures": []}

    def rank(field: Field) -> int:
        return 0 if not field.table else 1 if field.table == "formula" else 2

    for field in sorted(model.schema.visible, key=rank):
        usual = "Dimensions" if field.role == "dimension" else "Measures"
        table = "Formulas" if field.table == "formula" else model.table_name(field.table) if field.table else usual
        groups.setdefault(field.folder or table, []).append(field)
    return [{"name": name, "fields": fields} for name, fields in groups.items() if fields]

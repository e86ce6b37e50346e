"""Which values rules keep from somebody, wherever values are listed by the names of their fields."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from veduta.core.chart.value_colours import make_value_key
from veduta.core.data.fields import DataType
from veduta.core.errors import VedutaError
from veduta.core.model.model import Model
from veduta.web.accounts.models import User
from veduta.web.datasets.models import Dataset
from veduta.web.datasets.row_access import is_bound
from veduta.web.modelling.services import load_model_for, load_whole_model
from veduta.web.palettes import services as colours


def find_hidden_values(user: User, names: Sequence[str]) -> frozenset[str | None]:
    """The values of fields of these names that somebody sees in no dataset, because rules keep them from them."""
    if user.is_steward:
        return frozenset()
    wanted = {name.casefold() for name in names}
    there: set[Any] = set()
    seen: set[Any] = set()
    for dataset in Dataset.objects.filter(deleted_at=None, current__isnull=False).select_related("current"):
        if not any(field.name.casefold() in wanted for field in dataset.all_fields):
            continue
        values = _list_values(load_whole_model(dataset), wanted)
        there |= values
        seen |= values if not is_bound(dataset, user) else _find_values_for(dataset, user, wanted)
    return frozenset(make_value_key(value) for value in there - seen)


def _find_values_for(dataset: Dataset, user: User, names: set[str]) -> set[Any]:
    """The values that somebody whom rules bind sees; none where they may see nothing."""
    try:
        return _list_values(load_model_for(dataset, user), names)
    except VedutaError:
        return set()


def _list_values(model: Model, names: set[str]) -> set[Any]:
    """The texts that a model's own fields of these names hold."""
    fields = [f for f in model.schema if not f.table and f.kind is DataType.TEXT and f.name.casefold() in names]
    found: set[Any] = set()
    for field in fields:
        known = model.get_facts(field.id).values
        if known is None:
            known = tuple(model.scan([field.id], "").collect()[field.id].drop_nulls().unique())
        found |= set(known)
    return found


colours.keeps_from.append(find_hidden_values)

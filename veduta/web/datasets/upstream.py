"""What is made from what: datasets from datasets."""

from __future__ import annotations

from collections.abc import Iterable

from veduta.core.errors import DefinitionProblem, VedutaError
from veduta.web.datasets.models import Dataset


def list_sources(dataset: Dataset) -> set[str]:
    """The ids of the datasets that a dataset's rows come from directly, by its source and its steps."""
    try:
        keys = dataset.shaping.list_datasets()
    except VedutaError:
        keys = set()
    return keys | ({dataset.source_id} if dataset.source_id else set())


def map_all_sources() -> dict[str, set[str]]:
    """For each dataset that is not deleted the ids of its sources."""
    return {str(dataset.pk): list_sources(dataset) for dataset in Dataset.objects.filter(deleted_at=None)}


def list_all_sources(dataset: Dataset) -> set[str]:
    """The ids of the datasets that a dataset is made from, near or far."""
    sources, reached = map_all_sources(), set[str]()
    more = list_sources(dataset)
    while more:
        reached |= more
        more = set[str]().union(*(sources.get(key, set()) for key in more)) - reached
    return reached


def list_followers(dataset: Dataset) -> list[str]:
    """The ids of all datasets made from this one, near or far, each after all those it is made from."""
    sources = map_all_sources()
    reached = {str(dataset.pk)}
    while more := {key for key, its in sources.items() if its & reached} - reached:
        reached |= more
    waiting, done, order = reached - {str(dataset.pk)}, {str(dataset.pk)}, []
    while waiting:
        ready = sorted(key for key in waiting if not (sources[key] & waiting - {key}))
        if not ready:
            break  # a cycle, which cannot be saved; what is in it is left as it is
        order += ready
        waiting -= set(ready)
        done |= set(ready)
    return order


def must_not_go_round(dataset: Dataset | None, wanted: Iterable[str]) -> None:
    """Refuse sources that are themselves made from the dataset. Raises DefinitionProblem naming one."""
    if dataset is None:
        return
    circle = set(wanted) & {str(dataset.pk), *list_followers(dataset)}
    if circle:
        name = Dataset.objects.get(pk=min(circle)).name
        raise DefinitionProblem(
            f"“{name}” is itself made from “{dataset.name}”, so it cannot be a part of it.",
            hint="Choose another dataset.",
        )

"""Whom rules bind: who may see only some rows of a dataset, and what that keeps from them besides charts."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from veduta.core.data.fields import DataType
from veduta.core.errors import RowAccessDenied, VedutaError
from veduta.core.formula.measures import ParameterValue, list_parameters
from veduta.core.model.definition import RowRule
from veduta.core.model.row_level_security import EVERYBODY, SecurityContext
from veduta.web.accounts.models import User
from veduta.web.datasets.dataset_cache import get_datasets
from veduta.web.datasets.models import Dataset
from veduta.web.datasets.upstream import list_sources


def make_security_context(rules: tuple[RowRule, ...], person: User | None) -> SecurityContext:
    """Somebody as a model with these rules knows them; None is Veduta itself, which sees all rows."""
    if person is None or not rules:
        return EVERYBODY
    known = collect_attributes(person)
    groups = set(known["groups"])
    binding = tuple(rule for rule in rules if not rule.groups or groups & set(rule.groups))
    read = {rule.name: _list_attributes(rule) for rule in binding}
    values = {name: known.get(name.removeprefix("person_"), ()) for name in set().union(*read.values())}
    return SecurityContext(
        rules=binding,
        person=tuple((name, ParameterValue(DataType.TEXT, values[name])) for name in sorted(values)),
        lacking=frozenset(rule for rule, names in read.items() if not all(values[name] for name in names)),
        is_steward=person.is_steward,
    )


def collect_attributes(person: User) -> dict[str, tuple[str, ...]]:
    """What is said of somebody, each of some texts: the groups, what an account has, and what stewards have added."""
    known: dict[str, Any] = {
        "name": person.username,
        "email": person.email,
        "role": person.role,
        "groups": sorted(person.groups.values_list("name", flat=True)),
        **person.attributes,
    }
    return {name: _split_texts(value) for name, value in known.items()}


def _list_attributes(rule: RowRule) -> set[str]:
    return {name for name in list_parameters(rule.text) if name.startswith("person_")}


def _split_texts(value: Any) -> tuple[str, ...]:
    """An attribute's texts; none if it is missing or blank."""
    values = value if isinstance(value, list | tuple) else [] if value is None else [value]
    return tuple(text for text in map(str, values) if text.strip())


def is_bound(dataset: Dataset, person: User) -> bool:
    """Whether somebody may see only some rows of a dataset, or of what it is made from.

    A model that cannot be read binds."""
    if person.is_steward:
        return False
    try:
        if make_security_context(dataset.model_definition.rules, person).rules:
            return True
    except VedutaError:
        return True
    return find_restricting_source(dataset, person) is not None


def find_restricting_source(dataset: Dataset, person: User) -> Dataset | None:
    """A dataset upstream of this one of which somebody may see only some rows.

    Its rows are mixed with others here, so that rules cannot hold. None if there is none, or if a steward has released
    this one."""
    if dataset.released or person.is_steward:
        return None
    sources = _iterate_sources(dataset, beyond_released=False)
    return next(
        (source for source in sources if make_security_context(source.model_definition.rules, person).rules), None
    )


def is_made_from_ruled(dataset: Dataset) -> bool:
    """Whether a dataset is made, near or far, from one whose rules narrow it for somebody."""
    return any(source.model.get("rules") for source in _iterate_sources(dataset))


def _iterate_sources(dataset: Dataset, beyond_released: bool = True) -> Iterator[Dataset]:
    """The datasets that one is made from, near and far, each once; unless told so, not those behind a released one."""
    waiting, seen = list(list_sources(dataset)), set()
    while waiting:
        key = str(waiting.pop())
        source = get_datasets([key]).get(key)
        if source is None or source.pk in seen:
            continue
        seen.add(source.pk)
        yield source
        if beyond_released or not source.released:
            waiting += list_sources(source)


def must_be_released(dataset: Dataset, person: User | None) -> None:
    """Raises RowAccessDenied if the dataset is made from one of which somebody may see only some rows."""
    if person is not None and (source := find_restricting_source(dataset, person)):
        raise RowAccessDenied(
            f"“{dataset.name}” is made from “{source.name}”, of which you may see only some rows.",
            hint="A steward can release it for you on its page.",
        )


def must_see_all(person: User | None, dataset: Dataset, what: str) -> None:
    """Refuses somebody who may see only some rows of a dataset.

    `what` they want to do shows or uses all of them. Raises RowAccessDenied."""
    if person is not None and is_bound(dataset, person):
        raise RowAccessDenied(
            f"You may see only some rows of “{dataset.name}”, so you cannot {what}.", hint="Ask a steward."
        )

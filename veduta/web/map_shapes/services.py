"""Every change to shapes, each with its permission check, and which fields name areas of them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Any

from veduta.core.data.fields import DataField, DataType
from veduta.core.errors import FileProblem, RowAccessDenied, VedutaError
from veduta.core.geography.matching import MatchedNames, find_likely, match_names
from veduta.core.geography.shapes import LARGEST, Shapes, read_shapes
from veduta.core.phrases import join_names
from veduta.web.accounts.access import must_build
from veduta.web.accounts.models import User
from veduta.web.catalogue.services import update_field
from veduta.web.datasets.models import Dataset, ShapeSet
from veduta.web.datasets.shape_store import load_shapes, pack_shapes, unpack_shapes
from veduta.web.modelling.services import load_model_for

MOST_NAMES = 5_000
FIELDS_LOOKED_AT = 60
LIKELY = 0.5
"""The share of a field's values that name areas from which on it is offered for them."""


@dataclass(frozen=True)
class NameMatch:
    """A field whose values name areas, and which of them do."""

    dataset: Dataset
    field: DataField
    matched: MatchedNames
    offers: tuple[tuple[str, str], ...] = ()
    """Names that mean no area, each with the one that it is most like, or ""."""

    @property
    def names(self) -> int:
        return len(self.matched.areas) + len(self.matched.unmatched)

    @property
    def unused_words(self) -> str:
        return join_names(self.matched.unused, "or", most=12)


def receive_shapes(user: User, stream: Any, length: int, file_name: str) -> ShapeSet:
    """Take a file of shapes. Raises FileProblem if it is none, too large or breaks off; nothing is kept then."""
    must_build(user)
    if length > LARGEST:
        raise FileProblem(
            f"The file is larger than {LARGEST // 1024 // 1024} MB.", hint="Simplify the outlines, or split the file."
        )
    data = stream.read(length)
    if len(data) < length:
        raise FileProblem("The upload broke off before its end.", hint="Upload the file again.")
    read = read_shapes(data)
    file_name = re.sub(r"[\x00-\x1f/\\]", "_", file_name).strip()[-200:] or "Unnamed file"
    name = re.sub(r"[_-]+", " ", file_name.rsplit(".", 1)[0]).strip().capitalize() or "Shapes"
    shape_set = ShapeSet(name=name, file_name=file_name, notes=read.notes, key=read.names[0], created_by=user)
    shape_set.content = pack_shapes(read)
    shape_set.save()
    return shape_set


def change_shapes(user: User, shape_set: ShapeSet, name: str, key: str) -> None:
    """Raises VedutaError for a property that no shape has."""
    must_build(user)
    if key not in unpack_shapes(shape_set).names:
        raise VedutaError("The shapes have no such property.", hint="Choose one from the list.")
    shape_set.name = name.strip()[:200] or shape_set.name
    shape_set.key = key
    shape_set.save()


def save_spellings(user: User, shape_set: ShapeSet, spellings: dict[str, str]) -> None:
    """Say which areas names mean that are spelt otherwise; an empty one means none any more."""
    must_build(user)
    keys = set(load_shapes(shape_set).keys)
    aliases = shape_set.aliases | {name: key for name, key in spellings.items() if not key or key in keys}
    shape_set.aliases = {name: key for name, key in aliases.items() if key}
    shape_set.save()


def use_for(user: User, shape_set: ShapeSet, dataset: Dataset, field_id: str, used: bool) -> None:
    """Say that a field's values name these areas, or no longer. Raises VedutaError for a field that is gone."""
    update_field(user, dataset, field_id, {"shapes": str(shape_set.pk) if used else ""})


def delete_shapes(user: User, shape_set: ShapeSet) -> None:
    """Raises VedutaError while fields name areas of them."""
    must_build(user)
    if users := [f"{field.name} of “{dataset.name}”" for dataset, field in _list_using(shape_set)]:
        raise VedutaError(
            f"“{shape_set.name}” is still used by {', '.join(users[:3])}.",
            hint="Take it away there first; maps would lose their shapes.",
        )
    shape_set.delete()


def _iterate_text_fields() -> Iterator[tuple[Dataset, DataField]]:
    """All columns of text, with their datasets."""
    for dataset in Dataset.objects.filter(deleted_at=None).exclude(current=None).select_related("current"):
        for field in dataset.schema:
            if field.kind is DataType.TEXT:
                yield dataset, field


def _list_using(shape_set: ShapeSet) -> list[tuple[Dataset, DataField]]:
    return [(dataset, field) for dataset, field in _iterate_text_fields() if field.shapes == str(shape_set.pk)]


def list_name_matches(user: User, shape_set: ShapeSet, shapes: Shapes) -> list[NameMatch]:
    """The fields that name areas of these shapes, with what is unmatched and what that could mean."""
    found = []
    for dataset, field in _list_using(shape_set):
        names = _list_names(user, dataset, field)
        if names is not None:
            match = match_names(names, shapes)
            offers = tuple((name, find_likely(name, match.unused)) for name in match.unmatched[:100])
            found.append(NameMatch(dataset, field, match, offers))
    return found


def list_offered(user: User, shapes: Shapes) -> list[NameMatch]:
    """Fields, not used for these shapes yet, whose values look like names of their areas, the best first."""
    found = []
    for dataset, field in list(_iterate_free_fields())[:FIELDS_LOOKED_AT]:
        names = _list_names(user, dataset, field)
        match = match_names(names or (), shapes)
        if names and match.share >= LIKELY:
            found.append(NameMatch(dataset, field, match))
    return sorted(found, key=lambda each: -each.matched.share)


def _iterate_free_fields() -> Iterator[tuple[Dataset, DataField]]:
    """Text fields without shapes, those of few values first."""
    free = [
        (dataset.current.profile(field.id).distinct, dataset, field)
        for dataset, field in _iterate_text_fields()
        if not field.shapes and not field.hidden and dataset.current
    ]
    return ((dataset, field) for _, dataset, field in sorted(free, key=lambda each: each[0]))


def _list_names(user: User, dataset: Dataset, field: DataField) -> list[str] | None:
    """A field's values as somebody may see them; None if there are too many, or they may see none."""
    try:
        model = load_model_for(dataset, user)
        facts = model.get_facts(field.id)
    except (RowAccessDenied, VedutaError):
        return None
    if facts.distinct > MOST_NAMES:
        return None
    if facts.values is not None:
        return [str(value) for value in facts.values]
    values: Iterable[Any] = model.scan([field.id]).collect()[field.id].drop_nulls().unique().sort()
    return list(values)

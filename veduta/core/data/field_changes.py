"""Fields as people change them, and as newer rows or other steps change them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from itertools import count
from typing import Any

from veduta.core.data.fields import Aggregate, DataField, DataType, FieldRole, NumberFormat, list_aggregates
from veduta.core.data.recognise import recognise_field
from veduta.core.errors import VedutaError


def change_field(field: DataField, changes: dict[str, Any], values: Sequence[str] = ()) -> DataField:
    """The field with changes; a new kind gets the reading, role, aggregate and format that suit it.

    Raises VedutaError for a change that does not fit.
    """
    try:
        return _change_field(field, changes, values)
    except (ValueError, AttributeError, TypeError):
        raise VedutaError("That setting does not fit the column.", hint="Choose one from the list.") from None


def _change_field(field: DataField, changes: dict[str, Any], values: Sequence[str]) -> DataField:
    new = dict(changes)
    if "name" in new:
        new["name"] = new["name"].strip()[:200] or field.name
    if "kind" in new and DataType(new["kind"]) is not field.kind:
        suiting = _suit_field(field, DataType(new["kind"]), values)
        new |= suiting | {"role": new.get("role", suiting["role"])}
    if isinstance(new.get("synonyms"), str):
        new["synonyms"] = [word.strip()[:100] for word in new["synonyms"].split(",") if word.strip()][:20]
    _change_reading(field, new)
    kind = DataType(new.get("kind", field.kind))
    if new.get("role") == FieldRole.MEASURE and "aggregate" not in new and field.role is not FieldRole.MEASURE:
        new["aggregate"] = list_aggregates(kind)[0]
    if "aggregate" in new and Aggregate(new["aggregate"]) not in list_aggregates(kind):
        raise VedutaError(f"{kind.words.capitalize()} values have no {Aggregate(new['aggregate']).words}.")
    return DataField.model_validate({**field.model_dump(), **new})


def _suit_field(field: DataField, kind: DataType, values: Sequence[str]) -> dict[str, Any]:
    """The reading, role, aggregate and format that suit a field's new kind."""
    alone = recognise_field(field.id, field.source, field.name, list(values)).field
    alike = alone.kind == kind or (alone.kind.is_number and kind.is_number) or (alone.kind.is_date and kind.is_date)
    role = FieldRole.MEASURE if kind.is_number else FieldRole.DIMENSION
    settings = {
        "reading": (alone.reading if alike else field.reading).model_dump(),
        "role": role,
        "aggregate": alone.aggregate if alone.kind == kind and role is alone.role else list_aggregates(kind)[0],
    }
    return settings if kind.is_number else settings | {"format": NumberFormat().model_dump()}


def _change_reading(field: DataField, new: dict[str, Any]) -> None:
    """Puts the order of dates, the decimal sign, and the words for empty and for rows left out into its reading."""
    if "order" in new or "decimal" in new:
        reading = field.reading.model_dump()
        if order := new.pop("order", ""):
            reading |= {"order": order, "formats": _order_formats(field.reading.formats, order)}
        if decimal := new.pop("decimal", ""):
            reading |= {"decimal": decimal, "thousands": "." if decimal == "," else ","}
        new["reading"] = reading
    for key, part in (("empty_words", "empties"), ("left_out", "left_out")):
        if key in new:
            words = [str(word).strip().lower()[:100] for word in new.pop(key)]
            new["reading"] = {**(new.get("reading") or field.reading.model_dump()), part: words}


def _order_formats(formats: tuple[str, ...], order: str) -> list[str]:
    """The date patterns with day and month exchanged where they do not follow the order."""
    swapped = str.maketrans({"d": "m", "m": "d"})
    wrong = "%m" if order == "dmy" else "%d"
    return [
        form[:2].translate(swapped) + form[2:3] + form[3:5].translate(swapped) + form[5:]
        if form.startswith(wrong)
        else form
        for form in formats
    ]


def match_fields(
    arrived: Iterable[DataField], known: Sequence[DataField], keep: Callable[[DataField, DataField], DataField]
) -> list[DataField]:
    """Recognised columns matched by heading with those known before.

    `keep(old, new)` is what a known one becomes. New ones get ids that no known one has had."""
    by_source = {field.source: field for field in known}
    ids = (f"c{number}" for number in count(1 + max((int(field.id[1:]) for field in known), default=0)))
    return [
        keep(by_source[field.source], field)
        if field.source in by_source
        else field.model_copy(update={"id": next(ids)})
        for field in arrived
    ]


def inherit_settings(old: DataField, new: DataField) -> DataField:
    """A column of newer rows that replaces the one of its heading.

    It keeps the id, the name, and the settings that the values still allow. Years and other periods that were numbers
    or texts stay such."""
    settings: dict[str, Any] = {
        "id": old.id,
        "name": old.name,
        "description": old.description,
        "hidden": old.hidden,
        "reading": new.reading.model_copy(update={"left_out": old.reading.left_out}),
    }
    is_alike = old.kind == new.kind or (old.kind is DataType.DECIMAL and new.kind is DataType.WHOLE)
    if is_alike or old.kind is DataType.TEXT or (old.kind.is_number and new.reading.period):
        settings |= {"kind": old.kind, "role": old.role, "aggregate": old.aggregate, "format": old.format}
    return new.model_copy(update=settings)


def merge_fields(old: list[DataField], new: list[DataField]) -> list[DataField]:
    """The fields the steps gave, with what people set on the dataset's page; fields that are gone come last.

    A column whose name, kind or role the steps changed takes theirs."""
    known = {field.id: field for field in old}
    merged = []
    for field in new:
        was = known.get(field.id)
        if was and was.source == field.source and was.kind == field.kind:
            field = was
        elif was and was.source == field.source:
            field = field.model_copy(update={"name": was.name, "description": was.description, "hidden": was.hidden})
        merged.append(field)
    ids = {field.id for field in new}
    return [*merged, *(field for field in old if field.id not in ids)]

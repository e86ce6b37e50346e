"""Definitions over other fields, and without some of theirs."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Any, Final, TypeVar

from veduta.core.calendar import Grouping
from veduta.core.chart.conditional import ConditionalFormat
from veduta.core.chart.definition import ChartDefinition, Layer, ReferenceMark
from veduta.core.chart.look import ColumnLook, DateLook, LabelLook, SeriesLook, ValueLook, WholeLook
from veduta.core.chart.palettes import OWN, Paints
from veduta.core.chart.text_placeholders import PLACE
from veduta.core.data.fields import Frozen
from veduta.core.formula.measures import list_formula_fields, replace_ids
from veduta.core.query.measures import Measure

Part = TypeVar("Part")
FORMULAS: Final[dict[type[Frozen], str]] = {
    Measure: "formula",
    Layer: "test",
    ReferenceMark: "formula",
    ConditionalFormat: "formula",
    ChartDefinition: "aligned",
}
"""What in a part is a formula."""
TEXTS: Final = ("title", "note")
"""What in a definition has formulas in it."""


COLOURS: Final[dict[type[Frozen], tuple[str, ...]]] = {
    Layer: ("colour", "other"),
    ReferenceMark: ("colour",),
    ConditionalFormat: ("colour", "ground"),
    ColumnLook: ("low_colour", "middle_colour", "high_colour"),
    SeriesLook: ("colour",),
    LabelLook: ("colour",),
    WholeLook: ("ground", "border"),
}
"""What in a part is a colour."""


def rewrite_everywhere(part: Part, change: Callable[[Any], Any]) -> Part:
    """A definition, or a part of one, in which every part is changed, the innermost first."""
    if isinstance(part, tuple):
        return tuple(rewrite_everywhere(each, change) for each in part)  # type: ignore[return-value]
    if not isinstance(part, Frozen):
        return part
    inner = {name: rewrite_everywhere(value, change) for name, value in part}
    changed = {name: value for name, value in inner.items() if value != getattr(part, name)}
    made: Part = change(part.model_copy(update=changed) if changed else part)
    return made


def with_palette(definition: ChartDefinition, paints: Paints) -> ChartDefinition:
    """A definition in which series colours, by their numbers, are those of a workspace's palettes."""
    if paints.series == OWN.series:
        return definition

    def change(part: Any) -> Any:
        named = {name: getattr(part, name) for name in COLOURS.get(type(part), ())}
        changed = {name: paints.get_colour(colour) for name, colour in named.items() if colour.isdecimal()}
        return part.model_copy(update=changed) if changed else part

    return rewrite_everywhere(definition, change)


def replace_fields(part: Any, others: Mapping[str, str]) -> Any:
    """A part by itself over other fields, by the ids of those that it names."""
    changes: dict[str, Any] = {}
    if isinstance(part, Grouping | Measure) and (other := others.get(part.field or "")):
        changes["field"] = other
    if isinstance(part, DateLook | ValueLook):
        field, _, grain = part.field.partition(" ")
        changes["field"] = f"{others.get(field, field)} {grain}"
    name = FORMULAS.get(type(part), "")
    if name and getattr(part, name):
        changes[name] = replace_ids(getattr(part, name), others)
    if isinstance(part, ChartDefinition):
        changes |= {each: _replace_fields_in_text(getattr(part, each), others) for each in TEXTS}
    return part.model_copy(update=changes) if changes else part


def _replace_fields_in_text(text: str, others: Mapping[str, str]) -> str:
    return PLACE.sub(
        lambda found: "{=" + replace_ids(found[1][1:], others) + "}" if (found[1] or "").startswith("=") else found[0],
        text,
    )


def find_named_fields(part: Any) -> dict[str, None]:
    """The ids of the fields that a definition, or a part of one, names, in order of first mention.

    Filters and lists of colours are not looked at."""
    return dict.fromkeys(_iterate_names(part))


def _iterate_names(part: Any) -> Iterator[str]:
    if isinstance(part, tuple):
        for each in part:
            yield from _iterate_names(each)
    if not isinstance(part, Frozen):
        return
    if isinstance(part, Grouping | Measure) and part.field:
        yield part.field
    if formula := getattr(part, FORMULAS.get(type(part), ""), ""):
        yield from sorted(list_formula_fields(formula))
    if isinstance(part, ChartDefinition):
        for text in TEXTS:
            for found in PLACE.finditer(getattr(part, text)):
                yield from sorted(list_formula_fields((found[1] or "")[1:]))
    for _, value in part:
        yield from _iterate_names(value)


def drop_fields(definition: ChartDefinition, gone: set[str]) -> ChartDefinition:
    """A definition without what names any of these fields: its dimensions, measures, formulas and the rest."""

    def stays(part: Any) -> bool:
        return not gone.intersection(find_named_fields(part))

    def kept(parts: tuple[Any, ...]) -> tuple[Any, ...]:
        return tuple(part for part in parts if stays(part))

    shown = [index for index, measure in enumerate(definition.show) if stays(measure)]
    if len(shown) < len(definition.show):
        now = [shown.index(i) if i in shown else None for i in range(len(definition.show))]
        definition = renumber_measures(definition, now)
    panels = definition.panels
    panels_by = kept(panels.by) if panels else ()
    look = definition.look
    columns = tuple(each if stays(each) else each.model_copy(update={"trend": None}) for each in look.columns)
    by = kept(definition.by)
    keep = definition.keep if definition.keep and by and stays(definition.keep) else None
    changes: dict[str, Any] = {
        "show": kept(definition.show),
        "by": by,
        "split": definition.split if definition.split and stays(definition.split) else None,
        "panels": panels.model_copy(update={"by": panels_by}) if panels and panels_by else None,
        "keep": keep,
        "sort": definition.sort if definition.sort and stays(definition.sort) else None,
        "layers": tuple(_drop_test(layer, stays) for layer in definition.layers),
        "references": kept(definition.references),
        "conditional": kept(definition.conditional),
        "aligned": "" if gone & list_formula_fields(definition.aligned) else definition.aligned,
        "look": look.model_copy(
            update={
                "columns": columns,
                "dates": tuple(each for each in look.dates if each.field.partition(" ")[0] not in gone),
            }
        ),
    }
    changes |= {name: _drop_from_text(getattr(definition, name), gone) for name in TEXTS}
    return definition.model_copy(update=changes)


def _drop_test(layer: Layer, stays: Callable[[Any], bool]) -> Layer:
    if layer.shade and not stays(layer.shade):
        layer = layer.model_copy(update={"shade": None})
    return layer if stays(layer) else layer.model_copy(update={"test": ""})


def _drop_from_text(text: str, gone: set[str]) -> str:
    return PLACE.sub(lambda found: "…" if gone & list_formula_fields((found[1] or "")[1:]) else found[0], text)


def renumber_measures(definition: ChartDefinition, now: list[int | None]) -> ChartDefinition:
    """Layers, references and looks moved with their measures.

    `now` gives each measure's new position by its old one; those of measures that are gone are dropped."""
    layers, references = [], []
    for layer in definition.layers:
        measures = [now[i] for i in layer.measures if i < len(now)]
        if None not in measures:
            layers.append(layer.model_copy(update={"measures": tuple(measures)}))
    for reference in definition.references:
        place = reference.measure
        if place is None or place >= len(now):
            references.append(reference)
        elif now[place] is not None:
            references.append(reference.model_copy(update={"measure": now[place]}))
    columns = [
        column.model_copy(update={"measure": now[column.measure]})
        for column in definition.look.columns
        if column.measure < len(now) and now[column.measure] is not None
    ]
    look = definition.look.model_copy(update={"columns": tuple(columns)})
    return definition.model_copy(update={"layers": tuple(layers), "references": tuple(references), "look": look})

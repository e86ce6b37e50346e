"""A template filled with fields, and a chart drawn like another one."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any, Final, Literal

from veduta.core.calendar import Grouping, list_field_grains
from veduta.core.chart.definition import ChartDefinition, make_default_measure
from veduta.core.chart.kinds import ChartShape, get_kind
from veduta.core.chart.look import ONLY, Look
from veduta.core.chart.rewriting import drop_fields, renumber_measures, replace_fields, rewrite_everywhere
from veduta.core.chart.templates.own_texts import list_column_names, make_tokens, replace_columns
from veduta.core.chart.templates.template import TAKES, FieldSlot, Template
from veduta.core.data.fields import Aggregate, DataField, DataType, FieldRole, list_aggregates
from veduta.core.errors import DefinitionProblem
from veduta.core.model.model import Model
from veduta.core.phrases import join_names
from veduta.core.query.measures import Measure

FEW_CLASSES, MANY_CLASSES = 4, 60


def is_suitable(place: FieldSlot, field: DataField) -> bool:
    """Whether a place takes a field."""
    if place.level and field.level != place.level:
        return False
    match place.takes:
        case "number":
            return field.kind.is_number
        case "date":
            return field.kind.is_date
        case "text":
            return field.kind is DataType.TEXT
        case "yes_no":
            return field.kind is DataType.YES_NO
        case "dimension":
            return field.role is FieldRole.DIMENSION or not field.kind.is_number
    return True


def propose_fields(template: Template, model: Model) -> dict[str, str]:
    """The field that each slot gets by default, "" for none.

    One of the same name, else for a needed slot one that fits and no other slot has."""
    offered = model.offered
    found: dict[str, str] = {}
    for place in template.places:
        named = [field for field in offered if field.name.casefold() == place.name.casefold()]
        found[place.key] = next((field.id for field in named if is_suitable(place, field)), "")
    for place in template.places:
        if place.needed and not found[place.key]:
            left = [field for field in offered if is_suitable(place, field) and field.id not in found.values()]
            left.sort(key=lambda field: _score_strangeness(place, field))
            found[place.key] = next((field.id for field in left), "")
    return found


def _score_strangeness(place: FieldSlot, field: DataField) -> int:
    """How far a field that suits is from what a place most likely means."""
    wanted = FieldRole.MEASURE if place.takes == "number" else FieldRole.DIMENSION
    is_grouped_as_text = place.takes == "dimension" and field.kind not in (DataType.TEXT, DataType.YES_NO)
    return 2 * (field.role is not wanted) + is_grouped_as_text


def fill_template(template: Template, chosen: Mapping[str, str], model: Model, dataset: str) -> ChartDefinition:
    """A chart of a dataset with fields in the template's places, by their keys ("" for none).

    Raises DefinitionProblem with all that is missing or does not suit, before anything is drawn."""
    given = {place.key: chosen.get(place.key, "") for place in template.places}
    missing = [f"“{place.name}”" for place in template.places if place.needed and not given[place.key]]
    if missing:
        raise DefinitionProblem(
            f"{'A field is' if len(missing) == 1 else 'Fields are'} missing: {join_names(missing)}.",
            where=", ".join(place.key for place in template.places if place.needed and not given[place.key]),
            hint="Choose one for every place that is needed.",
        )
    for place in template.places:
        if given[place.key]:
            _check(place, model.schema[given[place.key]])
    design = drop_fields(template.design, {key for key, field in given.items() if not field})
    design = rewrite_everywhere(design, _make_replacer({key: field for key, field in given.items() if field}, model))
    return _complete_definition(design.model_copy(update={"dataset": dataset}), template, model)


def _check(place: FieldSlot, field: DataField) -> None:
    """Raises DefinitionProblem if a field does not suit its place."""
    if is_suitable(place, field):
        return
    if place.level and field.level != place.level:
        wants = "a field of rows" if place.level == "row" else "a formula of many rows"
    else:
        wants = TAKES[place.takes]
    raise DefinitionProblem(
        f"“{field.name}” does not suit “{place.name}”, which takes {wants}.",
        where=place.key,
        hint="Choose another field for it.",
    )


def _make_replacer(fields: Mapping[str, str], model: Model) -> Callable[[Any], Any]:
    """What changes the parts of a design to ones over a model's fields, each by its kind of value."""

    def change(part: Any) -> Any:
        changed = replace_fields(part, fields)
        if isinstance(part, Grouping) and part.field in fields:
            return _adapt_group(changed, model)
        if isinstance(part, Measure) and part.field in fields:
            return _adapt_measure(changed, model)
        return changed

    return change


def _adapt_group(group: Grouping, model: Model) -> Grouping:
    """With a grain or classes that suit the field."""
    field = model.schema[group.field]
    if field.kind.is_date:
        return group if group.grain in list_field_grains(field) else model.make_grouping(field.id)
    return _adapt_classes(group, model) if group.width else Grouping(field=field.id)


def _adapt_classes(group: Grouping, model: Model) -> Grouping:
    """In classes as wide as the design has them if that makes a few or some, else in as many as usual."""
    facts, usual = model.get_facts(group.field), model.make_classes(group.field)
    span = (facts.highest or 0) - (facts.lowest or 0)
    makes_some = FEW_CLASSES <= span / (group.width or 1) <= MANY_CLASSES
    is_whole = model.schema[group.field].kind is not DataType.WHOLE or (group.width or 0) % 1 == 0
    return group if makes_some and is_whole else usual


def _adapt_measure(measure: Measure, model: Model) -> Measure:
    """With an aggregate that suits the field."""
    field = model.schema[measure.field or ""]
    fitting = list_aggregates(field.kind) if field.level == "row" else [Aggregate.OWN]
    if measure.aggregate in fitting:
        return measure
    return measure.model_copy(update={"aggregate": make_default_measure(field).aggregate})


def _complete_definition(definition: ChartDefinition, template: Template, model: Model) -> ChartDefinition:
    """A definition that was put together, with its own specification over its columns.

    Raises DefinitionProblem if it cannot be drawn so."""
    if definition.specification:
        names = list_column_names(definition, model.schema)
        text = replace_columns(definition.specification, make_tokens(template.design), names)
        definition = definition.model_copy(update={"specification": text})
    is_taken = definition.kind is not None and definition.kind == template.design.kind
    problem = get_kind(definition.kind or "").explain_unsupported(ChartShape(definition, model)) if is_taken else ""
    if problem:
        raise DefinitionProblem(
            f"The chart cannot be drawn like “{template.name}”. {problem}",
            hint="Change what it shows, or choose another design.",
        )
    return ChartDefinition.model_validate_json(definition.model_dump_json())


def copy_design(
    definition: ChartDefinition, template: Template, model: Model, parts: Sequence[LikePart] = ()
) -> ChartDefinition:
    """A chart with the design of a template and its own question.

    What the design says of its first measure or dimension applies to the chart's first, and so on; fields without a
    counterpart are left out. Of a design, only some `parts` may be taken. Raises DefinitionProblem if the chart cannot
    be drawn so."""
    design = template.design
    fields = _match_counterparts(definition, template, model)
    measures = list(zip(design.measures, definition.measures, strict=False))
    groups = dict(zip(design.groups, definition.groups, strict=False))
    over = _make_replacer(fields, model)

    def change(part: Any) -> Any:
        if isinstance(part, Grouping):
            return groups.get(part) or over(part)
        if isinstance(part, Measure):
            return next((own for theirs, own in measures if theirs.is_same_number(part)), None) or over(part)
        return over(part)

    now = [index if index < len(definition.measures) else None for index in range(len(design.measures))]
    keys = {place.key for place in template.places}
    design = drop_fields(
        rewrite_everywhere(renumber_measures(_keep_drawing_only(design), now), change), keys - fields.keys()
    )
    taken = [name for part in parts or LIKE_PARTS for name in LIKE_PARTS[part][1]]
    looks = {name: getattr(design.look, name) for name in taken if name in Look.model_fields}
    if "series" in looks:  # those with names are about the values that are shown
        own = [each for each in definition.look.series if each.name != ONLY]
        looks["series"] = (*own, *(each for each in design.look.series if each.name == ONLY))
    changes = {name: getattr(design, name) for name in taken if name not in looks}
    changes["look"] = definition.look.model_copy(update=looks)
    return _complete_definition(definition.model_copy(update=changes), template, model)


LikePart = Literal["drawing", "axes", "legend", "series", "tables", "whole", "conditions", "lines"]
LIKE_PARTS: Final[dict[LikePart, tuple[str, tuple[str, ...]]]] = {
    "drawing": ("Kind, settings and layers", ("kind", "settings", "layers", "totals", "specification")),
    "axes": ("Looks of axes and dates", ("along", "value", "second", "dates")),
    "legend": ("Looks of legend and labels", ("legend", "labels")),
    "series": ("Look of its marks", ("series",)),
    "tables": ("Looks of tables and their columns", ("table", "columns", "values")),
    "whole": ("Look of the whole", ("whole",)),
    "conditions": ("Conditional formats", ("conditional",)),
    "lines": ("Lines to compare with", ("references",)),
}
"""What can be taken from a design, in words, and which parts of a definition or of its look that is."""
OF_DRAWING = ("kind", "settings", "layers", "totals", "specification", "look", "conditional", "references")
"""What in a definition is about how its answer is drawn."""


def _keep_drawing_only(design: ChartDefinition) -> ChartDefinition:
    """A design that asks for nothing."""
    return ChartDefinition(dataset="").model_copy(update={name: getattr(design, name) for name in OF_DRAWING})


def _match_counterparts(definition: ChartDefinition, template: Template, model: Model) -> dict[str, str]:
    """The fields of a chart by the slots of a design, matched by position.

    Other fields are matched by name."""
    pairs: Sequence[tuple[Any, Any]] = [
        *zip(template.design.groups, definition.groups, strict=False),
        *zip(template.design.measures, definition.measures, strict=False),
    ]
    found: dict[str, str] = {}
    for theirs, own in pairs:
        if theirs.field and own.field:
            found.setdefault(theirs.field, own.field)
    named = {field.name.casefold(): field for field in model.offered}
    for place in template.places:
        same = named.get(place.name.casefold())
        if place.key not in found and same and is_suitable(place, same):
            found[place.key] = same.id
    return {key: field for key, field in found.items() if is_suitable(_get_slot(template, key), model.schema[field])}


def _get_slot(template: Template, key: str) -> FieldSlot:
    return next(place for place in template.places if place.key == key)

"""A template made from a chart."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from veduta.core.calendar import Grouping
from veduta.core.chart.choose import choose_kind
from veduta.core.chart.conditional import TESTS, ConditionalFormat, describe_condition
from veduta.core.chart.definition import ChartDefinition, ReferenceMark
from veduta.core.chart.drawing.references import describe_reference
from veduta.core.chart.look import ONLY, AxisLook, Look
from veduta.core.chart.rewriting import FORMULAS, find_named_fields, replace_fields, rewrite_everywhere
from veduta.core.chart.templates.own_texts import list_column_names, make_tokens, replace_columns
from veduta.core.chart.templates.template import FieldSlot, Takes, Template
from veduta.core.chart.text_placeholders import find_formulas
from veduta.core.data.fields import Aggregate, DataField, DataType, FieldRole
from veduta.core.formula.measures import (
    Parameters,
    insert_literals,
    list_formula_fields,
    list_parameters,
    replace_ids_with_names,
)
from veduta.core.model.model import Model
from veduta.core.model.parameters import get_set_number
from veduta.core.phrases import lower_first
from veduta.core.query.measures import Measure, measure_words


@dataclass(frozen=True)
class MadeTemplate:
    """A template, and what of its chart is about data and was left behind, in words."""

    template: Template
    left_behind: tuple[str, ...]


def make_template(definition: ChartDefinition, model: Model, name: str, author: str = "") -> MadeTemplate:
    """A chart's design. Raises DefinitionProblem for a chart that does not fit its data."""
    left_behind: list[str] = []
    design = definition.model_copy(update={"kind": choose_kind(definition, model)[0].name})
    design = _drop_parameters(_drop_data(design, model, left_behind), model, left_behind)
    ids = find_named_fields((design.show, design.by, design.split, design.panels, design))
    keys = {id_: f"place_{number}" for number, id_ in enumerate(ids, 1)}
    places = [_place(key, model.schema[id_], design, model) for id_, key in keys.items()]
    if design.specification:
        names = list_column_names(design, model.schema)
        text = replace_columns(design.specification, names, make_tokens(design))
        design = design.model_copy(update={"specification": text})
    design = rewrite_everywhere(design, lambda part: replace_fields(_drop_names(part), keys))
    template = Template(name=name or "Template", author=author, places=tuple(places), design=design)
    return MadeTemplate(template, tuple(left_behind))


def _drop_names(part: Any) -> Any:
    """A measure of a field without a name of its own, which would be wrong for another field."""
    return part.model_copy(update={"name": ""}) if isinstance(part, Measure) and part.field else part


def _drop_data(definition: ChartDefinition, model: Model, left_behind: list[str]) -> ChartDefinition:
    """Without what names values of the data."""
    schema = model.schema
    if definition.title and "{" not in definition.title:
        left_behind.append(f"the title “{definition.title}”")
    if definition.note:
        left_behind.append("the note")
    left_behind += [f"only {lower_first(each.describe(schema))}" for each in definition.only]
    references, conditional = [], []
    for reference in definition.references:
        if reference.of in ("dates", "events"):
            left_behind.append(f"the line at {describe_reference(reference)}")
        else:
            references.append(reference)
    for rule in definition.conditional:
        if rule.tests == "dimension" and TESTS[rule.test].takes in ("one", "two"):
            left_behind.append(f"the conditional format of {describe_condition(rule, definition.measures, model)}")
        else:
            conditional.append(rule)
    if definition.series_order:
        left_behind.append("the order of the series")
    sort = definition.sort
    if sort and (sort.values or sort.at):
        left_behind.append("the order by values")
        sort = None if sort.values else sort.model_copy(update={"at": ()})
    of_only_series = tuple(each for each in definition.look.series if each.name == ONLY)
    if definition.colours or definition.look.names or definition.look.series != of_only_series:
        left_behind.append("colours, names and looks of values")
    return definition.model_copy(
        update={
            "dataset": "",
            "title": definition.title if "{" in definition.title else "",
            "note": "",
            "only": (),
            "sort": sort,
            "series_order": (),
            "colours": (),
            "references": tuple(references),
            "conditional": tuple(conditional),
            "look": definition.look.model_copy(update={"names": Look().names, "series": of_only_series}),
        }
    )


def _drop_parameters(definition: ChartDefinition, model: Model, left_behind: list[str]) -> ChartDefinition:
    """With the values of parameters, which another model does not have; without what has none that can be written."""
    given = model.apply_reader(definition.values).parameters

    def written(formula: str) -> str:
        text = insert_literals(formula, given) if list_parameters(formula) else formula
        if text is None:
            left_behind.append(
                f"the formula {replace_ids_with_names(formula, model.schema)}, whose parameter has no one value"
            )
        return text or ""

    def change(part: Any) -> Any:
        name = FORMULAS.get(type(part), "")
        if name and getattr(part, name):
            # A measure that cannot be kept is a count, so that the places of the others stay.
            part = part.model_copy(update={name: written(getattr(part, name))})
        return _insert_numbers(part, given)

    definition = rewrite_everywhere(definition, change)
    title = definition.title
    if any(list_parameters(formula) for formula in find_formulas(title)):
        left_behind.append(f"the title “{title}”")
        title = ""
    keep = definition.keep
    return definition.model_copy(
        update={
            "title": title,
            "values": {},
            "keep": keep.resolve_parameters(given) if keep else None,
            "references": tuple(each for each in definition.references if _compares(each)),
            "conditional": tuple(rule for rule in definition.conditional if rule.is_whole),
        }
    )


def _compares(reference: ReferenceMark) -> bool:
    """Whether it still has what it compares with."""
    needed = {"number": reference.value, "formula": reference.formula or None}
    return needed.get(reference.of, reference.of) is not None


def _insert_numbers(part: Any, given: Parameters) -> Any:
    """A part with numbers where it compares with parameters, or its axis ends at them."""
    if isinstance(part, AxisLook):
        return part.resolve_parameters({name: get_set_number(name, given) for name in part.list_parameters()})
    if isinstance(part, ReferenceMark) and part.parameter:
        return part.model_copy(update={"value": get_set_number(part.parameter, given), "parameter": ""})
    if isinstance(part, ConditionalFormat) and part.against == "parameter" and part.parameter:
        held = given.get(part.parameter)
        value = held.values[0] if held and held.values else None
        return part.model_copy(update={"against": "value", "parameter": "", "value": value})
    return part


def _place(key: str, field: DataField, design: ChartDefinition, model: Model) -> FieldSlot:
    """The place of a field: what it takes goes by what the design does with it."""
    groups, measures, in_formula = _find_uses(field.id, design)
    counts = (Aggregate.COUNT, Aggregate.COUNT_DISTINCT)
    takes: Takes = _describe_taken(field.kind)
    if groups and not in_formula:
        is_measured = any(group.width for group in groups) or (field.kind.is_number and field.role is FieldRole.MEASURE)
        takes = "date" if any(group.grain for group in groups) else "number" if is_measured else "dimension"
    elif measures and not in_formula and all(measure.aggregate in counts for measure in measures):
        takes = "any"
    is_bound = bool(groups) or in_formula
    return FieldSlot(
        key=key,
        name=field.name,
        takes=takes,
        level=("row" if groups else field.level) if is_bound else "",
        guidance=_write_guidance(field.id, design, model),
    )


def _describe_taken(kind: DataType) -> Takes:
    if kind.is_number:
        return "number"
    return "date" if kind.is_date else "yes_no" if kind is DataType.YES_NO else "text"


def _find_uses(id_: str, design: ChartDefinition) -> tuple[list[Grouping], list[Measure], bool]:
    """The groupings and the measures of a field in a design, and whether it is in a formula."""
    groups: list[Grouping] = []
    measures: list[Measure] = []
    formulas = [design.aligned, *find_formulas(design.title)]

    def look_at(part: Any) -> Any:
        if isinstance(part, Grouping) and part.field == id_:
            groups.append(part)
        if isinstance(part, Measure) and part.field == id_:
            measures.append(part)
        formulas.append(getattr(part, "formula", "") or getattr(part, "test", ""))
        return part

    rewrite_everywhere(design, look_at)
    return groups, measures, any(id_ in list_formula_fields(formula) for formula in formulas if formula)


def _write_guidance(id_: str, design: ChartDefinition, model: Model) -> str:
    """What a chart does with a field, the first of it."""
    for measure in design.show:
        if measure.field == id_:
            words = measure_words(_drop_names(measure), model.schema)
            return "Shown." if words == model.schema[id_].name else f"Shown as {lower_first(words)}."
        if id_ in find_named_fields(measure):
            return f"In “{measure_words(measure, model.schema)}”."
    uses = (
        (design.by[:1], "What the rows are grouped by."),
        (design.by[1:], "What they are grouped by besides."),
        (design.split, "What makes the series."),
        (design.panels, "What makes the panels."),
        (design.conditional, "In a conditional format."),
        (design.layers, "What colours go by."),
        (design.references, "What marks are held against."),
        (design.keep, "What decides which are kept."),
        (design.sort, "What the order goes by."),
        (design.look, "Drawn in the cells."),
    )
    return next((words for part, words in uses if id_ in find_named_fields(part)), "In the title.")

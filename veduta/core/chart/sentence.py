"""A chart's definition as one English sentence, in parts that can be edited."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from veduta.core.calendar import Grouping
from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.drawing.references import describe_reference
from veduta.core.chart.kinds import ChartKind
from veduta.core.chart.sentence_parts import SentencePart, join_parts
from veduta.core.chart.variations import measure_formula
from veduta.core.data.fields import Schema
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.measures import list_formula_fields, list_parameters, replace_ids_with_names
from veduta.core.model.definition import ParameterField
from veduta.core.model.model import Model
from veduta.core.number_format import label_value
from veduta.core.phrases import join_names, lower_first
from veduta.core.query.filters import Value, describe_value, label_grouping
from veduta.core.query.measures import TopN, label_measures, measure_words
from veduta.core.query.query import Tie

OWN_PERIODS = "each table over its own periods"


def write_sentence(
    definition: ChartDefinition, kind: ChartKind, schema: Schema, parameters: list[tuple[str, str]] | None = None
) -> list[SentencePart]:
    """The parts of the sentence, ending with its full stop.

    Joined, their texts are the whole sentence. `parameters` are the names and values of those the chart reads."""
    parts = [SentencePart("Show ")]
    parts += kind.start(definition, label_measures(definition.measures, schema))
    if definition.by:
        parts += [
            SentencePart(" by "),
            *join_parts([lower_first(label_grouping(g, schema)) for g in definition.by], "by"),
        ]
    if definition.aligned and any(group.is_time_axis for group in definition.groups):
        parts += [
            SentencePart(" counted from the first with "),
            SentencePart(replace_ids_with_names(definition.aligned, schema), "aligned"),
        ]
    if definition.split:
        parts += [
            SentencePart(" split by "),
            SentencePart(lower_first(label_grouping(definition.split, schema)), "split"),
        ]
    parts += _describe_panels(definition, schema)
    if definition.only:
        parts += [
            SentencePart(", only "),
            *join_parts([lower_first(f.describe(schema)) for f in definition.only], "only"),
        ]
    if definition.keep:
        parts += [SentencePart(", keep the "), SentencePart(keep_words(definition, definition.keep, schema), "keep")]
    if definition.sort:
        parts += [SentencePart(", sorted "), SentencePart(_sort_words(definition, kind, schema), "sort")]
    if definition.references:
        parts += [SentencePart(", compared with "), *join_parts(_describe_references(definition, schema), "compare")]
    totals = {"all": "with subtotals", "none": "without totals"}.get(definition.totals, "")
    periods = OWN_PERIODS if definition.own_periods else ""
    for words, clause in ((periods, "periods"), (totals, "totals"), (describe_drilling(definition), "drill")):
        parts += [SentencePart(", "), SentencePart(words, clause)] if words else []
    for index, (name, words) in enumerate(parameters or ()):
        parts += [
            SentencePart(", with " if not index else " and "),
            SentencePart(f"{lower_first(name)} {words}", "with", index),
        ]
    return [*parts, SentencePart(".")]


def describe_drilling(definition: ChartDefinition) -> str:
    """Where readers may drill the chart, "" for everywhere."""
    drill = definition.drill
    if drill.off:
        return "not drilled"
    if drill.along:
        return f"drilled along {drill.along}" + ("" if drill.others else " only")
    return "" if drill.others else "drilled along its paths only"


def _describe_references(definition: ChartDefinition, schema: Schema) -> list[str]:
    return [describe_reference(each, replace_ids_with_names(each.formula, schema)) for each in definition.references]


def _describe_panels(definition: ChartDefinition, schema: Schema) -> list[SentencePart]:
    panels = definition.panels
    if panels is None:
        return []
    names = [lower_first(label_grouping(group, schema)) for group in panels.by]
    scales = {"common": "", "values": " on value axes of their own", "own": " on axes of their own"}
    return [SentencePart(" in panels by "), *join_parts(names, "panels"), SentencePart(scales[panels.scales])]


def write_sentence_text(
    definition: ChartDefinition, kind: ChartKind, schema: Schema, parameters: list[tuple[str, str]] | None = None
) -> str:
    return "".join(part.text for part in write_sentence(definition, kind, schema, parameters))


def list_parameters_read(definition: ChartDefinition, model: Model) -> list[ParameterField]:
    """The parameters of the model that the chart's formulas, filters and limits read, in the model's order."""
    named: set[str] = set()

    def read(text: str, seen: frozenset[str] = frozenset()) -> None:
        named.update(list_parameters(text))
        for field in list_formula_fields(text) - seen:
            if field in model.schema and model.schema[field].formula:
                read(model.schema[field].formula, seen | {field})

    for formula in _iterate_formulas(definition, model):
        read(formula)
    named |= {reference.parameter for reference in definition.references}
    named |= {each.parameter for each in definition.conditional} | definition.look.list_parameters()
    for name in ("parameter", "low_parameter", "high_parameter"):
        named |= {getattr(filter_, name, "") for filter_ in definition.only}
    for filter_ in (definition, *definition.only):
        if keep := getattr(filter_, "keep", None):
            named.add(keep.parameter)
    return [parameter for parameter in model.definition.parameters if parameter.id in named]


def _iterate_formulas(definition: ChartDefinition, model: Model) -> Iterator[str]:
    """The formulas that a chart works out itself, and those of the fields it names."""
    for measure in definition.list_formula_measures():
        yield measure_formula(measure)
    for field in definition.list_fields():
        if field in model.schema and model.schema[field].formula:
            yield model.schema[field].formula


def describe_setting(parameter: ParameterField, values: tuple[Any, ...] | None) -> str:
    """What a parameter is set to, its values by their labels."""
    if values is None:
        return "no limit"
    labels = {choice.value: choice.label for choice in parameter.choices if choice.label}
    return join_names([labels.get(value) or label_value(value) for value in values], "or", 3)


def list_parameter_settings(definition: ChartDefinition, model: Model) -> list[tuple[str, str]]:
    """The parameters that the chart reads, with what they are set to, in words."""
    return [
        (each.name, describe_setting(each, model.parameters[each.id].values))
        for each in list_parameters_read(definition, model)
    ]


def write_default_title(definition: ChartDefinition, schema: Schema) -> str:
    """The title until someone writes one: "Fare revenue by month of sailing date, split by region".

    It says what the chart is filtered to as well: "Sailings by week, only cancelled"."""
    shown = join_names(label_measures(definition.measures, schema), most=3)
    title = shown
    if definition.by:
        title += " by " + ", ".join(lower_first(label_grouping(g, schema)) for g in definition.by)
    if definition.split:
        title += f", split by {lower_first(label_grouping(definition.split, schema))}"
    if definition.panels:
        title += f", in panels by {join_names([lower_first(label_grouping(g, schema)) for g in definition.panels.by])}"
    if definition.only:
        title += f", only {join_names([lower_first(each.describe(schema)) for each in definition.only], most=2)}"
    return title[0].upper() + title[1:]


def keep_words(definition: ChartDefinition, keep: TopN, schema: Schema) -> str:
    group = definition.split if keep.of == "split" and definition.split else next(iter(definition.by), None)
    # With one dimension it is plain which values are kept.
    if keep.of == "within" and definition.drawn and len(definition.groups) > 1:
        inner, outer = definition.drawn[-1], [*definition.drawn[-2:-1], *definition.groups[len(definition.drawn) :]]
        each = join_names([lower_first(label_grouping(group, schema)) for group in outer])
        of = f" of {lower_first(label_grouping(inner, schema))} in each {each}"
    else:
        of = f" of {lower_first(label_grouping(group, schema))}" if group and len(definition.groups) > 1 else ""
    rest = (
        " with ties" * keep.ties + " and the others as one" * keep.rest + ", not counting empties" * (not keep.empties)
    )
    return f"{keep.end} {keep.count_words}{of} by {lower_first(measure_words(keep.by, schema))}{rest}"


def _tie_words(tie: Tie, schema: Schema) -> str:
    if tie.measure is None:
        return "from Z to A" if tie.descending else "from A to Z"
    return f"{lower_first(measure_words(tie.measure, schema))}, {'highest' if tie.descending else 'lowest'} first"


def _place_words(value: Value, group: Grouping, schema: Schema) -> str:
    """A value across; one that the dimension cannot have, from an old address, as it is written."""
    try:
        return describe_value(value, group, schema[group.field])
    except DefinitionProblem:
        return label_value(value)


def _sort_words(definition: ChartDefinition, kind: ChartKind, schema: Schema) -> str:
    sort = definition.sort
    assert sort is not None, "a sort is said where there is one"
    if sort.by == "measure":
        name = f" {lower_first(measure_words(sort.measure, schema))}" if sort.measure else ""
        across = definition.groups[len(definition.groups) - kind.count_across(definition) :]
        places = [_place_words(value, group, schema) for value, group in zip(sort.at, across, strict=False)]
        at = f" of {', '.join(places)}" if places else ""
        ties = "".join(f", then {_tie_words(tie, schema)}" for tie in sort.ties)
        return f"by{name or ' value'}{at}, {'highest' if sort.descending else 'lowest'} first{ties}"
    if sort.by == "time":
        return "latest first" if sort.descending else "earliest first"
    if sort.by == "own":
        values = [label_value(value) for value in sort.values]
        return f"as {join_names(values, most=2) if len(values) > 2 else ', '.join(values)}"
    return "from Z to A" if sort.descending else "from A to Z"

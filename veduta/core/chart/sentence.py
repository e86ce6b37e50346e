"""A chart's definition as one English sentence, in parts that can be edited."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from veduta.core.calendar import Grouping
from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.drawing.references import reference_words
from veduta.core.chart.kinds import Kind
from veduta.core.chart.parts import Part, joined
from veduta.core.chart.variations import measure_formula
from veduta.core.data.fields import Schema
from veduta.core.errors import DefinitionProblem
from veduta.core.formats import value_words
from veduta.core.formula.measures import fields_in, parameters_in, with_names
from veduta.core.model.definition import ParameterField
from veduta.core.model.model import Model
from veduta.core.query.filters import Value, grouping_words, said_of
from veduta.core.query.measures import Keep, measure_words, words_together
from veduta.core.query.query import Tie
from veduta.core.words import in_sentence, listed

OWN_PERIODS = "each table over its own periods"


def sentence(
    definition: ChartDefinition, kind: Kind, schema: Schema, parameters: list[tuple[str, str]] | None = None
) -> list[Part]:
    """The parts of the sentence, ending with its full stop. Joined, their texts are the whole sentence. `parameters`
    are the names and values of those the chart reads."""
    parts = [Part("Show ")]
    parts += kind.start(definition, words_together(definition.measures, schema))
    if definition.by:
        parts += [Part(" by "), *joined([in_sentence(grouping_words(g, schema)) for g in definition.by], "by")]
    if definition.aligned and any(group.is_time_axis for group in definition.groups):
        parts += [Part(" counted from the first with "), Part(with_names(definition.aligned, schema), "aligned")]
    if definition.split:
        parts += [Part(" split by "), Part(in_sentence(grouping_words(definition.split, schema)), "split")]
    parts += _panels(definition, schema)
    if definition.only:
        parts += [Part(", only "), *joined([in_sentence(f.words(schema)) for f in definition.only], "only")]
    if definition.keep:
        parts += [Part(", keep the "), Part(keep_words(definition, definition.keep, schema), "keep")]
    if definition.sort:
        parts += [Part(", sorted "), Part(_sort_words(definition, kind, schema), "sort")]
    if definition.references:
        parts += [Part(", compared with "), *joined(_references(definition, schema), "compare")]
    totals = {"all": "with subtotals", "none": "without totals"}.get(definition.totals, "")
    periods = OWN_PERIODS if definition.own_periods else ""
    for words, clause in ((periods, "periods"), (totals, "totals"), (drill_words(definition), "drill")):
        parts += [Part(", "), Part(words, clause)] if words else []
    for index, (name, words) in enumerate(parameters or ()):
        parts += [Part(", with " if not index else " and "), Part(f"{in_sentence(name)} {words}", "with", index)]
    return [*parts, Part(".")]


def drill_words(definition: ChartDefinition) -> str:
    """Where readers may drill the chart, "" for everywhere."""
    drill = definition.drill
    if drill.off:
        return "not drilled"
    if drill.along:
        return f"drilled along {drill.along}" + ("" if drill.others else " only")
    return "" if drill.others else "drilled along its paths only"


def _references(definition: ChartDefinition, schema: Schema) -> list[str]:
    return [reference_words(each, with_names(each.formula, schema)) for each in definition.references]


def _panels(definition: ChartDefinition, schema: Schema) -> list[Part]:
    panels = definition.panels
    if panels is None:
        return []
    names = [in_sentence(grouping_words(group, schema)) for group in panels.by]
    scales = {"common": "", "values": " on value axes of their own", "own": " on axes of their own"}
    return [Part(" in panels by "), *joined(names, "panels"), Part(scales[panels.scales])]


def sentence_text(
    definition: ChartDefinition, kind: Kind, schema: Schema, parameters: list[tuple[str, str]] | None = None
) -> str:
    return "".join(part.text for part in sentence(definition, kind, schema, parameters))


def parameters_read(definition: ChartDefinition, model: Model) -> list[ParameterField]:
    """The parameters of the model that the chart's formulas, filters and limits read, in the model's order."""
    named: set[str] = set()

    def read(text: str, seen: frozenset[str] = frozenset()) -> None:
        named.update(parameters_in(text))
        for field in fields_in(text) - seen:
            if field in model.schema and model.schema[field].formula:
                read(model.schema[field].formula, seen | {field})

    for formula in _formulas(definition, model):
        read(formula)
    named |= {reference.parameter for reference in definition.references}
    named |= {each.parameter for each in definition.conditional} | definition.look.parameters()
    for name in ("parameter", "low_parameter", "high_parameter"):
        named |= {getattr(filter_, name, "") for filter_ in definition.only}
    for filter_ in (definition, *definition.only):
        if keep := getattr(filter_, "keep", None):
            named.add(keep.parameter)
    return [parameter for parameter in model.definition.parameters if parameter.id in named]


def _formulas(definition: ChartDefinition, model: Model) -> Iterator[str]:
    """The formulas that a chart works out itself, and those of the fields it names."""
    for measure in definition.worked_out():
        yield measure_formula(measure)
    for field in definition.fields():
        if field in model.schema and model.schema[field].formula:
            yield model.schema[field].formula


def setting_words(parameter: ParameterField, values: tuple[Any, ...] | None) -> str:
    """What a parameter is set to, its values by their labels."""
    if values is None:
        return "no limit"
    labels = {choice.value: choice.label for choice in parameter.choices if choice.label}
    return listed([labels.get(value) or value_words(value, None) for value in values], "or", 3)


def parameter_settings(definition: ChartDefinition, model: Model) -> list[tuple[str, str]]:
    """The parameters that the chart reads, with what they are set to, in words."""
    return [
        (each.name, setting_words(each, model.parameters[each.id].values))
        for each in parameters_read(definition, model)
    ]


def default_title(definition: ChartDefinition, schema: Schema) -> str:
    """The title until someone writes one: "Fare revenue by month of sailing date, split by region"; what the chart is
    narrowed to belongs to it, "Sailings by week, only cancelled"."""
    shown = listed(words_together(definition.measures, schema), most=3)
    title = shown
    if definition.by:
        title += " by " + ", ".join(in_sentence(grouping_words(g, schema)) for g in definition.by)
    if definition.split:
        title += f", split by {in_sentence(grouping_words(definition.split, schema))}"
    if definition.panels:
        title += f", in panels by {listed([in_sentence(grouping_words(g, schema)) for g in definition.panels.by])}"
    if definition.only:
        title += f", only {listed([in_sentence(each.words(schema)) for each in definition.only], most=2)}"
    return title[0].upper() + title[1:]


def keep_words(definition: ChartDefinition, keep: Keep, schema: Schema) -> str:
    group = definition.split if keep.of == "split" and definition.split else next(iter(definition.by), None)
    # With one dimension it is plain which values are kept.
    if keep.of == "within" and definition.drawn and len(definition.groups) > 1:
        inner, outer = definition.drawn[-1], [*definition.drawn[-2:-1], *definition.groups[len(definition.drawn) :]]
        each = listed([in_sentence(grouping_words(group, schema)) for group in outer])
        of = f" of {in_sentence(grouping_words(inner, schema))} in each {each}"
    else:
        of = f" of {in_sentence(grouping_words(group, schema))}" if group and len(definition.groups) > 1 else ""
    rest = (
        " with ties" * keep.ties + " and the others as one" * keep.rest + ", not counting empties" * (not keep.empties)
    )
    return f"{keep.end} {keep.count_words}{of} by {in_sentence(measure_words(keep.by, schema))}{rest}"


def _tie_words(tie: Tie, schema: Schema) -> str:
    if tie.measure is None:
        return "from Z to A" if tie.descending else "from A to Z"
    return f"{in_sentence(measure_words(tie.measure, schema))}, {'highest' if tie.descending else 'lowest'} first"


def _place_words(value: Value, group: Grouping, schema: Schema) -> str:
    """A value across; one that the dimension cannot have, from an old address, as it is written."""
    try:
        return said_of(value, group, schema[group.field])
    except DefinitionProblem:
        return value_words(value, None)


def _sort_words(definition: ChartDefinition, kind: Kind, schema: Schema) -> str:
    sort = definition.sort
    assert sort is not None, "a sort is said where there is one"
    if sort.by == "measure":
        name = f" {in_sentence(measure_words(sort.measure, schema))}" if sort.measure else ""
        across = definition.groups[len(definition.groups) - kind.across(definition) :]
        places = [_place_words(value, group, schema) for value, group in zip(sort.at, across, strict=False)]
        at = f" of {', '.join(places)}" if places else ""
        ties = "".join(f", then {_tie_words(tie, schema)}" for tie in sort.ties)
        return f"by{name or ' value'}{at}, {'highest' if sort.descending else 'lowest'} first{ties}"
    if sort.by == "time":
        return "latest first" if sort.descending else "earliest first"
    if sort.by == "own":
        values = [value_words(value, None) for value in sort.values]
        return f"as {listed(values, most=2) if len(values) > 2 else ', '.join(values)}"
    return "from Z to A" if sort.descending else "from A to Z"

"""The ways in which a chart's sentence is edited, each a function from definition to definition.

The registry is what the workbench can ask for: a name and arguments in JSON.
"""

from __future__ import annotations

from typing import Annotated, Any, Literal, TypeVar

from pydantic import Field as Attribute
from pydantic import ValidationError

from veduta.core.calendar import Grain, Grouping, grouping_for
from veduta.core.chart.choose import choose_kind
from veduta.core.chart.definition import (
    ChartDefinition,
    Colour,
    How,
    KindName,
    Layer,
    Panels,
    Reference,
    SettingValue,
    default_measure,
    sort_of_column,
)
from veduta.core.chart.drawing.shades import MOST_STEPS
from veduta.core.chart.grammar.checking import checked
from veduta.core.chart.kinds import kind_named
from veduta.core.chart.kinds.layered import BETWEEN_TWO
from veduta.core.chart.kinds.own import Own
from veduta.core.chart.look import ColumnLook, PartName
from veduta.core.chart.variations import VARIATIONS, measure_formula, vary
from veduta.core.classes import MOST_CLASSES
from veduta.core.data.fields import Aggregate, Kind, NumberFormat, Role, Total, aggregates_for
from veduta.core.editing import Edits
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.measures import with_ids
from veduta.core.model.model import Model
from veduta.core.model.parameters import number_set, set_to
from veduta.core.query.filters import Filter, Value
from veduta.core.query.measures import Keep, Measure, measure_node
from veduta.core.query.query import Sort

FEW = 12
FILLING = ("bar", "area")
MOST_PANEL_DIMENSIONS = 2
edit = Edits(ChartDefinition, given=2)
"""Registers an edit: of a definition, over its model."""
EDITS = edit.functions
Index = Annotated[int, Attribute(ge=0)]
Clause = Literal[
    "show",
    "by",
    "only",
    "split",
    "panels",
    "keep",
    "sort",
    "as",
    "title",
    "compare",
    "totals",
    "aligned",
    "with",
]


def apply_edit(definition: ChartDefinition, model: Model, change: dict[str, Any]) -> ChartDefinition:
    """The definition after `change`, {"edit": name, …arguments}. Raises DefinitionProblem for one that cannot be
    made."""
    sent = dict(change)
    changed = edit.apply(str(sent.pop("edit", "")), sent, definition, model)
    # An order of series is one of the values of a dimension, and goes with it.
    return changed if changed.drawn[-1:] == definition.drawn[-1:] else _with(changed, series_order=())


def _there(items: tuple[Any, ...], index: int) -> Any:
    """The item at a position. Raises DefinitionProblem if there is none."""
    if index >= len(items):
        raise DefinitionProblem("That change does not fit this chart.", hint="Undo, or load the page again.")
    return items[index]


def _with(definition: ChartDefinition, **changes: Any) -> ChartDefinition:
    return definition.model_copy(update=changes)


Item = TypeVar("Item")


def _replaced(items: tuple[Item, ...], index: int, item: Item) -> tuple[Item, ...]:
    return (*items[:index], item, *items[index + 1 :])


def _tidied(definition: ChartDefinition) -> ChartDefinition:
    """Without the parts that have lost what they refer to: a keep or own order of a dimension that is gone."""
    if definition.keep and not (definition.split if definition.keep.of == "split" else definition.by):
        definition = _with(definition, keep=None)
    return definition if definition.by else _with(definition, sort=None)


@edit
def add_field(
    definition: ChartDefinition,
    model: Model,
    field: str,
    to: Literal["", "show", "by", "split", "panels", "dimension"] = "",
) -> ChartDefinition:
    """Put a field into a clause, or without `to` where it makes most sense."""
    added = model.schema[field]
    to = to or ("show" if added.role is Role.MEASURE else "dimension")
    if to == "show":
        measure = default_measure(added)
        if any(measure.same_number(shown) for shown in definition.show):
            return definition
        return _with(definition, show=(*definition.show, measure))
    group = model.grouping(field)
    if to == "split":
        return _with(definition, split=group)
    if to == "panels":
        return _in_panels(definition, group, 0 if definition.panels is None else MOST_PANEL_DIMENSIONS - 1)
    if group in definition.groups:
        return definition
    if to == "by" or not definition.by:
        return _with(definition, by=(*definition.by, group), sort=definition.sort if definition.by else None)
    first = definition.by[0]
    if (
        added.kind.is_date
        and len(definition.by) == 1
        and not model.schema[first.field].kind.is_date
        and not definition.split
    ):
        return _with(definition, by=(group,), split=first, keep=None, sort=None)
    if not definition.split and len(definition.by) == 1 and model.facts(field).distinct <= FEW:
        return _with(definition, split=group)
    return _with(definition, by=(*definition.by, group))


@edit
def remove(definition: ChartDefinition, model: Model, clause: Clause, index: Index = 0) -> ChartDefinition:
    """Take one part out of a clause."""
    if clause in ("show", "by", "only"):
        items = getattr(definition, clause)
        definition = _with(definition, **{clause: (*items[:index], *items[index + 1 :])})
        if clause == "show":
            definition = _renumbered(definition, [*range(index), None, *range(index, len(items) - 1)])
        return _tidied(definition)
    if clause == "panels":
        return _without_panel_dimension(definition, index)
    if clause == "compare":
        references = definition.references
        return _with(definition, references=(*references[:index], *references[index + 1 :]))
    if clause == "with":
        return _with(definition, values={})
    emptied = {
        "split": None,
        "keep": None,
        "sort": None,
        "as": None,
        "title": "",
        "totals": "",
        "aligned": "",
    }[clause]
    return _tidied(_with(definition, **{"kind" if clause == "as" else clause: emptied}))


def _in_panels(definition: ChartDefinition, group: Grouping, index: int) -> ChartDefinition:
    """With a dimension that makes panels, in the place of another if there is one at the position."""
    if definition.panels is None:
        return _with(definition, panels=Panels(by=(group,)))
    by = definition.panels.by
    by = _replaced(by, index, group) if index < len(by) else (*by, group)
    return _with(definition, panels=definition.panels.model_copy(update={"by": by[:MOST_PANEL_DIMENSIONS]}))


def _without_panel_dimension(definition: ChartDefinition, index: int) -> ChartDefinition:
    panels = definition.panels
    by = (*panels.by[:index], *panels.by[index + 1 :]) if panels else ()
    return _with(definition, panels=panels.model_copy(update={"by": by}) if panels and by else None)


@edit
def set_measure(
    definition: ChartDefinition,
    model: Model,
    index: Index,
    field: str | None = None,
    aggregate: Aggregate | Literal[""] = "",
) -> ChartDefinition:
    """Show another field, or another aggregate of the same one; an index at the end adds a measure."""
    shown = definition.measures if index < len(definition.measures) else definition.show
    if field is None and not aggregate:
        measure = Measure()
    else:
        field = field or _there(shown, index).field
        if field is None:
            raise DefinitionProblem("A count of rows has no other aggregate.", hint="Choose a field.")
        usual = default_measure(model.schema[field])
        fitting = aggregates_for(model.schema[field].kind) if model.schema[field].level == "row" else [Aggregate.OWN]
        measure = usual if not aggregate else Measure(field=field, aggregate=Aggregate(aggregate))
        if measure.aggregate not in fitting:
            measure = usual
        if index < len(shown) and shown[index].field == field:
            measure = measure.model_copy(update={"format": shown[index].format, "name": shown[index].name})
    return _with(definition, show=_replaced(shown, index, measure) if index < len(shown) else (*shown, measure))


@edit
def set_formula(
    definition: ChartDefinition, model: Model, index: Index, formula: str, name: str = ""
) -> ChartDefinition:
    """Show a formula of this chart's own, written with the fields' names; an index at the end adds a measure."""
    shown = definition.measures if index < len(definition.measures) else definition.show
    measure = Measure(formula=with_ids(formula, model.schema), name=name.strip()[:200])
    measure_node(measure, model.schema, model.parameters)
    if index < len(shown):
        measure = measure.model_copy(update={"format": shown[index].format, "total": shown[index].total})
    return _with(definition, show=_replaced(shown, index, measure) if index < len(shown) else (*shown, measure))


@edit
def vary_measure(definition: ChartDefinition, model: Model, index: Index, how: str) -> ChartDefinition:
    """Show a variation of a measure behind it: its growth, share, rank, running total and so on."""
    shown = definition.measures
    if how not in {each.key for each in VARIATIONS}:
        raise DefinitionProblem("There is no such variation.", hint="Choose one from the list.")
    measure = vary(_there(shown, index), how, definition.groups, model.schema)
    definition = _renumbered(definition, [*range(index + 1), *range(index + 2, len(shown) + 1)])
    return _with(definition, show=(*shown[: index + 1], measure, *shown[index + 1 :]))


def _renumbered(definition: ChartDefinition, now: list[int | None]) -> ChartDefinition:
    """The layers, references and looks of measures that stand elsewhere `now`, by where they stood; without those of
    measures that are gone."""
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
    return _with(definition, layers=tuple(layers), references=tuple(references), look=look)


@edit
def move(
    definition: ChartDefinition,
    model: Model,
    clause: Literal["show", "by", "panels", "only", "compare", "layer"],
    index: Index,
    to: Index,
) -> ChartDefinition:
    """Put an entry of a clause before another one, or after it if it stood before it."""
    if clause == "layer":
        return move_layer(definition, model, index, to)
    name = {"compare": "references"}.get(clause, clause)
    items = definition.panels.by if clause == "panels" and definition.panels else getattr(definition, name) or ()
    order = list(range(len(items)))
    _there(items, max(index, to))
    order.insert(to, order.pop(index))
    moved = tuple(items[i] for i in order)
    if clause == "panels" and definition.panels:
        return _with(definition, panels=definition.panels.model_copy(update={"by": moved}))
    if clause == "show":
        definition = _renumbered(definition, [order.index(i) for i in range(len(order))])
    if clause == "by" and definition.sort and definition.sort.by != "measure":
        definition = _with(definition, sort=None)
    return _with(definition, **{name: moved})


@edit
def order_series(definition: ChartDefinition, model: Model, values: tuple[Value, ...] = ()) -> ChartDefinition:
    """Put the series into an order of their own, by the values that make them; nothing is the usual order."""
    return _with(definition, series_order=values)


@edit
def set_total(
    definition: ChartDefinition, model: Model, index: Index, total: Total | Literal[""] = ""
) -> ChartDefinition:
    """How a measure's totals are worked out; empty goes back to the field's own way."""
    measure = _there(definition.measures, index).model_copy(update={"total": total or None})
    return _with(definition, show=_replaced(definition.measures, index, measure))


@edit
def set_aligned(
    definition: ChartDefinition,
    model: Model,
    measure: Measure | None = None,
    low: float | None = None,
    formula: str = "",
) -> ChartDefinition:
    """Count the time axis from the first period in which a measure reached a
    number, or a test held; nothing ends it."""
    if measure is not None and low is not None:
        formula = f"{measure_formula(measure)} >= {low:.15g}"
    elif formula:
        formula = with_ids(formula, model.schema)
    if formula:
        measure_node(Measure(formula=f"since({formula})"), model.schema, model.parameters)
    return _with(definition, aligned=formula)


@edit
def set_totals(definition: ChartDefinition, model: Model, totals: str) -> ChartDefinition:
    return _with(definition, totals=totals)


@edit
def set_reference(
    definition: ChartDefinition, model: Model, reference: Reference, index: Index | None = None
) -> ChartDefinition:
    """Hold the marks against something, or change what they are held against at a position."""
    if reference.parameter:
        number_set(reference.parameter, model.parameters)
    if reference.of == "formula":
        reference = reference.model_copy(update={"formula": _compared(reference.formula, model)})
    if index is None or index >= len(definition.references):
        return _with(definition, references=(*definition.references, reference))
    return _with(definition, references=_replaced(definition.references, index, reference))


def _compared(text: str, model: Model) -> str:
    """A formula to compare with, as it is stored. Raises VedutaError if it is not a number."""
    formula = with_ids(text, model.schema)
    if not _is_number(Measure(formula=formula), model):
        raise DefinitionProblem("Numbers are compared with a number.", hint="Write a formula that is one.")
    return formula


def _is_number(measure: Measure, model: Model) -> bool:
    kind = measure_node(measure, model.schema, model.parameters, any_kind=True).kind
    return kind is not None and kind.is_number


@edit
def set_look(definition: ChartDefinition, model: Model, part: PartName, changes: dict[str, Any]) -> ChartDefinition:
    """Set how a part looks; a setting of null, and a part of which all are, goes back to the usual. Raises
    DefinitionProblem for what cannot be set so."""
    now = getattr(definition.look, part)
    usual = type(now)()
    set_to = {name: getattr(usual, name, None) if value is None else value for name, value in changes.items()}
    try:
        changed = type(now).model_validate(now.model_dump() | set_to)
    except ValidationError as problem:
        why = problem.errors()[0]["msg"].removeprefix("Value error, ")
        raise DefinitionProblem(f"That cannot be set: {why}.", where=part, hint="Choose another.") from None
    return _with(definition, look=definition.look.model_copy(update={part: changed}))


@edit
def set_column(
    definition: ChartDefinition,
    model: Model,
    index: Index,
    draws: Literal["", "bar", "shade"] | None = None,
    grain: Grain | Literal[""] | None = None,
) -> ChartDefinition:
    """What the cells of a measure draw in a table, and a small line by the main date at a grain; "" is nothing."""
    _there(definition.measures, index)
    column = definition.look.column(index)
    if draws is not None:
        column = column.model_copy(update={"draws": draws})
    if grain is not None:
        column = column.model_copy(update={"trend": _trend(model, grain) if grain else None})
    others = [each for each in definition.look.columns if each.measure != index]
    if grain:  # all small lines of a table are by the same
        others = [each.model_copy(update={"trend": each.trend and column.trend}) for each in others]
    kept = [each for each in (*others, column) if each != ColumnLook(measure=each.measure)]
    return _with(definition, look=definition.look.model_copy(update={"columns": tuple(kept)}))


def _trend(model: Model, grain: Grain) -> Grouping:
    """The first date of the model at a grain. Raises DefinitionProblem if it has none."""
    dated = next((field for field in model.offered if field.kind.is_date and field.level == "row"), None)
    if dated is None:
        raise DefinitionProblem("There is no date to draw a line by.", hint="Add one to the dataset or its model.")
    return grouping_for(dated, grain)


@edit
def set_value(
    definition: ChartDefinition, model: Model, parameter: str, values: list[Any] | None = None
) -> ChartDefinition:
    """Set a parameter of the model for this chart; no value is no limit."""
    parameters = {each.id: each for each in model.definition.parameters}
    if parameter not in parameters:
        raise DefinitionProblem(f"There is no parameter :{parameter} any more.", hint="Load the page again.")
    set_to(parameters[parameter], values)
    return _with(definition, values=definition.values | {parameter: values or None})


@edit
def style_measure(
    definition: ChartDefinition,
    model: Model,
    index: Index,
    name: str | None = None,
    number_format: dict[str, Any] | None = None,
) -> ChartDefinition:
    """Give a measure a name of its own or a number format; an empty one goes back to the field's."""
    measure = _there(definition.measures, index)
    changes: dict[str, Any] = {}
    if name is not None:
        changes["name"] = name.strip()
    if number_format is not None:
        changes["format"] = NumberFormat(**number_format) if number_format else None
    return _with(definition, show=_replaced(definition.measures, index, measure.model_copy(update=changes)))


@edit
def set_group(
    definition: ChartDefinition,
    model: Model,
    clause: Literal["by", "split", "panels"],
    index: Index = 0,
    field: str = "",
    grain: Grain | Literal[""] = "",
    width: Annotated[float, Attribute(ge=0)] | None = None,
    classes: Annotated[int, Attribute(gt=0, le=MOST_CLASSES)] | None = None,
) -> ChartDefinition:
    """Group by another field, at another grain or in classes, of a width or so many; a width of 0 is each value by
    itself. An index at the end adds a dimension."""
    old = group_of(definition, clause, index)
    name = field or (old.field if old else "")
    if not name:
        raise DefinitionProblem("Which field it is grouped by is missing.", hint="Choose one from the list.")
    if classes:
        group = model.classes(name, classes)
    elif width is not None:
        group = _in_classes(model, name, width)
    else:
        group = grouping_for(model.schema[name], grain) if grain else model.grouping(name)
    if clause == "split":
        return _with(definition, split=group)
    if clause == "panels":
        return _in_panels(definition, group, index)
    by = _replaced(definition.by, index, group) if old else (*definition.by, group)
    sort = definition.sort
    if index == 0 and sort and (sort.by == "own" or (sort.by == "time") != bool(group.grain)) and sort.by != "measure":
        sort = None
    return _with(definition, by=by, sort=sort)


def _in_classes(model: Model, name: str, width: float) -> Grouping:
    """A field in classes of a width, or each of its values. Raises DefinitionProblem for a width that does not suit."""
    field, facts = model.schema[name], model.facts(name)
    if not width:
        return Grouping(field=name)
    if field.kind is Kind.WHOLE and width != int(width):
        raise DefinitionProblem(f"{field.name} are whole numbers.", hint="Make classes a whole number wide.")
    if facts.lowest is not None and (facts.highest - facts.lowest) / width > MOST_CLASSES:
        raise DefinitionProblem(
            f"That would be more than {MOST_CLASSES} classes.",
            hint=f"{field.name} goes from {facts.lowest:,.6g} to {facts.highest:,.6g}: make them wider.",
        )
    return Grouping(field=name, width=width)


@edit
def set_panels(
    definition: ChartDefinition,
    model: Model,
    arranged: Literal["", "wrapped", "beside", "below"] = "",
    scales: Literal["", "common", "values", "own"] = "",
) -> ChartDefinition:
    """How panels are arranged, and whether they have scales of their own."""
    if definition.panels is None:
        raise DefinitionProblem("The chart has no panels any more.", hint="Choose a field for them first.")
    changes = {name: value for name, value in (("arranged", arranged), ("scales", scales)) if value}
    return _with(definition, panels=definition.panels.model_copy(update=changes))


@edit
def swap(definition: ChartDefinition, model: Model, index: Index = 0) -> ChartDefinition:
    """Exchange a `by` dimension with the split, or with the one after it when there is no split."""
    sort = definition.sort if definition.sort and definition.sort.by == "measure" else None
    if definition.split:
        by = _replaced(definition.by, index, definition.split) if definition.by else (definition.split,)
        return _with(definition, by=by, split=_there(definition.by, index) if definition.by else None, sort=sort)
    _there(definition.by, index + 1)
    swapped = list(definition.by)
    swapped[index], swapped[index + 1] = swapped[index + 1], swapped[index]
    return _with(definition, by=tuple(swapped), sort=sort)


@edit
def set_kind(
    definition: ChartDefinition,
    model: Model,
    kind: KindName | Literal[""] | None = None,
) -> ChartDefinition:
    """Draw it another way; the fields and the settings stay. A specification of one's own begins with how it is drawn
    now."""
    if kind:
        kind_named(kind)
    settings, now = definition.settings, choose_kind(definition, model)[0]
    if kind == Own.name and now.name != Own.name:
        settings = {**settings, "marks_of": now.name}
    return _with(definition, kind=kind or None, settings=settings)


@edit
def set_specification(definition: ChartDefinition, model: Model, text: str) -> ChartDefinition:
    """Draw what is written in the open chart grammar. Raises DefinitionProblem with the line of what is wrong."""
    checked(text)
    return _with(definition, kind=Own.name, specification=text)


@edit
def set_setting(
    definition: ChartDefinition, model: Model, name: KindName, value: SettingValue | None = None
) -> ChartDefinition:
    """Set something about how it is drawn; nothing goes back to the usual. Raises DefinitionProblem for what the kind
    it is drawn as does not know."""
    kind = choose_kind(definition, model)[0]
    others = {key: kept for key, kept in definition.settings.items() if key != name}
    changed = _with(definition, settings=others if value is None else {**others, name: value})
    if name not in kind.settings.model_fields or (value is not None and getattr(kind.set(changed), name) != value):
        raise DefinitionProblem(f"A {kind.title} cannot be set to that.", where=name, hint="Load the page again.")
    return changed


@edit
def set_filter(
    definition: ChartDefinition, model: Model, filter: Filter, index: Index | None = None
) -> ChartDefinition:
    """Add a filter, or put it in the place of another."""
    for field in filter.fields():
        model.schema[field]
    if index is None or index >= len(definition.only):
        return _with(definition, only=(*definition.only, filter))
    return _with(definition, only=_replaced(definition.only, index, filter))


@edit
def set_keep(definition: ChartDefinition, model: Model, keep: Keep) -> ChartDefinition:
    return _with(definition, keep=keep)


@edit
def set_sort(definition: ChartDefinition, model: Model, sort: Sort) -> ChartDefinition:
    return _with(definition, sort=sort)


@edit
def sort_by_column(definition: ChartDefinition, model: Model, column: str) -> ChartDefinition:
    """Sort by a column of the chart's rows, such as "d0" or "m1"; downwards with a "-" before it."""
    sort = sort_of_column(definition, column)
    if sort is None:
        raise DefinitionProblem("The chart cannot be sorted by that column.", hint="Choose another one.")
    return _with(definition, sort=sort)


@edit
def set_title(definition: ChartDefinition, model: Model, title: str) -> ChartDefinition:
    return _with(definition, title=title.strip())


def _layers(definition: ChartDefinition, model: Model) -> list[Layer]:
    """The layers that the chart is drawn in now."""
    kind = choose_kind(definition, model)[0]
    return list(kind.layers(definition) or kind_named("layers").layers(definition))


def _in_layers(definition: ChartDefinition, layers: list[Layer], model: Model) -> ChartDefinition:
    """The chart drawn in these layers, lying if it lay before."""
    lies = choose_kind(definition, model)[0].lies(definition)
    settings = {**definition.settings, "direction": "lying" if lies else "upright"}
    return _with(definition, kind="layers", layers=tuple(layers), settings=settings)


@edit
def draw_measure(
    definition: ChartDefinition, model: Model, index: Index, how: How, axis: Literal["first", "second"] = "first"
) -> ChartDefinition:
    """Draw a measure its own way; the others stay as they are. Bars and areas of several measures share a layer, behind
    the others."""
    _there(definition.measures, index)
    layers = []
    for layer in _layers(definition, model):
        others = tuple(i for i in layer.measures if i != index)
        if layer.how in BETWEEN_TWO or others == layer.measures:
            layers.append(layer)
        elif others:
            layers.append(layer.model_copy(update={"measures": others}))
    new = Layer(measures=(index,), how=how, axis=axis)
    same = [n for n, layer in enumerate(layers) if (layer.how, layer.axis) == (how, axis) and how in FILLING]
    if same:
        measures = tuple(sorted((*layers[same[0]].measures, index)))
        layers[same[0]] = layers[same[0]].model_copy(update={"measures": measures})
    else:
        layers = [new, *layers] if how in FILLING else [*layers, new]
    return _in_layers(definition, layers, model)


@edit
def set_layer(
    definition: ChartDefinition,
    model: Model,
    index: Index,
    how: How | None = None,
    axis: Literal["first", "second"] | None = None,
    colour: Colour | None = None,
    test: str | None = None,
    other: Colour | None = None,
    said: str | None = None,
    other_said: str | None = None,
    shade: Measure | Literal[""] | None = None,
    steps: Annotated[int, Attribute(ge=0, le=MOST_STEPS)] | None = None,
    dash: Literal["", "solid", "dashed", "dotted"] | None = None,
    width: float | Literal[""] | None = None,
    size: float | Literal[""] | None = None,
    opacity: float | Literal[""] | None = None,
) -> ChartDefinition:
    """Change how a layer is drawn; an empty value goes back to the usual. A test is a formula over the chart's cells,
    written with the fields' names; a layer has a test, or a shade. Raises DefinitionProblem for a test that is not yes
    or no, and a shade that is not a number."""
    layers = _layers(definition, model)
    layer = _there(tuple(layers), index)
    sent = {"how": how, "axis": axis, "colour": colour, "other": other, "dash": dash, "steps": steps}
    sent |= {"said": said and said.strip(), "other_said": other_said and other_said.strip()}
    changes: dict[str, Any] = {name: value for name, value in sent.items() if value is not None}
    numbers = {"width": width, "size": size, "opacity": opacity}
    changes |= {name: None if value == "" else value for name, value in numbers.items() if value is not None}
    if test is not None:
        changes["test"] = _tested(test, model)
    if shade is not None:
        changes |= {"shade": _shaded(shade, model), "test": ""}
    elif changes.get("test"):
        changes["shade"] = None
    layers[index] = layer.model_copy(update=changes)
    return _in_layers(definition, layers, model)


def _tested(test: str, model: Model) -> str:
    """A test as it is stored. Raises DefinitionProblem if it is not yes or no."""
    if not test.strip():
        return ""
    formula = with_ids(test, model.schema)
    node = measure_node(Measure(formula=formula), model.schema, model.parameters, any_kind=True)
    if node.kind is not Kind.YES_NO:
        raise DefinitionProblem(
            "A colour goes by a test, which is yes or no.", hint="Compare two numbers, such as fares >= 1000."
        )
    return formula


def _shaded(by: Measure | Literal[""], model: Model) -> Measure | None:
    """What a shade is of. Raises DefinitionProblem if it is not a number."""
    if by == "":
        return None
    if not _is_number(by, model):
        raise DefinitionProblem("A shade goes by a number.", hint="Choose a measure that is one.")
    return by


@edit
def add_layer(definition: ChartDefinition, model: Model, how: How, measures: tuple[Index, ...]) -> ChartDefinition:
    """Add a layer in front of the others, or behind them if it fills its ground or links dots."""
    for index in measures:
        _there(definition.measures, index)
    layers, layer = _layers(definition, model), Layer(measures=measures, how=how)
    behind = how in FILLING or how in BETWEEN_TWO
    return _in_layers(definition, [layer, *layers] if behind else [*layers, layer], model)


@edit
def move_layer(definition: ChartDefinition, model: Model, index: Index, to: Index) -> ChartDefinition:
    """Draw a layer earlier, behind others, or later, in front of them."""
    layers = _layers(definition, model)
    layer = _there(tuple(layers), index)
    layers.pop(index)
    layers.insert(to, layer)
    return _in_layers(definition, layers, model)


@edit
def remove_layer(definition: ChartDefinition, model: Model, index: Index) -> ChartDefinition:
    """Take a layer away. A measure that no other layer shows goes with it."""
    layers = _layers(definition, model)
    gone = _there(tuple(layers), index)
    layers.pop(index)
    definition = _in_layers(definition, layers, model)
    drawn = {i for layer in layers for i in layer.measures}
    for measure in sorted(set(gone.measures) - drawn, reverse=True):
        if len(definition.measures) > 1:
            definition = remove(definition, model, "show", measure)
    return definition


def group_of(definition: ChartDefinition, clause: str, index: int) -> Grouping | None:
    """The dimension at a position in the sentence, if there is one."""
    if clause == "split":
        return definition.split
    if clause == "panels":
        return definition.panels.by[index] if definition.panels and index < len(definition.panels.by) else None
    return definition.by[index] if clause == "by" and index < len(definition.by) else None

"""Edits of the clauses of a sentence."""

from __future__ import annotations

import datetime as dt
from typing import Annotated, Any, Literal, TypeGuard

from pydantic import Field

from veduta.core.calendar import Grain, Grouping, make_grouping
from veduta.core.chart.choose import choose_kind
from veduta.core.chart.definition import (
    ChartDefinition,
    Drilling,
    KindName,
    Panels,
    ReferenceMark,
    SettingValue,
    make_default_measure,
    sort_of_column,
)
from veduta.core.chart.edits.registry import Index, change_definition, edit, get_item, is_number, replace_item
from veduta.core.chart.grammar.checking import check_specification
from veduta.core.chart.kinds import get_kind
from veduta.core.chart.kinds.own_specification import OwnSpecification
from veduta.core.chart.mark_filters import make_marks_filter
from veduta.core.chart.rewriting import renumber_measures
from veduta.core.chart.texts import store_text
from veduta.core.chart.variations import VARIATIONS, measure_formula, vary
from veduta.core.data.fields import Aggregate, DataType, FieldRole, Frozen, NumberFormat, Total, list_aggregates
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.measures import replace_names_with_ids
from veduta.core.model.model import Model
from veduta.core.model.parameters import get_set_number, set_to
from veduta.core.query.filters import DatesFilter, Filter, ListFilter, MembershipFilter
from veduta.core.query.measures import Measure, TopN, measure_node
from veduta.core.query.query import Sort
from veduta.core.value_classes import MOST_CLASSES

FEW = 12
MOST_PANEL_DIMENSIONS = 2
Clause = Literal[
    "conditional",
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
    "periods",
    "with",
    "drill",
]


def _tidy(definition: ChartDefinition) -> ChartDefinition:
    """Without the parts that have lost what they refer to: a keep or own order of a dimension that is gone."""
    if definition.keep and not (definition.split if definition.keep.of == "split" else definition.by):
        definition = change_definition(definition, keep=None)
    return definition if definition.by else change_definition(definition, sort=None)


@edit
def add_field(
    definition: ChartDefinition,
    model: Model,
    field: str,
    to: Literal["", "show", "by", "split", "panels", "dimension"] = "",
) -> ChartDefinition:
    """Put a field into a clause, or without `to` where it makes most sense."""
    added = model.schema[field]
    to = to or ("show" if added.role is FieldRole.MEASURE else "dimension")
    if to == "show":
        measure = make_default_measure(added)
        if any(measure.is_same_number(shown) for shown in definition.show):
            return definition
        return change_definition(definition, show=(*definition.show, measure))
    group = model.make_grouping(field)
    if to == "split":
        return change_definition(definition, split=group)
    if to == "panels":
        return _add_panel_dimension(definition, group, 0 if definition.panels is None else MOST_PANEL_DIMENSIONS - 1)
    if group in definition.groups:
        return definition
    if to == "by" or not definition.by:
        return change_definition(
            definition, by=(*definition.by, group), sort=definition.sort if definition.by else None
        )
    first = definition.by[0]
    if (
        added.kind.is_date
        and len(definition.by) == 1
        and not model.schema[first.field].kind.is_date
        and not definition.split
    ):
        return change_definition(definition, by=(group,), split=first, keep=None, sort=None)
    if not definition.split and len(definition.by) == 1 and model.get_facts(field).distinct <= FEW:
        return change_definition(definition, split=group)
    return change_definition(definition, by=(*definition.by, group))


@edit
def remove(definition: ChartDefinition, model: Model, clause: Clause, index: Index = 0) -> ChartDefinition:
    """Take one part out of a clause."""
    if clause in ("show", "by", "only"):
        items = getattr(definition, clause)
        definition = change_definition(definition, **{clause: (*items[:index], *items[index + 1 :])})
        if clause == "show":
            definition = renumber_measures(definition, [*range(index), None, *range(index, len(items) - 1)])
        return _tidy(definition)
    if clause == "panels":
        return _drop_panel_dimension(definition, index)
    if clause == "compare":
        references = definition.references
        return change_definition(definition, references=(*references[:index], *references[index + 1 :]))
    if clause == "conditional":
        return change_definition(
            definition,
            conditional=(*definition.conditional[:index], *definition.conditional[index + 1 :]),
        )
    if clause == "with":
        return change_definition(definition, values={})
    if clause == "drill":
        return change_definition(definition, drill=Drilling())
    if clause == "periods":
        return change_definition(definition, own_periods=False)
    emptied = {
        "split": None,
        "keep": None,
        "sort": None,
        "as": None,
        "title": "",
        "totals": "",
        "aligned": "",
    }[clause]
    return _tidy(change_definition(definition, **{"kind" if clause == "as" else clause: emptied}))


def _add_panel_dimension(definition: ChartDefinition, group: Grouping, index: int) -> ChartDefinition:
    """With a dimension that makes panels, in the place of another if there is one at the position."""
    if definition.panels is None:
        return change_definition(definition, panels=Panels(by=(group,)))
    by = definition.panels.by
    by = replace_item(by, index, group) if index < len(by) else (*by, group)
    return change_definition(definition, panels=definition.panels.model_copy(update={"by": by[:MOST_PANEL_DIMENSIONS]}))


def _drop_panel_dimension(definition: ChartDefinition, index: int) -> ChartDefinition:
    panels = definition.panels
    by = (*panels.by[:index], *panels.by[index + 1 :]) if panels else ()
    return change_definition(definition, panels=panels.model_copy(update={"by": by}) if panels and by else None)


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
        field = field or get_item(shown, index).field
        if field is None:
            raise DefinitionProblem("A count of rows has no other aggregate.", hint="Choose a field.")
        usual = make_default_measure(model.schema[field])
        fitting = list_aggregates(model.schema[field].kind) if model.schema[field].level == "row" else [Aggregate.OWN]
        measure = usual if not aggregate else Measure(field=field, aggregate=Aggregate(aggregate))
        if measure.aggregate not in fitting:
            measure = usual
        if index < len(shown) and shown[index].field == field:
            measure = measure.model_copy(update={"format": shown[index].format, "name": shown[index].name})
    return change_definition(
        definition, show=replace_item(shown, index, measure) if index < len(shown) else (*shown, measure)
    )


@edit
def set_formula(
    definition: ChartDefinition, model: Model, index: Index, formula: str, name: str = ""
) -> ChartDefinition:
    """Show a formula of this chart's own, written with the fields' names; an index at the end adds a measure."""
    shown = definition.measures if index < len(definition.measures) else definition.show
    measure = Measure(formula=replace_names_with_ids(formula, model.schema), name=name.strip()[:200])
    measure_node(measure, model.schema, model.parameters)
    if index < len(shown):
        measure = measure.model_copy(update={"format": shown[index].format, "total": shown[index].total})
    return change_definition(
        definition, show=replace_item(shown, index, measure) if index < len(shown) else (*shown, measure)
    )


@edit
def vary_measure(definition: ChartDefinition, model: Model, index: Index, how: str) -> ChartDefinition:
    """Show a variation of a measure behind it: its growth, share, rank, running total and so on."""
    shown = definition.measures
    if how not in {each.key for each in VARIATIONS}:
        raise DefinitionProblem("There is no such variation.", hint="Choose one from the list.")
    measure = vary(get_item(shown, index), how, definition.groups, model.schema)
    definition = renumber_measures(definition, [*range(index + 1), *range(index + 2, len(shown) + 1)])
    return change_definition(definition, show=(*shown[: index + 1], measure, *shown[index + 1 :]))


@edit
def set_total(
    definition: ChartDefinition, model: Model, index: Index, total: Total | Literal[""] = ""
) -> ChartDefinition:
    """How a measure's totals are worked out; empty goes back to the field's own way."""
    measure = get_item(definition.measures, index).model_copy(update={"total": total or None})
    return change_definition(definition, show=replace_item(definition.measures, index, measure))


@edit
def set_own_periods(definition: ChartDefinition, model: Model, own: bool) -> ChartDefinition:
    """Count each of two tables over its own periods, or both over those that they have in common."""
    return change_definition(definition, own_periods=own)


@edit
def set_aligned(
    definition: ChartDefinition,
    model: Model,
    measure: Measure | None = None,
    low: float | None = None,
    formula: str = "",
) -> ChartDefinition:
    """Count the time axis from the first period in which a measure reached a number or passed a test.

    Once begun, it never ends."""
    if measure is not None and low is not None:
        formula = f"{measure_formula(measure)} >= {low:.15g}"
    elif formula:
        formula = replace_names_with_ids(formula, model.schema)
    if formula:
        measure_node(Measure(formula=f"since({formula})"), model.schema, model.parameters)
    return change_definition(definition, aligned=formula)


@edit
def set_totals(definition: ChartDefinition, model: Model, totals: str) -> ChartDefinition:
    return change_definition(definition, totals=totals)


@edit
def set_reference(
    definition: ChartDefinition, model: Model, reference: ReferenceMark, index: Index | None = None
) -> ChartDefinition:
    """Hold the marks against something, or change what they are held against at a position."""
    if reference.parameter:
        get_set_number(reference.parameter, model.parameters)
    if reference.of == "formula":
        reference = reference.model_copy(update={"formula": _parse_comparison(reference.formula, model)})
    if index is None or index >= len(definition.references):
        return change_definition(definition, references=(*definition.references, reference))
    return change_definition(definition, references=replace_item(definition.references, index, reference))


def _parse_comparison(text: str, model: Model) -> str:
    """A formula to compare with, as it is stored. Raises VedutaError if it is not a number."""
    formula = replace_names_with_ids(text, model.schema)
    if not is_number(Measure(formula=formula), model):
        raise DefinitionProblem("Numbers are compared with a number.", hint="Write a formula that is one.")
    return formula


@edit
def set_value(
    definition: ChartDefinition, model: Model, parameter: str, values: list[Any] | None = None
) -> ChartDefinition:
    """Set a parameter of the model for this chart; no value is no limit."""
    parameters = {each.id: each for each in model.definition.parameters}
    if parameter not in parameters:
        raise DefinitionProblem(f"There is no parameter :{parameter} any more.", hint="Load the page again.")
    set_to(parameters[parameter], values)
    return change_definition(definition, values=definition.values | {parameter: values or None})


@edit
def style_measure(
    definition: ChartDefinition,
    model: Model,
    index: Index,
    name: str | None = None,
    number_format: dict[str, Any] | None = None,
) -> ChartDefinition:
    """Give a measure a name of its own or a number format; an empty one goes back to the field's."""
    measure = get_item(definition.measures, index)
    changes: dict[str, Any] = {}
    if name is not None:
        changes["name"] = name.strip()
    if number_format is not None:
        changes["format"] = NumberFormat(**number_format) if number_format else None
    return change_definition(
        definition, show=replace_item(definition.measures, index, measure.model_copy(update=changes))
    )


@edit
def set_group(
    definition: ChartDefinition,
    model: Model,
    clause: Literal["by", "split", "panels"],
    index: Index = 0,
    field: str = "",
    grain: Grain | Literal[""] = "",
    width: Annotated[float, Field(ge=0)] | None = None,
    classes: Annotated[int, Field(gt=0, le=MOST_CLASSES)] | None = None,
) -> ChartDefinition:
    """Group by another field, at another grain or in classes of a width or a number.

    A width of 0 keeps each value by itself. An index past the end adds a dimension."""
    old = group_of(definition, clause, index)
    name = field or (old.field if old else "")
    if not name:
        raise DefinitionProblem("Which field it is grouped by is missing.", hint="Choose one from the list.")
    if classes:
        group = model.make_classes(name, classes)
    elif width is not None:
        group = _make_classes(model, name, width)
    else:
        group = make_grouping(model.schema[name], grain) if grain else model.make_grouping(name)
    if clause == "split":
        return change_definition(definition, split=group)
    if clause == "panels":
        return _add_panel_dimension(definition, group, index)
    by = replace_item(definition.by, index, group) if old else (*definition.by, group)
    sort = definition.sort
    if index == 0 and sort and (sort.by == "own" or (sort.by == "time") != bool(group.grain)) and sort.by != "measure":
        sort = None
    return change_definition(definition, by=by, sort=sort)


def _make_classes(model: Model, name: str, width: float) -> Grouping:
    """A field in classes of a width, or each of its values. Raises DefinitionProblem for a width that does not suit."""
    field, facts = model.schema[name], model.get_facts(name)
    if not width:
        return Grouping(field=name)
    if field.kind is DataType.WHOLE and width != int(width):
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
    return change_definition(definition, panels=definition.panels.model_copy(update=changes))


@edit
def swap(definition: ChartDefinition, model: Model, index: Index = 0) -> ChartDefinition:
    """Exchange a `by` dimension with the split, or with the one after it when there is no split."""
    sort = definition.sort if definition.sort and definition.sort.by == "measure" else None
    if definition.split:
        by = replace_item(definition.by, index, definition.split) if definition.by else (definition.split,)
        return change_definition(
            definition, by=by, split=get_item(definition.by, index) if definition.by else None, sort=sort
        )
    get_item(definition.by, index + 1)
    swapped = list(definition.by)
    swapped[index], swapped[index + 1] = swapped[index + 1], swapped[index]
    return change_definition(definition, by=tuple(swapped), sort=sort)


@edit
def set_kind(
    definition: ChartDefinition,
    model: Model,
    kind: KindName | Literal[""] | None = None,
) -> ChartDefinition:
    """Draw it another way; the fields and the settings stay.

    A specification of one's own begins with how it is drawn now."""
    if kind:
        get_kind(kind)
    settings, now = definition.settings, choose_kind(definition, model)[0]
    if kind == OwnSpecification.name and now.name != OwnSpecification.name:
        settings = {**settings, "marks_of": now.name}
    return change_definition(definition, kind=kind or None, settings=settings)


@edit
def set_specification(definition: ChartDefinition, model: Model, text: str) -> ChartDefinition:
    """Draw what is written in the open chart grammar. Raises DefinitionProblem with the line of what is wrong."""
    check_specification(text)
    return change_definition(definition, kind=OwnSpecification.name, specification=text)


@edit
def set_setting(
    definition: ChartDefinition, model: Model, name: KindName, value: SettingValue | None = None
) -> ChartDefinition:
    """Set something about how it is drawn; nothing goes back to the usual.

    Raises DefinitionProblem for what the kind it is drawn as does not know."""
    kind = choose_kind(definition, model)[0]
    others = {key: kept for key, kept in definition.settings.items() if key != name}
    changed = change_definition(definition, settings=others if value is None else {**others, name: value})
    if name not in kind.settings.model_fields or (value is not None and getattr(kind.set(changed), name) != value):
        raise DefinitionProblem(f"A {kind.title} cannot be set to that.", where=name, hint="Load the page again.")
    return changed


class Within(Frozen):
    """The days of which rows are asked, of a date; either may be open."""

    field: str = ""
    start: dt.date | None = None
    end: dt.date | None = None


@edit
def set_filter(
    definition: ChartDefinition,
    model: Model,
    filter: Filter,
    index: Index | None = None,
    formula: str = "",
    within: Within | None = None,
) -> ChartDefinition:
    """Add a filter, or put it in the place of another.

    What asks by a measure may ask by a `formula` instead, and only of the rows `within` some days."""
    if isinstance(filter, MembershipFilter):
        filter = _make_membership(filter, model, formula.strip(), within)
    for field in filter.list_fields():
        model.schema[field]
    if index is None or index >= len(definition.only):
        return change_definition(definition, only=(*definition.only, filter))
    return change_definition(definition, only=replace_item(definition.only, index, filter))


def _make_membership(filter: MembershipFilter, model: Model, formula: str, within: Within | None) -> MembershipFilter:
    changes: dict[str, Any] = {}
    if formula:
        measure = Measure(formula=replace_names_with_ids(formula, model.schema))
        measure_node(measure, model.schema, model.parameters)
        by = {"keep": filter.keep.model_copy(update={"by": measure})} if filter.keep else {"measure": measure}
        changes |= by
    if within is not None:
        days = DatesFilter(field=within.field, start=within.start, end=within.end)
        changes["filters"] = (days,) if within.start or within.end else ()
    return filter.model_copy(update=changes)


@edit
def only_marks(
    definition: ChartDefinition, model: Model, points: list[list[Any]], exclude: bool = False
) -> ChartDefinition:
    """Filter a chart to some of its marks, or to all but them.

    Values of an only dimension go into the list filter that is there; marks of several are filtered as marks."""
    made = make_marks_filter(definition, points, exclude)
    if made is None:
        raise DefinitionProblem("These marks have no values of their own.", hint="Choose marks of a dimension.")
    if not isinstance(made, ListFilter):
        return change_definition(definition, only=(*definition.only, made))
    old = next((each for each in definition.only if _is_list_like(each, made)), None)
    if old is None:
        return change_definition(definition, only=(*definition.only, made))
    if exclude:
        made = made.model_copy(update={"values": tuple(dict.fromkeys([*old.values, *made.values]))})
    return change_definition(definition, only=replace_item(definition.only, definition.only.index(old), made))


def _is_list_like(filter_: Filter, alike: ListFilter) -> TypeGuard[ListFilter]:
    """Whether a filter is a list of values of the same dimension that lets pass, or leaves out, as another does."""
    if not isinstance(filter_, ListFilter) or filter_.parameter:
        return False
    return (filter_.field, filter_.grain, filter_.exclude) == (alike.field, alike.grain, alike.exclude)


@edit
def set_keep(definition: ChartDefinition, model: Model, keep: TopN) -> ChartDefinition:
    return change_definition(definition, keep=keep)


@edit
def set_sort(definition: ChartDefinition, model: Model, sort: Sort) -> ChartDefinition:
    return change_definition(definition, sort=sort)


@edit
def sort_by_column(definition: ChartDefinition, model: Model, column: str) -> ChartDefinition:
    """Sort by a column of the chart's rows, such as "d0" or "m1"; downwards with a "-" before it."""
    sort = sort_of_column(definition, column)
    if sort is None:
        raise DefinitionProblem("The chart cannot be sorted by that column.", hint="Choose another one.")
    return change_definition(definition, sort=sort)


@edit
def set_title(definition: ChartDefinition, model: Model, title: str) -> ChartDefinition:
    return change_definition(definition, title=store_text(title.strip(), model))


@edit
def set_note(definition: ChartDefinition, model: Model, note: str) -> ChartDefinition:
    return change_definition(definition, note=store_text(note.strip(), model))


@edit
def set_foot(definition: ChartDefinition, model: Model, foot: str) -> ChartDefinition:
    return change_definition(definition, foot=store_text(foot.strip(), model))


def group_of(definition: ChartDefinition, clause: str, index: int) -> Grouping | None:
    """The dimension at a position in the sentence, if there is one."""
    if clause == "split":
        return definition.split
    if clause == "panels":
        return definition.panels.by[index] if definition.panels and index < len(definition.panels.by) else None
    return definition.by[index] if clause == "by" and index < len(definition.by) else None

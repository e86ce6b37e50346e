"""Edits of the clauses of a sentence."""

from __future__ import annotations

import datetime as dt
from typing import Annotated, Any, Literal, TypeGuard

from pydantic import Field as Attribute

from veduta.core.calendar import Grain, Grouping, grouping_for
from veduta.core.chart.choose import choose_kind
from veduta.core.chart.definition import (
    ChartDefinition,
    Drilling,
    KindName,
    Panels,
    Reference,
    SettingValue,
    default_measure,
    sort_of_column,
)
from veduta.core.chart.edits.registry import Index, changed_by, edit, is_number, replaced, there
from veduta.core.chart.grammar.checking import checked
from veduta.core.chart.kinds import kind_named
from veduta.core.chart.kinds.own import Own
from veduta.core.chart.points import marks_filter
from veduta.core.chart.rewriting import renumbered
from veduta.core.chart.texts import stored
from veduta.core.chart.variations import VARIATIONS, measure_formula, vary
from veduta.core.classes import MOST_CLASSES
from veduta.core.data.fields import Aggregate, Frozen, Kind, NumberFormat, Role, Total, aggregates_for
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.measures import with_ids
from veduta.core.model.model import Model
from veduta.core.model.parameters import number_set, set_to
from veduta.core.query.filters import DatesFilter, Filter, ListFilter, MembershipFilter
from veduta.core.query.measures import Keep, Measure, measure_node
from veduta.core.query.query import Sort

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


def _tidied(definition: ChartDefinition) -> ChartDefinition:
    """Without the parts that have lost what they refer to: a keep or own order of a dimension that is gone."""
    if definition.keep and not (definition.split if definition.keep.of == "split" else definition.by):
        definition = changed_by(definition, keep=None)
    return definition if definition.by else changed_by(definition, sort=None)


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
        return changed_by(definition, show=(*definition.show, measure))
    group = model.grouping(field)
    if to == "split":
        return changed_by(definition, split=group)
    if to == "panels":
        return _in_panels(definition, group, 0 if definition.panels is None else MOST_PANEL_DIMENSIONS - 1)
    if group in definition.groups:
        return definition
    if to == "by" or not definition.by:
        return changed_by(definition, by=(*definition.by, group), sort=definition.sort if definition.by else None)
    first = definition.by[0]
    if (
        added.kind.is_date
        and len(definition.by) == 1
        and not model.schema[first.field].kind.is_date
        and not definition.split
    ):
        return changed_by(definition, by=(group,), split=first, keep=None, sort=None)
    if not definition.split and len(definition.by) == 1 and model.facts(field).distinct <= FEW:
        return changed_by(definition, split=group)
    return changed_by(definition, by=(*definition.by, group))


@edit
def remove(definition: ChartDefinition, model: Model, clause: Clause, index: Index = 0) -> ChartDefinition:
    """Take one part out of a clause."""
    if clause in ("show", "by", "only"):
        items = getattr(definition, clause)
        definition = changed_by(definition, **{clause: (*items[:index], *items[index + 1 :])})
        if clause == "show":
            definition = renumbered(definition, [*range(index), None, *range(index, len(items) - 1)])
        return _tidied(definition)
    if clause == "panels":
        return _without_panel_dimension(definition, index)
    if clause == "compare":
        references = definition.references
        return changed_by(definition, references=(*references[:index], *references[index + 1 :]))
    if clause == "conditional":
        return changed_by(
            definition,
            conditional=(*definition.conditional[:index], *definition.conditional[index + 1 :]),
        )
    if clause == "with":
        return changed_by(definition, values={})
    if clause == "drill":
        return changed_by(definition, drill=Drilling())
    if clause == "periods":
        return changed_by(definition, own_periods=False)
    emptied = {
        "split": None,
        "keep": None,
        "sort": None,
        "as": None,
        "title": "",
        "totals": "",
        "aligned": "",
    }[clause]
    return _tidied(changed_by(definition, **{"kind" if clause == "as" else clause: emptied}))


def _in_panels(definition: ChartDefinition, group: Grouping, index: int) -> ChartDefinition:
    """With a dimension that makes panels, in the place of another if there is one at the position."""
    if definition.panels is None:
        return changed_by(definition, panels=Panels(by=(group,)))
    by = definition.panels.by
    by = replaced(by, index, group) if index < len(by) else (*by, group)
    return changed_by(definition, panels=definition.panels.model_copy(update={"by": by[:MOST_PANEL_DIMENSIONS]}))


def _without_panel_dimension(definition: ChartDefinition, index: int) -> ChartDefinition:
    panels = definition.panels
    by = (*panels.by[:index], *panels.by[index + 1 :]) if panels else ()
    return changed_by(definition, panels=panels.model_copy(update={"by": by}) if panels and by else None)


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
        field = field or there(shown, index).field
        if field is None:
            raise DefinitionProblem("A count of rows has no other aggregate.", hint="Choose a field.")
        usual = default_measure(model.schema[field])
        fitting = aggregates_for(model.schema[field].kind) if model.schema[field].level == "row" else [Aggregate.OWN]
        measure = usual if not aggregate else Measure(field=field, aggregate=Aggregate(aggregate))
        if measure.aggregate not in fitting:
            measure = usual
        if index < len(shown) and shown[index].field == field:
            measure = measure.model_copy(update={"format": shown[index].format, "name": shown[index].name})
    return changed_by(definition, show=replaced(shown, index, measure) if index < len(shown) else (*shown, measure))


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
    return changed_by(definition, show=replaced(shown, index, measure) if index < len(shown) else (*shown, measure))


@edit
def vary_measure(definition: ChartDefinition, model: Model, index: Index, how: str) -> ChartDefinition:
    """Show a variation of a measure behind it: its growth, share, rank, running total and so on."""
    shown = definition.measures
    if how not in {each.key for each in VARIATIONS}:
        raise DefinitionProblem("There is no such variation.", hint="Choose one from the list.")
    measure = vary(there(shown, index), how, definition.groups, model.schema)
    definition = renumbered(definition, [*range(index + 1), *range(index + 2, len(shown) + 1)])
    return changed_by(definition, show=(*shown[: index + 1], measure, *shown[index + 1 :]))


@edit
def set_total(
    definition: ChartDefinition, model: Model, index: Index, total: Total | Literal[""] = ""
) -> ChartDefinition:
    """How a measure's totals are worked out; empty goes back to the field's own way."""
    measure = there(definition.measures, index).model_copy(update={"total": total or None})
    return changed_by(definition, show=replaced(definition.measures, index, measure))


@edit
def set_own_periods(definition: ChartDefinition, model: Model, own: bool) -> ChartDefinition:
    """Count each of two tables over its own periods, or both over those that they have in common."""
    return changed_by(definition, own_periods=own)


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
    return changed_by(definition, aligned=formula)


@edit
def set_totals(definition: ChartDefinition, model: Model, totals: str) -> ChartDefinition:
    return changed_by(definition, totals=totals)


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
        return changed_by(definition, references=(*definition.references, reference))
    return changed_by(definition, references=replaced(definition.references, index, reference))


def _compared(text: str, model: Model) -> str:
    """A formula to compare with, as it is stored. Raises VedutaError if it is not a number."""
    formula = with_ids(text, model.schema)
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
    return changed_by(definition, values=definition.values | {parameter: values or None})


@edit
def style_measure(
    definition: ChartDefinition,
    model: Model,
    index: Index,
    name: str | None = None,
    number_format: dict[str, Any] | None = None,
) -> ChartDefinition:
    """Give a measure a name of its own or a number format; an empty one goes back to the field's."""
    measure = there(definition.measures, index)
    changes: dict[str, Any] = {}
    if name is not None:
        changes["name"] = name.strip()
    if number_format is not None:
        changes["format"] = NumberFormat(**number_format) if number_format else None
    return changed_by(definition, show=replaced(definition.measures, index, measure.model_copy(update=changes)))


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
        return changed_by(definition, split=group)
    if clause == "panels":
        return _in_panels(definition, group, index)
    by = replaced(definition.by, index, group) if old else (*definition.by, group)
    sort = definition.sort
    if index == 0 and sort and (sort.by == "own" or (sort.by == "time") != bool(group.grain)) and sort.by != "measure":
        sort = None
    return changed_by(definition, by=by, sort=sort)


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
    return changed_by(definition, panels=definition.panels.model_copy(update=changes))


@edit
def swap(definition: ChartDefinition, model: Model, index: Index = 0) -> ChartDefinition:
    """Exchange a `by` dimension with the split, or with the one after it when there is no split."""
    sort = definition.sort if definition.sort and definition.sort.by == "measure" else None
    if definition.split:
        by = replaced(definition.by, index, definition.split) if definition.by else (definition.split,)
        return changed_by(definition, by=by, split=there(definition.by, index) if definition.by else None, sort=sort)
    there(definition.by, index + 1)
    swapped = list(definition.by)
    swapped[index], swapped[index + 1] = swapped[index + 1], swapped[index]
    return changed_by(definition, by=tuple(swapped), sort=sort)


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
    return changed_by(definition, kind=kind or None, settings=settings)


@edit
def set_specification(definition: ChartDefinition, model: Model, text: str) -> ChartDefinition:
    """Draw what is written in the open chart grammar. Raises DefinitionProblem with the line of what is wrong."""
    checked(text)
    return changed_by(definition, kind=Own.name, specification=text)


@edit
def set_setting(
    definition: ChartDefinition, model: Model, name: KindName, value: SettingValue | None = None
) -> ChartDefinition:
    """Set something about how it is drawn; nothing goes back to the usual. Raises DefinitionProblem for what the kind
    it is drawn as does not know."""
    kind = choose_kind(definition, model)[0]
    others = {key: kept for key, kept in definition.settings.items() if key != name}
    changed = changed_by(definition, settings=others if value is None else {**others, name: value})
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
    """Add a filter, or put it in the place of another. What asks by a measure may ask by a `formula` instead, and only
    of the rows `within` some days."""
    if isinstance(filter, MembershipFilter):
        filter = _asking(filter, model, formula.strip(), within)
    for field in filter.fields():
        model.schema[field]
    if index is None or index >= len(definition.only):
        return changed_by(definition, only=(*definition.only, filter))
    return changed_by(definition, only=replaced(definition.only, index, filter))


def _asking(filter: MembershipFilter, model: Model, formula: str, within: Within | None) -> MembershipFilter:
    changes: dict[str, Any] = {}
    if formula:
        measure = Measure(formula=with_ids(formula, model.schema))
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
    """Narrow a chart to some of its marks, or to all but them: by the values of its only dimension, which are listed
    with those of a list that is there, or else by the marks themselves."""
    made = marks_filter(definition, points, exclude)
    if made is None:
        raise DefinitionProblem("These marks have no values of their own.", hint="Choose marks of a dimension.")
    if not isinstance(made, ListFilter):
        return changed_by(definition, only=(*definition.only, made))
    old = next((each for each in definition.only if _is_list_like(each, made)), None)
    if old is None:
        return changed_by(definition, only=(*definition.only, made))
    if exclude:
        made = made.model_copy(update={"values": tuple(dict.fromkeys([*old.values, *made.values]))})
    return changed_by(definition, only=replaced(definition.only, definition.only.index(old), made))


def _is_list_like(filter_: Filter, alike: ListFilter) -> TypeGuard[ListFilter]:
    """Whether a filter is a list of values of the same dimension that lets pass, or leaves out, as another does."""
    if not isinstance(filter_, ListFilter) or filter_.parameter:
        return False
    return (filter_.field, filter_.grain, filter_.exclude) == (alike.field, alike.grain, alike.exclude)


@edit
def set_keep(definition: ChartDefinition, model: Model, keep: Keep) -> ChartDefinition:
    return changed_by(definition, keep=keep)


@edit
def set_sort(definition: ChartDefinition, model: Model, sort: Sort) -> ChartDefinition:
    return changed_by(definition, sort=sort)


@edit
def sort_by_column(definition: ChartDefinition, model: Model, column: str) -> ChartDefinition:
    """Sort by a column of the chart's rows, such as "d0" or "m1"; downwards with a "-" before it."""
    sort = sort_of_column(definition, column)
    if sort is None:
        raise DefinitionProblem("The chart cannot be sorted by that column.", hint="Choose another one.")
    return changed_by(definition, sort=sort)


@edit
def set_title(definition: ChartDefinition, model: Model, title: str) -> ChartDefinition:
    return changed_by(definition, title=stored(title.strip(), model))


@edit
def set_note(definition: ChartDefinition, model: Model, note: str) -> ChartDefinition:
    return changed_by(definition, note=stored(note.strip(), model))


@edit
def set_foot(definition: ChartDefinition, model: Model, foot: str) -> ChartDefinition:
    return changed_by(definition, foot=stored(foot.strip(), model))


def group_of(definition: ChartDefinition, clause: str, index: int) -> Grouping | None:
    """The dimension at a position in the sentence, if there is one."""
    if clause == "split":
        return definition.split
    if clause == "panels":
        return definition.panels.by[index] if definition.panels and index < len(definition.panels.by) else None
    return definition.by[index] if clause == "by" and index < len(definition.by) else None

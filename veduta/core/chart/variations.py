"""One-click variations of a measure: each writes a formula, which can be changed like any other."""

from __future__ import annotations

from dataclasses import dataclass

from veduta.core.calendar import Grouping
from veduta.core.data.fields import Aggregate, Schema
from veduta.core.formula.additivity import adds_up
from veduta.core.formula.functions import PERCENT
from veduta.core.formula.measures import Parameters
from veduta.core.phrases import join_names, lower_first
from veduta.core.query.filters import label_grouping
from veduta.core.query.measures import Measure, measure_node, measure_words


@dataclass(frozen=True)
class Variation:
    """A ready-made formula over a chart's measure.

    `formula` has {x} for the measure, {grain} for the chart's period and {last} for its last dimension; `name` has
    {name} for the measure's name and {parent} for the dimensions before the last one, as `words` may. It may need a
    time axis, several dimensions, or a measure whose values add up."""

    key: str
    words: str
    formula: str
    name: str
    needs_time: bool = False
    needs_parent: bool = False
    needs_sum: bool = False


VARIATIONS = (
    Variation("year_before", "The same period a year before", "shift({x}, -1, 'year')", "{name} a year before"),
    Variation("growth", "Growth on a year before", "growth({x}, 'year')", "Growth of {name}"),
    Variation(
        "same_days",
        "Growth on the same days a year before",
        "growth({x}, 'year', 'same days')",
        "Growth of {name} on the same days",
    ),
    Variation("change", "Change on a year before", "change({x}, 'year')", "Change of {name}"),
    Variation(
        "before",
        "Change on the {grain} before",
        "change({x}, '{grain}')",
        "Change of {name} on the {grain} before",
        True,
    ),
    Variation("to_date", "Year to date", "to_date({x}, 'year')", "{name}, year to date"),
    Variation("mean_to_date", "Mean of the year so far", "to_date(mean, {x}, 'year')", "Mean {name} of the year", True),
    Variation("running", "Running total", "running({x})", "Running {name}", needs_sum=True),
    Variation("moving", "Moving mean of 3 {grain}s", "moving(mean, {x}, 3)", "{name}, mean of 3 {grain}s", True),
    Variation("share", "Share of the total", "share({x})", "Share of {name}", needs_sum=True),
    Variation(
        "share_of_parent",
        "Share of its {parent}",
        "({x}) / ({x}) per (shown except {last})",
        "Share of {name} of its {parent}",
        needs_parent=True,
        needs_sum=True,
    ),
    Variation("rank", "Rank", "rank({x})", "Rank by {name}"),
    Variation(
        "less_mean",
        "Difference from the mean of the groups",
        "{x} - mean(({x}) per (shown)) per ()",
        "{name} less its mean",
    ),
)


def measure_formula(measure: Measure) -> str:
    """The measure written as a stored formula."""
    if measure.formula:
        return measure.formula
    if measure.field is None:
        return "count_rows()"
    if measure.aggregate is Aggregate.OWN:
        return f'"#{measure.field}"'
    return f'{measure.aggregate.value}("#{measure.field}")'


def list_variations(
    groups: tuple[Grouping, ...], schema: Schema, measure: Measure, parameters: Parameters
) -> list[tuple[str, str]]:
    """The variations that suit a measure and a chart's dimensions, as (key, words)."""
    axis = next((group for group in groups if group.is_time_axis), None)
    lacking = {
        "needs_time": axis is None,
        "needs_parent": len(groups) < 2,
        "needs_sum": not adds_up(measure_node(measure, schema, parameters)),
    }
    unfit = [name for name, lacks in lacking.items() if lacks]
    words = _label_groups(groups, schema)
    fit = [each for each in VARIATIONS if not any(getattr(each, name) for name in unfit)]
    return [(each.key, each.words.format(**words)) for each in fit]


def _label_groups(groups: tuple[Grouping, ...], schema: Schema) -> dict[str, str]:
    axis = next((group for group in groups if group.is_time_axis), None)
    parents = [lower_first(label_grouping(group, schema)) for group in groups[:-1]]
    return {"grain": axis.period.words if axis else "year", "parent": join_names(parents)}


def vary(measure: Measure, key: str, groups: tuple[Grouping, ...], schema: Schema) -> Measure:
    """The measure's variation. Raises KeyError for one that there is not."""
    variation = {each.key: each for each in VARIATIONS}[key]
    words = _label_groups(groups, schema)
    name = measure_words(measure, schema)
    said = variation.name.format(name=name if variation.name.startswith("{") else name[0].lower() + name[1:], **words)
    last = _name_group(groups[-1]) if groups else ""
    formula = variation.formula.format(x=measure_formula(measure), last=last, **words)
    return Measure(formula=formula, name=said[:200], format=PERCENT if variation.needs_parent else None)


def _name_group(group: Grouping) -> str:
    """A dimension as a stored formula names it in a grain."""
    field = f'"#{group.field}"'
    return f"trunc({field}, '{group.grain}')" if group.is_time_axis else field

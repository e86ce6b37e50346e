"""One-click variations of a measure: each writes a formula, which can be changed like any other."""

from __future__ import annotations

from dataclasses import dataclass

from veduta.core.calendar import Grouping
from veduta.core.data.fields import Aggregate, Schema
from veduta.core.query.measures import Measure, measure_words


@dataclass(frozen=True)
class Variation:
    """`formula` has {x} for the measure and {grain} for the chart's period; `name` {name} for the measure's name."""

    key: str
    words: str
    formula: str
    name: str
    needs_time: bool = False
    grains: tuple[str, ...] = ()


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
    Variation("running", "Running total", "running({x})", "Running {name}"),
    Variation("moving", "Moving mean of 3 {grain}s", "moving(mean, {x}, 3)", "{name}, mean of 3 {grain}s", True),
    Variation("share", "Share of the total", "share({x})", "Share of {name}"),
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


def fitting(groups: tuple[Grouping, ...]) -> list[tuple[str, str]]:
    """The variations that suit a chart's dimensions, as (key, words)."""
    axis = next((group for group in groups if group.is_time_axis), None)
    grain = axis.period.words if axis else ""
    return [(each.key, each.words.format(grain=grain)) for each in VARIATIONS if axis or not each.needs_time]


def vary(measure: Measure, key: str, groups: tuple[Grouping, ...], schema: Schema) -> Measure:
    """The measure's variation. Raises KeyError for one that there is not."""
    variation = {each.key: each for each in VARIATIONS}[key]
    axis = next((group for group in groups if group.is_time_axis), None)
    grain = axis.period.words if axis else "year"
    x = measure_formula(measure)
    name = measure_words(measure, schema)
    said = variation.name.format(
        name=name if variation.name.startswith("{") else name[0].lower() + name[1:], grain=grain
    )
    return Measure(formula=variation.formula.format(x=x, grain=grain), name=said[:200])

"""Drilling: a dimension of a chart is replaced with a finer, a coarser or another one.

Along a path or freely, for all of its values or for one of them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from pydantic import Field

from veduta.core.calendar import PERIODS, Grain, Grouping, list_field_grains
from veduta.core.chart.choose import choose_kind
from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.kinds import ChartShape, get_kind
from veduta.core.chart.mark_filters import make_marks_filter
from veduta.core.chart.text_placeholders import has_values
from veduta.core.data.fields import DataType, FieldRole, Frozen
from veduta.core.errors import DefinitionProblem, VedutaError
from veduta.core.model.model import Model
from veduta.core.query.filters import Value
from veduta.core.query.measures import list_counted_tables, measure_node

MOST_STEPS = 20
DATE_PATHS = "date paths"
"""By which a model keeps them, once they are made."""


class DrillStep(Frozen):
    """Replace the dimension at a `position` with another, `to`.

    With `into`, only rows of that value remain, or those of a mark: a value for each of the chart's first dimensions. A
    chart without dimensions gets its first one. To `unfold` a table inserts the other dimension after this one instead,
    with subtotals into which its rows fold."""

    position: int = Field(0, ge=0, lt=10)
    to: Grouping
    into: tuple[Value, ...] | None = Field(None, min_length=1, max_length=10)
    unfold: bool = False

    def list_filtered(self, chart: ChartDefinition) -> list[tuple[Grouping, Value]]:
        """The dimensions of a chart of which only a value is left after the step."""
        into = self.into or ()
        first = self.position if len(into) == 1 else 0
        return list(zip(chart.groups[first:], into, strict=False))


@dataclass(frozen=True)
class DrillTarget:
    """Where the dimension at a position leads along a `path`: one level `down` (finer) or up."""

    position: int
    to: Grouping
    down: bool
    path: str = ""


@dataclass(frozen=True)
class Drilled:
    """A chart after its `steps`, those of them that it allows; `stages` are the charts before each."""

    chart: ChartDefinition
    steps: tuple[DrillStep, ...] = ()
    stages: tuple[ChartDefinition, ...] = ()


def apply_drill_steps(chart: ChartDefinition, steps: Sequence[DrillStep], model: Model) -> Drilled:
    """A chart after steps, up to the first that it does not allow or that does not fit it any more."""
    taken: list[DrillStep] = []
    stages: list[ChartDefinition] = []
    now = chart
    for step in steps:
        try:
            after = apply_drill_step(now, step, model)
        except VedutaError:
            break
        taken.append(step)
        stages.append(now)
        now = after
    return Drilled(now, tuple(taken), tuple(stages))


def apply_drill_step(chart: ChartDefinition, step: DrillStep, model: Model) -> ChartDefinition:
    """A chart after one step.

    What went by the values that are gone goes with them: an order of one's own, a title without values in it, and a
    kind that does not suit any more. Raises DefinitionProblem for a step that the chart does not allow."""
    if not allows(chart, step, model):
        raise DefinitionProblem("The chart does not lead there.", hint="Choose another way.")
    if step.unfold:
        return _expand_levels(chart, step.to, model)
    only = chart.only
    if narrowed := step.list_filtered(chart):
        by, values = zip(*narrowed, strict=True)
        within = make_marks_filter(chart, [values], by=by)
        only = (*only, within) if within else only
    after = replace_group(chart, step.position, step.to).model_copy(update={"only": only})
    after = _tidy(after, chart, step)
    return after.model_copy(update={"kind": _choose_kind_after(chart, after, model)})


def allows(chart: ChartDefinition, step: DrillStep, model: Model) -> bool:
    """Whether a step is one that the chart offers to whoever reads it."""
    if chart.drill.off or len(step.list_filtered(chart)) < len(step.into or ()):
        return False
    if step.unfold and (step.into is not None or not unfolds(chart, step.position, model)):
        return False
    if step.to.together and step.position < len(chart.groups):
        return _groups_values(step, chart.groups[step.position], model)
    offered = [way.to for way in list_drill_targets(chart, model) if way.position == step.position]
    if chart.drill.others and step.position < max(1, len(chart.groups)):
        offered += list_other_dimensions(chart, model)
    return any(_is_same_target(step.to, each, model) for each in offered)


def _groups_values(step: DrillStep, group: Grouping, model: Model) -> bool:
    """Whether a step only puts values of a dimension together."""
    is_same = step.to.model_copy(update={"together": ()}) == group.model_copy(update={"together": ()})
    return is_same and step.into is None and not step.unfold and model.schema[group.field].kind is DataType.TEXT


def _is_same_target(wanted: Grouping, offered: Grouping, model: Model) -> bool:
    """Whether a dimension is the one offered, or the same date by other periods."""
    if wanted.field != offered.field or wanted.width != offered.width:
        return False
    return wanted.grain == offered.grain or wanted.grain in list_field_grains(model.schema[wanted.field])


def list_drill_targets(chart: ChartDefinition, model: Model) -> list[DrillTarget]:
    """Where the dimensions of a chart lead along the paths of its model and those of dates, down before up."""
    if chart.drill.off:
        return []
    there, levels = set(chart.groups), list_drill_paths(model)
    found: dict[tuple[int, Grouping], DrillTarget] = {}
    for position, group in enumerate(chart.groups):
        if chart.aligned and group.is_time_axis:
            continue  # counts of periods are no periods
        for way in _iterate_targets(position, group, levels, chart.drill.along):
            if way.to not in there:
                found.setdefault((position, way.to), way)
    return sorted(found.values(), key=lambda way: not way.down)


def _iterate_targets(
    position: int, group: Grouping, there: list[tuple[str, list[Grouping]]], along: str
) -> Iterator[DrillTarget]:
    names = {path for path, _ in there if path}
    if group.grain and group.grain.is_part:
        yield from _iterate_finer_periods(position, group, there)
    for path, levels in there:
        if path and along in names and path != along:
            continue
        for level, each in enumerate(levels):
            if each.field != group.field or (each.grain != group.grain and not path):
                continue
            if level + 1 < len(levels):
                yield DrillTarget(position, levels[level + 1], True, path)
            if level:
                yield DrillTarget(position, levels[level - 1], False, path)


def _iterate_finer_periods(
    position: int, group: Grouping, there: list[tuple[str, list[Grouping]]]
) -> Iterator[DrillTarget]:
    """From a weekday or another part of dates to the periods that have it: the months, weeks and days of Mondays."""
    of_date = next((levels for path, levels in there if not path and levels[0].field == group.field), [])
    for each in of_date:
        if each.period in (Grain.MONTH, Grain.WEEK, Grain.DAY):
            yield DrillTarget(position, each, True)


def list_drill_paths(model: Model) -> list[tuple[str, list[Grouping]]]:
    """The drill paths of a model by their names, each from coarse to fine, and those of its dates, which have none."""
    schema = model.schema
    named = [
        (path.name, [model.make_grouping(field) for field in path.fields if field in schema])
        for path in model.definition.paths
    ]
    if DATE_PATHS not in model.prepared:
        model.prepared[DATE_PATHS] = [
            ("", [Grouping(field=field.id, grain=grain) for grain in list_field_grains(field) if grain in PERIODS])
            for field in schema
            if field.kind.is_date and field.level == "row"
        ]
    return [*named, *model.prepared[DATE_PATHS]]


def list_other_dimensions(chart: ChartDefinition, model: Model) -> list[Grouping]:
    """The dimensions by which a chart may be broken down that it is not by yet: those that reach what it counts."""
    if chart.drill.off or not chart.drill.others:
        return []
    there = {group.field for group in chart.groups}
    counted = list_counted_tables(measure_node(chart.measures[0], model.schema, model.parameters), model)
    fields = [each for each in model.schema.visible if each.role is FieldRole.DIMENSION and each.level == "row"]
    groups = [model.make_grouping(field.id) for field in fields if field.id not in there]
    return [
        group for group in groups if all(model.reaches(table, group.field, group.grain or "") for table in counted[:1])
    ]


def unfolds(chart: ChartDefinition, position: int, model: Model) -> bool:
    """Whether the values of a dimension can be unfolded in place: those of the last one down a table."""
    return position == len(chart.by) - 1 and choose_kind(chart, model)[0].has_subtotals


def _expand_levels(chart: ChartDefinition, to: Grouping, model: Model) -> ChartDefinition:
    """A table by one more dimension, whose rows are folded into subtotals above them."""
    table = chart.look.table.model_copy(update={"subtotals": "above", "folded": True, "blank": True})
    return chart.model_copy(
        update={
            "by": (*chart.by, to),
            "kind": choose_kind(chart, model)[0].name,
            "totals": "all",
            "title": chart.title if has_values(chart.title) else "",
            "look": chart.look.model_copy(update={"table": table}),
        }
    )


def replace_group(chart: ChartDefinition, position: int, group: Grouping) -> ChartDefinition:
    """A chart with another dimension at a position; a chart without any gets one."""
    drawn = len(chart.drawn)
    if position < len(chart.by) or not chart.groups:
        return chart.model_copy(update={"by": _replace_at(chart.by, position, group)})
    if position < drawn:
        return chart.model_copy(update={"split": group})
    assert chart.panels is not None
    by = _replace_at(chart.panels.by, position - drawn, group)
    return chart.model_copy(update={"panels": chart.panels.model_copy(update={"by": by})})


def _replace_at(groups: tuple[Grouping, ...], position: int, group: Grouping) -> tuple[Grouping, ...]:
    return (*groups[:position], group, *groups[position + 1 :])


def _tidy(after: ChartDefinition, before: ChartDefinition, step: DrillStep) -> ChartDefinition:
    """Without what went by the values of the dimension that is gone."""
    changes: dict[str, Any] = {}
    if not has_values(before.title):
        changes["title"] = ""
    sort, keep = after.sort, after.keep
    if step.position == 0 and sort and (sort.by != "measure" or step.to.is_time_axis):
        changes["sort"] = None
    elif sort and sort.at:
        changes["sort"] = sort.model_copy(update={"at": ()})
    kept = 0 if keep and keep.of == "by" else len(after.drawn) - 1
    if step.position == kept and step.to.is_time_axis:
        changes["keep"] = None
    if step.position == len(after.drawn) - 1:
        changes["series_order"] = ()
    return after.model_copy(update=changes)


def _choose_kind_after(before: ChartDefinition, after: ChartDefinition, model: Model) -> str | None:
    """The kind a chart was drawn as, unless it cannot draw what the chart is by now, or suited that only before."""
    if before.kind is None:
        return None
    own, now = get_kind(before.kind), ChartShape(after, model)
    if own.explain_unsupported(now) or (own.fit_score(ChartShape(before, model)) and not own.fit_score(now)):
        return None
    return before.kind

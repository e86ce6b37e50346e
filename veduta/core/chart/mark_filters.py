"""The rows behind marks: a chart's points as filters."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from pydantic import ValidationError

from veduta.core.calendar import Grouping
from veduta.core.chart.definition import ChartDefinition
from veduta.core.errors import DefinitionProblem
from veduta.core.number_format import REST_POINT
from veduta.core.query.filters import ListFilter, MembershipFilter, PointsFilter


def make_points_filters(
    definition: ChartDefinition, points: Any, exclude: bool = False, by: Sequence[Grouping] = ()
) -> tuple[PointsFilter, ...]:
    """A filter on the rows of some marks, or with `exclude` of all others.

    A mark is the values of the chart's first dimensions, or of the dimensions that they are `by`. Raises
    DefinitionProblem for points that are not the chart's."""
    try:
        if not all(isinstance(point, list | tuple) and point for point in points):
            raise TypeError
        groups = (tuple(by) or definition.groups)[: len(points[0])]
        points = tuple(tuple(point) for point in points)
        if definition.aligned:  # a count of periods is not a period: the rows of the other dimensions
            left = [i for i, group in enumerate(groups) if not group.is_time_axis]
            groups = tuple(groups[i] for i in left)
            points = tuple(tuple(point[i] for i in left) for point in points)
        if not groups:
            return ()
        rest = None
        if any(REST_POINT in point for point in points):
            rest = _make_rest_filter(definition, groups)
        return (PointsFilter(groups=groups, points=points, exclude=exclude, rest=rest),)
    except (TypeError, ValueError, IndexError, KeyError, ValidationError):
        raise DefinitionProblem("That mark is not readable.", hint="Select it again.") from None


def make_marks_filter(
    definition: ChartDefinition, points: Any, exclude: bool = False, by: Sequence[Grouping] = ()
) -> ListFilter | PointsFilter | None:
    """The same as one filter: a list of values for marks of one dimension.

    None where the dimensions have no values of their own."""
    made = next(iter(make_points_filters(definition, points, exclude, by)), None)
    if made is None or len(made.groups) > 1 or made.rest or not _is_listed(made.groups[0]):
        return made
    (group,) = made.groups
    values = tuple(point[0] for point in made.points)
    return ListFilter(field=group.field, grain=group.grain, values=values, exclude=exclude)


def _is_listed(group: Grouping) -> bool:
    """Whether a filter can list the values of a dimension."""
    return group.width is None and not group.together


def _make_rest_filter(definition: ChartDefinition, groups: Sequence[Grouping]) -> MembershipFilter:
    """Which values of its dimension a chart keeps; the others were gathered."""
    keep = definition.keep
    if keep is None or not keep.rest or not definition.drawn:
        raise DefinitionProblem("The chart gathers nothing any more.", hint="Clear the selection.")
    if keep.of == "within" and len(definition.groups) > 1:
        raise DefinitionProblem(
            "What is gathered in each group cannot be selected.",
            hint="Select marks that are named, or keep without the others.",
        )
    kept = definition.drawn[0 if keep.of == "by" else -1]
    if kept not in groups:
        raise DefinitionProblem("Which values were gathered is not known any more.", hint="Clear the selection.")
    if not _is_listed(kept):
        what = "classes" if kept.width else "groups"
        raise DefinitionProblem(f"Gathered {what} cannot be selected.", hint=f"Keep the {what} without the others.")
    filters = tuple(filter_ for filter_ in definition.only if not filter_.get_group_filter())
    return MembershipFilter(field=kept.field, grain=kept.grain, keep=keep, filters=filters, follows=True)

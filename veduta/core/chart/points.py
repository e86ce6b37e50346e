"""The rows behind marks: a chart's points as filters."""

from __future__ import annotations

from typing import Any

from pydantic import ValidationError

from veduta.core.chart.definition import ChartDefinition
from veduta.core.errors import DefinitionProblem
from veduta.core.formats import REST_POINT
from veduta.core.query.filters import MembershipFilter, PointsFilter


def points_filters(definition: ChartDefinition, points: Any, exclude: bool = False) -> tuple[PointsFilter, ...]:
    """The records of some marks, each the values of the chart's first dimensions, or with `exclude` all others.

    Raises DefinitionProblem for points that are not the chart's."""
    try:
        if not all(isinstance(point, list | tuple) and point for point in points):
            raise TypeError
        groups = definition.groups[: len(points[0])]
        points = tuple(tuple(point) for point in points)
        if definition.aligned:  # a count of periods is not a period: the rows of the other dimensions
            left = [i for i, group in enumerate(groups) if not group.is_time_axis]
            groups = tuple(groups[i] for i in left)
            points = tuple(tuple(point[i] for i in left) for point in points)
        if not groups:
            return ()
        rest = None
        if any(REST_POINT in point for point in points):
            rest = _not_kept(definition, points)
        return (PointsFilter(groups=groups, points=points, exclude=exclude, rest=rest),)
    except (TypeError, ValueError, IndexError, KeyError, ValidationError):
        raise DefinitionProblem("That mark is not readable.", hint="Select it again.") from None


def _not_kept(definition: ChartDefinition, points: tuple[tuple[Any, ...], ...]) -> MembershipFilter:
    """Which values of its dimension a chart keeps; the others were gathered."""
    keep = definition.keep
    if keep is None or not keep.rest:
        raise DefinitionProblem("The chart gathers nothing any more.", hint="Clear the selection.")
    if keep.of == "within" and len(definition.groups) > 1:
        raise DefinitionProblem(
            "What is gathered in each group cannot be selected.",
            hint="Select marks that are named, or keep without the others.",
        )
    group = definition.drawn[0 if keep.of == "by" else -1]
    if group.width is not None:
        raise DefinitionProblem("Gathered classes cannot be selected.", hint="Keep the classes without the others.")
    filters = tuple(filter_ for filter_ in definition.only if not filter_.on_groups())
    return MembershipFilter(field=group.field, grain=group.grain, keep=keep, filters=filters, follows=True)

"""Whether a measure's values may be added up: sums and counts may, means, ratios and distinct counts may not."""

from __future__ import annotations

from veduta.core.formula.check import TypedExpression
from veduta.core.formula.functions import AddsUp, Level

NOT_LINEAR = ("min", "max", "median")
"""Ways of putting values together after which they no longer add up."""


def adds_up(node: TypedExpression, over_time: bool = False) -> bool:
    """Whether the values of some groups make up that of all of them together; `over_time` of the periods of a date.

    A share of the grand total does, as all are divided by the same; so does a stock over regions, but not over days.
    """
    if node.per is not None:
        is_own_cell = node.per.shown and not (node.per.dimensions or node.per.less or node.per.without)
        return is_own_cell and adds_up(node.get_option(0), over_time)
    if node.function is None:
        return False
    arguments = [argument for argument in node.arguments if argument]
    if any(argument.constant and argument.value in NOT_LINEAR for argument in arguments):
        return False
    if node.function.level is Level.AGGREGATE:
        return _does_aggregate_add_up(node, over_time)
    how, values = node.function.adds_up, [argument for argument in arguments if not argument.constant]
    if how is AddsUp.ITSELF:
        return True
    if how is AddsUp.SCALED:
        return _is_scaled(node, arguments, over_time)
    if how is AddsUp.NEVER or (how is AddsUp.WITHIN_PERIODS and over_time):
        return False
    return len(values) == sum(adds_up(value, over_time) for value in values) > 0 and _has_no_offset(node, arguments)


def _does_aggregate_add_up(node: TypedExpression, over_time: bool) -> bool:
    argument = next((argument for argument in node.arguments if argument), None)
    if argument is not None and argument.per is not None and argument.per.inside:
        # A stock: over days its last (or first) day's sum is taken, and added over everything else.
        return node.call.ordered and not over_time
    if argument is not None and argument.level is Level.GRAIN:
        # Over cells of a grain of its own: the highest of each route is another one in each region.
        inner = argument.get_option(0) if argument.per else argument
        return node.call.adds_up is AddsUp.ITSELF and adds_up(inner, over_time)
    return node.call.adds_up is AddsUp.ITSELF


def _is_scaled(node: TypedExpression, arguments: list[TypedExpression], over_time: bool) -> bool:
    """Whether something that adds up is multiplied, or divided, by what is the same in every cell."""
    first, second = arguments
    if adds_up(first, over_time) and _is_same_everywhere(second):
        return True
    return node.call.commutes and adds_up(second, over_time) and _is_same_everywhere(first)


def _is_same_everywhere(node: TypedExpression) -> bool:
    if node.per is not None:
        return not (node.per.shown or node.per.dimensions)
    if node.function is None:
        return node.constant
    return node.function.level is Level.ROW and all(_is_same_everywhere(each) for each in node.arguments if each)


def _has_no_offset(node: TypedExpression, arguments: list[TypedExpression]) -> bool:
    """Whether no number is added in every group: the sum of the groups would have it more than once."""
    if node.call.level is not Level.ROW:
        return True
    return not any(argument.constant and argument.value for argument in arguments)

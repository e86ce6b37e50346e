"""Of which cells of a chart its conditional formats hold, and how those look."""

from __future__ import annotations

import datetime as dt
import operator
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import Any

import polars as pl

from veduta.core.chart.conditional import SIGNS, TESTS, ConditionalFormat
from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.drawing.picture import Picture
from veduta.core.query.measures import Measure
from veduta.core.query.query import Column, Result


@dataclass(frozen=True)
class CellLook:
    """How a cell or mark looks by the conditional formats that hold.

    Each part comes from the first format that sets it: names of colours, a sign, and words. `ground_by` and `colour_by`
    are the positions of the formats that colour it, or -1."""

    colour: str = ""
    ground: str = ""
    strong: bool = False
    sign: str = ""
    said: tuple[str, ...] = ()
    ground_by: int = -1
    colour_by: int = -1


def list_tested_measures(definition: ChartDefinition) -> list[Measure]:
    """What is worked out for conditional formats alone."""
    found: list[Measure] = []
    for measure in (measure for rule in definition.conditional for measure in rule.list_measures()):
        if not any(measure.is_same_number(other) for other in (*definition.measures, *found)):
            found.append(measure)
    return found


def apply_conditions(
    result: Result, definition: ChartDefinition, unseen: Sequence[Column], numbers: Mapping[str, float | None]
) -> Result:
    """The result whose frame says in its column "holds0" of which rows the first format holds, and so on.

    The `unseen` columns are those of `list_tested_measures`; `numbers` are what parameters are set to."""
    if not definition.conditional or result.frame.is_empty():
        return result
    known = [
        *zip(definition.measures, result.measures, strict=True),
        *zip(list_tested_measures(definition), unseen, strict=True),
    ]

    def values_of(measure: Measure | None) -> pl.Series:
        column = next(column for each, column in known if measure is None or each.is_same_number(measure))
        return result.frame[column.key]

    columns = []
    for i, rule in enumerate(definition.conditional):
        if rule.is_whole:
            held = _compare_rule(rule, _test_rule(rule, result, values_of), values_of, numbers)
            if rule.tests == "dimension" and result.rest:
                held &= ~result.frame["rest"].fill_null(False)  # what was gathered is no empty value
            columns.append(held.alias(f"holds{i}"))
    return replace(result, frame=result.frame.with_columns(columns))


def _test_rule(rule: ConditionalFormat, result: Result, values_of: Callable[[Measure | None], pl.Series]) -> pl.Series:
    """The values that a rule tests."""
    if rule.tests == "formula":
        return values_of(Measure(formula=rule.formula))
    if rule.tests == "measure":
        return values_of(rule.measure)
    key = next((column.key for column in result.dimensions if column.grouping == rule.dimension), None)
    if key is None:
        return pl.Series([None] * result.frame.height, dtype=pl.String)  # the chart has no such dimension any more
    return result.frame[key]


def _compare_rule(
    rule: ConditionalFormat,
    values: pl.Series,
    values_of: Callable[[Measure | None], pl.Series],
    numbers: Mapping[str, float | None],
) -> pl.Series:
    """Of which values a rule holds; an empty one passes only the test for empties."""
    values = values.cast(pl.Float64) if isinstance(values.dtype, pl.Decimal) else values
    if rule.tests == "formula":
        return values.fill_null(False) if values.dtype == pl.Boolean else _make_false(values)
    if rule.test == "empty":
        return values.is_null()
    if rule.test == "there":
        return values.is_not_null()
    if rule.test in ("highest", "lowest"):
        return (values.rank("min", descending=rule.test == "highest") <= rule.count).fill_null(False)
    other = _find_comparand(rule, values, values_of, numbers)
    if other is None:
        return _make_false(values)
    return _compare(rule, values, other).fill_null(False)


def _make_false(values: pl.Series) -> pl.Series:
    return pl.Series([False] * len(values), dtype=pl.Boolean)


def _find_comparand(
    rule: ConditionalFormat,
    values: pl.Series,
    values_of: Callable[[Measure | None], pl.Series],
    numbers: Mapping[str, float | None],
) -> Any:
    """What values are compared with, as one value or one for each; None for what cannot be."""
    if rule.against == "value" or TESTS[rule.test].takes == "two":
        return cast_value(values.dtype, rule.value)
    if rule.against == "measure":
        other = values_of(rule.other)
        other = other.cast(pl.Float64) if isinstance(other.dtype, pl.Decimal) else other
        alike = other.dtype == values.dtype or (other.dtype.is_numeric() and values.dtype.is_numeric())
        return other if alike else None
    if not values.dtype.is_numeric():
        return None
    if rule.against == "parameter":
        return numbers.get(rule.parameter)
    if rule.against == "percentile":
        return values.quantile(rule.percent / 100, "linear")
    return values.mean() if rule.against == "mean" else values.median()


COMPARE: Mapping[str, Callable[[Any, Any], Any]] = {
    "above": operator.gt,
    "from": operator.ge,
    "below": operator.lt,
    "to": operator.le,
    "is": operator.eq,
    "is_not": operator.ne,
}


def _compare(rule: ConditionalFormat, values: pl.Series, other: Any) -> pl.Series:
    held: pl.Series
    if rule.test == "between":
        high = cast_value(values.dtype, rule.high)
        held = _make_false(values) if high is None else (values >= other) & (values <= high)
    elif rule.test in COMPARE:
        held = COMPARE[rule.test](values, other)
    elif values.dtype != pl.String:
        held = _make_false(values)
    else:
        folded, part = values.str.to_lowercase(), str(other).lower()
        held = folded.str.starts_with(part) if rule.test == "begins" else folded.str.contains(part, literal=True)
    return held


def cast_value(dtype: pl.DataType, value: Any) -> Any:
    """A value of a rule as one that values of a type can be compared with; None if it is no such value."""
    try:
        if dtype.is_numeric():
            return None if isinstance(value, bool) else _parse_number(value)
        if dtype == pl.Date:
            return dt.date.fromisoformat(str(value)[:10])
        if dtype == pl.Datetime:
            return dt.datetime.fromisoformat(str(value))
    except (TypeError, ValueError, ArithmeticError):
        return None
    if dtype == pl.Boolean:
        return value if isinstance(value, bool) else {"yes": True, "no": False}.get(str(value).lower())
    return None if value is None else str(value)


def _parse_number(value: Any) -> float | int:
    number = Decimal(str(value))
    return int(number) if number == number.to_integral_value() and abs(number) < 2**63 else float(number)


def list_formats(picture: Picture, measure: int, is_mark: bool = False) -> list[int]:
    """The positions of the formats that say how the cells of a measure look, by its position.

    A mark looks by those of dimensions too, as it has no cell for them."""
    definition = picture.definition
    return [i for i, rule in enumerate(definition.conditional) if _is_on(rule, measure, definition, is_mark)]


def _is_on(rule: ConditionalFormat, measure: int, definition: ChartDefinition, is_mark: bool) -> bool:
    if rule.on == "row":
        return True
    if rule.tests == "dimension":
        return is_mark
    if rule.cells is not None:
        return definition.measures[measure].is_same_number(rule.cells)
    if rule.tests == "formula":
        return True
    tested = rule.measure or definition.measures[0]
    shown = [i for i, each in enumerate(definition.measures) if each.is_same_number(tested)]
    return not shown or measure in shown


def list_dimension_formats(picture: Picture, column: Column) -> list[int]:
    """The positions of the formats that say how the cells of a dimension look."""
    return [
        i
        for i, rule in enumerate(picture.definition.conditional)
        if rule.on == "row" or (rule.tests == "dimension" and rule.dimension == column.grouping)
    ]


def look_of(picture: Picture, row: Mapping[str, Any], formats: Sequence[int]) -> CellLook | None:
    """How a cell of a row looks by some formats; None if none of them holds. None holds of totals."""
    holding = [i for i in formats if row.get(f"holds{i}")]
    if not holding:
        return None
    declared = picture.definition.conditional

    def first(part: str) -> int:
        return next((i for i in holding if getattr(declared[i], part)), -1)

    ground, colour, sign = first("ground"), first("colour"), first("sign")
    return CellLook(
        colour=declared[colour].colour if colour >= 0 else "",
        ground=declared[ground].ground if ground >= 0 else "",
        strong=first("strong") >= 0,
        sign=SIGNS[declared[sign].sign][0] if sign >= 0 else "",
        said=tuple(picture.format_words[i] for i in holding if not declared[i].is_bare),
        ground_by=ground,
        colour_by=colour,
    )

"""Conditional formats: rules by which what a condition holds of looks otherwise.

What the conditions are, and their words; `drawing.conditions` tells of which cells they hold."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final, Literal

from pydantic import Field

from veduta.core.calendar import Grouping
from veduta.core.chart.look import Colour
from veduta.core.data.fields import DataType, Frozen
from veduta.core.formula.measures import replace_ids_with_names
from veduta.core.model.model import Model
from veduta.core.number_format import format_value
from veduta.core.phrases import lower_first
from veduta.core.query.filters import Value, describe_value, label_grouping
from veduta.core.query.measures import Measure, measure_format, measure_node, measure_words

TestName = Literal[
    "above", "from", "below", "to", "between", "is", "is_not", "contains", "begins", "highest", "lowest", "empty",
    "there", "holds",
]  # fmt: skip
Against = Literal["value", "parameter", "measure", "mean", "median", "percentile"]
SignName = Literal["", "up", "down", "dot", "diamond", "check", "cross", "alert"]


@dataclass(frozen=True)
class ConditionTest:
    """One test that a conditional format can make.

    Its words before the operand, its words for dates, which operands it takes besides a value, and how many ("one",
    "two", "count") or none."""

    words: str
    dated: str = ""
    takes: Literal["", "one", "two", "count"] = "one"
    numbers: bool = True
    dates: bool = True
    texts: bool = False

    def suits(self, kind: DataType) -> bool:
        """Whether values of a kind can be tested so."""
        return self.numbers if kind.is_number else self.dates if kind.is_date else self.texts


TESTS: Final[dict[TestName, ConditionTest]] = {
    "above": ConditionTest("above", dated="after"),
    "from": ConditionTest("at least", dated="on or after"),
    "below": ConditionTest("below", dated="before"),
    "to": ConditionTest("at most", dated="on or before"),
    "between": ConditionTest("between", takes="two"),
    "is": ConditionTest("exactly", texts=True),
    "is_not": ConditionTest("other than", texts=True),
    "contains": ConditionTest("with", numbers=False, dates=False, texts=True),
    "begins": ConditionTest("beginning with", numbers=False, dates=False, texts=True),
    "highest": ConditionTest("among the highest", dated="among the latest", takes="count"),
    "lowest": ConditionTest("among the lowest", dated="among the earliest", takes="count"),
    "empty": ConditionTest("empty", takes="", texts=True),
    "there": ConditionTest("not empty", takes="", texts=True),
    "holds": ConditionTest("", takes="", numbers=False, dates=False),
}
"""In the order in which they are offered; a formula that is yes or no `holds`."""
SIGNS: Final[dict[SignName, tuple[str, str]]] = {
    "up": ("▲", "triangle up"),
    "down": ("▼", "triangle down"),
    "dot": ("●", "dot"),
    "diamond": ("◆", "diamond"),
    "check": ("✓", "check"),
    "cross": ("✕", "cross"),
    "alert": ("!", "exclamation mark"),
}
"""What can stand before a number, and what it is called."""
STATISTICS: Final[dict[Against, str]] = {"mean": "the mean", "median": "the median", "percentile": "a percentile"}


class ConditionalFormat(Frozen):
    """A condition on a chart's cells, and how what it holds of looks.

    It tests a `measure`, shown or not (None is the first shown), a `dimension`, or whether a `formula` over the cells
    holds. Values are compared with a `value` (dates and times as ISO 8601; up to `high` between two), a
    parameter, another measure of the same cell, or a statistic of all values shown; or they are among the `count`
    highest or lowest of those, with all that tie. Empty values pass none but `empty`; one that is not whole yet holds
    nowhere.

    Of a table it colours the `cells` of a measure (None is the one that is tested, or all if that is not shown), the
    cells of the dimension that is tested, or the whole `row`; of drawings the marks and their labels. `colour` is that
    of the text, `ground` what is behind it and that of marks; before the text may stand a `sign`, and what it means is
    `said`."""

    tests: Literal["measure", "dimension", "formula"] = "measure"
    measure: Measure | None = None
    dimension: Grouping | None = None
    formula: str = Field("", max_length=5_000)
    test: TestName = "above"
    against: Against = "value"
    value: Value = None
    high: Value = None
    parameter: str = Field("", max_length=40)
    other: Measure | None = None
    percent: float = Field(90, ge=0, le=100)
    count: int = Field(3, ge=1, le=10_000)
    on: Literal["cells", "row"] = "cells"
    cells: Measure | None = None
    colour: Colour = ""
    ground: Colour = ""
    strong: bool = False
    sign: SignName = ""
    said: str = Field("", max_length=100)

    @property
    def is_whole(self) -> bool:
        """Whether all is there that it takes; one that is not whole holds nowhere."""
        if self.tests == "formula":
            return bool(self.formula)
        if self.tests == "dimension" and self.dimension is None:
            return False
        takes = TESTS[self.test].takes
        if takes == "two":
            return self.value is not None and self.high is not None
        needed = {"value": self.value, "parameter": self.parameter or None, "measure": self.other}
        return takes != "one" or needed.get(self.against, self.against) is not None

    @property
    def is_bare(self) -> bool:
        """Whether nothing looks different by it."""
        return not (self.colour or self.ground or self.strong or self.sign)

    def list_measures(self) -> list[Measure]:
        """What is worked out for it, shown or not; None, the first shown, is left out."""
        if self.tests == "formula":
            return [Measure(formula=self.formula)] if self.formula else []
        tested = [self.measure] if self.tests == "measure" and self.measure else []
        compared = TESTS[self.test].takes == "one" and self.against == "measure"
        return [*tested, self.other] if compared and self.other else tested


def format_words(rule: ConditionalFormat, measures: tuple[Measure, ...], model: Model) -> str:
    """What a conditional format says: its own words, or its condition."""
    return rule.said or describe_condition(rule, measures, model)


def describe_condition(rule: ConditionalFormat, measures: tuple[Measure, ...], model: Model) -> str:
    """A condition: "costs above €1,000", "region is South Banks", "lateness among the 3 highest"."""
    schema = model.schema
    if rule.tests == "formula":
        return replace_ids_with_names(rule.formula, schema) or "a formula"
    test = TESTS[rule.test]
    if rule.tests == "dimension":
        assert rule.dimension is not None, "a rule of a dimension has one"
        name, kind = lower_first(label_grouping(rule.dimension, schema)), find_tested_type(rule, measures, model)
        if rule.test == "is" and rule.value is not None:
            return f"{name} is {describe_value(rule.value, rule.dimension, schema[rule.dimension.field])}"
    else:
        measure = rule.measure or measures[0]
        name, kind = lower_first(measure_words(measure, schema)), find_tested_type(rule, measures, model)
    words = test.dated if kind.is_date and test.dated else test.words
    if test.takes == "count":
        before, end = words.rsplit(" ", 1)
        return f"{name} {before} {rule.count} {end}"
    return " ".join(filter(None, [name, words, _describe_against(rule, measures, model) if test.takes else ""]))


def _describe_against(rule: ConditionalFormat, measures: tuple[Measure, ...], model: Model) -> str:
    if TESTS[rule.test].takes == "two":
        low, high = (_describe_value(rule, value, measures, model) for value in (rule.value, rule.high))
        return f"{low} and {high}"
    match rule.against:
        case "value":
            return _describe_value(rule, rule.value, measures, model)
        case "parameter":
            return f":{rule.parameter}" if rule.parameter else "…"
        case "measure":
            return lower_first(measure_words(rule.other, model.schema)) if rule.other else "…"
        case "percentile":
            return f"the {rule.percent:g}th percentile"
        case _:
            return STATISTICS[rule.against]


def _describe_value(rule: ConditionalFormat, value: Value, measures: tuple[Measure, ...], model: Model) -> str:
    if rule.tests == "dimension" and rule.dimension and value is not None:
        return describe_value(value, rule.dimension, model.schema[rule.dimension.field])
    if value is None:
        return "…"
    measure = rule.measure or measures[0]
    node = measure_node(measure, model.schema, model.parameters, any_kind=True)
    if isinstance(value, int | float) and not isinstance(value, bool):
        return format_value(value, node.kind or DataType.DECIMAL, measure_format(measure, model.schema, node))
    return str(value)


def find_tested_type(rule: ConditionalFormat, measures: tuple[Measure, ...], model: Model) -> DataType:
    """What kind of values a rule tests."""
    if rule.tests == "formula":
        return DataType.YES_NO
    if rule.tests == "dimension":
        field = model.schema[rule.dimension.field] if rule.dimension else None
        return field.kind if field else DataType.TEXT
    measure = rule.measure or measures[0]
    return measure_node(measure, model.schema, model.parameters, any_kind=True).kind or DataType.DECIMAL

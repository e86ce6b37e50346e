"""Edits of conditional formats."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import ValidationError

from veduta.core.chart.choose import choose_kind
from veduta.core.chart.conditional import TESTS, ConditionalFormat, kind_tested
from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.edits.registry import Index, changed_by, edit, replaced, test_formula, there
from veduta.core.errors import DefinitionProblem, what_is_wrong
from veduta.core.model.model import Model
from veduta.core.model.parameters import number_set

PALE = "#F8DFDC"
"""A ground of cells on which numbers are still easy to read."""


@edit
def add_condition(
    definition: ChartDefinition, model: Model, index: Index = 0, tests: Literal["measure", "dimension"] = "measure"
) -> ChartDefinition:
    """Have a measure or a dimension, by its position, look otherwise where something holds: at first where the measure
    is below its mean, or the dimension is empty."""
    ground = PALE if choose_kind(definition, model)[0].in_cells else "worse"
    if tests == "dimension":
        dimension = there(definition.groups, index)
        rule = ConditionalFormat(tests="dimension", dimension=dimension, test="empty", ground=ground)
    else:
        measure = there(definition.measures, index)
        rule = ConditionalFormat(measure=measure, test="below", against="mean", ground=ground)
    return changed_by(definition, conditional=(*definition.conditional, _suited(rule, definition, model)))


@edit
def set_condition(definition: ChartDefinition, model: Model, index: Index, changes: dict[str, Any]) -> ChartDefinition:
    """Change what a conditional format tests, or how what it holds of looks; a formula is written with the fields'
    names. Raises DefinitionProblem for what it cannot have."""
    rule = there(definition.conditional, index)
    if "formula" in changes:
        changes = changes | {"formula": test_formula(str(changes["formula"]), model)}
    try:
        changed = ConditionalFormat.model_validate(rule.model_dump() | changes)
    except ValidationError as problem:
        words, where = what_is_wrong(problem)
        raise DefinitionProblem(
            f"A conditional format cannot be set to that: {words}.", where=where, hint="Choose another."
        ) from None
    if changed.parameter:
        number_set(changed.parameter, model.parameters)
    if kind_tested(changed, definition.measures, model) != kind_tested(rule, definition.measures, model):
        changed = changed.model_copy(update={"value": None, "high": None})
    return changed_by(
        definition,
        conditional=replaced(definition.conditional, index, _suited(changed, definition, model)),
    )


def _suited(rule: ConditionalFormat, definition: ChartDefinition, model: Model) -> ConditionalFormat:
    """A conditional format with a test that suits the values it tests."""
    kind = kind_tested(rule, definition.measures, model)
    if rule.tests == "formula":
        return rule.model_copy(update={"test": "holds"})
    test = rule.test if TESTS[rule.test].suits(kind) else next(n for n, each in TESTS.items() if each.suits(kind))
    against = rule.against if kind.is_number or rule.against == "measure" else "value"
    return rule.model_copy(update={"test": test, "against": against})

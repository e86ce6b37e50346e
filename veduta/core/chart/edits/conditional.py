"""Edits of conditional formats."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import ValidationError

from veduta.core.chart.choose import choose_kind
from veduta.core.chart.conditional import TESTS, ConditionalFormat, find_tested_type
from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.edits.registry import Index, change_definition, edit, get_item, replace_item, test_formula
from veduta.core.errors import DefinitionProblem, explain_validation_error
from veduta.core.model.model import Model
from veduta.core.model.parameters import get_set_number

PALE = "#F8DFDC"
"""A ground of cells on which numbers are still easy to read."""


@edit
def add_condition(
    definition: ChartDefinition, model: Model, index: Index = 0, tests: Literal["measure", "dimension"] = "measure"
) -> ChartDefinition:
    """Add a conditional format to a measure or a dimension, by its position.

    It begins with a test that fits: a measure below its mean, an empty dimension."""
    ground = PALE if choose_kind(definition, model)[0].in_cells else "worse"
    if tests == "dimension":
        dimension = get_item(definition.groups, index)
        rule = ConditionalFormat(tests="dimension", dimension=dimension, test="empty", ground=ground)
    else:
        measure = get_item(definition.measures, index)
        rule = ConditionalFormat(measure=measure, test="below", against="mean", ground=ground)
    return change_definition(definition, conditional=(*definition.conditional, _suit_rule(rule, definition, model)))


@edit
def set_condition(definition: ChartDefinition, model: Model, index: Index, changes: dict[str, Any]) -> ChartDefinition:
    """Change what a conditional format tests, or how what passes it looks.

    A formula is written with the fields' names. Raises DefinitionProblem for what it cannot have."""
    rule = get_item(definition.conditional, index)
    if "formula" in changes:
        changes = changes | {"formula": test_formula(str(changes["formula"]), model)}
    try:
        changed = ConditionalFormat.model_validate(rule.model_dump() | changes)
    except ValidationError as problem:
        words, where = explain_validation_error(problem)
        raise DefinitionProblem(
            f"A conditional format cannot be set to that: {words}.", where=where, hint="Choose another."
        ) from None
    if changed.parameter:
        get_set_number(changed.parameter, model.parameters)
    if find_tested_type(changed, definition.measures, model) != find_tested_type(rule, definition.measures, model):
        changed = changed.model_copy(update={"value": None, "high": None})
    return change_definition(
        definition,
        conditional=replace_item(definition.conditional, index, _suit_rule(changed, definition, model)),
    )


def _suit_rule(rule: ConditionalFormat, definition: ChartDefinition, model: Model) -> ConditionalFormat:
    """A conditional format with a test that suits the values it tests."""
    kind = find_tested_type(rule, definition.measures, model)
    if rule.tests == "formula":
        return rule.model_copy(update={"test": "holds"})
    test = rule.test if TESTS[rule.test].suits(kind) else next(n for n, each in TESTS.items() if each.suits(kind))
    against = rule.against if kind.is_number or rule.against == "measure" else "value"
    return rule.model_copy(update={"test": test, "against": against})

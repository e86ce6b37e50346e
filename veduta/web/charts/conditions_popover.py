"""What the popovers of conditional formats offer: their list, and one of them."""

from __future__ import annotations

import json
from typing import Any

from veduta.core.chart.choose import choose_kind
from veduta.core.chart.conditional import (
    SIGNS,
    STATISTICS,
    TESTS,
    Against,
    ConditionalFormat,
    describe_condition,
    find_tested_type,
    format_words,
)
from veduta.core.chart.contrast import LIGHT_GROUND, READABLE, compute_contrast
from veduta.core.chart.theme import get_both_colours, get_both_text_colours
from veduta.core.data.fields import DataType
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.measures import replace_ids_with_names
from veduta.core.query.filters import label_grouping
from veduta.core.query.listing import group_values
from veduta.core.query.measures import measure_words
from veduta.web.charts.choices import (
    TINTS,
    VALUES_SHOWN,
    OpenPopover,
    list_colour_choices,
    list_number_parameters,
    measure_choices,
)
from veduta.web.charts.format_samples import sample_of
from veduta.web.palettes.models import load_paints

INPUTS = {DataType.TEXT: "text", DataType.YES_NO: "yes_no", DataType.DATE: "date", DataType.DATETIME: "date"}


def list_context(opened: OpenPopover) -> dict[str, Any]:
    """All conditional formats of a chart, and what another one can test."""
    definition, model = opened.definition, opened.model
    words = [format_words(each, definition.measures, model) for each in definition.conditional]
    new = [
        (measure_words(measure, model.schema), {"edit": "add_condition", "index": i})
        for i, measure in enumerate(definition.measures)
    ]
    new += [
        (label_grouping(group, model.schema), {"edit": "add_condition", "index": i, "tests": "dimension"})
        for i, group in enumerate(definition.groups)
    ]
    there = [sample_of(each, said) for each, said in zip(definition.conditional, words, strict=True)]
    return {
        "samples": [(each, _list_moves(i, len(there))) for i, each in enumerate(there)],
        "new": new,
        "next": len(definition.conditional),
        "are_listed": definition.look.whole.lists_conditions,
        "list_them": {
            "edit": "set_look",
            "part": "whole",
            "changes": {"lists_conditions": not definition.look.whole.lists_conditions},
        },
    }


def _list_moves(index: int, count: int) -> list[tuple[str, str, dict[str, Any] | None]]:
    """How a conditional format moves in its list: words, sign and edit, or None where it cannot."""
    return [
        (words, sign, {"edit": "move", "clause": "conditional", "index": index, "to": to} if 0 <= to < count else None)
        for words, sign, to in (("up", "↑", index - 1), ("down", "↓", index + 1))
    ]


def make_condition_context(opened: OpenPopover) -> dict[str, Any]:
    """One conditional format: what it tests, with what it compares, and how what it holds of looks."""
    definition, model, index = opened.definition, opened.model, opened.index
    if index >= len(definition.conditional):
        raise DefinitionProblem("The chart has no such conditional format any more.", hint="Load the page again.")
    conditional = definition.conditional[index]
    kind = find_tested_type(conditional, definition.measures, model)
    test = TESTS[conditional.test]
    words = describe_condition(conditional, definition.measures, model)
    tests = [(name, each.dated if kind.is_date and each.dated else each.words) for name, each in _list_tests(kind)]
    is_table = bool(choose_kind(definition, model)[0].in_cells)
    return {
        "heading": words[:1].upper() + words[1:],
        "conditional": conditional,
        "sample": sample_of(conditional, ""),
        "tested": _list_tested(opened, conditional),
        "formula": replace_ids_with_names(conditional.formula, model.schema),
        "tests": tests,
        "takes": "" if conditional.tests == "formula" else test.takes,
        "against": _list_against(opened, conditional, kind),
        "input": INPUTS.get(kind, "number"),
        "values": _list_values(opened, conditional, kind),
        "parameters": list_number_parameters(model),
        "others": measure_choices(definition, model.schema, conditional.other),
        "cells": _list_cells(opened, conditional) if is_table else [],
        "is_table": is_table,
        "colours": list_colour_choices(),
        "grounds": [*TINTS, *list_colour_choices()],
        "signs": [("", "None"), *((name, sign) for name, (sign, _) in SIGNS.items())],
        "hard_to_read": _warn_of_low_contrast(conditional),
    }


def _list_tests(kind: DataType) -> list[tuple[str, Any]]:
    return [(name, test) for name, test in TESTS.items() if test.suits(kind)]


def _list_tested(opened: OpenPopover, conditional: ConditionalFormat) -> list[dict[str, Any]]:
    """What can be tested: measures, shown or not, the chart's dimensions, and a formula."""
    definition, schema = opened.definition, opened.model.schema
    chosen = (conditional.measure or definition.measures[0]) if conditional.tests == "measure" else None
    choices = [
        each | {"value": json.dumps({"tests": "measure", "measure": json.loads(each["value"])})}
        for each in measure_choices(definition, schema, chosen)
    ]
    choices += [
        {
            "name": label_grouping(group, schema),
            "value": json.dumps({"tests": "dimension", "dimension": group.model_dump(mode="json")}),
            "chosen": conditional.tests == "dimension" and conditional.dimension == group,
        }
        for group in definition.groups
    ]
    is_formula = conditional.tests == "formula"
    return [*choices, {"name": "a formula", "value": json.dumps({"tests": "formula"}), "chosen": is_formula}]


def _list_against(opened: OpenPopover, conditional: ConditionalFormat, kind: DataType) -> list[tuple[Against, str]]:
    """What values can be compared with."""
    choices: list[tuple[Against, str]] = [("value", "a value")]
    if conditional.tests == "dimension" or not (kind.is_number or kind.is_date):
        return []
    if kind.is_number:
        choices += [("parameter", "a parameter")] if list_number_parameters(opened.model) else []
        of_all = " of all shown"
        choices += [(name, words + of_all * (name != "percentile")) for name, words in STATISTICS.items()]
    return [*choices, ("measure", "another measure")]


def _list_values(opened: OpenPopover, conditional: ConditionalFormat, kind: DataType) -> list[str]:
    """The values of a dimension of texts that may be typed."""
    if conditional.dimension is None or kind is not DataType.TEXT or TESTS[conditional.test].takes != "one":
        return []
    values, _ = group_values(opened.model, conditional.dimension, limit=VALUES_SHOWN)
    return [said for value, said, _ in values if value is not None]


def _list_cells(opened: OpenPopover, conditional: ConditionalFormat) -> list[tuple[str, bool, dict[str, Any]]]:
    """Which cells of a table can look otherwise: words, whether they are chosen, and the changes."""
    definition, schema = opened.definition, opened.model.schema
    is_row = conditional.on == "row"
    choices: list[tuple[str, bool, dict[str, Any]]] = [
        ("What is tested", not is_row and conditional.cells is None, {"on": "cells", "cells": None})
    ]
    if conditional.tests != "dimension" and len(definition.measures) > 1:
        choices += [
            (
                measure_words(measure, schema),
                not is_row and conditional.cells is not None and measure.is_same_number(conditional.cells),
                {"on": "cells", "cells": measure.model_dump(mode="json")},
            )
            for measure in definition.measures
            if not measure.is_same_number(conditional.measure or definition.measures[0])
        ]
    choices.append(("The whole row", is_row, {"on": "row", "cells": None}))
    return [
        (words, chosen, {"edit": "set_condition", "index": opened.index, "changes": changes})
        for words, chosen, changes in choices
    ]


def _warn_of_low_contrast(conditional: ConditionalFormat) -> str:
    """What is said where a text of the chosen colour could not be read on its ground."""
    if not conditional.colour:
        return ""
    paints = load_paints()
    ground, colour = paints.get_colour(conditional.ground), paints.get_colour(conditional.colour)
    there = compute_contrast(get_both_colours(colour)[0], get_both_colours(ground)[0] if ground else LIGHT_GROUND)
    if there >= READABLE:
        return ""
    shown = get_both_text_colours(colour, ground)[0]
    return f"Too pale to read here ({there:.1f} of {READABLE}), so the text is {shown}."

"""What can be wrong with a formula over many rows: said in words, where it is, with what to do."""

from __future__ import annotations

import unittest

from tests.core.support import SAILING_FIELDS, field
from veduta.core.data.fields import DataType, Schema
from veduta.core.formula.measures import (
    ParameterValue,
    check_measure,
    list_formula_fields,
    list_parameters,
    replace_ids_with_names,
)
from veduta.core.formula.problems import FormulaProblem

OTHERS = [
    field("Tonnage", DataType.WHOLE).model_copy(update={"id": "vessels.tonnage", "table": "vessels"}),
    field("Built", DataType.DATE).model_copy(update={"id": "vessels.built", "table": "vessels"}),
    field("Built", DataType.DATE).model_copy(update={"id": "piers.built", "table": "piers"}),
]
ROUND = [
    field("Wide", DataType.DECIMAL).model_copy(
        update={
            "id": f"formula.{a}",
            "table": "formula",
            "name": name,
            "level": "many",
            "formula": f'sum(fare) + "#formula.{b}"',
        }
    )
    for a, b, name in (("a", "b", "There"), ("b", "a", "Back"))
]
BROKEN = field("Broken", DataType.DECIMAL).model_copy(
    update={"id": "formula.c", "table": "formula", "name": "Broken", "level": "many", "formula": "sum(tickets)"}
)
SCHEMA = Schema(
    [*SAILING_FIELDS, *OTHERS, *ROUND, BROKEN], tables={"": "Sailings", "vessels": "Vessels", "piers": "Piers"}
)
PARAMETERS = {
    "late_after": ParameterValue(DataType.WHOLE, (5,)),
    "regions": ParameterValue(DataType.TEXT, ("North Reach", "Inner Sound")),
}
# The formula, what is marked in it, and words of the message and its hint.
PROBLEMS = (
    ("count_rows() > :late_aftr", ":late_aftr", "There is no parameter :late_aftr", "Did you mean :late_after?"),
    ("count_rows() > :height", ":height", "There is no parameter :height", "Add it to the model's parameters."),
    ("max(region) = :regions", ":regions", ":regions holds several values", "Use it as a list"),
    ("min(built)", "built", "Several tables have a field “built”", "Write Vessels.Built or Piers.Built."),
    ("sum(Vesels.tonnage)", "Vesels.tonnage", "There is no table “Vesels”", "Vessels"),
    (
        "There",
        "There",
        "The formula “There” does not work: The formula “Back” does not work: “There” is made from itself",
        "",
    ),
    ("Broken + 1", "Broken", "The formula “Broken” does not work: There is no field “tickets”", ""),
    ("round(fare) per (region)", "round", "“per” belongs to aggregates", "sum(…) per (…)"),
    ("sum(fare) per (trunc(sailed, 'hour'))", "sailed", "“Sailed” has no hours", "Write one of"),
    (
        "sum(fare) per (shown, hour(departure))",
        "hour(departure)",
        "“per” takes fields, and periods",
        "formula of the row",
    ),
    ("sum(fare) per (region & route)", "region &", "“per” takes fields", "of the row"),
    ("sum(fare) per (trunc(region, 'month'))", "region", "“Region” has no periods", "without trunc"),
    ("round(fare where cancelled)", "round", "“where” belongs to aggregates", "if(test, value)"),
    ("round(sum(fare)) along (sailed)", "round", "round takes no “along”", "These do:"),
    ("sum(fare where passengers)", "passengers", "“where” needs a condition", "Compare it"),
    ("sum(fare where sum(passengers) > 3)", "sum(passengers) > 3", "“where” looks at each row", ""),
    ("sum(mean(fare))", "mean(fare)", "sum is given a value that already stands for many rows", "take sum away"),
    ("rank(fare)", "fare", "rank works on the chart's numbers", "rank(sum(…), …)"),
    ("fare + sum(fare)", "fare", "This is a value of each row", "Make it an aggregate too"),
)


class Problems(unittest.TestCase):
    def test_each_is_said_where_it_is(self):
        for text, marked, message, hint in PROBLEMS:
            with self.subTest(text):
                with self.assertRaises(FormulaProblem) as caught:
                    check_measure(text, SCHEMA, PARAMETERS)
                problem = caught.exception
                self.assertIn(message, problem.message)
                self.assertIn(hint, problem.hint)
                self.assertEqual(text[problem.at.start : problem.at.end], marked)

    def test_deep_ones_are_refused_and_not_followed_to_the_end(self):
        with self.assertRaises(FormulaProblem) as caught:
            check_measure("-" * 20_000 + "count_rows()", SCHEMA)
        self.assertTrue(caught.exception.hint)

    def test_what_is_not_readable_stays_as_it_is(self):
        for text in ("sum(", "sum(fare", "'", "a b"):
            with self.subTest(text):
                self.assertEqual(
                    (list_formula_fields(text), list_parameters(text), replace_ids_with_names(text, SCHEMA)),
                    (set(), set(), text),
                )

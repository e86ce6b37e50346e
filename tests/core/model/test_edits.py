"""Edits of a model: what each gives, and what is refused."""

from __future__ import annotations

import unittest

from tests.core.query.demo_model import model
from veduta.core.edit_registry import Edits
from veduta.core.errors import DefinitionProblem, VedutaError
from veduta.core.formula.problems import FormulaProblem
from veduta.core.model.definition import Choice, JoinKey, ModelDefinition
from veduta.core.model.edits import edit

LATE = {"name": "Late share", "text": "count_rows(where late > :late_after) / count(late)"}


class Editing(unittest.TestCase):
    def setUp(self):
        self.model, _ = model()
        self.definition = self.model.definition

    def made(self, do: str, /, **sent) -> ModelDefinition:
        return edit.apply(do, sent, self.definition, self.model)

    def refused(self, do: str, /, **sent) -> str:
        with self.assertRaises(VedutaError) as caught:
            self.made(do, **sent)
        return str(caught.exception)


class Tables(Editing):
    def test_a_table_gets_an_identifier_of_its_own(self):
        made = self.made("add_table", dataset="x", name=" Routes (old) ")
        self.assertEqual((made.tables[-1].id, made.tables[-1].name), ("routes_old", "Routes (old)"))
        self.assertEqual(self.made("add_table", dataset="x", name="Routes!").tables[-1].id, "routes_2")
        self.assertIn("same name", self.refused("add_table", dataset="x", name="routes"))
        self.assertEqual(self.made("add_table", dataset="x", name="1994").tables[-1].id, "n1994")

    def test_keys_are_set_for_a_pair_of_tables_once(self):
        keys = [{"left": "from_port", "right": "port"}]
        joins = self.made("set_join", left="routes", right="ports", keys=keys).joins
        self.assertEqual(len(joins), len(self.definition.joins))
        self.assertEqual(
            next(j for j in joins if {j.left, j.right} == {"routes", "ports"}).keys,
            (JoinKey(left="from_port", right="port"),),
        )
        self.assertIn("at least one column", self.refused("set_join", left="", right="ports", keys=[]))
        self.assertIn("does not work", self.refused("set_join", left="", right="ports", keys=[{"left": "route"}]))

    def test_a_table_leaves_with_its_joins_and_gets_another_name(self):
        left = self.made("remove_table", table="routes")
        self.assertFalse([j for j in left.joins if "routes" in (j.left, j.right)])
        self.assertNotIn("routes", [table.id for table in left.tables])
        named = self.made("rename_table", table="routes", name="  Lines ").tables
        self.assertEqual([t.name for t in named if t.id == "routes"], ["Lines"])
        same = self.made("rename_table", table="routes", name=" ").tables
        self.assertEqual([t.name for t in same if t.id == "routes"], ["Routes"])


class Formulas(Editing):
    def test_a_formula_names_fields_by_id_and_takes_after_what_it_is_made_of(self):
        made = self.made("save_formula", name="Growth", text="growth(sum(Fare), 'year')").formulas[-1]
        self.assertEqual((made.id, made.text), ("growth", "growth(sum(\"#fare\"), 'year')"))
        self.assertEqual(made.format.style, "percent")
        self.assertEqual(self.made("save_formula", **LATE, format={"decimals": 3}).formulas[-1].format.decimals, 3)

    def test_what_is_wrong_is_said(self):
        self.assertIn("needs a name", self.refused("save_formula", name=" ", text="1"))
        self.assertIn("already a field", self.refused("save_formula", name="fare", text="1"))
        with self.assertRaises(FormulaProblem) as caught:
            self.made("save_formula", name="Wrong", text="sum(Fare) +")
        self.assertEqual(caught.exception.at.start, 11)

    def test_one_that_is_used_stays(self):
        self.definition = self.made("save_formula", **LATE)
        self.assertIn("used in “Late share”", self.refused("remove_parameter", id="late_after"))
        self.definition = self.made("remove_formula", id="late_share")
        self.assertEqual(self.definition.formulas, ())


class Parameters(Editing):
    def test_values_are_of_the_parameters_kind(self):
        choices = [{"value": "5", "label": "five"}, {"value": "10"}]
        made = self.made("save_parameter", name="Best n", default=["5"], choices=choices, low="", high="").parameters
        self.assertEqual((made[-1].default, made[-1].low), ((5,), None))
        self.assertEqual(made[-1].choices, (Choice(value=5, label="five"), Choice(value=10)))
        self.assertIn("1 to 5", self.refused("save_parameter", name="Best n", default=["9"], low=1, high=5))
        self.assertIn("does not work", self.refused("save_parameter", name="Best n", kind="colour"))
        self.assertIn("person", self.refused("save_parameter", name="Person region", kind="text"))


class PathsAndRules(Editing):
    def test_one_of_the_same_name_is_replaced(self):
        self.definition = self.made("save_path", name="Where", fields=["region", "route", "region"])
        self.definition = self.made("save_path", name="where", fields=["region", "vessel"])
        self.assertEqual([path.fields for path in self.definition.paths], [("region", "vessel")])
        self.assertEqual(self.made("remove_path", name="where").paths, ())
        self.assertIn("two fields", self.refused("save_path", name="Where", fields=["region"]))
        self.refused("save_path", name="Where", fields=["region", "gone"])

    def test_a_rule_knows_the_tables_it_narrows(self):
        rule = self.made("save_rule", name="Ours", text="region in (:person_regions)").rules[-1]
        self.assertIn("", rule.tables)
        self.assertNotIn("ports", rule.tables)
        self.assertIn("needs a name", self.refused("save_rule", text="region = 'x'"))


class Registry(unittest.TestCase):
    def test_what_is_not_known_or_too_much_is_refused_and_faults_stay_faults(self):
        found, _ = model()
        for name, sent in (("conquer", {}), ("settings", {"colour": 1}), ("settings", {"fiscal_month": 13})):
            with self.subTest(name), self.assertRaises(DefinitionProblem):
                edit.apply(name, sent, found.definition, found)
        edits = Edits(ModelDefinition, given=1)

        @edits
        def explode(definition: ModelDefinition, depth: int) -> ModelDefinition:
            raise RuntimeError(depth)

        with self.assertRaises(RuntimeError):
            edits.apply("explode", {"depth": "3"}, found.definition)
        with self.assertRaises(ValueError):
            edits(explode)

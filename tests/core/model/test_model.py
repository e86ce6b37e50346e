"""Models: which fields reach which table, joins suggested and checked, parameters, rules."""

from __future__ import annotations

import datetime as dt
import unittest
from collections import Counter

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.query.demo_model import frames, model
from tests.core.support import MemoryTable, field
from veduta.core.data.fields import DataType, Schema
from veduta.core.errors import DefinitionProblem, NewerDefinition, RowAccessDenied
from veduta.core.formula.measures import ParameterValue
from veduta.core.formula.problems import FormulaProblem
from veduta.core.model.definition import (
    Choice,
    JoinKey,
    ModelDefinition,
    ModelJoin,
    ModelTable,
    ParameterField,
    RowRule,
    load_model,
)
from veduta.core.model.joins import check_join, suggest_join
from veduta.core.model.model import Model
from veduta.core.model.parameters import set_to
from veduta.core.model.row_level_security import SecurityContext

KEYS = st.lists(st.sampled_from(["A", "B", "C", None]), max_size=8)


def table(**columns: list) -> tuple[MemoryTable, list]:
    kinds = {str: DataType.TEXT, int: DataType.WHOLE, dt.date: DataType.DATE}
    fields = [
        field(name.capitalize(), kinds[type(next((v for v in values if v is not None), ""))])
        for name, values in columns.items()
    ]
    frame = pl.DataFrame({f.id: pl.Series(f.id, columns[f.id], dtype=f.kind.dtype) for f in fields})
    return MemoryTable(frame, Schema(fields)), fields


def reader(rule: RowRule, **attributes: str) -> SecurityContext:
    """Somebody whom a rule binds, with these attributes."""
    person = tuple((f"person_{name}", ParameterValue(DataType.TEXT, (value,))) for name, value in attributes.items())
    return SecurityContext((rule,), person)


def two(left: list, right: list, join: ModelJoin | None = None) -> Model:
    tables = {"": table(route=left, n=list(range(len(left)))), "other": table(route=right, m=list(range(len(right))))}
    definition = ModelDefinition(
        tables=(ModelTable(id="other", dataset="o", name="Other"),), joins=(join,) if join else ()
    )
    return Model(tables, definition, name="First")


class Offered(unittest.TestCase):
    """What lists of fields offer."""

    def test_a_key_that_says_the_same_is_left_out(self):
        join = ModelJoin(right="other", keys=(JoinKey(left="route", right="route"),))
        found = two(["A", "B"], ["A", "B"], join)
        self.assertEqual([field.id for field in found.offered], ["route", "n", "other.m"])
        self.assertEqual([found.make_heading(field) for field in found.offered], ["", "", "Other"])

    def test_it_stays_where_it_says_something_else(self):
        for join in (
            None,
            ModelJoin(right="other", keys=(JoinKey(left="route", right="route"), JoinKey(left="n", right="m"))),
        ):
            with self.subTest(join=join):
                self.assertIn("other.route", [field.id for field in two(["A"], ["A"], join).offered])
        (sailings, fields), joined = table(route=["A"]), table(route=["A"])
        hidden = [each.model_copy(update={"hidden": True}) for each in fields]
        definition = ModelDefinition(
            tables=(ModelTable(id="other", dataset="o", name="Other"),),
            joins=(ModelJoin(right="other", keys=(JoinKey(left="route", right="route"),)),),
        )
        found = Model({"": (sailings, hidden), "other": joined}, definition)
        self.assertEqual([field.id for field in found.offered], ["other.route"])

    def test_a_table_that_two_are_joined_to_keeps_it_for_both(self):
        tables = {name: table(route=["A"]) for name in ("", "targets", "routes")}
        key = (JoinKey(left="route", right="route"),)
        definition = ModelDefinition(
            tables=(
                ModelTable(id="targets", dataset="t", name="Targets"),
                ModelTable(id="routes", dataset="r", name="Routes"),
            ),
            joins=(ModelJoin(right="routes", keys=key), ModelJoin(left="targets", right="routes", keys=key)),
        )
        self.assertIn("routes.route", [field.id for field in Model(tables, definition).offered])


class Joins(unittest.TestCase):
    @examples(80)
    @given(KEYS, KEYS)
    def test_matches_are_counted_both_ways(self, left, right):
        join = ModelJoin(right="other", keys=(JoinKey(left="route", right="route"),))
        check = check_join(two(left, right, join), join)
        for side, own, other in ((check.left, left, right), (check.right, right, left)):
            matched = [key for key in own if key is not None and key in other]
            self.assertEqual((side.rows, side.matched), (len(own), len(matched)))
            counts = Counter(key for key in own if key is not None)
            self.assertEqual((side.keys, side.most), (len(counts), max(counts.values(), default=0)))
            missing = Counter(key for key in own if key is None or key not in other)
            self.assertEqual({values[0]: n for values, n in side.unmatched}, dict(missing))

    @examples(60)
    @given(KEYS, KEYS)
    def test_no_join_repeats_a_row(self, left, right):
        join = ModelJoin(right="other", keys=(JoinKey(left="route", right="route"),))
        found = two(left, right, join)
        known = [key for key in right if key is not None]
        unique = len(set(known)) == len(known)
        self.assertEqual("other.m" in found.reach("").sources, unique)
        wanted = ["n", "other.m"] if unique else ["n"]
        rows = found.scan(wanted).collect().sort("n")
        self.assertEqual(rows["n"].to_list(), list(range(len(left))))
        if unique:
            places = {key: i for i, key in enumerate(right) if key is not None}
            self.assertEqual(rows["other.m"].to_list(), [places.get(key) for key in left])

    def test_keys_are_suggested_with_the_grain_of_their_dates(self):
        found, _ = model()
        self.assertEqual(
            [(k.left, k.right, k.grain) for k in suggest_join(found, "", "routes").keys], [("route", "route", "")]
        )
        keys = {(k.left, k.right, k.grain) for k in suggest_join(found, "", "targets").keys}
        self.assertEqual(keys, {("route", "route", ""), ("day", "month", "month")})
        self.assertIsNone(suggest_join(two(["A", "B"], ["X", "Y"]), "", "other"))

    def suggested(self, left: dict[str, list], right: dict[str, list]) -> set[tuple[str, str, str]]:
        tables = {"": table(**left), "other": table(**right)}
        found = Model(tables, ModelDefinition(tables=(ModelTable(id="other", dataset="o", name="Other"),)))
        join = suggest_join(found, "", "other")
        return {(key.left, key.right, key.grain) for key in join.keys} if join else set()

    def test_keys_that_are_unique_on_one_side_come_before_likelier_ones_that_are_not(self):
        days = [dt.date(2025, 1, 1) + dt.timedelta(days=i) for i in range(60)]
        ports = ["Tern", "Quay", "Gull", "Knot", "Fell"]
        weather = [(port, day, day.day, day.month, 2025) for day in days for port in ports]
        sailings = [each for each in weather for _ in range(3)]

        def columns(rows: list[tuple]) -> dict[str, list]:
            names = ("port", "at", "day", "month", "year")
            return {name: [row[i] for row in rows] for i, name in enumerate(names)}

        self.assertEqual(self.suggested(columns(sailings), columns(weather)), {("port", "port", ""), ("at", "at", "")})
        apart = [columns(rows) for rows in (sailings, weather)]
        for each in apart:
            del each["at"]
        found = self.suggested(*apart)
        self.assertLessEqual({("port", "port", ""), ("day", "day", ""), ("month", "month", "")}, found)
        self.assertFalse(any(left != right for left, right, _ in found), "a year is never matched with a month")

    def test_years_are_not_matched_with_days(self):
        years = [dt.date(year, 1, 1) for year in range(2015, 2026)]
        days = [dt.date(2025, 1, 1) + dt.timedelta(days=31 * i) for i in range(24)]
        names = [f"N{i}" for i in range(24)]
        self.assertEqual(
            self.suggested({"built": days, "name": names}, {"season": years, "name": names[:11]}),
            {("name", "name", "")},
        )

    def test_dates_that_never_meet_are_no_keys(self):
        early = [dt.date(1990, 1, 5) + dt.timedelta(days=3 * i) for i in range(20)]
        late = [dt.date(2020, 1, 4) + dt.timedelta(days=5 * i) for i in range(20)]
        self.assertEqual(self.suggested({"joined": early}, {"joined": late}), set())

    def test_keys_reach_further_tables_and_dates_only_by_their_period(self):
        found, _ = model()
        self.assertTrue(found.reaches("targets", "routes.area"))
        self.assertTrue(found.reaches("targets", "day", "quarter"))
        self.assertFalse(found.reaches("targets", "day", "week"))
        self.assertFalse(found.reaches("targets", "vessel"))
        self.assertEqual(found.find_known_grain("targets", "day"), "month")

    def test_fields_that_no_row_has_at_once_are_explained(self):
        found, _ = model()
        with self.assertRaisesRegex(
            FormulaProblem, "No row has fields of “Bookings” and “Sailings” at once|No row has fields of"
        ):
            found.find_home({"fare", "bookings.paid"})


class Parameters(unittest.TestCase):
    def test_values_are_checked_in_words(self):
        whole = ParameterField(id="n", name="Top n", default=(5,), low=1, high=9)
        self.assertEqual(set_to(whole, 3), ParameterValue(DataType.WHOLE, (3,)))
        for value, message in (
            (12, "goes from 1 to 9"),
            ("x", "is not a value"),
            (1.5, "is not a value"),
            ([1, 2], "holds one value"),
            (None, "needs a value"),
        ):
            with self.subTest(value=value), self.assertRaisesRegex(DefinitionProblem, message):
                set_to(whole, value)
        listed = ParameterField(
            id="c",
            name="Class",
            kind=DataType.TEXT,
            choices=(Choice(value="a", label="First"),),
            several=True,
            required=False,
        )
        self.assertEqual(set_to(listed, ["a"]).values, ("a",))
        self.assertIsNone(set_to(listed, []).values)
        with self.assertRaisesRegex(DefinitionProblem, "not among the values"):
            set_to(listed, ["b"])
        self.assertEqual(
            set_to(
                ParameterField(id="d", name="Day", kind=DataType.DATE, default=("2026-01-31",)), "2026-02-28"
            ).values,
            (dt.date(2026, 2, 28),),
        )

    def test_models_that_make_no_sense_are_refused(self):
        for data, message in (
            ({"parameters": [{"id": "n", "name": "N"}]}, "needs a default"),
            ({"joins": [{"right": "gone", "keys": [{"left": "a", "right": "b"}]}]}, "not in the model"),
            (
                {"formulas": [{"id": "a", "name": "X", "text": "1"}, {"id": "b", "name": "x", "text": "2"}]},
                "the same name",
            ),
            ({"fiscal_month": 13}, "less than or equal to 12"),
        ):
            with self.subTest(data=data), self.assertRaisesRegex(DefinitionProblem, message):
                load_model(data)
        with self.assertRaises(NewerDefinition):
            load_model({"version": 2})


class Rules(unittest.TestCase):
    def test_a_rule_narrows_every_table_its_fields_reach(self):
        found, _ = model()
        rule = RowRule(name="One area", text='"#routes.area" in (:person_areas)')
        ruled = found.apply_reader({}, reader(rule, areas="Inner Sound"))
        routes = set(frames()["routes"].filter(pl.col("area") == "Inner Sound")["route"])
        for home in ("", "targets", "bookings"):
            wanted = frames()[home].filter(pl.col("route").is_in(list(routes))).height
            self.assertEqual(ruled.count_rows(home), wanted)
        self.assertEqual(ruled.count_rows("vessels"), frames()["vessels"].height)
        self.assertNotIn("vessels", ruled.ruling.list_narrowed_tables(rule))

    def test_what_is_known_of_a_field_is_what_may_be_seen_whoever_asked_first(self):
        formula = {"id": "size", "name": "Size", "text": "if(\"#n\" > :late_after, 'large', 'small')"}
        definition = load_model(
            {"formulas": [formula], "parameters": [{"id": "late_after", "name": "Late after", "default": [1]}]}
        )
        found = Model({"": table(route=["A", "B", "C"], n=[1, 2, 3])}, definition)
        rule = RowRule(name="One", text='"#n" = 1')
        for _ in range(2):
            self.assertEqual(found.apply_reader({}, reader(rule)).get_facts("formula.size").values, ("small",))
            self.assertEqual(found.apply_reader({}, reader(rule)).get_facts("n").highest, 1)
            self.assertEqual(found.get_facts("formula.size").values, ("large", "small"))
            self.assertEqual(found.get_facts("n").highest, 3)
        self.assertEqual(found.apply_reader({"late_after": 9}).get_facts("formula.size").values, ("small",))
        self.assertEqual(found.get_facts("formula.size").distinct, 2)

    def test_each_rule_narrows_its_own_tables_whatever_the_others_do(self):
        found, _ = model()
        area = RowRule(name="One area", text="\"#routes.area\" = 'Inner Sound'")
        name = frames()["vessels"]["vessel"][0]
        vessel = RowRule(name="One vessel", text=f"\"#vessels.vessel\" = '{name}'", tables=("vessels",))
        lacked = RowRule(name="Lacked", text='"#vessels.vessel" = :person_vessel', tables=("vessels",))
        routes = frames()["routes"].filter(pl.col("area") == "Inner Sound").height
        for rules, vessels in (
            ((vessel, area), 1),
            ((area, vessel), 1),
            ((area, lacked), 0),
            ((lacked, area), 0),
            ((vessel, lacked), 0),
        ):
            lacking = frozenset(["Lacked"]) if lacked in rules else frozenset()
            seen = found.apply_reader({}, SecurityContext(rules, lacking=lacking))
            self.assertEqual(seen.count_rows("vessels"), vessels, [rule.name for rule in rules])
            if area in rules:
                self.assertEqual(seen.count_rows("routes"), routes, [rule.name for rule in rules])

    def test_nobody_without_the_attribute_sees_a_row(self):
        found, _ = model()
        rule = RowRule(name="One area", text='"#region" in (:person_regions)')
        self.assertEqual(
            found.apply_reader({}, reader(rule, regions="Inner Sound")).rows,
            frames()[""].filter(pl.col("region") == "Inner Sound").height,
        )
        self.assertEqual(found.apply_reader({}, SecurityContext((rule,), lacking=frozenset(("One area",)))).rows, 0)

    def test_lacking_an_attribute_means_no_rows_also_where_the_rule_says_not(self):
        found, _ = model()
        for text in (
            'not ("#region" in (:person_regions))',
            '"#region" <> :person_regions',
            ":person_regions is empty",
        ):
            rule = RowRule(name="Others", text=text)
            self.assertEqual(found.apply_reader({}, SecurityContext((rule,), lacking=frozenset(("Others",)))).rows, 0)

    def test_a_rule_whose_join_broke_refuses_all_but_stewards(self):
        rule = RowRule(name="One area", text="\"#b.area\" = 'N'", tables=("", "b"))
        join = ModelJoin(right="b", keys=(JoinKey(left="route", right="route"),))
        tables = (ModelTable(id="b", dataset="b", name="Routes"),)
        broken = {
            "a key twice": ({"b": table(route=["A", "A"], area=["N", "S"])}, (join,)),
            "a key that is gone": ({"b": table(other=["A"], area=["N"])}, (join,)),
            "no join": ({"b": table(route=["A", "B"], area=["N", "S"])}, ()),
            "no field": ({"b": table(route=["A", "B"])}, (join,)),
        }
        trips = {"": table(route=["A", "B", "B"], n=[1, 2, 3])}
        holds = Model(
            {**trips, "b": table(route=["A", "B"], area=["N", "S"])}, ModelDefinition(tables=tables, joins=(join,))
        )
        self.assertEqual(holds.apply_reader({}, reader(rule)).rows, 1)
        for what, (others, joins) in broken.items():
            with self.subTest(what):
                found = Model(
                    {**trips, **others},
                    ModelDefinition(tables=tables, joins=joins, rules=(rule,)),
                    gone={"b.area": "Area"},
                )
                asked = found.apply_reader({}, reader(rule))
                for ask in (
                    lambda asked=asked: asked.rows,
                    lambda asked=asked: asked.scan(["n"]),
                    lambda asked=asked: asked.get_facts("n"),
                ):
                    with self.assertRaisesRegex(RowAccessDenied, "“One area” cannot be applied"):
                        ask()
                self.assertIn("One area", found.ruling.list_broken_rules())
                self.assertEqual(found.apply_reader({}, SecurityContext((rule,), is_steward=True)).rows, 3)

    def test_parameters_that_readers_set_have_no_part_in_rules(self):
        parameter = ParameterField(id="n", name="N", default=(1,))
        found = Model({"": table(n=[1, 2, 3])}, ModelDefinition(parameters=(parameter,)))
        with self.assertRaisesRegex(RowAccessDenied, "whoever reads can set"):
            _ = found.apply_reader({"n": 3}, reader(RowRule(name="Few", text='"#n" <= :n'))).rows

    def test_what_a_rule_leaves_is_said(self):
        found, _ = model()
        rule = RowRule(name="Home waters", text='"#region" in (:person_regions)')
        self.assertEqual(
            found.apply_reader({}, reader(rule, regions="Inner Sound")).ruling.describe(),
            [
                "You see only some rows, by the rule “Home waters”: 1 of 4 in Region."
                " All rows of Routes, Ports, Vessels and 2 more are seen."
            ],
        )

    def test_a_rule_that_leaves_tables_whole_says_so_and_the_like_field_that_reaches_them_is_found(self):
        tables = tuple(ModelTable(id=name, dataset=name, name=name.upper()) for name in ("routes", "goals"))
        joins = tuple(
            ModelJoin(left=left, right="routes", keys=(JoinKey(left="route", right="route"),)) for left in ("", "goals")
        )
        rows = {
            "": table(route=["A", "B", "B"], area=["N", "S", "S"]),
            "routes": table(route=["A", "B"], area=["N", "S"]),
            "goals": table(route=["A", "A", "B", "B"], goal=[1, 2, 3, 4]),
        }
        found = Model(rows, ModelDefinition(tables=tables, joins=joins))
        rule = RowRule(name="North", text="\"#area\" = 'N'")
        self.assertEqual(found.ruling.list_whole_tables(rule), ["routes", "goals"])
        wider = found.ruling.propose_wider_rule(rule)
        self.assertEqual((wider.text, wider.tables), ("\"#routes.area\" = 'N'", ("", "routes", "goals")))
        self.assertIsNone(found.ruling.propose_wider_rule(wider))
        by_key = RowRule(name="A", text="\"#route\" = 'A'")
        self.assertEqual(found.ruling.list_whole_tables(by_key), [], "a key reaches what it joins")
        [said] = found.apply_reader({}, reader(rule)).ruling.describe()
        self.assertTrue(said.endswith("All rows of ROUTES and GOALS are seen."), said)
        [said] = found.apply_reader({}, reader(wider)).ruling.describe()
        self.assertTrue(said.endswith("1 of 2 in Area."), said)
        for each in (rule, wider):
            seen = found.apply_reader({}, reader(each))
            goals = seen.scan(["goals.goal"], "goals").collect()["goals.goal"].sum()
            self.assertEqual(goals, 10 if each is rule else 3)

    def test_a_table_seen_through_its_own_rules(self):
        routes = Model({"": table(route=["A", "B"], area=["N", "S"])}, key="routes")
        join = ModelJoin(right="b", keys=(JoinKey(left="route", right="route"),))
        definition = ModelDefinition(tables=(ModelTable(id="b", dataset="b", name="Routes"),), joins=(join,))
        found = Model(
            {"": table(route=["A", "B"], n=[1, 2]), "b": table(route=["A", "B"], area=["N", "S"])}, definition, key="n"
        )
        north = routes.apply_reader({}, reader(RowRule(name="North", text="\"#area\" = 'N'")))
        seen = found.replace_tables({"b": north})
        self.assertEqual(seen.scan(["b.area", "n"]).collect().rows(), [("N", 1), (None, 2)])
        self.assertEqual((seen.get_facts("b.area").distinct, seen.count_rows("b")), (1, 1))
        self.assertNotEqual(seen.make_cache_key(), found.make_cache_key())


class FormulaFields(unittest.TestCase):
    def test_a_formula_may_use_one_that_stands_after_it_and_broken_ones_are_named(self):
        tables = {"": table(route=["A"], n=[3])}
        formulas = [
            {"id": "twice", "name": "Twice", "text": '"#formula.once" * 2'},
            {"id": "once", "name": "Once", "text": 'sum("#n")'},
            {"id": "wrong", "name": "Wrong", "text": 'sum("#gone")'},
        ]
        found = Model(tables, load_model({"formulas": formulas}))
        self.assertEqual(found.schema["formula.twice"].level, "aggregate")
        self.assertEqual(set(found.broken), {"wrong"})

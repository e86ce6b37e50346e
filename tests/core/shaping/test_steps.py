"""Every kind of step on small tables, the shape-changing ones against plain Python on random rows."""

from __future__ import annotations

import datetime as dt
import unittest
from collections import defaultdict

from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.shaping.support import flow_of, run_with, shaped, steps, table
from veduta.core.data.fields import DataType, Schema
from veduta.core.errors import DefinitionProblem, NewerDefinition, VedutaError
from veduta.core.shaping.flow import Flow
from veduta.core.shaping.shaping import apply_steps, load_shaping, load_step, look, shape
from veduta.core.shaping.steps import kinds
from veduta.core.shaping.steps.base import ShapingStep, get_step_type

PORTS = {
    "Port": ["Quay", "Tern", "quay ", None],
    "Count": [5, 1, 7, None],
    "Day": [dt.date(2026, 10, d) for d in (1, 2, 3, 4)],
}


class ColumnsSteps(unittest.TestCase):
    def test_choose(self):
        def names(how):
            return list(table(shaped(flow_of(PORTS), {"do": "choose", "how": how, "fields": ["day", "port"]})))

        self.assertEqual(names("keep"), ["Day", "Port"])
        self.assertEqual(names("leave_out"), ["Count"])
        self.assertEqual(names("first"), ["Day", "Port", "Count"])

    def test_rename_keeps_the_column_itself(self):
        result = shaped(flow_of(PORTS), {"do": "rename", "names": {"port": "Harbour"}})
        self.assertEqual(next((f.id, f.name) for f in result.schema), ("port", "Harbour"))
        with self.assertRaisesRegex(DefinitionProblem, "already a column named “Day”"):
            shaped(flow_of(PORTS), {"do": "rename", "names": {"port": "Day"}})
        swapped = shaped(flow_of(PORTS), {"do": "rename", "names": {"port": "Count", "count": "Port"}})
        self.assertEqual([f.name for f in swapped.schema], ["Count", "Port", "Day"])

    def test_describe(self):
        result = shaped(
            flow_of(PORTS),
            {"do": "describe", "field": "count", "role": "dimension", "description": "At noon", "hidden": True},
        )
        found = result.schema["count"]
        self.assertEqual((found.role, found.description, found.hidden), ("dimension", "At noon", True))

    def test_types_change_and_failures_are_listed(self):
        flow = flow_of({"Paid": ["1.234,5", "free", "", None, "7"], "Open": ["yes", "no", "maybe", None, "N"]})
        result = shaped(
            flow,
            {"do": "retype", "fields": ["paid"], "kind": "decimal", "decimal": ","},
            {"do": "retype", "fields": ["open"], "kind": "yes_no"},
            {"do": "retype", "fields": ["paid"], "kind": "whole"},
        )
        self.assertEqual(table(result), {"Paid": [None, None, None, None, 7], "Open": [True, False, None, None, False]})
        self.assertEqual(result.reports["s1"].failures["Paid"].examples, [(2, "free")])
        self.assertEqual(result.reports["s2"].failures["Open"].examples, [(3, "maybe")])
        self.assertEqual(result.reports["s3"].failures["Paid"].examples, [(1, "1234.5")])

    def test_formula_columns(self):
        result = shaped(
            flow_of(PORTS),
            {"do": "formula", "name": "Double", "formula": "count * 2"},
            {"do": "formula", "name": "Double", "formula": "double + 1"},
            {"do": "formula", "name": "Port", "formula": "upper(port)", "replaces": "port"},
        )
        self.assertEqual(table(result)["Double (2)"], [11, 3, 15, None])
        self.assertEqual(table(result)["Port"], ["QUAY", "TERN", "QUAY ", None])


class RowsSteps(unittest.TestCase):
    def test_filters_and_formulas(self):
        keep = {"do": "filter", "filters": [{"kind": "range", "field": "count", "low": 5}]}
        for change, expected in (
            ({}, [5, 7]),
            ({"exclude": True}, [1, None]),
            ({"formula": "port = 'Quay'"}, [5]),
            ({"formula": "port = 'Tern'", "match": "any"}, [5, 1, 7]),
            ({"filters": [{"kind": "list", "field": "port", "values": ["Quay", None]}]}, [5, None]),
            ({"filters": [{"kind": "relative", "field": "day", "unit": "day", "count": 2}]}, [7, None]),
        ):
            with self.subTest(change):
                self.assertEqual(table(shaped(flow_of(PORTS), {**keep, **change}))["Count"], expected)
        for wrong, said in (({"filters": []}, "no condition yet"), ({"formula": "count + 1"}, "must give yes or no")):
            with self.assertRaisesRegex(VedutaError, said):
                shaped(flow_of(PORTS), {**keep, **wrong})

    def test_sort_puts_empties_last_both_ways(self):
        for down, expected in ((False, [1, 5, 7, None]), (True, [7, 5, 1, None])):
            result = shaped(flow_of(PORTS), {"do": "sort", "by": [{"field": "count", "descending": down}]})
            self.assertEqual(table(result)["Count"], expected)

    def test_first_rows_and_duplicates(self):
        flow = flow_of({"Port": ["a", "b", "a", "a", None, None], "N": [1, 2, 3, 1, 5, 6]})
        for change, expected in (
            ({"do": "first", "count": 2}, [1, 2]),
            ({"do": "first", "count": 2, "end": "last"}, [5, 6]),
            ({"do": "first", "count": 1, "of": ["port"]}, [1, 2, 5]),
            ({"do": "first", "count": 1, "of": ["port"], "end": "last"}, [2, 1, 6]),
            ({"do": "dedupe"}, [1, 2, 3, 5, 6]),
            ({"do": "dedupe", "fields": ["port"]}, [1, 2, 5]),
            ({"do": "dedupe", "fields": ["port"], "keep": "last"}, [2, 1, 6]),
            ({"do": "dedupe", "fields": ["port"], "keep": "none"}, [2]),
        ):
            with self.subTest(change):
                self.assertEqual(table(shaped(flow, change))["N"], expected)

    def test_fill(self):
        flow = flow_of({"Port": ["a", None, "b", None], "N": [None, 2, None, None]}, N=DataType.WHOLE)
        for change, expected in (
            ({"how": "down", "fields": ["n"]}, [None, 2, 2, 2]),
            ({"how": "up", "fields": ["n"]}, [2, 2, None, None]),
            ({"how": "value", "value": "7", "fields": ["n"]}, [7, 2, 7, 7]),
            ({"how": "down", "fields": ["n"], "restart": ["port"]}, [None, 2, None, 2]),
        ):
            with self.subTest(change):
                self.assertEqual(table(shaped(flow, {"do": "fill", **change}))["N"], expected)
        with self.assertRaisesRegex(VedutaError, "“soon” is not a value of N"):
            shaped(flow, {"do": "fill", "how": "value", "value": "soon", "fields": ["n"]})


class ValuesSteps(unittest.TestCase):
    def test_text(self):
        flow = flow_of({"T": ["  Isle  of ash ", "QUAY", "", None]})
        for change, expected in (
            ({"do": "trim"}, ["Isle of ash", "QUAY", None, None]),
            ({"do": "case", "to": "sentence"}, ["  isle  of ash ", "Quay", "", None]),
            ({"do": "case", "to": "title"}, ["  Isle  Of Ash ", "Quay", "", None]),
            ({"do": "replace", "find": "QUAY", "put": "Quay"}, ["  Isle  of ash ", "Quay", "", None]),
            ({"do": "replace", "find": "", "put": "?"}, ["  Isle  of ash ", "QUAY", "", "?"]),
            ({"do": "replace", "find": "QUAY", "put": "", "how": "part"}, ["  Isle  of ash ", None, None, None]),
            ({"do": "replace", "find": "[aA]", "put": "*", "how": "pattern"}, ["  Isle  of *sh ", "QU*Y", None, None]),
        ):
            with self.subTest(change):
                self.assertEqual(table(shaped(flow, {"fields": ["t"], **change}))["T"], expected)
        with self.assertRaisesRegex(VedutaError, "holds whole number values, which cannot be trimmed"):
            shaped(flow_of({"N": [1]}), {"do": "trim", "fields": ["n"]})

    def test_split_and_extract(self):
        flow = flow_of({"Route": ["Quay–Tern", "Quay", "a–b–c", None]})
        result = table(
            shaped(flow, {"do": "split", "field": "route", "by": "–", "names": ["From", "To"], "drop": True})
        )
        self.assertEqual(result, {"From": ["Quay", "Quay", "a", None], "To": ["Tern", None, "b–c", None]})
        found = table(shaped(flow, {"do": "extract", "field": "route", "pattern": "–(.*)", "name": "To"}))
        self.assertEqual(found["To"], ["Tern", None, "b–c", None])

    def test_bins(self):
        flow = flow_of({"N": [0, 9, 10, -1, None, 25]})
        for change, expected in (
            (
                {"how": "width", "width": 10},
                ["0 to under 10", "0 to under 10", "10 to under 20", "-10 to under 0", None, "20 to under 30"],
            ),
            (
                {"how": "edges", "edges": [10, 0]},
                ["0 to under 10", "0 to under 10", "10 and more", "under 0", None, "10 and more"],
            ),
            ({"how": "width", "width": 10, "show": "start"}, [0, 0, 10, -10, None, 20]),
        ):
            with self.subTest(change):
                self.assertEqual(
                    table(shaped(flow, {"do": "bins", "field": "n", "name": "Size", **change}))["Size"], expected
                )
        halves = table(
            shaped(
                flow_of({"N": list(range(100))}), {"do": "bins", "field": "n", "how": "count", "count": 4, "name": "Q"}
            )
        )
        self.assertEqual(sorted({halves["Q"].count(each) for each in set(halves["Q"])}), [25])


WIDE = st.lists(
    st.fixed_dictionaries(
        {
            "port": st.sampled_from("abc"),
            "x": st.one_of(st.none(), st.integers(-9, 9)),
            "y": st.one_of(st.none(), st.integers(-9, 9)),
        }
    ),
    max_size=8,
)


class FormSteps(unittest.TestCase):
    @given(WIDE)
    @examples(50)
    def test_wide_to_long_has_every_cell_once(self, rows):
        names = {"Port": "port", "2026-10-01": "x", "2026-10-02": "y"}
        flow = flow_of(
            {name: [row[key] for row in rows] for name, key in names.items()},
            **{"Port": DataType.TEXT, "2026-10-01": DataType.WHOLE, "2026-10-02": DataType.WHOLE},
        )
        found = table(shaped(flow, {"do": "wide_to_long", "stay": ["port"], "names_to": "Day", "values_to": "Count"}))
        days = {"x": dt.date(2026, 10, 1), "y": dt.date(2026, 10, 2)}
        expected = [(row["port"], days[key], row[key]) for key in days for row in rows]
        self.assertEqual(list(zip(found["Port"], found["Day"], found["Count"], strict=True)), expected)

    def test_columns_of_a_later_refresh_are_taken_in(self):
        step_ = {"do": "wide_to_long", "rule": "dates", "names_to": "Day", "values_to": "Count"}
        early = {"Port": ["a"], "Built": [1990], "1 Oct 2026": [5]}
        later = {**early, "2 Oct 2026": [6], "Note": ["x"]}
        self.assertEqual(table(shaped(flow_of(early), step_))["Count"], [5])
        found = table(shaped(flow_of(later), step_))
        self.assertEqual((found["Count"], found["Day"]), ([5, 6], [dt.date(2026, 10, 1), dt.date(2026, 10, 2)]))
        self.assertEqual(list(found), ["Port", "Built", "Note", "Day", "Count"])
        pattern = {"do": "wide_to_long", "rule": "pattern", "pattern": "* oct *"}
        self.assertEqual(table(shaped(flow_of(later), pattern))["Value"], [5, 6])
        self.assertEqual(
            table(shaped(flow_of({"A": [1], "B": [2.5], "C": ["x"]}), {"do": "wide_to_long"}))["Value"],
            ["1", "2.5", "x"],
        )

    @given(WIDE)
    @examples(50)
    def test_long_to_wide_and_group_add_up(self, rows):
        flow = flow_of(
            {name: [row[name.lower()] for row in rows] for name in ("Port", "X", "Y")},
            Port=DataType.TEXT,
            X=DataType.WHOLE,
            Y=DataType.WHOLE,
        )
        sums: dict = defaultdict(list)
        for row in rows:
            sums[row["port"]].append(row["y"])
        expected = {
            port: (sum(v for v in ys if v is not None) if any(v is not None for v in ys) else None, len(ys))
            for port, ys in sums.items()
        }
        grouped = table(
            shaped(flow, {"do": "group", "by": ["port"], "measures": [{"field": "y", "aggregate": "sum"}, {}]})
        )
        self.assertEqual(
            {p: (y, n) for p, y, n in zip(grouped["Port"], grouped["Y"], grouped["Rows"], strict=True)}, expected
        )
        self.assertEqual(grouped["Port"], sorted(expected))
        wide = table(shaped(flow, {"do": "long_to_wide", "names_from": "port", "values_from": "y", "stay": ["x"]}))
        for x, *cells in zip(wide["X"], *[wide[name] for name in list(wide)[1:]], strict=True):
            for port, cell in zip(list(wide)[1:], cells, strict=True):
                ys = [
                    row["y"] for row in rows if row["x"] == x and row["port"] == port.lower() and row["y"] is not None
                ]
                self.assertEqual(cell, sum(ys) if ys else None)

    def test_limits_and_kinds_are_said(self):
        flow = flow_of({"Port": list("abcdef"), "N": [1] * 6})
        with self.assertRaisesRegex(DefinitionProblem, "6 different values, and at most 5 columns"):
            shaped(flow, {"do": "long_to_wide", "names_from": "port", "values_from": "n", "most": 5})
        with self.assertRaisesRegex(DefinitionProblem, "have no sum"):
            shaped(flow, {"do": "group", "measures": [{"field": "port", "aggregate": "sum"}]})
        with self.assertRaisesRegex(DefinitionProblem, "No column fits"):
            shaped(flow, {"do": "wide_to_long", "rule": "pattern", "pattern": "Count*"})

    def test_too_long_a_table_is_refused_before_it_is_made(self):
        flow = flow_of({f"C{i}": list(range(100)) for i in range(10)})
        run = run_with()
        run.most_rows = 999
        with self.assertRaisesRegex(DefinitionProblem, "10 columns of 100 rows would make 1,000 rows"):
            shape(steps({"do": "wide_to_long"}), flow, run)
        looked = look(steps({"do": "wide_to_long"}), flow, run)
        self.assertIn("would make 1,000 rows", str(looked.problem))

    def test_groups_by_periods_and_sums_too_large(self):
        flow = flow_of({**PORTS, "Big": [2**62, 2**62, 2**62, 1]})
        month = {
            "do": "group",
            "by": [{"field": "day", "grain": "month"}],
            "measures": [{"field": "big", "aggregate": "sum"}],
        }
        self.assertEqual(table(shaped(flow, month)), {"Month": [dt.date(2026, 10, 1)], "Big": [None]})


class Contract(unittest.TestCase):
    def test_every_kind_is_declared_whole(self):
        for name, kind in kinds.items():
            with self.subTest(name):
                self.assertTrue(kind.title and kind.purpose and kind.theme)
                for setting, declared in kind.model_fields.items():
                    if setting not in ("id", "off", "do"):
                        self.assertTrue(declared.title, setting)
                        self.assertIn("widget", declared.json_schema_extra)

    def test_a_name_is_registered_once(self):
        with self.assertRaisesRegex(ValueError, "registered twice"):
            get_step_type(type(kinds["trim"].__name__, (kinds["trim"],), {}))
        self.assertNotIn("", kinds)
        self.assertTrue(issubclass(kinds["trim"], ShapingStep))

    def test_what_is_missing_is_said_by_its_label(self):
        for data, said in (
            ({"do": "trim", "id": "s1"}, "“Columns” is not filled in yet"),
            ({"do": "waltz", "id": "s1"}, "no such step"),
            ({"do": "bins", "id": "s1", "field": "n", "name": "x", "count": 1}, "“How many” does not fit"),
        ):
            with self.assertRaisesRegex(DefinitionProblem, said):
                load_step(data)

    def test_stored_steps_are_read_or_refused(self):
        with self.assertRaises(NewerDefinition):
            load_shaping({"version": 99})
        with self.assertRaisesRegex(DefinitionProblem, "same id"):
            load_shaping({"steps": [{"id": "s1", "do": "dedupe"}, {"id": "s1", "do": "dedupe"}]})
        shaping = steps(
            {"do": "dedupe"}, {"do": "filter", "filters": [{"kind": "empty", "field": "port"}], "off": True}
        )
        self.assertEqual(load_shaping(shaping.model_dump(mode="json")), shaping)


class Problems(unittest.TestCase):
    def test_a_column_that_is_gone_is_named(self):
        shaping = load_shaping({"steps": [{"id": "s1", "do": "trim", "fields": ["old"]}], "names": {"old": "Berth"}})
        with self.assertRaisesRegex(DefinitionProblem, "The column “Berth” is not there at this step"):
            shape(shaping, flow_of(PORTS), run_with())

    def test_a_look_stops_at_the_step_that_fails(self):
        shaping = steps({"do": "first", "count": 2}, {"do": "trim", "fields": ["nothing"]}, {"do": "first", "count": 1})
        looked = look(shaping, flow_of(PORTS), run_with())
        self.assertEqual((looked.stopped_at, looked.flow.rows.collect().height), ("s2", 2))
        self.assertIn("not there", looked.reports["s2"].problem["message"])

    def test_a_filter_on_groups_is_no_condition_on_rows(self):
        step = {"do": "filter", "filters": [{"kind": "measure", "measure": {}, "low": 1}]}
        with self.assertRaisesRegex(DefinitionProblem, "not a condition on single rows"):
            shape(steps(step), flow_of(PORTS), run_with())

    def test_off_steps_are_passed_over(self):
        shaping = steps({"do": "first", "count": 1, "off": True}, {"do": "trim", "fields": ["nothing"], "off": True})
        self.assertEqual(shape(shaping, flow_of(PORTS), run_with()).frame.height, 4)

    def test_too_many_columns(self):
        flow = flow_of({f"C{i}": [1] for i in range(1_990)})
        with self.assertRaisesRegex(DefinitionProblem, "at most 2,000"):
            apply_steps(
                steps(*[{"do": "formula", "name": f"F{i}", "formula": "1"} for i in range(11)]).steps, flow, run_with()
            )

    def test_no_rows_at_all(self):
        empty = Flow(flow_of(PORTS).rows.head(0), Schema(flow_of(PORTS).fields))
        result = shaped(
            empty,
            {"do": "formula", "name": "D", "formula": "difference(count) along (day)"},
            {"do": "trim", "fields": ["port"]},
            {"do": "retype", "fields": ["count"], "kind": "text"},
            {"do": "group", "by": ["port"], "measures": [{}]},
        )
        self.assertEqual(result.frame.height, 0)

import datetime as dt
import unittest

from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.support import SAILING_FIELDS, context_of, sailings, sailings_table
from veduta.core.chart.definition import ChartDefinition, load_definition
from veduta.core.chart.edits import EDITS, apply_edit, edit
from veduta.core.chart.question import ask
from veduta.core.errors import DefinitionProblem
from veduta.core.formula.problems import FormulaProblem, VedutaError
from veduta.core.model.definition import ModelDefinition, ParameterField
from veduta.core.model.model import Model
from veduta.core.query.measures import Measure

ROWS = [
    {
        "region": f"R{i % 3}",
        "route": f"Route {i}",
        "sailed": dt.date(2026, 1, 1 + i),
        "departure": dt.datetime(2026, 1, 1 + i, 8),
        "fare": float(i),
    }
    for i in range(20)
]
FIELDS = ["region", "route", "sailed", "departure", "fare", "passengers", "cancelled"]
CHANGES = st.one_of(
    st.fixed_dictionaries(
        {
            "edit": st.just("add_field"),
            "field": st.sampled_from(FIELDS),
            "to": st.sampled_from(["", "show", "by", "split", "panels"]),
        }
    ),
    st.fixed_dictionaries(
        {
            "edit": st.just("remove"),
            "clause": st.sampled_from(["show", "by", "split", "panels", "only", "keep", "sort", "as"]),
        }
    ),
    st.fixed_dictionaries(
        {"edit": st.just("set_measure"), "index": st.integers(0, 2), "field": st.sampled_from(FIELDS)}
    ),
    st.fixed_dictionaries(
        {"edit": st.just("set_group"), "clause": st.sampled_from(["by", "split"]), "field": st.sampled_from(FIELDS)}
    ),
    st.fixed_dictionaries(
        {
            "edit": st.just("set_kind"),
            "kind": st.sampled_from(["bar", "lying", "line", "area", "table", "crosstab", "figure", None]),
        }
    ),
    st.fixed_dictionaries(
        {
            "edit": st.just("set_setting"),
            "name": st.just("stacking"),
            "value": st.sampled_from(["stacked", "full", None]),
        }
    ),
    st.just({"edit": "swap"}),
    st.just({"edit": "set_keep", "keep": {"count": 2, "of": "split"}}),
    st.just({"edit": "set_sort", "sort": {"by": "measure", "descending": True}}),
    st.just({"edit": "set_filter", "filter": {"kind": "range", "field": "fare", "low": 3}}),
)


class Edits(unittest.TestCase):
    def setUp(self):
        self.model = sailings(ROWS)

    def after(self, *changes, **start):
        definition = load_definition({"dataset": "d", **start})
        for change in changes:
            definition = apply_edit(definition, self.model, change)
        return definition

    def names(self, definition: ChartDefinition):
        return (
            [m.field for m in definition.show],
            [g.field for g in definition.by],
            definition.split and definition.split.field,
        )

    def test_a_field_goes_where_it_makes_most_sense(self):
        def add(*fields):
            return self.names(self.after(*({"edit": "add_field", "field": field} for field in fields)))

        self.assertEqual(add("fare"), (["fare"], [], None))
        self.assertEqual(add("sailed", "fare"), (["fare"], ["sailed"], None))
        self.assertEqual(add("sailed", "region"), ([], ["sailed"], "region"))
        self.assertEqual(add("sailed", "route"), ([], ["sailed", "route"], None))
        self.assertEqual(add("region", "sailed"), ([], ["sailed"], "region"))
        self.assertEqual(add("fare", "fare"), (["fare"], [], None))
        self.assertEqual(add("region", "region"), ([], ["region"], None))

    def test_swapping_is_one_action_and_its_own_inverse(self):
        start = {"by": ["route"], "split": "region"}
        swapped = self.after({"edit": "swap"}, **start)
        self.assertEqual(self.names(swapped), ([], ["region"], "route"))
        self.assertEqual(self.after({"edit": "swap"}, {"edit": "swap"}, **start), self.after(**start))
        self.assertEqual(
            self.names(self.after({"edit": "swap"}, by=["route", "region"])), ([], ["region", "route"], None)
        )

    def test_aggregates_that_do_not_suit_are_replaced(self):
        measure = self.after({"edit": "set_measure", "index": 0, "field": "route", "aggregate": "sum"}).show[0]
        self.assertEqual(measure.aggregate, "count_distinct")

    def test_another_aggregate_keeps_the_name_and_format(self):
        start = {"show": [{"field": "fare", "aggregate": "sum", "name": "Takings", "format": {"decimals": 1}}]}
        measure = self.after({"edit": "set_measure", "index": 0, "aggregate": "mean"}, **start).show[0]
        self.assertEqual((measure.aggregate, measure.name, measure.format.decimals), ("mean", "Takings", 1))

    def test_counting_rows(self):
        self.assertEqual(
            self.after({"edit": "set_measure", "index": 0}, show=[{"field": "fare", "aggregate": "sum"}]).show,
            (Measure(),),
        )

    def test_names_and_formats(self):
        styled = self.after(
            {"edit": "style_measure", "index": 0, "name": " Sailings "},
            {"edit": "style_measure", "index": 0, "number_format": {"style": "percent"}},
        ).show[0]
        self.assertEqual((styled.name, styled.format.style), ("Sailings", "percent"))

    def test_removing_a_dimension_removes_what_hung_on_it(self):
        start = {"by": ["route"], "keep": {"count": 3}, "sort": {"by": "name"}}
        emptied = self.after({"edit": "remove", "clause": "by"}, **start)
        self.assertEqual((emptied.keep, emptied.sort), (None, None))

    def test_another_dimension_drops_an_order_that_does_not_suit_it(self):
        start = {"by": ["route"], "sort": {"by": "own", "values": ["Route 3"]}}
        self.assertIsNone(
            self.after({"edit": "set_group", "clause": "by", "index": 0, "field": "sailed"}, **start).sort
        )

    def test_a_new_kind_keeps_the_fields(self):
        start = {"by": ["route"], "split": "region", "show": [{"field": "fare", "aggregate": "sum"}]}
        changed = self.after({"edit": "set_kind", "kind": "crosstab"}, {"edit": "set_kind", "kind": "area"}, **start)
        self.assertEqual(self.names(changed), (["fare"], ["route"], "region"))

    def test_bad_changes_are_refused_in_words(self):
        for change in (
            {"edit": "explode"},
            {},
            {"edit": "set_filter", "filter": {"kind": "range", "field": "fare", "low": "much"}},
            {"edit": "set_filter", "filter": {"kind": "teleport"}},
            {"edit": "set_keep", "keep": {"count": 0}},
            {"edit": "add_field", "field": "gone"},
            {"edit": "add_field"},
            {"edit": "remove", "clause": "__class__"},
            {"edit": "set_group", "clause": "by", "index": 7},
            {"edit": "style_measure", "index": 9, "name": "x"},
            {"edit": "swap", "index": 4},
            {"edit": "set_kind", "kind": "pie in the sky"},
            {"edit": "set_kind", "kind": "pictogram"},
            {"edit": "set_setting", "name": "stacking", "value": "leaning"},
            {"edit": "set_setting", "name": "curve", "value": "stepped"},
        ):
            with self.subTest(change=change), self.assertRaises(DefinitionProblem):
                self.after(change, by=["route"])

    def test_members_are_asked_for_by_a_formula_and_of_some_days(self):
        member = {"kind": "member", "field": "route", "measure": {"field": "fare", "aggregate": "sum"}, "low": 1}
        within = {"field": "sailed", "start": "2024-01-01", "end": "2024-12-31"}
        edit = {"edit": "set_filter", "filter": member, "formula": "sum(fare) / count_rows()", "within": within}
        (made,) = self.after(edit, by=["route"]).only
        self.assertEqual(made.measure.formula, 'sum("#fare") / count_rows()')
        self.assertEqual([each.start for each in made.filters], [dt.date(2024, 1, 1)])
        open_days = {"field": "sailed", "start": None, "end": None}
        (made,) = self.after({**edit, "formula": "", "within": open_days}, by=["route"]).only
        self.assertEqual((made.measure.field, made.filters), ("fare", ()))
        first = {"kind": "member", "field": "route", "keep": {"count": 3, "by": {}, "ties": True}}
        (made,) = self.after({"edit": "set_filter", "filter": first, "formula": "max(fare)"}, by=["route"]).only
        self.assertEqual((made.keep.by.formula, made.keep.ties), ('max("#fare")', True))
        with self.assertRaises(FormulaProblem):
            self.after({**edit, "formula": "sum(fair)"}, by=["route"])

    def test_each_edit_changes_what_it_says(self):
        fare = {"field": "fare", "aggregate": "sum"}
        by_month = {"field": "sailed", "grain": "month"}
        start = {"show": [fare], "by": [by_month], "only": [{"kind": "empty", "field": "fare"}]}
        shown = Measure(field="fare", aggregate="sum")
        examples_ = {
            "add_field": ({"field": "region"}, lambda d: d.split.field == "region"),
            "remove": ({"clause": "only"}, lambda d: d.only == ()),
            "set_measure": (
                {"index": 1, "field": "passengers"},
                lambda d: [m.field for m in d.show] == ["fare", "passengers"],
            ),
            "set_formula": (
                {"index": 0, "formula": "sum(fare) * 2", "name": "Twice"},
                lambda d: (d.show[0].formula, d.show[0].name) == ('sum("#fare") * 2', "Twice"),
            ),
            "vary_measure": (
                {"index": 0, "how": "growth"},
                lambda d: d.show[0] == shown and "growth" in d.show[1].formula,
            ),
            "set_total": ({"index": 0, "total": "mean"}, lambda d: d.show[0].total == "mean"),
            "set_aligned": ({"measure": fare, "low": 10}, lambda d: d.aligned == 'sum("#fare") >= 10'),
            "set_own_periods": ({"own": True}, lambda d: d.own_periods),
            "set_totals": ({"totals": "all"}, lambda d: d.totals == "all"),
            "set_reference": ({"reference": {"of": "rows"}}, lambda d: [r.of for r in d.references] == ["rows"]),
            "set_column": (
                {"index": 0, "draws": "bar", "grain": "month"},
                lambda d: [(c.draws, c.trend.grain) for c in d.look.columns] == [("bar", "month")],
            ),
            "set_look": (
                {"part": "value", "changes": {"title": "", "low": 2}},
                lambda d: (d.look.value.title, d.look.value.low) == ("", 2),
            ),
            "draw_like": (
                {
                    "template": {
                        "name": "Bars lying",
                        "places": [{"key": "what", "name": "What"}],
                        "design": {"dataset": "", "kind": "lying", "show": [{"field": "what", "aggregate": "sum"}]},
                    }
                },
                lambda d: (d.kind, d.show[0], d.by[0].field) == ("lying", shown, "sailed"),
            ),
            "set_series": (
                {"names": ["A", "B"], "changes": {"width": 4, "dash": "dotted"}},
                lambda d: [(s.name, s.width, s.dash) for s in d.look.series] == [(n, 4, "dotted") for n in "AB"],
            ),
            "set_values": (
                {"clause": "by", "changes": {"address": "https://ships.example/{value}", "pictures": "beside"}},
                lambda d: (
                    [(x.field, x.address, x.pictures) for x in d.look.values]
                    == [("sailed month", "https://ships.example/{value}", "beside")]
                ),
            ),
            "write_dates": (
                {"clause": "by", "pattern": "MMM yy", "language": "de"},
                lambda d: (
                    [vars(x) for x in d.look.dates]
                    == [{"field": "sailed month", "pattern": "MMM yy", "language": "de"}]
                ),
            ),
            "style_measure": ({"index": 0, "name": "Takings"}, lambda d: d.show[0].name == "Takings"),
            "set_group": (
                {"clause": "by", "index": 0, "field": "sailed", "grain": "week"},
                lambda d: d.by[0].grain == "week",
            ),
            "swap": ({}, lambda d: (d.by[0].field, d.split.field) == ("region", "sailed")),
            "set_kind": ({"kind": "table"}, lambda d: d.kind == "table"),
            "set_setting": ({"name": "curve", "value": "stepped"}, lambda d: d.settings == {"curve": "stepped"}),
            "draw_measure": (
                {"index": 0, "how": "bar", "axis": "second"},
                lambda d: (d.kind, [(x.how, x.axis) for x in d.layers]) == ("layers", [("bar", "second")]),
            ),
            "set_layer": ({"index": 0, "colour": "better"}, lambda d: d.layers[0].colour == "better"),
            "add_layer": (
                {"how": "text", "measures": [0]},
                lambda d: [layer.how for layer in d.layers] == ["line", "text"],
            ),
            "move": ({"clause": "by", "index": 0, "to": 0}, lambda d: d.by[0].field == "sailed"),
            "order_series": ({"values": ["A", None]}, lambda d: d.series_order == ("A", None)),
            "move_layer": ({"index": 0, "to": 1}, lambda d: [layer.how for layer in d.layers] == ["line"]),
            "remove_layer": ({"index": 0}, lambda d: d.layers == () and len(d.show) == 1),
            "set_filter": (
                {"index": 0, "filter": {"kind": "range", "field": "fare", "low": 3}},
                lambda d: [f.kind for f in d.only] == ["range"],
            ),
            "only_marks": (
                {"points": [["2024-02-01"]], "exclude": True},
                lambda d: (d.only[-1].values, d.only[-1].exclude) == (("2024-02-01",), True),
            ),
            "drill": (
                {"step": {"to": {"field": "sailed", "grain": "day"}, "into": ["2024-02-01"]}},
                lambda d: (d.by[0].grain, d.only[-1].values) == ("day", ("2024-02-01",)),
            ),
            "group_marks": (
                {"points": [["2024-02-01", "A"], ["2024-02-01", "B"]], "name": "Both"},
                lambda d: [(each.name, each.values) for each in d.split.together] == [("Both", ("A", "B"))],
            ),
            "set_apart": (
                {"clause": "split", "index": 0, "name": "Pair"},
                lambda d: d.split.together == (),
            ),
            "set_drill": ({"drill": {"others": False}}, lambda d: not d.drill.others),
            "set_keep": (
                {"keep": {"count": 10, "percent": True, "by": fare}},
                lambda d: (d.keep.count, d.keep.percent, d.keep.by) == (10, True, shown),
            ),
            "set_sort": (
                {"sort": {"by": "measure", "descending": True}},
                lambda d: (d.sort.by, d.sort.descending) == ("measure", True),
            ),
            "sort_by_column": (
                {"column": "-m0"},
                lambda d: (d.sort.by, d.sort.measure, d.sort.descending) == ("measure", shown, True),
            ),
            "set_panels": ({"arranged": "beside"}, lambda d: d.panels.arranged == "beside"),
            "set_specification": (
                {"text": '{"mark": "bar", "encoding": {}}'},
                lambda d: (d.kind, d.specification) == ("own", '{"mark": "bar", "encoding": {}}'),
            ),
            "set_value_colour": (
                {"values": ["A"], "colour": "teal"},
                lambda d: [(c.values, c.colour) for c in d.colours[0].colours] == [(("A",), "#008080")],
            ),
            "name_value": (
                {"clause": "split", "value": "A", "name": " Alpha "},
                lambda d: [(n.field, n.value, n.name) for n in d.look.names] == [("region", "A", "Alpha")],
            ),
            "set_own_colours": ({"own": True}, lambda d: d.own_colours),
            "add_condition": ({}, lambda d: [each.measure for each in d.conditional] == [shown]),
            "set_condition": ({"index": 0, "changes": {"sign": "up"}}, lambda d: d.conditional[0].sign == "up"),
            "set_foot": ({"foot": " Source: {rows} rows "}, lambda d: d.foot == "Source: {rows} rows"),
            "set_note": ({"note": " {= sum(fare)} "}, lambda d: d.note == '{= sum("#fare")}'),
            "take_parts": (
                {"other": {"dataset": "d", "show": [{}], "kind": "bar", "title": "Fares"}, "parts": ["title"]},
                lambda d: (d.title, d.kind) == ("Fares", None),
            ),
            "set_title": ({"title": " Fares "}, lambda d: d.title == "Fares"),
        }
        self.assertEqual({*examples_, "set_value"}, set(EDITS))
        for name, (arguments, holds) in examples_.items():
            with self.subTest(edit=name):
                begun = start | {
                    "swap": {"split": "region"},
                    "set_value_colour": {"split": "region"},
                    "name_value": {"split": "region"},
                    "group_marks": {"split": "route"},
                    "set_apart": {"split": {"field": "route", "together": [{"name": "Pair", "values": ["A", "B"]}]}},
                    "set_panels": {"panels": {"by": ["region"]}},
                    "set_condition": {"conditional": [{"test": "there"}]},
                }.get(name, {})
                self.assertTrue(holds(self.after({"edit": name, **arguments}, **begun)))

    def test_each_measure_is_drawn_its_own_way_and_order_is_kept(self):
        fare, passengers = ({"field": name, "aggregate": "sum"} for name in ("fare", "passengers"))
        start = {"show": [fare, passengers], "by": ["region"]}
        definition = self.after({"edit": "draw_measure", "index": 1, "how": "line", "axis": "second"}, **start)
        said = ask(definition, self.model, context_of(self.model)).sentence
        self.assertEqual(
            said, "Show fare as bars and passengers as a line on the right axis, in one drawing, by region."
        )
        layers = [(layer.measures, layer.how) for layer in definition.layers]
        self.assertEqual(layers, [((0,), "bar"), ((1,), "line")])
        # What fills its ground goes behind.
        definition = apply_edit(definition, self.model, {"edit": "draw_measure", "index": 1, "how": "area"})
        self.assertEqual([layer.how for layer in definition.layers], ["area", "bar"])
        definition = apply_edit(definition, self.model, {"edit": "move_layer", "index": 0, "to": 1})
        self.assertEqual([layer.how for layer in definition.layers], ["bar", "area"])

    def test_entries_are_moved_and_what_names_their_places_follows(self):
        shown = [{"field": name, "aggregate": "sum"} for name in ("fare", "passengers")]
        start = {
            "show": [*shown, {}],
            "by": ["region", "route"],
            "sort": {"by": "own", "values": ["A"]},
            "layers": [{"measures": [0, 2], "how": "link"}, {"measures": [1], "how": "dot"}],
            "references": [{"of": "groups", "measure": 0}, {"of": "groups"}],
        }
        moved = self.after({"edit": "move", "clause": "show", "index": 0, "to": 2}, **start)
        self.assertEqual([measure.field for measure in moved.show], ["passengers", None, "fare"])
        self.assertEqual([layer.measures for layer in moved.layers], [(2, 1), (0,)])
        self.assertEqual([reference.measure for reference in moved.references], [2, None])
        gone = self.after({"edit": "remove", "clause": "show", "index": 0}, **start)
        self.assertEqual([reference.measure for reference in gone.references], [None])
        turned = self.after({"edit": "move", "clause": "by", "index": 1, "to": 0}, **start)
        self.assertEqual([[group.field for group in turned.by], turned.sort], [["route", "region"], None])
        with self.assertRaises(DefinitionProblem):
            self.after({"edit": "move", "clause": "compare", "index": 1, "to": 2}, **start)

    def test_an_order_of_series_goes_with_their_dimension(self):
        start = {"by": ["sailed"], "split": "region", "series_order": ["B", "A"]}
        self.assertEqual(self.after({"edit": "set_title", "title": "x"}, **start).series_order, ("B", "A"))
        other = self.after({"edit": "set_group", "clause": "split", "field": "route"}, **start)
        self.assertEqual(other.series_order, ())

    def test_layers_follow_their_measures(self):
        fare, passengers = ({"field": name, "aggregate": "sum"} for name in ("fare", "passengers"))
        start = {
            "show": [fare, passengers, {}],
            "by": ["region"],
            "kind": "layers",
            "layers": [
                {"measures": [0, 2], "how": "link"},
                {"measures": [0], "how": "dot"},
                {"measures": [2], "how": "dot"},
            ],
        }
        varied = self.after({"edit": "vary_measure", "index": 0, "how": "share"}, **start)
        self.assertEqual([layer.measures for layer in varied.layers], [(0, 3), (0,), (3,)])
        fewer = self.after({"edit": "remove", "clause": "show", "index": 1}, **start)
        self.assertEqual([layer.measures for layer in fewer.layers], [(0, 1), (0,), (1,)])
        gone = self.after({"edit": "remove", "clause": "show", "index": 0}, **start)
        self.assertEqual([layer.measures for layer in gone.layers], [(1,)])
        without = self.after({"edit": "remove_layer", "index": 2}, **start)
        # The one in between, which no layer showed, has one of its own.
        self.assertEqual([layer.measures for layer in without.layers], [(0, 2), (0,), (1,)])
        self.assertEqual(len(without.show), 3)

    def test_a_layer_has_a_test_or_a_shade(self):
        start = {"show": [{"field": "fare", "aggregate": "sum"}], "by": ["route"], "kind": "bar"}
        passengers = {"field": "passengers", "aggregate": "sum"}
        shaded = self.after({"edit": "set_layer", "index": 0, "shade": passengers, "steps": 5}, **start)
        said = ask(shaded, self.model, context_of(self.model)).sentence
        self.assertEqual(said, "Show fare as shaded bars, in one drawing, by route.")
        tested = apply_edit(shaded, self.model, {"edit": "set_layer", "index": 0, "test": "sum(fare) > 3"})
        self.assertEqual((bool(tested.layers[0].test), tested.layers[0].shade), (True, None))
        again = apply_edit(tested, self.model, {"edit": "set_layer", "index": 0, "shade": passengers})
        self.assertEqual((again.layers[0].test, again.layers[0].shade.field), ("", "passengers"))
        plain = apply_edit(again, self.model, {"edit": "set_layer", "index": 0, "shade": ""})
        self.assertIsNone(plain.layers[0].shade)
        dated = {"field": "sailed", "aggregate": "max"}
        with self.assertRaises(DefinitionProblem):
            apply_edit(plain, self.model, {"edit": "set_layer", "index": 0, "shade": dated})

    def test_a_layer_is_coloured_by_a_test_of_the_charts_own(self):
        fare, passengers = ({"field": name, "aggregate": "sum"} for name in ("fare", "passengers"))
        start = {"show": [fare, passengers], "by": ["route"], "kind": "dumbbell"}
        test = {"edit": "set_layer", "index": 2, "test": "sum(Fare) >= 10", "colour": "better"}
        definition = self.after(test, {"edit": "set_layer", "index": 2, "other": "worse"}, **start)
        answered = ask(definition, self.model, context_of(self.model))
        tested = [row for row in answered.drawing.rows if row["layer"] == 2]
        self.assertEqual({row["paint"] for row in tested}, {"Fare, sum(Fare) >= 10", "Fare, otherwise"})
        for row in tested:
            self.assertEqual(row["paint"].endswith("otherwise"), row["value"] < 10, row["name"])
        self.assertEqual([column.name for column in answered.result.columns], ["Route", "Fare", "Passengers"])
        words = {"edit": "set_layer", "index": 2, "said": "passed", "other_said": "missed"}
        answered = ask(apply_edit(definition, self.model, words), self.model, context_of(self.model))
        self.assertEqual({row["paint"] for row in answered.drawing.rows if row["layer"] == 2}, {"passed", "missed"})
        for wrong in ("sum(Fare)", "nonsense", "Fare >"):
            with self.subTest(wrong), self.assertRaises(VedutaError):
                self.after({"edit": "set_layer", "index": 0, "test": wrong}, **start)

    def test_a_heading_of_a_table_sorts_by_its_column_and_again_the_other_way_round(self):
        for by, position, orders in (
            ("region", 1, [("measure", True), ("measure", False), ("measure", True)]),
            ("region", 0, [("name", False), ("name", True), ("name", False)]),
            ({"field": "sailed", "grain": "month"}, 0, [("time", False), ("time", True), ("time", False)]),
        ):
            with self.subTest(by=by, position=position):
                definition = self.after(show=[{"field": "fare", "aggregate": "sum"}], by=[by], kind="table")
                for order in orders:
                    heading = ask(definition, self.model, context_of(self.model)).drawing.table.headings[0][position]
                    edit_ = {"edit": "sort_by_column", "column": heading.sorts}
                    definition = apply_edit(definition, self.model, edit_)
                    self.assertEqual((definition.sort.by, definition.sort.descending), order)
        for column in ("d1", "m7", "x", "m", "-", "--m0", ""):
            with self.subTest(column), self.assertRaises(DefinitionProblem):
                self.after({"edit": "sort_by_column", "column": column}, by=["region"])

    def test_parameters_are_set_for_this_chart(self):
        definition = ModelDefinition(parameters=(ParameterField(id="most", name="Most", default=(3,), required=False),))
        model = Model({"": (sailings_table(ROWS), SAILING_FIELDS)}, definition)
        start = load_definition({"dataset": "d"})
        for values, kept in (([7], [7]), (None, None)):
            changed = apply_edit(start, model, {"edit": "set_value", "parameter": "most", "values": values})
            self.assertEqual(changed.values, {"most": kept})
        for parameter, values in (("gone", [1]), ("most", ["many"])):
            with self.assertRaises(DefinitionProblem):
                apply_edit(start, model, {"edit": "set_value", "parameter": parameter, "values": values})

    def test_a_fault_is_not_taken_for_a_bad_change(self):
        def explode(definition, model):
            raise KeyError("a fault")

        edit(explode)
        self.addCleanup(EDITS.pop, "explode")
        with self.assertRaises(KeyError):
            self.after({"edit": "explode"})

    def test_two_edits_cannot_share_a_name(self):
        def swap(): ...

        with self.assertRaises(ValueError):
            edit(swap)
        self.assertNotEqual(EDITS["swap"], swap)

    @examples(120)
    @given(st.lists(CHANGES, max_size=8))
    def test_whatever_is_edited_can_be_stored_and_answered(self, changes):
        model = sailings(ROWS)
        definition = load_definition({"dataset": "d"})
        for change in changes:
            try:
                definition = apply_edit(definition, model, change)
            except VedutaError as problem:
                # Only exchanging two dimensions may find that there are not two, and a setting that the kind has none.
                self.assertIn(change["edit"], ("swap", "set_setting"), problem)
        self.assertEqual(load_definition(definition.model_dump_json()), definition)
        answered = ask(definition, model, context_of(model))
        self.assertTrue(answered.sentence.endswith("."))

"""Charts made from templates, against the charts that these were made from, over the same rows under other names."""

import json
import unittest
from dataclasses import asdict

import jsonschema_rs
import polars as pl
from django.test import tag
from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.chart.test_charts import chart
from tests.core.chart.test_kinds import FIELDS, atlas, fitting, model_of, row
from tests.core.support import MemoryTable, context_of
from veduta.core.chart.definition import ChartDefinition
from veduta.core.chart.edits import apply_edit
from veduta.core.chart.kinds import CHART_KINDS
from veduta.core.chart.look import Look
from veduta.core.chart.question import ask
from veduta.core.chart.templates import (
    LIKE_PARTS,
    FieldSlot,
    Template,
    build_template_schema,
    copy_design,
    fill_template,
    is_suitable,
    load_template,
    make_template,
    propose_fields,
    write_template,
)
from veduta.core.data.fields import DataType, FieldRole, Schema
from veduta.core.errors import DefinitionProblem, NewerDefinition
from veduta.core.model.definition import ModelDefinition, ParameterField
from veduta.core.model.model import Model
from veduta.core.query.measures import Measure

ROWS = [row(i, route=f"No. {i % 7}") for i in range(40)]
NAMES = {
    "Region": "Office",
    "Route": "Depot",
    "Sailed": "Opened",
    "Departure": "Called at",
    "Fare": "Cost",
    "Passengers": "Crew hours",
    "Cancelled": "Is urgent",
    "Latitude": "Latitude",
    "Longitude": "Longitude",
}
"""The fields of sailings as those of works, which have the same values; the names are as long, as drawings go by that.
"""
OTHERS = {old.lower(): new.lower().replace(" ", "_") for old, new in NAMES.items()}
FARE, PASSENGERS = {"field": "fare", "aggregate": "sum"}, {"field": "passengers", "aggregate": "mean"}
MONTH = {"field": "sailed", "grain": "month"}


def works(rows=ROWS) -> Model:
    fields = [
        field.model_copy(update={"id": OTHERS[field.id], "name": NAMES[field.name], "source": NAMES[field.name]})
        for field in FIELDS
    ]
    columns = {
        field.id: pl.Series(field.id, [each.get(old.id) for each in rows], dtype=field.kind.dtype)
        for field, old in zip(fields, FIELDS, strict=True)
    }
    return Model.from_table(MemoryTable(pl.DataFrame(columns), Schema(fields)), Schema(fields))


SAILINGS, WORKS = model_of(ROWS), works()


def template(definition: ChartDefinition, name: str = "Like that") -> Template:
    return make_template(definition, SAILINGS, name).template


def over_works(made: Template) -> ChartDefinition:
    """A template filled with the fields of the same values."""
    chosen = {place.key: OTHERS[place.name.lower()] for place in made.places}
    return fill_template(made, chosen, WORKS, "works")


def drawing(definition: ChartDefinition, model: Model) -> str:
    drawn = ask(definition, model, context_of(model), atlas=atlas()).drawing
    return json.dumps(asdict(drawn), default=str, sort_keys=True)


def renamed(text: str) -> str:
    """What was drawn of sailings, with the names that works have."""
    for old, new in NAMES.items():
        for a, b in ((old, new), (old.lower(), new.lower())):
            text = text.replace(a, b)
    return text


class MadeFromTemplates(unittest.TestCase):
    maxDiff = 3_000

    @tag("long")
    def test_each_kind_draws_the_same_of_the_same_rows_under_other_names(self):
        for kind in CHART_KINDS.values():
            for parts in fitting(kind, ROWS)[-3:]:
                with self.subTest(kind=kind.name, parts=parts):
                    definition = chart(**parts)
                    made = over_works(template(definition))
                    self.assertEqual(made.kind, kind.name)
                    was = renamed(drawing(definition, SAILINGS))
                    self.assertEqual(json.loads(drawing(made, WORKS)), json.loads(was))

    def test_all_that_a_design_has_comes_along(self):
        definition = chart(
            kind="table",
            title='From {lowest} to {highest}: {= sum("#fare") }',
            show=[FARE, PASSENGERS, {"formula": 'sum("#fare") / sum("#passengers")', "name": "Each"}],
            by=["region", "route"],
            keep={"count": 3, "by": PASSENGERS},
            sort={"by": "measure", "measure": FARE, "descending": True},
            references=[{"of": "formula", "formula": 'mean("#fare")', "measure": 0}],
            conditional=[
                {"measure": FARE, "test": "above", "against": "measure", "other": PASSENGERS, "ground": "better"},
                {"tests": "formula", "formula": 'sum("#fare") < 0', "colour": "worse", "on": "row"},
                {"tests": "dimension", "dimension": "region", "test": "empty", "strong": True},
            ],
            look={"columns": [{"measure": 0, "draws": "bar", "trend": MONTH}], "table": {"numbered": True}},
        )
        made = over_works(template(definition))
        expected = json.loads(definition.model_dump_json())
        text = json.dumps(expected)
        for old, new in OTHERS.items():
            text = text.replace(f'"{old}"', f'"{new}"').replace(f"#{old}", f"#{new}")
        self.assertEqual(json.loads(made.model_dump_json()), json.loads(text) | {"dataset": "works"})

    def test_what_is_about_data_is_left_behind_and_said(self):
        made = make_template(
            chart(
                title="Fares of the north",
                show=[FARE],
                by=[MONTH],
                split="region",
                only=[{"kind": "list", "field": "region", "values": ["North Reach"]}],
                references=[{"of": "dates", "start": "2025-03-01"}, {"of": "number", "value": 5}],
                conditional=[{"tests": "dimension", "dimension": "region", "test": "is", "value": "North Reach"}],
                series_order=["South Banks"],
                colours=[{"fields": ["region"], "colours": [{"values": ["North Reach"], "colour": "teal"}]}],
                look={
                    "names": [{"field": "region", "value": "North Reach", "name": "N"}],
                    "series": [{"name": "North Reach", "width": 4}],
                },
            ),
            SAILINGS,
            "By region",
        )
        self.assertNotIn("North", write_template(made.template))
        self.assertNotIn("South", write_template(made.template))
        self.assertEqual([each.of for each in made.template.design.references], ["number"])
        self.assertEqual(len(made.left_behind), 6, made.left_behind)

    def test_parameters_become_their_values(self):
        known = ModelDefinition(
            parameters=(
                ParameterField(id="most", name="Most", kind=DataType.WHOLE, default=(7,)),
                ParameterField(id="free", name="Free", kind=DataType.WHOLE, required=False),
            )
        )
        model = Model({"": (SAILINGS.tables[""], FIELDS)}, known)
        definition = chart(
            show=[FARE, {"formula": 'sum("#fare") * :most', "name": "Much"}, {"formula": 'sum("#fare") - :free'}],
            by=["region"],
            keep={"parameter": "most", "by": FARE},
            references=[{"of": "number", "parameter": "most"}, {"of": "number", "parameter": "free"}],
            conditional=[
                {"test": "above", "against": "parameter", "parameter": "most", "ground": "better"},
                {"test": "above", "against": "parameter", "parameter": "free", "ground": "better"},
            ],
            look={"value": {"low_parameter": "most", "high_parameter": "free"}},
            values={"most": 3},
        )
        made = make_template(definition, model, "Set")
        design = made.template.design
        self.assertEqual(design.show[1].formula, 'sum("#place_1") * 3')
        self.assertEqual(design.show[2], Measure(formula=""))
        self.assertEqual((design.keep.count, design.keep.parameter), (3, ""))
        self.assertEqual([each.value for each in design.references], [3])
        self.assertEqual([(each.against, each.value) for each in design.conditional], [("value", 3)])
        self.assertEqual((design.look.value.low, design.look.value.high), (3, None))
        self.assertIn("free", made.left_behind[0])

    def test_an_own_specification_draws_other_columns(self):
        text = json.dumps(
            {
                "data": {"name": "rows"},
                "mark": "bar",
                "transform": [{"filter": "datum['Fare'] > 0 && datum.Region != ''"}],
                "encoding": {"x": {"field": "Region", "type": "nominal"}, "y": {"field": "Fare", "title": "Fare"}},
            }
        )
        definition = chart(kind="own", show=[FARE], by=["region"], specification=text)
        made = template(definition)
        self.assertNotIn("Fare", made.design.specification)
        specification = json.loads(over_works(made).specification)
        self.assertEqual(specification["transform"], [{"filter": "datum['Cost'] > 0 && datum['Office'] != ''"}])
        self.assertEqual(specification["encoding"]["y"], {"field": "Cost", "title": "Cost"})
        self.assertEqual(specification["encoding"]["x"]["type"], "nominal")

    def test_what_is_not_needed_may_stay_empty(self):
        definition = chart(
            kind="table",
            show=[FARE, PASSENGERS],
            by=["region", "route"],
            conditional=[{"measure": PASSENGERS, "test": "above", "value": 3, "ground": "better"}],
            look={"columns": [{"measure": 0, "draws": "bar"}, {"measure": 1, "draws": "shade"}]},
        )
        made = template(definition)
        places = [each.model_copy(update={"needed": each.name in ("Passengers", "Route")}) for each in made.places]
        made = made.model_copy(update={"places": tuple(places)})
        chosen = {place.key: OTHERS[place.name.lower()] for place in places if place.needed}
        got = fill_template(made, chosen, WORKS, "works")
        self.assertEqual([(m.field, m.aggregate) for m in got.show], [("crew_hours", "mean")])
        self.assertEqual([group.field for group in got.by], ["depot"])
        self.assertEqual([(c.measure, c.draws) for c in got.look.columns], [(0, "shade")])
        self.assertEqual([c.measure.field for c in got.conditional], ["crew_hours"])

    def test_what_is_missing_or_unsuitable_is_said(self):
        made = template(chart(show=[FARE], by=[MONTH], split="region"))
        keys = {place.name: place.key for place in made.places}
        whole = {keys["Fare"]: "cost", keys["Sailed"]: "opened", keys["Region"]: "office"}
        for chosen, words in (
            ({}, "Fields are missing: “Fare”, “Sailed” and “Region”."),
            (whole | {keys["Region"]: ""}, "A field is missing: “Region”."),
            (whole | {keys["Fare"]: "office"}, "“Office” does not suit “Fare”, which takes a number."),
            (whole | {keys["Sailed"]: "cost"}, "“Cost” does not suit “Sailed”, which takes a date."),
            (whole | {keys["Region"]: "gone"}, "gone"),
        ):
            with self.subTest(words=words), self.assertRaises(DefinitionProblem) as caught:
                fill_template(made, chosen, WORKS, "works")
            self.assertIn(words, str(caught.exception))

    def test_aggregates_and_grains_suit_the_new_fields(self):
        made = template(chart(show=[FARE, {"field": "route", "aggregate": "count_distinct"}], by=[MONTH]))
        keys = {place.name: place.key for place in made.places}
        got = fill_template(
            made, {keys["Fare"]: "crew_hours", keys["Route"]: "cost", keys["Sailed"]: "called_at"}, WORKS, "works"
        )
        self.assertEqual(
            [(m.field, m.aggregate) for m in got.show], [("crew_hours", "sum"), ("cost", "count_distinct")]
        )
        self.assertEqual((got.by[0].field, got.by[0].grain), ("called_at", "month"))


class Proposed(unittest.TestCase):
    def test_the_same_name_goes_before_the_same_kind(self):
        made = template(chart(show=[PASSENGERS, FARE], by=["route"], split="region"))
        self.assertEqual(
            [SAILINGS.schema[id_].name for id_ in propose_fields(made, SAILINGS).values()],
            [place.name for place in made.places],
        )
        found = list(propose_fields(made, WORKS).values())
        self.assertEqual(len(set(found)), 4)
        self.assertEqual({WORKS.schema[id_].role for id_ in found[:2]}, {FieldRole.MEASURE})
        self.assertEqual({WORKS.schema[id_].kind for id_ in found[2:]}, {DataType.TEXT})

    def test_what_is_not_needed_is_proposed_by_its_name_alone(self):
        places = (
            FieldSlot(key="a", name="Weather", takes="text", needed=False),
            FieldSlot(key="b", name="office", takes="text"),
        )
        made = Template(name="T", places=places, design=chart(by=["a", "b"]))
        self.assertEqual(propose_fields(made, WORKS), {"a": "", "b": "office"})

    @examples(60)
    @given(
        st.lists(
            st.builds(
                FieldSlot,
                key=st.uuids().map(lambda each: each.hex),
                name=st.sampled_from([*NAMES.values(), "Weather"]),
                takes=st.sampled_from(["number", "date", "text", "yes_no", "dimension", "any"]),
                level=st.sampled_from(["", "row", "aggregate"]),
                needed=st.booleans(),
            ),
            max_size=6,
        )
    )
    def test_what_is_proposed_always_suits(self, places):
        made = Template(name="T", places=tuple(places), design=chart())
        found = propose_fields(made, WORKS)
        self.assertEqual(list(found), [place.key for place in places])
        for place in places:
            if found[place.key]:
                self.assertTrue(is_suitable(place, WORKS.schema[found[place.key]]))


class Files(unittest.TestCase):
    def test_a_file_is_of_its_schema_and_reads_as_it_was(self):
        validator = jsonschema_rs.Draft202012Validator(build_template_schema())
        for kind in CHART_KINDS.values():
            made = template(chart(**fitting(kind, ROWS)[-1]), f"As {kind.title}")
            validator.validate(json.loads(write_template(made)))
            self.assertEqual(load_template(write_template(made)), made)

    def test_what_is_no_template_is_refused_with_words(self):
        good = json.loads(write_template(template(chart(show=[FARE], by=["region"]))))
        strange = {**good, "design": {**good["design"], "by": [{"field": "elsewhere"}]}}
        for data, words in (
            ("", "not readable"),
            ("[]", "not readable"),
            ('{"version": 1}', "no chart template"),
            ({**good, "version": 99}, "newer version"),
            ({**good, "design": {**good["design"], "version": 99}}, "newer version"),
            ({**good, "places": good["places"][:1] * 2}, "two places have the same key"),
            (strange, "elsewhere"),
            ({**good, "picture": "AAAA"}, "no PNG"),
            ({**good, "picture": "not base64!"}, "Base64"),
            ({**good, "design": {**good["design"], "kind": "hologram"}}, "hologram"),
            ({**good, "name": ""}, "name"),
        ):
            with self.subTest(words=words), self.assertRaises((DefinitionProblem, NewerDefinition)) as caught:
                load_template(data if isinstance(data, str) else json.dumps(data))
            self.assertIn(words, str(caught.exception) + caught.exception.where)


class DrawnLike(unittest.TestCase):
    def test_the_design_comes_and_the_question_stays(self):
        like = chart(
            kind="lying",
            show=[FARE, PASSENGERS],
            by=["region"],
            only=[{"kind": "list", "field": "region", "values": ["North Reach"]}],
            settings={"stacking": "grouped"},
            conditional=[
                {"measure": PASSENGERS, "test": "above", "value": 3, "ground": "better"},
                {"measure": FARE, "test": "below", "value": 0, "ground": "worse"},
            ],
            references=[{"of": "groups", "measure": 1}],
            look={"value": {"title": "Both"}},
        )
        own = chart(
            dataset="works",
            title="Mine",
            show=[{"formula": 'sum("#cost") * 2', "name": "Twice"}],
            by=["depot"],
            only=[{"kind": "empty", "field": "office"}],
        )
        got = copy_design(own, template(like), WORKS)
        for name in ("title", "show", "by", "only", "dataset"):
            self.assertEqual(getattr(got, name), getattr(own, name))
        self.assertEqual((got.kind, got.settings, got.look.value.title), ("lying", {"stacking": "grouped"}, "Both"))
        self.assertEqual([rule.measure for rule in got.conditional], [own.show[0]])
        self.assertEqual(got.conditional[0].ground, "worse")
        self.assertEqual(got.references, ())
        ask(got, WORKS, context_of(WORKS))

    def test_only_some_parts_of_a_design_are_taken(self):
        rule = {"test": "above", "value": 3, "ground": "better"}
        look = {"value": {"title": "Both"}, "series": [{"name": "Theirs", "width": 4}]}
        like = template(chart(kind="lying", show=[FARE], by=["region"], conditional=[rule], look=look))
        own = chart(kind="table", dataset="works", show=[{"field": "cost", "aggregate": "sum"}], by=["depot"])
        for parts, expected in (
            (["conditions"], ("table", 1, None)),
            (["axes"], ("table", 0, "Both")),
            (["drawing"], ("lying", 0, None)),
            ([], ("lying", 1, "Both")),
        ):
            with self.subTest(parts=parts):
                got = copy_design(own, like, WORKS, parts)
                self.assertEqual((got.kind, len(got.conditional), got.look.value.title), expected)
                self.assertEqual(got.look.series, ())

    def test_each_look_is_taken_with_a_part_or_is_about_what_is_shown(self):
        taken = {name for _, names in LIKE_PARTS.values() for name in names}
        self.assertEqual(set(Look.model_fields) - taken, {"title", "names"})

    def test_a_chart_drawn_like_itself_is_as_it_was(self):
        for kind in CHART_KINDS.values():
            for parts in fitting(kind, ROWS)[-2:]:
                with self.subTest(parts=parts):
                    definition = chart(**parts)
                    self.assertEqual(copy_design(definition, template(definition), SAILINGS), definition)

    def test_a_design_that_does_not_fit_is_refused_and_says_why(self):
        like = template(chart(kind="line", show=[FARE], by=[MONTH]), "Fares by month")
        own = chart(dataset="works", show=[{"field": "cost", "aggregate": "sum"}])
        change = {"edit": "draw_like", "template": like.model_dump(mode="json")}
        with self.assertRaises(DefinitionProblem) as caught:
            apply_edit(own, WORKS, change)
        self.assertIn("cannot be drawn like “Fares by month”. It needs", str(caught.exception))

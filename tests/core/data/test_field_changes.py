"""Fields as people change them, and as newer rows or steps do."""

from __future__ import annotations

import unittest

from hypothesis import given
from hypothesis import strategies as st

from tests.core.support import field
from veduta.core.data.field_changes import change_field, inherit_settings, match_fields, merge_fields
from veduta.core.data.fields import Aggregate, DataField, DataType, FieldRole
from veduta.core.data.recognise import recognise_field
from veduta.core.errors import VedutaError

DAYS = ["03/04/2026", "05/04/2026"]


class Changed(unittest.TestCase):
    def test_a_new_kind_brings_the_role_and_aggregate_that_suit_it(self):
        text = field("Hut no", DataType.TEXT)
        number = change_field(text, {"kind": "whole"}, ["7", "12"])
        self.assertEqual((number.kind, number.role), (DataType.WHOLE, FieldRole.MEASURE))
        back = change_field(number, {"kind": "text"}, ["7", "12"])
        self.assertEqual((back.role, back.aggregate), (FieldRole.DIMENSION, Aggregate.COUNT))
        told = change_field(text, {"kind": "whole", "role": "dimension"}, ["7"])
        self.assertEqual(told.role, FieldRole.DIMENSION)

    def test_the_order_of_a_date_turns_its_patterns_round(self):
        day = change_field(field("Day", DataType.TEXT), {"kind": "date"}, DAYS)
        american = change_field(day, {"order": "mdy"}, DAYS)
        self.assertTrue(all(pattern.startswith("%m") for pattern in american.reading.formats))
        self.assertEqual(change_field(american, {"order": "dmy"}, DAYS).reading.formats, day.reading.formats)

    def test_the_decimal_sign_and_the_words_for_empty(self):
        fare = change_field(field("Fare", DataType.DECIMAL), {"decimal": ",", "empty_words": [" N/A ", "-"]})
        self.assertEqual((fare.reading.decimal, fare.reading.thousands), (",", "."))
        self.assertEqual(list(fare.reading.empties), ["n/a", "-"])

    def test_a_measure_gets_an_aggregate_and_no_kind_one_that_it_has_not(self):
        self.assertEqual(change_field(field("Fare", DataType.DECIMAL), {"aggregate": "median"}).aggregate, "median")
        for changes in ({"aggregate": "sum"}, {"kind": "colour"}, {"role": "king"}, {"name": 3}):
            with self.subTest(changes), self.assertRaises(VedutaError):
                change_field(field("Route", DataType.TEXT), changes)

    def test_a_name_is_trimmed_and_never_empty(self):
        self.assertEqual(change_field(field("Route", DataType.TEXT), {"name": "  Line "}).name, "Line")
        self.assertEqual(change_field(field("Route", DataType.TEXT), {"name": "  "}).name, "Route")
        self.assertEqual(
            change_field(field("Route", DataType.TEXT), {"synonyms": "line, , way"}).synonyms, ("line", "way")
        )


class Merged(unittest.TestCase):
    def test_what_people_set_stays_unless_the_steps_changed_it(self):
        route, fare = field("Route", DataType.TEXT), field("Fare", DataType.DECIMAL)
        ours = [route.model_copy(update={"name": "Line", "description": "As printed"}), fare]
        retyped = fare.model_copy(update={"kind": DataType.TEXT, "role": FieldRole.DIMENSION})
        found = merge_fields(ours, [retyped, route, field("New", DataType.WHOLE)])
        self.assertEqual([each.name for each in found], ["Fare", "Line", "New"])
        self.assertEqual((found[0].kind, found[0].role), (DataType.TEXT, FieldRole.DIMENSION))
        self.assertEqual(found[1].description, "As printed")

    def test_a_field_that_is_gone_comes_last_and_one_that_the_steps_renamed_takes_their_name(self):
        route, fare = field("Route", DataType.TEXT), field("Fare", DataType.DECIMAL)
        renamed = fare.model_copy(update={"source": "Price", "name": "Price"})
        found = merge_fields([route, fare.model_copy(update={"name": "Takings"})], [renamed])
        self.assertEqual([each.name for each in found], ["Price", "Route"])


class Matched(unittest.TestCase):
    def found(self, *headings: str) -> list[DataField]:
        return [recognise_field(f"c{i}", heading, heading, ["1"]).field for i, heading in enumerate(headings, 1)]

    @given(st.permutations("abcdefgh"), st.permutations("abcdefgh"), st.integers(0, 8), st.integers(0, 8))
    def test_ids_stay_with_their_headings_and_are_never_given_twice(self, before, after, had, has):
        known = self.found(*before[:had])
        matched = match_fields(self.found(*after[:has]), known, lambda old, new: old)
        ids = {field.source: field.id for field in known}
        self.assertEqual([field.source for field in matched], list(after[:has]))
        self.assertTrue(all(field.id == ids[field.source] for field in matched if field.source in ids))
        given_now = [field.id for field in matched if field.source not in ids]
        self.assertEqual(len({*given_now, *ids.values()}), len(given_now) + len(ids))

    def test_what_was_set_stays_where_the_values_allow_it(self):
        (old,) = self.found("fare")
        old = old.model_copy(update={"id": "c7", "name": "Fare", "kind": DataType.DECIMAL, "hidden": True})
        for values, kind in ((["1", "2"], DataType.DECIMAL), (["x"], DataType.TEXT), (["1.5"], DataType.DECIMAL)):
            new = inherit_settings(old, recognise_field("c1", "fare", "fare", values).field)
            self.assertEqual((new.id, new.name, new.hidden, new.kind), ("c7", "Fare", True, kind))
        text = old.model_copy(update={"kind": DataType.TEXT})
        self.assertEqual(inherit_settings(text, recognise_field("c1", "fare", "fare", ["1"]).field).kind, DataType.TEXT)

"""Totals by the rule of each measure, against a loop over the values that are shown."""

from __future__ import annotations

import statistics
import unittest
from collections import defaultdict
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.query.asking import by
from tests.core.support import SAILING_FIELDS, context_of, sailings, sailings_table
from veduta.core.data.fields import DataType
from veduta.core.errors import DefinitionProblem
from veduta.core.model.definition import ModelDefinition, ParameterField
from veduta.core.model.model import Model
from veduta.core.model.row_level_security import SecurityContext
from veduta.core.query.answer import answer
from veduta.core.query.filters import ListFilter, RelativeFilter, TextFilter
from veduta.core.query.measures import Measure, TopN
from veduta.core.query.query import Query

RULES = {"sum": sum, "mean": statistics.fmean, "min": min, "max": max}
ROWS = st.lists(
    st.fixed_dictionaries(
        {
            "region": st.sampled_from(["N", "S", None]),
            "route": st.sampled_from(["A", "B", None]),
            "fare": st.one_of(st.none(), st.integers(-5, 9).map(float)),
        }
    ),
    min_size=1,
    max_size=12,
)


def mean_of(values: list[float]) -> float | None:
    return statistics.fmean(values) if values else None


class Rules(unittest.TestCase):
    @examples(100)
    @given(ROWS, st.sampled_from([*RULES, "none", "again"]))
    def test_each_rule_over_the_values_shown(self, rows, rule):
        cells: dict[Any, list[float]] = defaultdict(list)
        for row in rows:
            cells[row["region"], row["route"]] += [row["fare"]] if row["fare"] is not None else []
        measure = Measure(field="fare", aggregate="mean", total=rule)
        query = Query(groups=by("region", "route"), measures=(measure,), totals=((0,), (1,), ()))
        model = sailings(rows)
        totals = answer(query, model, context_of(model)).totals
        for positions in ((0,), (1,), ()):
            wanted: dict[Any, list[float]] = defaultdict(list)
            for key, fares in cells.items():
                mean = mean_of(fares)
                wanted[tuple(key[i] for i in positions)] += fares if rule == "again" else [mean] if fares else []
            for row in totals[positions].rows():
                values = wanted.pop(row[: len(positions)])
                how = mean_of if rule == "again" else RULES.get(rule)
                expected = how(values) if how and values else None
                found = row[len(positions)]
                if expected is None:
                    self.assertIsNone(found)
                else:
                    self.assertAlmostEqual(found, expected)
            self.assertFalse(wanted, "there is a line for each")

    def test_a_sum_or_mean_of_what_is_no_number_is_refused(self):
        model = sailings([{"route": "A"}])
        for rule, refused in (("sum", True), ("mean", True), ("max", False), ("none", False)):
            measure = Measure(field="sailed", aggregate="max", total=rule)
            query = Query(groups=by("region"), measures=(measure,), totals=((),))
            if refused:
                with self.assertRaisesRegex(DefinitionProblem, f"The {rule} of .* cannot be a total"):
                    answer(query, model, context_of(model))
            else:
                answer(query, model, context_of(model))


class Parameters(unittest.TestCase):
    """Filters and top N by a parameter, with a value, with several and without a limit."""

    ROWS = [{"region": region, "fare": 1.0} for region in ("N", "N", "N", "S", "S", "E")]

    def shown(self, values: dict[str, Any], **more: Any) -> dict[str, float]:
        definition = ModelDefinition(
            parameters=(
                ParameterField(id="area", name="Area", kind=DataType.TEXT, required=False, several=True),
                ParameterField(id="most", name="Most", kind=DataType.WHOLE, required=False),
            )
        )
        model = Model({"": (sailings_table(self.ROWS), SAILING_FIELDS)}, definition).apply_reader(
            values, SecurityContext()
        )
        query = Query(groups=by("region"), measures=(Measure(),), **more)
        return {row[0]: row[1] for row in answer(query, model, context_of(model)).frame.rows()}

    def test_a_list(self):
        for values, exclude, wanted in (
            (["N"], False, "N"),
            (["N", "E"], False, "EN"),
            (["N", "E"], True, "S"),
            (None, False, "ENS"),
            (None, True, "ENS"),
        ):
            filters = (ListFilter(field="region", parameter="area", exclude=exclude),)
            self.assertEqual("".join(sorted(self.shown({"area": values}, filters=filters))), wanted)

    def test_a_top_n(self):
        for most, wanted in ((1, "N"), (2, "NS"), (0, "N"), (-5, "N"), (99, "ENS"), (None, "ENS")):
            keep = TopN(by=Measure(), parameter="most")
            self.assertEqual("".join(sorted(self.shown({"most": most}, keep=keep))), wanted, most)


class Words(unittest.TestCase):
    def test_texts_lists_and_recent_periods(self):
        schema = sailings([]).schema
        for filter_, wanted in (
            (TextFilter(field="route", text="ern"), "Route contains “ern”"),
            (TextFilter(field="route", text="T", match="starts"), "Route starts with “T”"),
            (TextFilter(field="route", text="n", match="ends"), "Route ends with “n”"),
            (TextFilter(field="route", text="T", match="starts", exclude=True), "Route does not start with “T”"),
            (TextFilter(field="route", text="n", match="ends", exclude=True), "Route does not end with “n”"),
            (ListFilter(field="route", parameter="area"), "Route is :area"),
            (ListFilter(field="route", parameter="area", exclude=True), "Route is not :area"),
            (ListFilter(field="route", values=("A", None)), "Route is A or empty"),
            (RelativeFilter(field="sailed", count=3, back=1), "Sailed in the last 3 months, skipping the latest"),
            (RelativeFilter(field="sailed", count=3, back=2), "Sailed in the last 3 months, skipping the latest 2"),
        ):
            with self.subTest(wanted):
                self.assertEqual(filter_.describe(schema), wanted)

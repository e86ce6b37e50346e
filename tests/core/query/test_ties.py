"""Where values tie by a measure, further measures and the name decide."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.support import context_of, sailings
from veduta.core.chart.definition import list_sorted_columns, load_definition, sort_of_column
from veduta.core.query.answer import answer
from veduta.core.query.query import Query

SHOW = [
    {"field": "passengers", "aggregate": "sum"},
    {"field": "fare", "aggregate": "sum"},
    {"field": "cancelled", "aggregate": "count"},
]
ROWS = st.lists(
    st.fixed_dictionaries(
        {
            "region": st.sampled_from(["a", "B", "c", "D", None]),
            "route": st.sampled_from(["x", "y"]),
            "passengers": st.integers(0, 2),
            "fare": st.one_of(st.none(), st.integers(0, 1).map(float)),
            "cancelled": st.one_of(st.none(), st.booleans()),
        }
    ),
    max_size=12,
)
COLUMNS = st.permutations(["m0", "m1", "m2", "d0"]).map(lambda names: names if names[0] != "d0" else names[1:])


class Ties(unittest.TestCase):
    @examples(120)
    @given(ROWS, COLUMNS, st.lists(st.booleans(), min_size=4, max_size=4), st.booleans())
    def test_each_decides_where_those_before_are_equal(self, rows, columns, downwards, two):
        asked = [f"-{name}" if down else name for name, down in zip(columns, downwards, strict=False)]
        definition = load_definition({"dataset": "d", "show": SHOW, "by": ["region", "route"][: 1 + two]})
        sort = sort_of_column(definition, ",".join(asked))
        self.assertEqual(list_sorted_columns(definition, sort), dict(zip(columns, downwards, strict=False)))
        model = sailings(rows)
        query = Query(groups=definition.by, measures=definition.show, sort=sort)
        frame = answer(query, model, context_of(model)).frame
        got = list(dict.fromkeys(frame["d0"].to_list()))

        def values(region):
            mine = [row for row in rows if row["region"] == region]
            fares = [row["fare"] for row in mine if row["fare"] is not None]
            flags = [row["cancelled"] for row in mine if row["cancelled"] is not None]
            return {
                "m0": sum(row["passengers"] for row in mine),
                "m1": sum(fares) if fares else None,
                "m2": len(flags),
                "d0": (region or "").lower(),
            }

        expected = sorted({row["region"] for row in rows} - {None})  # where all are equal
        for name, down in reversed(list(zip(columns, downwards, strict=False))):
            there = [region for region in expected if values(region)[name] is not None]
            none = [region for region in expected if values(region)[name] is None]
            kind = Reversed if down else lambda value: value
            expected = sorted(there, key=lambda region, name=name, kind=kind: kind(values(region)[name])) + none
        self.assertEqual(got, expected + ([None] if any(row["region"] is None for row in rows) else []))


class Reversed:
    """Compares the other way round, so that sorting keeps the order of what is equal."""

    def __init__(self, value):
        self.value = value

    def __lt__(self, other):
        return other.value < self.value

"""Where rows come from, as it is stored."""

from __future__ import annotations

import unittest

from veduta.core.data.sources import DatasetSource, FeedSource, FileSource, TableSource, load_source
from veduta.core.errors import DefinitionProblem


class Sources(unittest.TestCase):
    def test_each_kind_from_what_is_stored(self):
        weather = load_source({"kind": "feed", "connection": 3, "feed": {"path": "/weather/"}, "marks": {"etag": "x"}})
        self.assertIsInstance(weather, FeedSource)
        self.assertEqual((weather.name, weather.words, weather.marks), ("weather", "web feed", {"etag": "x"}))
        self.assertEqual(load_source({"kind": "table", "connection": 1, "table": "calls"}).name, "calls")
        self.assertEqual(TableSource(connection=1, query="select 1").name, "a query")
        self.assertEqual(load_source({"kind": "dataset", "dataset": "d"}), DatasetSource(dataset="d", stage="result"))

    def test_without_a_kind_it_is_files(self):
        self.assertEqual(load_source({}), FileSource())

    def test_what_is_stored_comes_back_the_same(self):
        for source in (
            FileSource(),
            DatasetSource(dataset="d", stage="taken"),
            TableSource(connection=2, query="select * from calls", left_out=("note",)),
        ):
            with self.subTest(source.kind):
                self.assertEqual(load_source(source.model_dump(mode="json")), source)

    def test_what_is_no_source_is_refused(self):
        for data in ({"kind": "pigeon"}, {"kind": "feed"}, {"kind": "table", "connection": "x"}, {"colour": 1}):
            with self.subTest(data), self.assertRaises(DefinitionProblem):
                load_source(data)

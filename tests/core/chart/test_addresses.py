"""Addresses that values lead to: nobody is led anywhere but to the web, nor to whom a value names."""

import unittest
from urllib.parse import unquote, urlsplit

from hypothesis import given
from hypothesis import strategies as st

from tests import examples
from tests.core.chart.test_charts import FARE
from tests.core.chart.test_kinds import drawn
from veduta.core.chart.addresses import build_address, validate_address

OWN = "https://ships.example/of/{value}?from=veduta"


class Addresses(unittest.TestCase):
    def test_what_leads_elsewhere_than_to_the_web_is_refused(self):
        for text in (
            "javascript:alert('{value}')",
            "data:text/html,{value}",
            "ftp://ships.example/{value}",
            "//ships.example/{value}",
            "/charts/{value}",
            "https://",
            "https://ships.example/",
            "https://{value}.example/",
            "https://ships.example{value}",
            "https://me@ships.example/{value}",
            "https://ships.example/ {value}",
            "{value}/x",
            "{scheme}://ships.example/{value}",
        ):
            with self.subTest(text=text), self.assertRaises(ValueError):
                validate_address(text)
        for text in ("", "{value}", OWN, "HTTP://ships.example:8080/#{value}"):
            self.assertEqual(validate_address(f" {text} "), text)

    @examples(200)
    @given(st.text(max_size=30))
    def test_a_value_stays_within_its_place(self, value):
        parts = urlsplit(build_address(OWN, value))
        found = (parts.scheme, parts.netloc, parts.query, parts.fragment)
        self.assertEqual(found, ("https", "ships.example", "from=veduta", ""))
        self.assertEqual(unquote(parts.path.removeprefix("/of/"), errors="strict"), value)
        self.assertNotRegex(build_address(OWN, value), r"[\s<>\"']")

    @examples(200)
    @given(st.one_of(st.text(max_size=30), st.text(max_size=20).map("javascript:{}".format)))
    def test_a_value_that_is_no_address_leads_nowhere(self, value):
        self.assertIn(urlsplit(build_address("{value}", value) or "https://x").scheme, ("http", "https"))

    def test_values_that_are_addresses_are_taken_as_they_are(self):
        for value, leads in (
            ("https://ships.example/gannet", True),
            ("https://ships.example/a b", False),
            ("https://skerry@ships.example/", False),
            ("JAVASCRIPT:alert(1)", False),
            ("gannet", False),
            (None, False),
        ):
            with self.subTest(value=value):
                self.assertEqual(build_address("{value}", value), value if leads else "")


class InTables(unittest.TestCase):
    ROWS = [{"region": "North Reach", "route": "A–B", "fare": 2.0}, {"region": None, "route": "C", "fare": 3.0}]

    def cells(self, kind, **look):
        values = [{"field": "region", **look}]
        definition = {"show": [FARE], "by": ["region", "route"], "kind": kind, "look": {"values": values}}
        return [row[0] for row in drawn(definition, self.ROWS).drawing.table.rows]

    def test_values_lead_to_their_addresses_and_are_pictured(self):
        for kind in ("table", "crosstab"):
            with self.subTest(kind=kind):
                cells = self.cells(kind, address=OWN, pictures="instead")
                leads = {cell.text: (cell.address, cell.pictured, cell.instead) for cell in cells}
                expected = ("https://ships.example/of/North%20Reach?from=veduta", "north reach", True)
                self.assertEqual(leads, {"North Reach": expected, "(empty)": ("", "", False)})

    def test_the_usual_is_neither(self):
        self.assertFalse(any(cell.is_value for cell in self.cells("table")))

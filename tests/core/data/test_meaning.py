from __future__ import annotations

import unittest

from veduta.core.data.meaning import is_single_value, names_a_thing

SOME = ["12", "7", "31"]


class Meaning(unittest.TestCase):
    def test_numbers_that_name_things(self):
        for heading in (
            "Sailing id", "SailingID", "ID passenger", "Hut no.", "Zip code", "Year", "Built in year", "Phone number",
            "Account", "Berth code", "IBAN", "Customer ID (old)",
        ):  # fmt: skip
            with self.subTest(heading):
                self.assertTrue(names_a_thing(heading, SOME))

    def test_numbers_that_are_counted_or_paid(self):
        for heading in (
            "Account balance", "Year to date sales", "Number of vehicles", "No. of berths", "Phone calls", "Fare",
            "Key moves",
        ):  # fmt: skip
            with self.subTest(heading):
                self.assertFalse(names_a_thing(heading, SOME))

    def test_values_that_nobody_adds_up(self):
        for heading in (
            "Rating", "rating_stars", "minTemp", "Temp max (°C)", "Wind (m/s)", "Water level", "Cancellation rate",
            "Fuel price", "Fare per capita", "Fuel per km", "Life expectancy", "Late %", "Duration",
            "Humidity", "Minutes late", "€/kg",
        ):  # fmt: skip
            with self.subTest(heading):
                self.assertTrue(is_single_value(heading))

    def test_values_that_are_added_up(self):
        for heading in ("Fare revenue", "Passengers", "Vehicles", "Paid", "Operations", "In/out", "Weight"):
            with self.subTest(heading):
                self.assertFalse(is_single_value(heading))

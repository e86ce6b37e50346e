from __future__ import annotations

import unittest

from veduta.core.data.field_meaning import Meaning, find_telling_headings, guess_meaning, is_single_value, names_a_thing

SOME = ["12", "7", "31"]


class Judging(unittest.TestCase):
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
            "Humidity", "Minutes late", "€/kg", "Minutes", "Max passengers", "Wind gust", "Sail width",
        ):  # fmt: skip
            with self.subTest(heading):
                self.assertTrue(is_single_value(heading))

    def test_values_that_are_added_up(self):
        for heading in (
            "Fare revenue", "Passengers", "Vehicles", "Paid", "Operations", "In/out", "Weight", "Watched minutes",
        ):  # fmt: skip
            with self.subTest(heading):
                self.assertFalse(is_single_value(heading))

    def test_values_tell_what_headings_do_not(self):
        scattered = [float(number * number) for number in range(1, 30)]
        for what, numbers in (
            ("fractions", [number / 40 for number in range(30)]),
            ("half points of five", [0.5 * (number % 10) for number in range(40)]),
            ("close together", [1000 + number * 0.7 for number in range(30)]),
        ):
            with self.subTest(what):
                self.assertFalse(guess_meaning("Reading", numbers).adds_up)
                self.assertTrue(guess_meaning("Reading", numbers[:10]).adds_up, "too few to tell")
        self.assertTrue(guess_meaning("Reading", scattered).adds_up)
        self.assertTrue(guess_meaning("Reading", [-number for number in scattered]).adds_up)
        self.assertTrue(
            guess_meaning("Aboard", [float(number % 2) for number in range(40)]).adds_up, "counts of 0 and 1"
        )

    def test_neighbours_tell_what_headings_do_not(self):
        for heading, others in (
            ("Tide", ["Tide min", "Tide max"]),
            ("Value", ["Port", "Unit"]),
            ("Close", ["Open", "High", "Low"]),
        ):
            with self.subTest(heading):
                self.assertFalse(guess_meaning(heading, [], find_telling_headings([heading, *others])).adds_up)
        for heading, others in (("Tide", ["Minutes late"]), ("Value", ["Unit price"]), ("Close", ["Port"])):
            with self.subTest(heading, others=others):
                self.assertTrue(guess_meaning(heading, [], find_telling_headings([heading, *others])).adds_up)

    def test_stocks_are_added_up_but_not_over_dates(self):
        for heading in ("Account balance", "Fuel in stock", "Population", "Crew members"):
            with self.subTest(heading):
                meaning = guess_meaning(heading, [])
                self.assertEqual((meaning.adds_up, meaning.is_stock), (True, True))
        self.assertEqual(guess_meaning("Number of members", []), Meaning())

    def test_long_numbers_of_one_length_name_things(self):
        self.assertTrue(names_a_thing("Booking", [str(500_001 + 250 * row) for row in range(600)]), "every 250th row")
        self.assertFalse(names_a_thing("Depth", [str(5 * row) for row in range(12)]))
        self.assertTrue(names_a_thing("Contact", [str(555_000_000 + 7_919 * number) for number in range(30)]))
        self.assertFalse(names_a_thing("Contact", [str(7_919 * number) for number in range(30)]))

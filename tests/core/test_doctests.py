"""The examples in docstrings, run as tests."""

import doctest
import importlib
import pkgutil
import unittest

import veduta.core


class Docstrings(unittest.TestCase):
    def test_examples(self):
        tried = 0
        for each in pkgutil.walk_packages(veduta.core.__path__, "veduta.core."):
            with self.subTest(each.name):
                result = doctest.testmod(importlib.import_module(each.name))
                self.assertEqual(result.failed, 0)
                tried += result.attempted
        self.assertGreater(tried, 10)

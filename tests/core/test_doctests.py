"""The examples in docstrings, run as tests."""

import doctest
import importlib
import pkgutil

import veduta.core


def load_tests(loader, tests, pattern):
    for module in pkgutil.walk_packages(veduta.core.__path__, "veduta.core."):
        tests.addTests(doctest.DocTestSuite(importlib.import_module(module.name)))
    return tests

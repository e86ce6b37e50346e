"""Formulas: text → tree → checked nodes → Polars expression, with one registry of functions."""

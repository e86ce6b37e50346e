"""Shaping: the ordered steps that turn the rows a source gave into a dataset's rows."""
